/* The moored wave-measuring buoy: three tasks and what they need. */
#include "board/board.h"
#include "control/control.h"
#include "kernel/kernel.h"
#include "report/report.h"

#define ESTIMATOR_WORDS 256
#define TELEMETRY_WORDS 192
#define HOUSEKEEPING_WORDS 128

static struct task estimator;
static struct task telemetry;
static struct task housekeeping;
static uint32_t estimator_stack[ESTIMATOR_WORDS] __attribute__((aligned(8)));
static uint32_t telemetry_stack[TELEMETRY_WORDS] __attribute__((aligned(8)));
static uint32_t housekeeping_stack[HOUSEKEEPING_WORDS] __attribute__((aligned(8)));

int main(void)
{
    clock_init();
    task_create(&estimator, "wave_estimator", 3, wave_estimator_task, estimator_stack,
                ESTIMATOR_WORDS);
    task_create(&telemetry, "telemetry", 2, telemetry_task, telemetry_stack, TELEMETRY_WORDS);
    task_create(&housekeeping, "housekeeping", 1, housekeeping_task, housekeeping_stack,
                HOUSEKEEPING_WORDS);
    console_print("buoy awake\n");
    board_start();
    kernel_start();
}
