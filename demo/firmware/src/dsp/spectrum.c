/* A fixed-point Fourier transform of the last 256 samples, radix 2, in place. */
#include "dsp/dsp.h"

static int16_t history[SPECTRUM_POINTS];
static uint32_t newest;
static int32_t real[SPECTRUM_POINTS];
static int32_t imaginary[SPECTRUM_POINTS];

/* A quarter of a sine wave, Q15, in 64 steps. */
static const int16_t quarter[65] = {
    0,     804,   1608,  2410,  3212,  4011,  4808,  5602,  6393,  7179,  7962,  8739,  9512,
    10278, 11039, 11793, 12539, 13279, 14010, 14732, 15446, 16151, 16846, 17530, 18204, 18868,
    19519, 20159, 20787, 21403, 22005, 22594, 23170, 23731, 24279, 24811, 25329, 25832, 26319,
    26790, 27245, 27683, 28105, 28510, 28898, 29268, 29621, 29956, 30273, 30571, 30852, 31113,
    31356, 31580, 31785, 31971, 32137, 32285, 32412, 32521, 32609, 32678, 32728, 32757, 32767};

static int32_t sine(uint32_t step)
{
    step &= 255;
    if (step < 64) {
        return quarter[step];
    }
    if (step < 128) {
        return quarter[128 - step];
    }
    return step < 192 ? -quarter[step - 128] : -quarter[256 - step];
}

void spectrum_push(const int32_t *block, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        history[newest] = (int16_t)block[i];
        newest = (newest + 1) % SPECTRUM_POINTS;
    }
}

static uint32_t reversed(uint32_t value)
{
    uint32_t result = 0;
    for (uint32_t bit = 0; bit < 8; bit++) {
        result = result << 1 | (value >> bit & 1);
    }
    return result;
}

static void load_window(void)
{
    for (uint32_t i = 0; i < SPECTRUM_POINTS; i++) {
        /* A raised cosine, from the same table. */
        int32_t weight = (32767 - sine(i + 64)) >> 1;
        int32_t sample = history[(newest + i) % SPECTRUM_POINTS];
        uint32_t to = reversed(i);
        real[to] = sample * weight >> 15;
        imaginary[to] = 0;
    }
}

static void butterflies(uint32_t half)
{
    uint32_t stride = 128 / half;
    for (uint32_t k = 0; k < half; k++) {
        int32_t c = sine(k * stride + 64);
        int32_t s = -sine(k * stride);
        for (uint32_t top = k; top < SPECTRUM_POINTS; top += 2 * half) {
            uint32_t low = top + half;
            int32_t re = (real[low] * c - imaginary[low] * s) >> 15;
            int32_t im = (real[low] * s + imaginary[low] * c) >> 15;
            real[low] = (real[top] - re) >> 1;
            imaginary[low] = (imaginary[top] - im) >> 1;
            real[top] = (real[top] + re) >> 1;
            imaginary[top] = (imaginary[top] + im) >> 1;
        }
    }
}

void spectrum_power(uint32_t *power)
{
    load_window();
    for (uint32_t half = 1; half < SPECTRUM_POINTS; half *= 2) {
        butterflies(half);
    }
    for (uint32_t bin = 0; bin < SPECTRUM_BINS; bin++) {
        power[bin] = (uint32_t)(real[bin] * real[bin] + imaginary[bin] * imaginary[bin]);
    }
}
