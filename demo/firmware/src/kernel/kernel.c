/* Scheduling. Every change of the task list happens with interrupts masked. */
#include "kernel/kernel.h"

#include "board/board.h"
#include "weltblick_marks.h"

/* What a stack is filled with, to see later how deep it was used. */
#define UNUSED_WORD 0xA5C3F00Du

#define IDLE_WORDS 64

struct task *kernel_current;

static struct task *tasks;
static volatile uint32_t ticks;
static struct task idle_task;
static uint32_t idle_stack[IDLE_WORDS] __attribute__((aligned(8)));

static void idle(void)
{
    for (;;) {
        __asm volatile("wfi");
    }
}

static void task_ended(void)
{
    console_print("a task returned\n");
    for (;;) {
        task_sleep_until(kernel_ticks() + 1000);
    }
}

void task_create(struct task *task, const char *name, uint8_t priority, void (*entry)(void),
                 uint32_t *stack, uint32_t words)
{
    static uint32_t created;
    uint32_t *sp = stack + words;
    for (uint32_t n = 0; n < words; n++) {
        ((volatile uint32_t *)stack)[n] = UNUSED_WORD;
    }
    *--sp = 1u << 24;            /* xPSR: thumb */
    *--sp = (uint32_t)entry & ~1u; /* PC */
    *--sp = (uint32_t)task_ended;
    sp -= 5 + 8; /* R12, R3 to R0, then R11 to R4 */
    task->stack_pointer = sp;
    task->state = TASK_READY;
    task->priority = priority;
    task->name = name;
    task->waits_for = 0;
    task->next = tasks;
    task->number = ++created;
    task->stack = stack;
    task->words = words;
    tasks = task;
    kernel_introduce(task->number);
    kernel_name(task->number);
}

static struct task *find(uint32_t number)
{
    struct task *task = tasks;
    while (task != 0 && task->number != number) {
        task = task->next;
    }
    return task;
}

/* Says who a task is, for whoever began to listen late; its name apart: bursts overflow the link. */
void kernel_introduce(uint32_t number)
{
    const struct task *task = find(number);
    if (task != 0) {
        wb_task_created(task->number, task->priority, task->stack, 4 * task->words);
    }
}

void kernel_name(uint32_t number)
{
    const struct task *task = find(number);
    if (task != 0) {
        wb_task_named(task->number, task->name);
    }
}

/* Says how deep a task's stack was ever used. */
void kernel_measure_stack(uint32_t number)
{
    const struct task *task = find(number);
    if (task != 0) {
        uint32_t unused = 0;
        while (unused < task->words && task->stack[unused] == UNUSED_WORD) {
            unused++;
        }
        wb_task_stack_used(task->number, 4 * (task->words - unused));
    }
}

/* The most urgent task that is ready; the idle task always is. */
struct task *kernel_choose(void)
{
    struct task *best = 0;
    for (struct task *task = tasks; task != 0; task = task->next) {
        if (task->state == TASK_READY && (best == 0 || task->priority > best->priority)) {
            best = task;
        }
    }
    kernel_current = best;
    wb_task_runs_at(best->number, best->stack_pointer);
    return best;
}

static void request_switch(void)
{
    INTERRUPT_CONTROL = PEND_SWITCH;
}

static void make_ready(struct task *task)
{
    task->state = TASK_READY;
    task->waits_for = 0;
    wb_task_ready(task->number);
    if (kernel_current == 0 || task->priority > kernel_current->priority) {
        request_switch();
    }
}

void kernel_start(void)
{
    task_create(&idle_task, "idle", 0, idle, idle_stack, IDLE_WORDS);
    kernel_choose();
    __asm volatile("svc 0");
    for (;;) {
    }
}

uint32_t kernel_ticks(void)
{
    return ticks;
}

void systick_handler(void)
{
    uint32_t now = ++ticks;
    uint32_t masked = interrupts_mask();
    for (struct task *task = tasks; task != 0; task = task->next) {
        if (task->state == TASK_SLEEPING && (int32_t)(now - task->wakes_at) >= 0) {
            make_ready(task);
        }
    }
    interrupts_restore(masked);
}

void task_sleep_until(uint32_t tick)
{
    uint32_t masked = interrupts_mask();
    if ((int32_t)(tick - ticks) > 0) {
        kernel_current->wakes_at = tick;
        kernel_current->state = TASK_SLEEPING;
        wb_task_sleeps(kernel_current->number);
        request_switch();
    }
    interrupts_restore(masked);
}

void semaphore_take(struct semaphore *semaphore)
{
    for (;;) {
        uint32_t masked = interrupts_mask();
        if (semaphore->count > 0) {
            semaphore->count--;
            wb_takes(semaphore->number);
            interrupts_restore(masked);
            return;
        }
        kernel_current->waits_for = semaphore;
        kernel_current->state = TASK_BLOCKED;
        wb_task_waits(kernel_current->number, semaphore->number);
        request_switch();
        interrupts_restore(masked); /* the switch happens here */
    }
}

static struct task *most_urgent_waiter(const struct semaphore *semaphore)
{
    struct task *best = 0;
    for (struct task *task = tasks; task != 0; task = task->next) {
        if (task->state == TASK_BLOCKED && task->waits_for == semaphore &&
            (best == 0 || task->priority > best->priority)) {
            best = task;
        }
    }
    return best;
}

void semaphore_give(struct semaphore *semaphore)
{
    uint32_t masked = interrupts_mask();
    wb_gives(semaphore->number);
    if (semaphore->count < semaphore->most) {
        semaphore->count++;
    }
    struct task *waiter = most_urgent_waiter(semaphore);
    if (waiter != 0) {
        make_ready(waiter);
    }
    interrupts_restore(masked);
}
