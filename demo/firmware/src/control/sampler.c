/* Samples from the accelerometer's interrupt to blocks for the estimator. */
#include "board/board.h"
#include "control/control.h"

static int16_t halves[2][BLOCK];
static uint32_t filling;
static uint32_t position;
static uint32_t overruns;
struct semaphore block_ready = {.count = 0, .most = 2, .number = 1, .name = "block_ready"};
static uint32_t full;
static int32_t offset;

void adc_ready_handler(void)
{
    int32_t raw = (int16_t)ADC_DATA;
    /* The offset follows slowly, so that a tilted buoy does not look like a wave. */
    offset += (raw - (offset >> 10)) >> 2;
    halves[filling][position] = (int16_t)(raw - (offset >> 10));
    position++;
    if (position == BLOCK) {
        position = 0;
        full = filling;
        filling ^= 1;
        if (block_ready.count > 0) {
            overruns++;
        }
        semaphore_give(&block_ready);
    }
}

void sampler_init(void)
{
    position = 0;
    filling = 0;
    overruns = 0;
}

void sampler_block(int32_t *block)
{
    semaphore_take(&block_ready);
    const int16_t *from = halves[full];
    for (uint32_t i = 0; i < BLOCK; i++) {
        block[i] = from[i];
    }
}
