/* The buoy's jobs. */
#ifndef CONTROL_H
#define CONTROL_H

#include <stdbool.h>
#include <stdint.h>

#include "dsp/dsp.h"
#include "kernel/kernel.h"

/* Numbers on the trace. */
enum { SPAN_BLOCK = 1 };
enum { QUANTITY_HEIGHT = 1, QUANTITY_BATTERY = 2, QUANTITY_DRIFT = 3 };

enum sea_state { SEA_CALM, SEA_MODERATE, SEA_ROUGH, SEA_STORM };

struct wave_summary {
    uint32_t sequence;
    uint32_t height_mm;
    uint32_t period_ms;
    uint32_t peak_bin;
    uint32_t limited;
    uint32_t energy[BANDS];
};

struct health {
    uint32_t battery_mv;
    int32_t temperature_dc; /* tenths of a degree Celsius */
    uint32_t awake_permille;
    enum sea_state sea;
};

extern struct wave_summary latest_waves;
extern struct health latest_health;
extern struct mailbox summaries;

extern struct semaphore block_ready;

void sampler_init(void);
void sampler_block(int32_t *block);

void wave_estimator_task(void);
void housekeeping_task(void);

void clock_init(void);
uint32_t clock_milliseconds(void);
int32_t clock_drift_ppb(void);

#endif
