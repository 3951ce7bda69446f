/*
 * Battery, temperature, and what the sea is doing.
 *
 * Fault 4, deliberate: nothing in the demo's weather ever reaches the storm branch.
 */
#include "board/board.h"
#include "control/control.h"
#include "weltblick_marks.h"

#define READINGS 31
#define PERIOD_TICKS 40

struct health latest_health;

static uint32_t voltages[READINGS];
static uint32_t sorted[READINGS];
static uint32_t next_reading;

/* The median of the last readings, by insertion sort. */
static uint32_t median(const uint32_t *values, uint32_t count)
{
    for (uint32_t i = 0; i < count; i++) {
        uint32_t value = values[i];
        uint32_t at = i;
        while (at > 0 && sorted[at - 1] > value) {
            sorted[at] = sorted[at - 1];
            at--;
        }
        sorted[at] = value;
    }
    return sorted[count / 2];
}

static void secure_for_storm(void)
{
    console_print("storm: shortening the report interval\n");
    latest_health.sea = SEA_STORM;
    for (uint32_t band = 0; band < BANDS; band++) {
        latest_waves.energy[band] = 0;
    }
}

static void judge_sea(uint32_t height_mm)
{
    switch (latest_health.sea) {
    case SEA_CALM:
        if (height_mm > 300) {
            latest_health.sea = SEA_MODERATE;
        }
        break;
    case SEA_MODERATE:
        if (height_mm > 2500) {
            latest_health.sea = SEA_ROUGH;
        } else if (height_mm < 200) {
            latest_health.sea = SEA_CALM;
        }
        break;
    case SEA_ROUGH:
        if (height_mm > 400000) {
            secure_for_storm();
        } else if (height_mm < 2000) {
            latest_health.sea = SEA_MODERATE;
        }
        break;
    case SEA_STORM:
        if (height_mm < 300000) {
            latest_health.sea = SEA_ROUGH;
        }
        break;
    }
}

static void read_sensors(void)
{
    voltages[next_reading] = BATTERY_MILLIVOLT;
    next_reading = (next_reading + 1) % READINGS;
    latest_health.battery_mv = median(voltages, READINGS);
    latest_health.temperature_dc = (int32_t)TEMPERATURE_KELVIN * 10 - 2731;
}

/* Who is who on the trace, one after the other, for whoever began to listen late. */
static void introduce(uint32_t round)
{
    switch (round % 18) {
    case 0:
        wb_object_named(block_ready.number, block_ready.name);
        break;
    case 1:
        wb_object_named(summaries.filled.number, summaries.filled.name);
        break;
    case 2:
        wb_span_named(SPAN_BLOCK, "block");
        break;
    case 3:
        wb_quantity_named(QUANTITY_HEIGHT, "wave_height_mm");
        break;
    case 4:
        wb_quantity_named(QUANTITY_BATTERY, "battery_mv");
        break;
    case 5:
        wb_quantity_named(QUANTITY_DRIFT, "drift_ppb");
        break;
    case 6 ... 9:
        kernel_introduce(round % 18 - 5); /* four tasks, from 1 */
        break;
    case 10 ... 13:
        kernel_name(round % 18 - 9);
        break;
    default:
        kernel_measure_stack(round % 18 - 13);
    }
}

void housekeeping_task(void)
{
    uint32_t rounds = 0;
    uint32_t next = kernel_ticks();
    for (;;) {
        next += PERIOD_TICKS;
        task_sleep_until(next);
        read_sensors();
        judge_sea(latest_waves.height_mm);
        wb_quantity(QUANTITY_BATTERY, (int32_t)latest_health.battery_mv);
        introduce(rounds++);
        if (latest_health.battery_mv < 3300) {
            console_print("battery low\n");
        }
    }
}
