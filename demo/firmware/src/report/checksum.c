/* CRC-16/CCITT, bit by bit. */
#include "report/report.h"

uint16_t checksum(const uint8_t *bytes, uint32_t count)
{
    uint32_t crc = 0xFFFF;
    for (uint32_t i = 0; i < count; i++) {
        crc ^= (uint32_t)bytes[i] << 8;
        for (uint32_t bit = 0; bit < 8; bit++) {
            crc = crc & 0x8000 ? crc << 1 ^ 0x1021 : crc << 1;
        }
        crc &= 0xFFFF;
    }
    return (uint16_t)crc;
}
