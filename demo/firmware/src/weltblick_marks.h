/*
 * Weltblick marks: what firmware states about itself, on the trace.
 *
 * Copyright the Weltblick developers. Permission to use, copy, modify and distribute this file for
 * any purpose, with or without fee and with or without this notice, is hereby granted. It comes
 * without any warranty.
 *
 * One header, nothing to link. On Cortex-M with an ITM a mark is a store of a halfword to a stimulus
 * port, arguments are stores of words to the next one. Nothing waits: what finds the trace off is
 * ignored by the hardware, what finds its buffer full is dropped, and the hardware says so with an
 * overflow packet. So marks may stand anywhere: in interrupts, and before the trace is on.
 *
 * For cores without an ITM define WELTBLICK_MARKS_RING (see below): the same bytes go to a ring in
 * memory that `weltblick capture --read-out ring:weltblick_ring` drains while the target runs.
 *
 * The form, byte for byte: docs/formats/marks.md. Say which port in the capture's manifest:
 * `marks_port = 16`.
 */
#ifndef WELTBLICK_MARKS_H
#define WELTBLICK_MARKS_H

#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Marks go to this stimulus port (0 to 30), their arguments to the next. */
#ifndef WELTBLICK_MARKS_PORT
#define WELTBLICK_MARKS_PORT 16
#endif

/* Keeps interrupts away while a mark and its arguments are written; Cortex-M unless told otherwise. */
#ifndef WELTBLICK_MARKS_LOCK
static inline uint32_t wb_lock_(void)
{
    uint32_t before;
    __asm volatile("mrs %0, primask\n cpsid i" : "=r"(before)::"memory");
    return before;
}

static inline void wb_unlock_(uint32_t before)
{
    __asm volatile("msr primask, %0" ::"r"(before) : "memory");
}
#define WELTBLICK_MARKS_LOCK() wb_lock_()
#define WELTBLICK_MARKS_UNLOCK(before) wb_unlock_(before)
#endif

#ifdef WELTBLICK_MARKS_RING

/*
 * The ring: a power of two of bytes behind a header of eight words (docs/formats/ring.md). One C file
 * defines WELTBLICK_MARKS_HERE before it includes this header, and calls wb_ring_start() once.
 * WELTBLICK_MARKS_CLOCK() reads a counter of 32 bits that counts up; WELTBLICK_MARKS_CLOCK_HZ is
 * how fast. There must be a mark in every turn of it: a whole turn without one does not show.
 */
#ifndef WELTBLICK_MARKS_RING_SIZE
#define WELTBLICK_MARKS_RING_SIZE 1024
#endif
#ifndef WELTBLICK_MARKS_CLOCK
#error "define WELTBLICK_MARKS_CLOCK() and WELTBLICK_MARKS_CLOCK_HZ for marks in a ring"
#endif

struct wb_ring {
    uint32_t magic;
    uint32_t version;
    uint32_t size;
    volatile uint32_t written;
    volatile uint32_t read;
    uint32_t clock;
    uint32_t dropped;
    uint32_t reserved;
    uint8_t bytes[WELTBLICK_MARKS_RING_SIZE];
};

void wb_ring_start(void);
void wb_ring_mark_(uint32_t half, const uint32_t *arguments, uint32_t count);

#ifdef WELTBLICK_MARKS_HERE
struct wb_ring weltblick_ring;
static uint32_t wb_ring_last_;
static uint32_t wb_ring_overflowed_;

static void wb_ring_byte_(uint32_t *at, uint32_t byte)
{
    weltblick_ring.bytes[(*at)++ & (WELTBLICK_MARKS_RING_SIZE - 1)] = (uint8_t)byte;
}

static void wb_ring_packet_(uint32_t *at, uint32_t port, uint32_t size, uint32_t value)
{
    wb_ring_byte_(at, port << 3 | (size == 4 ? 3 : size));
    for (; size > 0; size--, value >>= 8) {
        wb_ring_byte_(at, value & 0xff);
    }
}

static void wb_ring_time_(uint32_t *at, uint32_t ticks)
{
    wb_ring_byte_(at, 0xc0);
    for (; ticks > 0x7f; ticks >>= 7) {
        wb_ring_byte_(at, 0x80 | (ticks & 0x7f));
    }
    wb_ring_byte_(at, ticks);
}

void wb_ring_start(void)
{
    weltblick_ring.version = 1;
    weltblick_ring.size = WELTBLICK_MARKS_RING_SIZE;
    weltblick_ring.written = 0;
    weltblick_ring.read = 0;
    weltblick_ring.clock = WELTBLICK_MARKS_CLOCK_HZ;
    weltblick_ring.dropped = 0;
    weltblick_ring.reserved = 0;
    wb_ring_last_ = WELTBLICK_MARKS_CLOCK();
    __asm volatile("" ::: "memory");
    weltblick_ring.magic = 0x47524257;
}

void wb_ring_mark_(uint32_t half, const uint32_t *arguments, uint32_t count)
{
    uint32_t before = WELTBLICK_MARKS_LOCK();
    uint32_t at = weltblick_ring.written;
    uint32_t now = WELTBLICK_MARKS_CLOCK();
    uint32_t ticks = now - wb_ring_last_;
    /* A timestamp holds 28 bits: whole ones go first, the rest dates the mark. */
    uint32_t whole = ticks > 0x0fffffffu ? ticks / 0x0fffffffu : 0;
    /* An overflow packet, the arguments, the mark, and the timestamps. */
    uint32_t needed = 1 + 5 * count + 3 + 5 * (whole + 1);
    if (weltblick_ring.magic == 0) {
        WELTBLICK_MARKS_UNLOCK(before);
        return;
    }
    if (at - weltblick_ring.read + needed > WELTBLICK_MARKS_RING_SIZE) {
        weltblick_ring.dropped++;
        wb_ring_overflowed_ = 1;
        WELTBLICK_MARKS_UNLOCK(before);
        return;
    }
    if (wb_ring_overflowed_) {
        wb_ring_overflowed_ = 0;
        wb_ring_byte_(&at, 0x70);
    }
    for (; whole > 0; whole--, ticks -= 0x0fffffffu) {
        wb_ring_time_(&at, 0x0fffffffu);
    }
    for (uint32_t n = 0; n < count; n++) {
        wb_ring_packet_(&at, WELTBLICK_MARKS_PORT + 1, 4, arguments[n]);
    }
    wb_ring_packet_(&at, WELTBLICK_MARKS_PORT, 2, half);
    wb_ring_time_(&at, ticks);
    wb_ring_last_ = now;
    __asm volatile("" ::: "memory");
    weltblick_ring.written = at;
    WELTBLICK_MARKS_UNLOCK(before);
}
#endif

#define WB_SHORT_(half) wb_ring_mark_((half), 0, 0)
#define WB_LONG_(half, ...)                                                                        \
    do {                                                                                           \
        const uint32_t wb_words_[] = {__VA_ARGS__};                                                \
        wb_ring_mark_((half), wb_words_, sizeof wb_words_ / sizeof wb_words_[0]);                  \
    } while (0)

#else

#define WB_PORT_(port) (0xE0000000u + 4u * (port))
#define WB_ARGUMENT_(word) (*(volatile uint32_t *)WB_PORT_(WELTBLICK_MARKS_PORT + 1) = (word))
#define WB_SHORT_(half)                                                                            \
    ((void)(*(volatile uint16_t *)WB_PORT_(WELTBLICK_MARKS_PORT) = (uint16_t)(half)))

static inline __attribute__((always_inline)) void wb_long_(uint32_t half, const uint32_t *words,
                                                           uint32_t count)
{
    uint32_t before = WELTBLICK_MARKS_LOCK();
    for (uint32_t n = 0; n < count; n++) {
        WB_ARGUMENT_(words[n]);
    }
    WB_SHORT_(half);
    WELTBLICK_MARKS_UNLOCK(before);
}

#define WB_LONG_(half, ...)                                                                        \
    do {                                                                                           \
        const uint32_t wb_words_[] = {__VA_ARGS__};                                                \
        wb_long_((half), wb_words_, sizeof wb_words_ / sizeof wb_words_[0]);                       \
    } while (0)

#endif

#define WB_MARK_(kind, number) ((uint32_t)(kind) << 12 | ((uint32_t)(number) & 0xfffu))
#define WB_ADDRESS_(pointer) ((uint32_t)(uintptr_t)(pointer))

/* Tasks, by a number below 4096 of the firmware's own. */

/* A task exists. The stack's lowest address and its bytes; 0 bytes if that is not known. */
static inline void wb_task_created(uint32_t task, uint32_t priority, const void *stack,
                                   uint32_t bytes)
{
    WB_LONG_(WB_MARK_(0xf, 0x000), task, priority, WB_ADDRESS_(stack), bytes);
}

/* Names are texts in the image that stay where they are; only their addresses travel. */
static inline void wb_task_named(uint32_t task, const char *name)
{
    WB_LONG_(WB_MARK_(0xf, 0x001), task, WB_ADDRESS_(name));
}

/* It could run from here on. */
static inline void wb_task_ready(uint32_t task)
{
    WB_SHORT_(WB_MARK_(0x2, task));
}

/* It runs from here on, whatever ran before. */
static inline void wb_task_runs(uint32_t task)
{
    WB_SHORT_(WB_MARK_(0x1, task));
}

/* The same, with its stack pointer: shows how deep its stack is at every switch. */
static inline void wb_task_runs_at(uint32_t task, const void *stack_pointer)
{
    WB_LONG_(WB_MARK_(0xa, task), WB_ADDRESS_(stack_pointer));
}

/* It stops by its own will: for a time, */
static inline void wb_task_sleeps(uint32_t task)
{
    WB_SHORT_(WB_MARK_(0x3, task));
}

/* for an object, */
static inline void wb_task_waits(uint32_t task, uint32_t object)
{
    WB_LONG_(WB_MARK_(0x4, task), object);
}

/* for something that has no number, */
static inline void wb_task_waits_for_something(uint32_t task)
{
    WB_LONG_(WB_MARK_(0xf, 0x007), task);
}

/* or for good. */
static inline void wb_task_ended(uint32_t task)
{
    WB_SHORT_(WB_MARK_(0x5, task));
}

/* So much of its stack was used at most since it was created. */
static inline void wb_task_stack_used(uint32_t task, uint32_t bytes)
{
    WB_LONG_(WB_MARK_(0xd, task), bytes);
}

/* What tasks wait for: queues, semaphores, mutexes. */

static inline void wb_object_named(uint32_t object, const char *name)
{
    WB_LONG_(WB_MARK_(0xf, 0x002), object, WB_ADDRESS_(name));
}

static inline void wb_takes(uint32_t object)
{
    WB_SHORT_(WB_MARK_(0x6, object));
}

static inline void wb_gives(uint32_t object)
{
    WB_SHORT_(WB_MARK_(0x7, object));
}

/* Spans of the firmware's own. */

static inline void wb_span_named(uint32_t span, const char *name)
{
    WB_LONG_(WB_MARK_(0xf, 0x003), span, WB_ADDRESS_(name));
}

static inline void wb_span_begins(uint32_t span)
{
    WB_SHORT_(WB_MARK_(0x8, span));
}

static inline void wb_span_ends(uint32_t span)
{
    WB_SHORT_(WB_MARK_(0x9, span));
}

/* Quantities: numbers over time. */

static inline void wb_quantity_named(uint32_t quantity, const char *name)
{
    WB_LONG_(WB_MARK_(0xf, 0x004), quantity, WB_ADDRESS_(name));
}

static inline void wb_quantity(uint32_t quantity, int32_t value)
{
    WB_LONG_(WB_MARK_(0xb, quantity), (uint32_t)value);
}

static inline void wb_quantity_float(uint32_t quantity, float value)
{
    union {
        float value;
        uint32_t bits;
    } both = {value};
    WB_LONG_(WB_MARK_(0xc, quantity), both.bits);
}

static inline void wb_quantity_long(uint32_t quantity, int64_t value)
{
    WB_LONG_(WB_MARK_(0xf, 0x005), quantity, (uint32_t)value, (uint32_t)((uint64_t)value >> 32));
}

static inline void wb_quantity_double(uint32_t quantity, double value)
{
    union {
        double value;
        uint64_t bits;
    } both = {value};
    WB_LONG_(WB_MARK_(0xf, 0x006), quantity, (uint32_t)both.bits, (uint32_t)(both.bits >> 32));
}

/*
 * The hardware had asked for the interrupt that runs so many core cycles ago: as its capture
 * register or its timer's counter tells. State it first in the handler.
 */
static inline void wb_requested(uint32_t cycles_ago)
{
    if (cycles_ago < 0xfff) {
        WB_SHORT_(WB_MARK_(0xe, cycles_ago));
    } else {
        WB_LONG_(WB_MARK_(0xe, 0xfff), cycles_ago);
    }
}

/*
 * A text with up to eight whole numbers, addresses of texts in the image, or characters:
 * WB_TEXT("report %u, height %d mm", sequence, height). Only the numbers and the format's address
 * travel.
 */
#define WB_TEXT(...)                                                                               \
    WB_TEXT_PICK_(__VA_ARGS__, WB_TEXT_N_, WB_TEXT_N_, WB_TEXT_N_, WB_TEXT_N_, WB_TEXT_N_,         \
                  WB_TEXT_N_, WB_TEXT_N_, WB_TEXT_N_, WB_TEXT_0_, 0)(__VA_ARGS__)
#define WB_TEXT_PICK_(a, b, c, d, e, f, g, h, i, pick, ...) pick
#define WB_TEXT_0_(format)                                                                         \
    do {                                                                                           \
        static const char wb_format_[] = format;                                                   \
        WB_LONG_(WB_MARK_(0xf, 0x010), WB_ADDRESS_(wb_format_));                                   \
    } while (0)
#define WB_TEXT_N_(format, ...)                                                                    \
    do {                                                                                           \
        static const char wb_format_[] = format;                                                   \
        const uint32_t wb_numbers_[] = {__VA_ARGS__};                                              \
        wb_text_(wb_format_, wb_numbers_, sizeof wb_numbers_ / sizeof wb_numbers_[0]);             \
    } while (0)

static inline __attribute__((always_inline)) void wb_text_(const char *format,
                                                           const uint32_t *numbers, uint32_t count)
{
    uint32_t words[9];
    for (uint32_t n = 0; n < count; n++) {
        words[n] = numbers[n];
    }
    words[count] = WB_ADDRESS_(format);
#ifdef WELTBLICK_MARKS_RING
    wb_ring_mark_(WB_MARK_(0xf, 0x010 + count), words, count + 1);
#else
    wb_long_(WB_MARK_(0xf, 0x010 + count), words, count + 1);
#endif
}

#ifdef __cplusplus
}
#endif

#endif
