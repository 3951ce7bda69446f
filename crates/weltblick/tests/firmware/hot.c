/* A firmware with nothing but the core: three functions that share its time about 8 : 1 : 1. It
 * runs on the stand-in and on any emulated board with flash at 0x08000000 and RAM at 0x20000000. */

#include <stdint.h>

volatile uint32_t rounds;
volatile uint32_t sums[4];
static const char greeting[] = "hot";

/* A ring in memory, as docs/formats/ring.md has it: the host drains it. */
#define RING_SIZE 1024u
struct {
    uint32_t magic, version, size;
    volatile uint32_t written, read;
    uint32_t clock, dropped, zero;
    uint8_t data[RING_SIZE];
} mark_ring;

static void ring_start(void) {
    mark_ring.version = 1;
    mark_ring.size = RING_SIZE;
    mark_ring.written = 0;
    mark_ring.read = 0;
    mark_ring.dropped = 0;
    *(volatile uint32_t *)&mark_ring.magic = 0x47524257u;
}

static void ring_put(uint8_t byte) {
    uint32_t at = mark_ring.written;
    mark_ring.data[at % RING_SIZE] = byte;
    mark_ring.written = at + 1;
}

/* One character to stimulus port 0: a header for one byte, and the byte. */
static void say(char c) {
    static uint32_t was_full;
    if (RING_SIZE - (mark_ring.written - mark_ring.read) < 3) {
        mark_ring.dropped++;
        was_full = 1;
        return;
    }
    if (was_full) {
        was_full = 0;
        ring_put(0x70); /* overflow */
    }
    ring_put(0x01);
    ring_put((uint8_t)c);
}

static void say_number(uint32_t number) {
    char digits[10];
    int count = 0;
    do {
        digits[count++] = (char)('0' + number % 10u);
        number /= 10u;
    } while (number > 0);
    while (count > 0) {
        say(digits[--count]);
    }
    say('\n');
}

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
    rounds = 0;
    ring_start();
    for (;;) {
        seed = smooth_spectrum(seed);
        sums[0] = seed;
        seed = track_tide(seed);
        sums[1] = seed;
        seed = churn(seed, 1000);
        sums[2] = seed;
        say_number(rounds);
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
