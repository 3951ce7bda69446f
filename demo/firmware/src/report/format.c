/* Text from numbers. */
#include "report/report.h"

static uint8_t buffer[REPORT_SIZE];
static uint32_t length;

void report_begin(void)
{
    length = 0;
}

static void put(uint8_t byte)
{
    if (length < REPORT_SIZE) {
        buffer[length++] = byte;
    }
}

void report_text(const char *text)
{
    while (*text != 0) {
        put((uint8_t)*text++);
    }
}

void report_number(uint32_t value)
{
    uint8_t digits[10];
    uint32_t count = 0;
    do {
        digits[count++] = (uint8_t)('0' + value % 10);
        value /= 10;
    } while (value != 0);
    while (count > 0) {
        put(digits[--count]);
    }
}

uint32_t report_end(void)
{
    uint16_t sum = checksum(buffer, length);
    report_text("*");
    report_number(sum);
    report_text("\r\n");
    return length;
}

const uint8_t *report_bytes(void)
{
    return buffer;
}
