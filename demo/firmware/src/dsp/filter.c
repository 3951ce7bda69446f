/*
 * The wave filter: six second-order sections in Q14.
 *
 * Fault 1, deliberate: a block with a sample at the sensor's limit is filtered again in 64-bit
 * arithmetic with a division per section, to keep rounding from ringing. That path is about eight
 * times slower, and a passing ship's wake takes it for a hundred blocks in a row.
 */
#include "dsp/dsp.h"

#define SECTIONS 6
#define LIMIT 15000

struct section {
    int32_t b0, b1, b2, a1, a2;
};

static const struct section sections[SECTIONS] = {
    {3900, 7800, 3900, -9200, 4100},  {4200, -8400, 4200, -15100, 7200},
    {5100, 2300, 5100, -8800, 5200},  {6100, -3000, 6100, -11900, 6900},
    {7300, 1200, 7300, -6200, 8000},  {8000, -6400, 8000, -9900, 9100},
};

/* Q14; adjusted with the sensor's calibration. */
static int32_t unity = 16384;

static struct wave_filter_state states[SECTIONS];

static inline int32_t section_run(const struct section *s, struct wave_filter_state *st, int32_t x)
{
    int32_t y = (s->b0 * (x >> 2) + s->b1 * (st->x1 >> 2) + s->b2 * (st->x2 >> 2)) >> 12;
    y -= (s->a1 * (st->y1 >> 2) + s->a2 * (st->y2 >> 2)) >> 12;
    st->x2 = st->x1;
    st->x1 = x;
    st->y2 = st->y1;
    st->y1 = y;
    return y;
}

static int32_t clamp(int32_t value)
{
    if (value > 32000) {
        return 32000;
    }
    if (value < -32000) {
        return -32000;
    }
    return value;
}

static void filter_fast(int32_t *samples, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        int32_t value = samples[i];
        for (uint32_t s = 0; s < SECTIONS; s++) {
            value = clamp(section_run(&sections[s], &states[s], value));
        }
        samples[i] = value;
    }
}

/* The slow path: see the head of this file. */
static __attribute__((noinline)) void filter_precise(int32_t *samples, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        int64_t value = samples[i];
        for (uint32_t s = 0; s < SECTIONS; s++) {
            const struct section *c = &sections[s];
            struct wave_filter_state *st = &states[s];
            int64_t sum = (int64_t)c->b0 * value + (int64_t)c->b1 * st->x1 + (int64_t)c->b2 * st->x2;
            sum -= (int64_t)c->a1 * st->y1 + (int64_t)c->a2 * st->y2;
            int64_t y = sum / unity;
            st->x2 = st->x1;
            st->x1 = (int32_t)value;
            st->y2 = st->y1;
            st->y1 = clamp((int32_t)y);
            value = st->y1;
        }
        samples[i] = (int32_t)value;
    }
}

uint32_t wave_filter(int32_t *samples, uint32_t count)
{
    uint32_t limited = 0;
    for (uint32_t i = 0; i < count; i++) {
        if (samples[i] > LIMIT || samples[i] < -LIMIT) {
            limited++;
        }
    }
    if (limited > 0) {
        filter_precise(samples, count);
    } else {
        filter_fast(samples, count);
    }
    return limited;
}
