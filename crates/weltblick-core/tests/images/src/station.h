/* What the mooring's load cells measure. */
#ifndef STATION_H
#define STATION_H

enum valve { VALVE_SHUT, VALVE_OPEN, VALVE_STUCK = -1 };

struct reading {
    unsigned short raw;
    float newton;
    struct {
        signed char gain;
        unsigned char channel;
    } adc;
};

struct flags {
    unsigned ready : 1;
    unsigned phase : 3;
    int trim : 5;
    unsigned wide : 17;
    unsigned : 2;
    unsigned tail : 4;
};

struct station {
    unsigned id;
    struct reading cell[3];
    enum valve valve;
    struct flags flags;
    union {
        unsigned word;
        unsigned char byte[4];
        float level;
    } u;
    struct {
        unsigned short low, high;
    };
    struct station *next;
    long long total;
};

extern volatile int loads;

int mooring_load(struct station *station, int raw);
int mooring_slack(int length);

/* Inlined wherever it is called. */
static inline __attribute__((always_inline)) int scaled(int raw, int gain)
{
    int sum = 0;
    for (int bit = 0; bit < gain; bit++)
        sum += raw >> bit;
    return sum;
}

#endif
