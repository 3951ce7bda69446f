/* The buoy's hull: where it starts, and what it never calls. */
#include "station.h"

struct station station = { .id = 7, .valve = VALVE_OPEN };
struct station ring[2];
volatile int loads;
volatile long long seconds = -5000000000LL;
volatile double drift = 0.25;
static volatile int level = 3;

/* Dropped by the linker, and so is what it uses. */
int unused_table[40];

int unused_first(int x)
{
    for (int i = 0; i < x; i++)
        unused_table[i % 40] += scaled(x, i);
    return unused_table[x % 40];
}

__attribute__((noinline)) int hull_heel(int degrees)
{
    static int calls;
    static volatile struct reading last;
    calls++;
    last.raw = (unsigned short)degrees;
    return scaled(degrees, calls) + last.raw;
}

int unused_second(int x)
{
    return scaled(x, 4) + unused_first(x - 1);
}

int main(void)
{
    for (;;) {
        loads += mooring_load(&station, hull_heel(level));
        seconds++;
        drift *= 2;
        ring[loads & 1].total += level;
        level = mooring_slack(loads);
    }
}

__attribute__((noreturn)) void start(void)
{
    main();
    for (;;) {
    }
}

void other_handler(void)
{
    loads = 0;
}

extern char stack_top[];
__attribute__((section(".vectors"), used)) static void *const vectors[20] = {
    stack_top, (void *)start, (void *)other_handler, (void *)other_handler,
    [15] = (void *)hull_heel, [16] = (void *)other_handler, [19] = (void *)other_handler,
};
