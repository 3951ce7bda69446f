/* Energy in wave bands, by one resonator per band. */
#include "dsp/dsp.h"

/* 2 cos(w) in Q14 for each band's centre. */
static const int16_t resonance[BANDS] = {
    32760, 32728, 32660, 32560, 32420, 32240, 32020, 31760, 31460, 31120, 30740, 30320,
    29860, 29360, 28820, 28240, 27620, 26960, 26260, 25520, 24740, 23920, 23060, 22160};

static uint32_t resonator(const int32_t *block, uint32_t count, int32_t coefficient)
{
    int32_t s1 = 0;
    int32_t s2 = 0;
    for (uint32_t i = 0; i < count; i++) {
        int32_t s0 = (block[i] >> 5) + ((coefficient * (s1 >> 2)) >> 12) - s2;
        s2 = s1;
        s1 = s0;
    }
    int64_t power = (int64_t)s1 * s1 + (int64_t)s2 * s2;
    power -= ((int64_t)coefficient * s1 >> 14) * s2;
    return power < 0 ? 0 : (uint32_t)(power >> 8);
}

void bands_update(const int32_t *block, uint32_t count, uint32_t *energy)
{
    for (uint32_t band = 0; band < BANDS; band++) {
        uint32_t now = resonator(block, count, resonance[band]);
        /* A slow average: a quarter of the news, three quarters of the past. */
        energy[band] += ((int32_t)(now - energy[band])) >> 2;
    }
}
