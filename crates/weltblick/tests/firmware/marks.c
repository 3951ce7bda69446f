/*
 * Every mark of weltblick_marks.h once, timed by the cycle counter. With WELTBLICK_MARKS_RING they go
 * to a ring in memory instead of the trace port.
 */
#define CYCLES (*(volatile uint32_t *)0xE0001004)

#ifdef WELTBLICK_MARKS_RING
#define WELTBLICK_MARKS_CLOCK() CYCLES
#define WELTBLICK_MARKS_CLOCK_HZ 48000000u
#define WELTBLICK_MARKS_HERE
#endif
#include "weltblick_marks.h"

/* How many cycles each took, beyond reading the counter twice. */
volatile uint32_t cost[32];
volatile uint32_t done;

static uint32_t measured;

#define TIMED(mark)                                                                                \
    do {                                                                                           \
        uint32_t before = CYCLES;                                                                  \
        mark;                                                                                      \
        cost[measured++] = CYCLES - before - nothing;                                              \
    } while (0)

void reset_handler(void)
{
    static const char name[] = "filter";
    uint32_t nothing = 0;
#ifdef WELTBLICK_MARKS_RING
    wb_ring_start();
#endif
    measured = 0;
    uint32_t before = CYCLES;
    nothing = CYCLES - before;
    TIMED(wb_task_created(1, 7, (const void *)0x20000100, 256));
    TIMED(wb_task_named(1, name));
    TIMED(wb_object_named(2, name));
    TIMED(wb_span_named(3, name));
    TIMED(wb_quantity_named(4, name));
    TIMED(wb_task_ready(1));
    TIMED(wb_task_runs(1));
    TIMED(wb_task_runs_at(1, (const void *)0x20000180));
    TIMED(wb_task_stack_used(1, 128));
    TIMED(wb_takes(2));
    TIMED(wb_gives(2));
    TIMED(wb_span_begins(3));
    TIMED(wb_span_ends(3));
    TIMED(wb_quantity(4, -5));
    TIMED(wb_quantity_float(4, 1.5f));
    TIMED(wb_quantity_long(4, -5000000000ll));
    TIMED(wb_quantity_double(4, -0.25));
    TIMED(wb_requested(100));
    TIMED(wb_requested(100000));
    TIMED(wb_task_sleeps(1));
    TIMED(wb_task_waits(1, 2));
    TIMED(wb_task_waits_for_something(1));
    TIMED(wb_task_ended(1));
    TIMED(WB_TEXT("ready"));
    TIMED(WB_TEXT("%u and %u", 7, 8));
    TIMED(WB_TEXT("%u%u%u%u%u%u%u%u", 1, 2, 3, 4, 5, 6, 7, 8));
    done = 1;
    for (;;) {
    }
}

extern uint32_t stack_top;

__attribute__((section(".vectors"), used)) const void *const vectors[16] = {
    &stack_top,
    (const void *)reset_handler,
};
