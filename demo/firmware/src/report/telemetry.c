/*
 * Builds a report for every few wave summaries and hands it to the modem.
 *
 * Fault 3, deliberate: the report is archived byte by byte into a staging buffer and from there
 * into the archive; nobody needs the staging buffer.
 */
#include "board/board.h"
#include "control/control.h"
#include "report/report.h"
#include "weltblick_marks.h"

#define ARCHIVE_SIZE 4096

static uint8_t staging[ARCHIVE_SIZE];
static uint8_t archive[ARCHIVE_SIZE];
static uint32_t archived;

static __attribute__((noinline)) void copy_bytes(uint8_t *to, const uint8_t *from, uint32_t count)
{
    volatile uint8_t *out = to;
    for (uint32_t i = 0; i < count; i++) {
        out[i] = from[i];
    }
}

static void archive_report(const uint8_t *bytes, uint32_t count)
{
    if (archived + count > ARCHIVE_SIZE) {
        archived = 0;
    }
    copy_bytes(staging, archive, ARCHIVE_SIZE);
    copy_bytes(staging + archived, bytes, count);
    copy_bytes(archive, staging, ARCHIVE_SIZE);
    archived += count;
}

static void write_field(const char *name, uint32_t value)
{
    report_text(name);
    report_number(value);
}

static uint32_t build_report(void)
{
    report_begin();
    write_field("$BUOY,", latest_waves.sequence);
    write_field(",t=", clock_milliseconds());
    write_field(",h=", latest_waves.height_mm);
    write_field(",p=", latest_waves.period_ms);
    write_field(",f=", latest_waves.peak_bin);
    write_field(",l=", latest_waves.limited);
    for (uint32_t band = 0; band < BANDS; band++) {
        write_field(",", latest_waves.energy[band]);
    }
    write_field(",v=", latest_health.battery_mv);
    write_field(",d=", (uint32_t)clock_drift_ppb());
    write_field(",s=", latest_health.sea);
    return report_end();
}

static void log_report(uint32_t length)
{
    if (latest_waves.sequence % 8 == 0) {
        console_print(latest_waves.limited > 0 ? "report, limited\n" : "report\n");
    }
    if (length == 0) {
        console_print("empty report\n");
    }
}

void telemetry_task(void)
{
    for (;;) {
        uint32_t sequence = mailbox_fetch(&summaries);
        if (sequence % 2 != 0) {
            continue;
        }
        uint32_t length = build_report();
        archive_report(report_bytes(), length);
        WB_TEXT("report %u of %u bytes, %s", sequence, length,
                (uint32_t)(modem_idle() ? "sent" : "kept"));
        log_report(length);
        if (modem_idle()) {
            modem_send(report_bytes(), length);
        }
    }
}
