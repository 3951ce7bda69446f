//! What is known of the figures of an interrupt.

use super::figures::{Figures, InterruptFigures};
use crate::figure::{Absent, Basis, Doubt, Effect, Figure, Note, SHARE};
use crate::measure::known::{
    Ask, Facts, Found, KnownBy, Measure, Missing, Of, OpenRuns, counted, no_such_figure, relied,
    spread, spread_or_open, weigh_silence,
};
use crate::measure::statistic::Scale;
use crate::stats::{Bounds, Spread, Ticks};

impl InterruptFigures {
    /// What is known of a figure of an interrupt.
    ///
    /// # Errors
    ///
    /// Why nothing is.
    pub fn figure(&self, row: &Figures, ask: Ask, facts: &Facts) -> Found {
        let scale = facts.scale()?;
        let unknown = facts.span.high.saturating_sub(self.known_on(row.core));
        let gaps = self.gaps_on(row.core).saturating_sub(facts.left_out);
        let missing = Missing::new(gaps, row.cut, facts.hiding(ask, unknown, scale));
        let lasting = missing.lasting(self.hidden_on(row.core));
        let apart = missing.apart(&row.bridges, &row.period);
        let open = |longest| OpenRuns { count: row.open, longest, is_exact: true };
        let of = ask.of;
        let mut found = match ask.measure {
            Measure::Own => {
                let mut found = spread_or_open(&row.own, of, &lasting, open(row.open_own), scale)?;
                open(row.open_own).weigh(&mut found, &row.own, of, scale);
                found
            }
            Measure::Elapsed => {
                let open = open(row.open_elapsed);
                let mut found = spread_or_open(&row.elapsed, of, &lasting, open, scale)?;
                open.weigh(&mut found, &row.elapsed, of, scale);
                found
            }
            Measure::Period => {
                let mut found = spread(&row.period, of, &apart, scale)?;
                weigh_silence(&mut found, row.silence, &row.period, of, scale);
                found
            }
            Measure::Jitter => spread(&row.jitter, of, &apart.unsummed(), scale)?,
            Measure::Pending => waited(row, row.pending(), ask, &missing, scale)?,
            Measure::Response => {
                let mut found = waited(row, row.response(), ask, &missing, scale)?;
                let none = Spread::new(false);
                let whole = row.response().unwrap_or(&none);
                open(row.open_elapsed).weigh(&mut found, whole, of, scale);
                found
            }
            Measure::Count => counted(row.entries, &missing, 1.0),
            Measure::Rate => facts.rate(row.entries, &missing, scale),
            Measure::Load => load(row, facts.span, unknown as f64),
            Measure::StackPeak | Measure::Interval | Measure::Value => return Err(no_such_figure()),
        };
        relied(ask, &missing, &mut found);
        facts.tell_pace(ask, &mut found);
        facts.weigh_on(Some(row.core), ask, ask.rests(true), &mut found);
        Ok(found)
    }
}

/// Pending and response times, which are known in one of three ways.
fn waited(
    row: &Figures,
    times: Option<&Spread>,
    ask: Ask,
    missing: &Missing,
    scale: Scale,
) -> Found {
    let Some(times) = times else {
        return Err(Absent::new(
            "nothing says when it was requested",
            "let the firmware state when the hardware asked (wb_requested in weltblick_marks.h)",
        ));
    };
    let missing = match row.basis() {
        Some(KnownBy::Grid) => missing.lasting(row.bridges.longest_wait()),
        _ => *missing,
    };
    let mut found = spread(times, ask.of, &missing, scale)?;
    match row.basis() {
        Some(KnownBy::Grid) => {
            found.evidence.notes.push(Note::ByGrid);
            if row.grid.unfitted > 0 {
                found.doubt(Doubt::OffGrid { runs: row.grid.unfitted });
            }
            if ask.by != Some(KnownBy::Grid) {
                found.doubt(Doubt::GridMayWait);
            }
        }
        Some(KnownBy::Chained) => {
            found.evidence.notes.push(Note::Chained);
            if ask.by != Some(KnownBy::Chained) {
                found.doubt(Doubt::ChainedOnly);
            }
        }
        Some(KnownBy::Stated) | None => {
            let unstated = row.elapsed.count().saturating_sub(row.stated_pending.count());
            if unstated > 0 {
                found.doubt(Doubt::Unrequested { runs: unstated });
            }
        }
    }
    // Those of which nothing says so may have waited less, too.
    if matches!(ask.of, Of::Min | Of::Mean | Of::Percentile(_) | Of::Deviation)
        && let Some(doubt) =
            found.evidence.against.iter().find(|d| **d != Doubt::GridMayWait).cloned()
    {
        found.doubt_with(doubt, Effect::Both);
    }
    Ok(found)
}

/// The part of all time in which a handler ran.
fn load(row: &Figures, span: Ticks, unknown: f64) -> Figure {
    let busy = row.busy as f64;
    let [shortest, all] = [span.low, span.high].map(|ticks| ticks.max(1) as f64);
    // Where beginnings and ends are known to windows, so is what lies between them; of runs without a duration, as
    // far as of the least known.
    let blur = row.own.mean().map_or(0.0, |own| {
        let whole = (own.high - own.low) * row.own.count() as f64;
        whole + row.own.widest() as f64 * row.cut as f64
    });
    let bounds = Bounds {
        low: ((busy - blur) / all).max(0.0),
        high: ((busy + blur + unknown) / shortest).min(1.0),
    };
    let count = row.entries;
    let share = busy / (all - unknown).max(1.0);
    let mut found = Figure::between(share, bounds, count, Basis::Runs(count));
    found.evidence.missing.unknown = unknown / all;
    found.possible = SHARE;
    found.evidence.lossy = unknown > 0.0;
    found
}
