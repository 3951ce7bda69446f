/* A firmware with nothing but the core: three functions that share its time about 8 : 1 : 1. It
 * runs on the stand-in and on any emulated board with flash at 0x08000000 and RAM at 0x20000000. */

#include <stdint.h>

volatile uint32_t rounds;
volatile uint32_t sums[4];
static const char greeting[] = "hot";

__attribute__((noinline)) static uint32_t churn(uint32_t seed, uint32_t times) {
    for (uint32_t i = 0; i < times; i++) {
        seed = seed * 1664525u + 1013904223u;
        seed ^= seed >> 7;
    }
    return seed;
}

__attribute__((noinline)) uint32_t smooth_spectrum(uint32_t seed) {
    for (uint32_t i = 0; i < 8000; i++) {
        seed = seed * 1664525u + 1013904223u;
        seed ^= seed >> 7;
    }
    return seed;
}

__attribute__((noinline)) uint32_t track_tide(uint32_t seed) {
    for (uint32_t i = 0; i < 1000; i++) {
        seed = seed * 22695477u + 1u;
        seed ^= seed >> 9;
    }
    return seed;
}

void main_loop(void) {
    uint32_t seed = (uint32_t)greeting[0];
    for (;;) {
        seed = smooth_spectrum(seed);
        sums[0] = seed;
        seed = track_tide(seed);
        sums[1] = seed;
        seed = churn(seed, 1000);
        sums[2] = seed;
        rounds++;
    }
}

void reset(void) {
    main_loop();
}

extern uint32_t stack_top;
__attribute__((section(".vectors"), used)) const void *const vectors[16] = {
    &stack_top, (void *)reset, (void *)reset, (void *)reset,
};
