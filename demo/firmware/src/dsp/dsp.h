/* Signal processing in fixed point. */
#ifndef DSP_H
#define DSP_H

#include <stdbool.h>
#include <stdint.h>

#define BLOCK 64
#define SPECTRUM_POINTS 256
#define SPECTRUM_BINS (SPECTRUM_POINTS / 2)
#define BANDS 24

struct wave_filter_state {
    int32_t x1, x2, y1, y2;
};

/* Filters one block in place; returns how many samples were at the sensor's limit. */
uint32_t wave_filter(int32_t *samples, uint32_t count);

/* Power per bin of the last SPECTRUM_POINTS samples. */
void spectrum_push(const int32_t *block, uint32_t count);
void spectrum_power(uint32_t *power);

/* Energy in each wave band of one block. */
void bands_update(const int32_t *block, uint32_t count, uint32_t *energy);

uint32_t square_root(uint64_t value);

#endif
