/* The buoy's clock, disciplined by the satellite pulse. */
#include "board/board.h"
#include "control/control.h"
#include "weltblick_marks.h"

static volatile uint32_t last_pulse;
static volatile int32_t drift_ppb;
static int32_t integral;

/* A proportional-integral loop on the cycles between pulses. */
void gnss_pulse_handler(void)
{
    wb_requested(PULSE_AGE);
    uint32_t captured = PULSE_CAPTURED;
    PULSE_STATUS = 1;
    if (last_pulse != 0) {
        int32_t error = (int32_t)(captured - last_pulse - CORE_CLOCK_HZ / 10);
        if (error > -5000 && error < 5000) {
            integral += error;
            int64_t estimate = (int64_t)error * 52 + (int64_t)integral * 156;
            drift_ppb = (int32_t)(estimate / 4);
            wb_quantity(QUANTITY_DRIFT, drift_ppb);
        }
    }
    last_pulse = captured;
}

void clock_init(void)
{
    last_pulse = 0;
    integral = 0;
}

uint32_t clock_milliseconds(void)
{
    uint32_t now = kernel_ticks();
    int64_t correction = (int64_t)now * drift_ppb / 1000000000;
    return now - (uint32_t)correction;
}

int32_t clock_drift_ppb(void)
{
    return drift_ppb;
}
