/* The buoy's microcontroller: registers, clocks and interrupt numbers. */
#ifndef BOARD_H
#define BOARD_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* From the 32768 Hz crystal, times 1464. */
#define CORE_CLOCK_HZ 47972352u
#define TICKS_PER_SECOND 1000u
#define SAMPLES_PER_SECOND 4000u

#define REGISTER(address) (*(volatile uint32_t *)(address))

/* Accelerometer converter, interrupt 0. */
#define ADC_CONTROL REGISTER(0x40000000)
#define ADC_PERIOD REGISTER(0x40000004)
#define ADC_STATUS REGISTER(0x40000008)
#define ADC_DATA REGISTER(0x4000000C)

/* Radio slot timer, interrupt 1. */
#define SLOT_CONTROL REGISTER(0x40001000)
#define SLOT_PERIOD REGISTER(0x40001004)
#define SLOT_STATUS REGISTER(0x40001008)

/* Modem UART, interrupts 2 (ready to send) and 3 (received). */
#define MODEM_DATA REGISTER(0x40002000)
#define MODEM_STATUS REGISTER(0x40002004)
#define MODEM_CONTROL REGISTER(0x40002008)
#define MODEM_CYCLES_PER_BYTE REGISTER(0x4000200C)

/* Satellite pulse capture, interrupt 4. */
#define PULSE_CONTROL REGISTER(0x40003000)
#define PULSE_CAPTURED REGISTER(0x40003004)
#define PULSE_STATUS REGISTER(0x40003008)
#define PULSE_PERIOD REGISTER(0x4000300C)
/* Cycles since the last pulse. */
#define PULSE_AGE REGISTER(0x40003010)

/* Battery (mV) and temperature (0.1 K above -273). */
#define BATTERY_MILLIVOLT REGISTER(0x40004000)
#define TEMPERATURE_KELVIN REGISTER(0x40004004)

/* Armv7-M. */
#define SYSTICK_CONTROL REGISTER(0xE000E010)
#define SYSTICK_RELOAD REGISTER(0xE000E014)
#define SYSTICK_VALUE REGISTER(0xE000E018)
#define NVIC_ENABLE REGISTER(0xE000E100)
#define NVIC_PRIORITY(line) (*(volatile uint8_t *)(0xE000E400 + (line)))
#define SYSTEM_PRIORITY(exception) (*(volatile uint8_t *)(0xE000ED14 + (exception)))
#define INTERRUPT_CONTROL REGISTER(0xE000ED04)
#define PEND_SWITCH (1u << 28)
#define STIMULUS(port) (*(volatile uint32_t *)(0xE0000000 + 4 * (port)))
#define STIMULUS_BYTE(port) (*(volatile uint8_t *)(0xE0000000 + 4 * (port)))

enum line {
    LINE_ADC_READY = 0,
    LINE_RADIO_SLOT = 1,
    LINE_MODEM_SENT = 2,
    LINE_MODEM_RECEIVED = 3,
    LINE_GNSS_PULSE = 4,
};

/* Brings clocks, timers and interrupts up. */
void board_start(void);

/* Prints on the trace port: a debug console that costs nothing when nobody listens. */
void console_print(const char *text);

static inline uint32_t interrupts_mask(void)
{
    uint32_t before;
    __asm volatile("mrs %0, primask\n cpsid i" : "=r"(before)::"memory");
    return before;
}

static inline void interrupts_restore(uint32_t before)
{
    __asm volatile("msr primask, %0" ::"r"(before) : "memory");
}

#endif
