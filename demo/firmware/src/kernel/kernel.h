/* A small pre-emptive kernel: fixed priorities, delays, semaphores and mailboxes. */
#ifndef KERNEL_H
#define KERNEL_H

#include <stdbool.h>
#include <stdint.h>

enum task_state { TASK_READY, TASK_SLEEPING, TASK_BLOCKED };

struct semaphore;

struct task {
    uint32_t *stack_pointer; /* first: the switch reads it */
    enum task_state state;
    uint8_t priority; /* larger is more urgent */
    uint32_t wakes_at;
    struct semaphore *waits_for;
    const char *name;
    struct task *next;
    uint32_t number; /* on the trace */
    uint32_t *stack; /* its lowest word */
    uint32_t words;
};

struct semaphore {
    uint32_t count;
    uint32_t most;
    uint32_t number; /* on the trace */
    const char *name;
};

/* A mailbox of words; the writer never waits, the oldest word is lost. */
struct mailbox {
    struct semaphore filled;
    uint32_t *slots;
    uint32_t size;
    uint32_t head;
    uint32_t used;
    uint32_t lost;
};

void task_create(struct task *task, const char *name, uint8_t priority, void (*entry)(void),
                 uint32_t *stack, uint32_t words);
void kernel_start(void) __attribute__((noreturn));
uint32_t kernel_ticks(void);
void kernel_introduce(uint32_t number);
void kernel_name(uint32_t number);
void kernel_measure_stack(uint32_t number);
void task_sleep_until(uint32_t tick);
void semaphore_take(struct semaphore *semaphore);
void semaphore_give(struct semaphore *semaphore);
void mailbox_post(struct mailbox *mailbox, uint32_t word);
uint32_t mailbox_fetch(struct mailbox *mailbox);

#endif
