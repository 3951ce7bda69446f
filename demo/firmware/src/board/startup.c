/* Vector table and reset. */
#include "board/board.h"

extern uint32_t stack_top, data_load, data_start, data_end, bss_start, bss_end;

int main(void);
void reset_handler(void);
void svcall_handler(void);
void pendsv_handler(void);
void systick_handler(void);
void adc_ready_handler(void);
void radio_slot_handler(void);
void modem_sent_handler(void);
void modem_received_handler(void);
void gnss_pulse_handler(void);

/* Faults end here: the watchdog brings the buoy back. */
void fault_handler(void)
{
    __asm volatile("bkpt 1");
    for (;;) {
    }
}

void nmi_handler(void) __attribute__((weak, alias("fault_handler")));
void memory_handler(void) __attribute__((weak, alias("fault_handler")));
void bus_handler(void) __attribute__((weak, alias("fault_handler")));
void usage_handler(void) __attribute__((weak, alias("fault_handler")));

typedef void (*handler)(void);

__attribute__((section(".vectors"), used)) static const handler vectors[] = {
    (handler)&stack_top,
    reset_handler,
    nmi_handler,
    fault_handler,
    memory_handler,
    bus_handler,
    usage_handler,
    0,
    0,
    0,
    0,
    svcall_handler,
    0,
    0,
    pendsv_handler,
    systick_handler,
    adc_ready_handler,
    radio_slot_handler,
    modem_sent_handler,
    modem_received_handler,
    gnss_pulse_handler,
};

void reset_handler(void)
{
    const uint32_t *from = &data_load;
    for (uint32_t *to = &data_start; to < &data_end;) {
        *to++ = *from++;
    }
    for (uint32_t *to = &bss_start; to < &bss_end;) {
        *to++ = 0;
    }
    main();
    fault_handler();
}
