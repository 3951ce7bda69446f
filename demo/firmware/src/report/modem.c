/*
 * The radio modem, fed by its interrupts, and the radio slot.
 *
 * Fault 2, deliberate: the radio slot's handler checks the whole frame at the sampler's own
 * priority, so now and then a sample waits for it.
 */
#include "board/board.h"
#include "report/report.h"

static uint8_t outgoing[REPORT_SIZE];
static volatile uint32_t sent;
static volatile uint32_t pending;
static volatile uint32_t acknowledged;
static volatile uint32_t slots;
static uint16_t frame_check;
static uint8_t line[16];
static uint32_t line_length;

void modem_send(const uint8_t *bytes, uint32_t count)
{
    pending = 0;
    for (uint32_t i = 0; i < count; i++) {
        outgoing[i] = bytes[i];
    }
    sent = 1;
    pending = count;
    MODEM_DATA = outgoing[0];
}

uint32_t modem_idle(void)
{
    return sent >= pending;
}

void modem_sent_handler(void)
{
    if (sent < pending) {
        MODEM_DATA = outgoing[sent];
        sent++;
    }
}

void modem_received_handler(void)
{
    uint8_t byte = (uint8_t)MODEM_DATA;
    if (byte == '\n') {
        if (line_length >= 5 && line[0] == '+' && line[1] == 'S') {
            acknowledged++;
        }
        line_length = 0;
    } else if (line_length < sizeof line) {
        line[line_length++] = byte;
    }
}

void radio_slot_handler(void)
{
    SLOT_STATUS = 1;
    slots++;
    if (slots % 4 == 0) {
        frame_check = checksum(outgoing, 96);
    }
}
