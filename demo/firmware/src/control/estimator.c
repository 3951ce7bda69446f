/* Wave height and period from acceleration. */
#include "board/board.h"
#include "control/control.h"
#include "weltblick_marks.h"

struct wave_summary latest_waves;

static uint32_t summary_slots[4];
struct mailbox summaries = {
    .filled = {.count = 0, .most = 4, .number = 2, .name = "summaries"}, .slots = summary_slots, .size = 4};

static int32_t block[BLOCK];
static uint32_t power[SPECTRUM_BINS];
static uint32_t energy[BANDS];

/* The zeroth and second moment of the spectrum give the significant wave height. */
static uint32_t significant_height(const uint32_t *bins)
{
    uint64_t moment = 0;
    for (uint32_t bin = 1; bin < SPECTRUM_BINS; bin++) {
        /* Acceleration to displacement: divide by the fourth power of the frequency. */
        uint64_t frequency = (uint64_t)bin * bin;
        moment += ((uint64_t)bins[bin] << 16) / (frequency * frequency);
    }
    return 4 * square_root(moment) >> 6;
}

static uint32_t peak(const uint32_t *bins)
{
    uint32_t best = 1;
    for (uint32_t bin = 2; bin < SPECTRUM_BINS; bin++) {
        if (bins[bin] > bins[best]) {
            best = bin;
        }
    }
    return best;
}

static uint32_t mean_period(const uint32_t *bands)
{
    uint64_t weighted = 0;
    uint64_t total = 1;
    for (uint32_t band = 0; band < BANDS; band++) {
        weighted += (uint64_t)bands[band] * (BANDS - band) * 300;
        total += bands[band];
    }
    return (uint32_t)(weighted / total);
}

static void publish(uint32_t limited)
{
    latest_waves.sequence++;
    latest_waves.height_mm = significant_height(power);
    latest_waves.period_ms = mean_period(energy);
    latest_waves.peak_bin = peak(power);
    latest_waves.limited = limited;
    wb_quantity(QUANTITY_HEIGHT, (int32_t)latest_waves.height_mm);
    for (uint32_t band = 0; band < BANDS; band++) {
        latest_waves.energy[band] = energy[band];
    }
    mailbox_post(&summaries, latest_waves.sequence);
}

void wave_estimator_task(void)
{
    sampler_init();
    for (;;) {
        sampler_block(block);
        wb_span_begins(SPAN_BLOCK);
        uint32_t limited = wave_filter(block, BLOCK);
        spectrum_push(block, BLOCK);
        spectrum_power(power);
        bands_update(block, BLOCK, energy);
        publish(limited);
        wb_span_ends(SPAN_BLOCK);
    }
}
