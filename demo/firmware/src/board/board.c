/* Clocks, timers and interrupt priorities. */
#include "board/board.h"

/* Smaller is more urgent. The radio slot shares the sampler's level: see docs, fault 2. */
enum {
    PRIORITY_PULSE = 0x20,
    PRIORITY_ADC = 0x40,
    PRIORITY_SLOT = 0x40,
    PRIORITY_MODEM = 0x60,
    PRIORITY_TICK = 0x80,
    PRIORITY_SWITCH = 0xF0,
};

#define CONSOLE_PORT 0

static void start_systick(void)
{
    SYSTICK_RELOAD = CORE_CLOCK_HZ / TICKS_PER_SECOND - 1;
    SYSTICK_VALUE = 0;
    SYSTICK_CONTROL = 7;
}

static void start_peripherals(void)
{
    ADC_PERIOD = CORE_CLOCK_HZ / SAMPLES_PER_SECOND;
    ADC_CONTROL = 1;
    SLOT_PERIOD = CORE_CLOCK_HZ / 81;
    SLOT_CONTROL = 1;
    PULSE_PERIOD = CORE_CLOCK_HZ / 10;
    PULSE_CONTROL = 1;
    MODEM_CYCLES_PER_BYTE = CORE_CLOCK_HZ / 960;
    MODEM_CONTROL = 3;
}

void board_start(void)
{
    NVIC_PRIORITY(LINE_GNSS_PULSE) = PRIORITY_PULSE;
    NVIC_PRIORITY(LINE_ADC_READY) = PRIORITY_ADC;
    NVIC_PRIORITY(LINE_RADIO_SLOT) = PRIORITY_SLOT;
    NVIC_PRIORITY(LINE_MODEM_SENT) = PRIORITY_MODEM;
    NVIC_PRIORITY(LINE_MODEM_RECEIVED) = PRIORITY_MODEM;
    SYSTEM_PRIORITY(15) = PRIORITY_TICK;
    SYSTEM_PRIORITY(14) = PRIORITY_SWITCH;
    SYSTEM_PRIORITY(11) = PRIORITY_SWITCH;
    NVIC_ENABLE = 1u << LINE_ADC_READY | 1u << LINE_RADIO_SLOT | 1u << LINE_MODEM_SENT |
                  1u << LINE_MODEM_RECEIVED | 1u << LINE_GNSS_PULSE;
    start_systick();
    start_peripherals();
}

void console_print(const char *text)
{
    while (*text != 0) {
        if (STIMULUS(CONSOLE_PORT) == 0) {
            return; /* nobody listens, or the port is full: never wait */
        }
        STIMULUS_BYTE(CONSOLE_PORT) = (uint8_t)*text++;
    }
}
