/* Reports to shore. */
#ifndef REPORT_H
#define REPORT_H

#include <stdint.h>

#define REPORT_SIZE 640

uint16_t checksum(const uint8_t *bytes, uint32_t count);

void report_begin(void);
void report_text(const char *text);
void report_number(uint32_t value);
uint32_t report_end(void);
const uint8_t *report_bytes(void);

void modem_send(const uint8_t *bytes, uint32_t count);
uint32_t modem_idle(void);

void telemetry_task(void);

#endif
