/* Variables of every kind, written round after round to values that a test can compute itself. */

#include <stdint.h>

enum sea { SEA_CALM, SEA_ROUGH = 4, SEA_STORM = -1 };

volatile int8_t depth;
volatile uint16_t level;
volatile int32_t drift;
volatile float volts;
volatile enum sea sea;
volatile int16_t wave[32] __attribute__((aligned(64))); /* one comparator covers it */
volatile int8_t grid[3][4];
volatile double precise;
volatile struct {
    uint32_t before;
    uint32_t mode : 3;
    int32_t trim : 5;
    uint32_t rest : 24;
    struct { uint16_t low, high; } pair;
} station;

uint32_t done;

__attribute__((noinline)) static void pause(void) {
    for (volatile uint32_t i = 0; i < 100; i++) {
    }
}

__attribute__((noinline)) static void observe(int32_t round) {
    static const enum sea seas[3] = {SEA_CALM, SEA_ROUGH, SEA_STORM};
    depth = (int8_t)(round * 3 - 60);
    level = (uint16_t)(round * 1000);
    drift = 5 - round * 100000;
    volts = (float)round * 0.25f - 2.0f;
    sea = seas[round % 3];
    wave[round % 32] = (int16_t)(round * 100 - 1500);
    grid[2][round % 4] = (int8_t)round;
    station.mode = (uint32_t)round & 7u;
    station.trim = round % 32 - 16;
    station.pair.high = (uint16_t)(round * 7);
    precise = round * 1e-3;
}

void reset(void) {
    done = 0;
    for (int32_t round = 0; round < 40; round++) {
        observe(round);
        (void)level;
        pause();
    }
    done = 1;
    for (;;) {
    }
}

extern uint32_t stack_top;
__attribute__((section(".vectors"), used)) const void *const vectors[16] = {
    &stack_top, (void *)reset, (void *)reset, (void *)reset,
};
