/* What a compiler emits: arithmetic, control flow, memory, 64-bit helpers. */
#include <stddef.h>
#include <stdint.h>

static uint32_t state;
uint8_t bytes[64];
int16_t halves[32];
uint32_t words[16];
uint64_t doubles[8];

static uint32_t next(void)
{
    state = state * 1664525u + 1013904223u;
    return state;
}

static __attribute__((noinline)) uint32_t choose(uint32_t value)
{
    switch (value % 9) {
    case 0:
        return value << 3;
    case 1:
        return value >> 5;
    case 2:
        return (uint32_t)((int32_t)value >> 7);
    case 3:
        return value * 17;
    case 4:
        return value / 13;
    case 5:
        return (uint32_t)((int32_t)value / -7);
    case 6:
        return value % 1000;
    case 7:
        return (value << 13) | (value >> 19);
    default:
        return ~value;
    }
}

static __attribute__((noinline)) int64_t wide(int64_t a, int64_t b)
{
    int64_t sum = a * b + (a >> 9) - (b << 5);
    if (sum < 0) {
        sum = -sum;
    }
    return sum / (b | 1) + (int64_t)((uint64_t)sum % 12345u);
}

static __attribute__((noinline)) void sort(int16_t *values, size_t count)
{
    for (size_t i = 1; i < count; i++) {
        int16_t value = values[i];
        size_t at = i;
        while (at > 0 && values[at - 1] > value) {
            values[at] = values[at - 1];
            at--;
        }
        values[at] = value;
    }
}

static __attribute__((noinline)) uint32_t fibonacci(uint32_t n)
{
    return n < 2 ? n : fibonacci(n - 1) + fibonacci(n - 2);
}

static __attribute__((noinline)) uint32_t crc(const uint8_t *data, size_t count)
{
    uint32_t value = 0xFFFFFFFFu;
    for (size_t i = 0; i < count; i++) {
        value ^= data[i];
        for (int bit = 0; bit < 8; bit++) {
            value = value & 1 ? value >> 1 ^ 0xEDB88320u : value >> 1;
        }
    }
    return ~value;
}

struct packed {
    uint32_t low : 5;
    int32_t middle : 11;
    uint32_t high : 16;
} __attribute__((packed));

static __attribute__((noinline)) uint32_t pack(uint32_t value)
{
    struct packed fields = {value & 31, (int32_t)(value >> 3) % 1000, value >> 16};
    fields.middle -= 3;
    return (uint32_t)fields.middle + fields.low * fields.high;
}

void isa_main(void)
{
    state = 1;
    for (size_t i = 0; i < 64; i++) {
        bytes[i] = (uint8_t)(next() >> 24);
    }
    for (size_t i = 0; i < 32; i++) {
        halves[i] = (int16_t)(next() >> 16);
    }
    sort(halves, 24);
    for (size_t i = 0; i < 16; i++) {
        words[i] = choose(next()) ^ pack(next());
    }
    for (size_t i = 0; i < 8; i++) {
        int64_t a = (int64_t)((uint64_t)next() << 32 | next());
        doubles[i] = (uint64_t)wide(a >> (i * 7), (int32_t)next());
    }
    words[0] = crc(bytes, 24);
    words[1] = fibonacci(9);
}
