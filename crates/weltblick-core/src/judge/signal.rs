//! Verdicts on values over time.
//!
//! An extreme that was seen is one; that none was missed is known only where nothing is missing, and
//! where every access was traced: what is polled may have been anything between two reads.

use super::entry::{Measure, Of, TimingFigure};
use super::judgement::LOSE_NOTHING;
use super::runs::{Found, Missing, counted, spread, weigh_silence};
use super::timing::{Timings, no_such_figure};
use crate::figure::{ANYTHING, Absent, Doubt, Effect, Figure};
use crate::measure::signals::{AccessKey, Signal, Signals, Subject};
use crate::measure::statistic::Scale;
use crate::stats::Bounds;
use crate::time::Window;

/// Whole numbers below this are exact in 64 bits of floating point.
const EXACT: f64 = (1_u64 << 53) as f64;

impl Timings<'_> {
    pub(super) fn signal(&self, figure: &TimingFigure, scale: Scale) -> Found {
        let absent = || {
            Absent::new(
                "nothing is known of this signal",
                "watch it, poll it, or let the firmware state it; `signals` lists what is there",
            )
        };
        let signals = self.signals.ok_or_else(absent)?;
        let meant = |signal: &&Signal| {
            let way = figure.access.is_none_or(|access| signal.key.access == Some(access));
            way && signals.name(signal.key) == figure.name
        };
        let mut found = signals.list().iter().filter(meant);
        let signal = found.next().ok_or_else(absent)?;
        if found.next().is_some() {
            return Err(Absent::new(
                "it was read and written, or several are called so",
                "say which: access = \"read\", or \"write\"",
            ));
        }
        let mut found = self.figure_of(signal, signals, figure, scale)?;
        if signals.is_reused(signal.key) {
            found.doubt(Doubt::NumberReused);
        }
        Ok(found)
    }

    fn figure_of(
        &self,
        signal: &Signal,
        signals: &Signals<'_>,
        figure: &TimingFigure,
        scale: Scale,
    ) -> Found {
        let gaps = signals.gaps().map(|(_, from, until)| until - from).sum();
        let unknown = if signals.lost_undated { self.span.high } else { gaps };
        let missing = Missing::new(signals.lost, 0, self.hiding(figure, unknown, scale));
        let mut found = match figure.measure {
            Measure::Interval => {
                let mut found = spread(&signal.interval, figure.of, &missing, scale)?;
                let silence = signal.silence(self.end);
                weigh_silence(&mut found, silence, &signal.interval, figure.of, scale);
                found
            }
            Measure::Jitter => spread(&signal.jitter, figure.of, &missing, scale)?,
            Measure::Count => counted(signal.count, &missing, 1.0),
            Measure::Rate => self.rate(signal.count, &missing, scale),
            Measure::Value => return self.value(signal, figure.of, signals),
            _ => return Err(no_such_figure()),
        };
        Self::relied(figure, &missing, &mut found);
        Ok(found)
    }

    /// A value holds until the next. A variable has one all the time, and it is unknown before it is first written; a
    /// quantity has one from when it is first stated on.
    fn value(&self, signal: &Signal, of: Of, signals: &Signals<'_>) -> Found {
        let mut found = value(signal, of, signals, self.end)?;
        let first = signal.values.first.and_then(|first| first.time);
        let began = self.end.latest.saturating_sub(self.span.high);
        let is_variable = matches!(signal.key.subject, Subject::Watch(_));
        if is_variable
            && !signals.is_polled(signal.key)
            && first.is_some_and(|first| first.earliest > began)
        {
            found.doubt_with(Doubt::UnknownBefore, unseen(of));
        }
        Ok(found)
    }
}

/// What was not seen may have been anything: an extreme that was seen was one all the same.
pub(super) const fn unseen(of: Of) -> Effect {
    match of {
        Of::Max => Effect::Above,
        Of::Min => Effect::Below,
        _ => Effect::Both,
    }
}

fn value(signal: &Signal, of: Of, signals: &Signals<'_>, end: Window) -> Found {
    let values = &signal.values;
    let (scale, offset) = signals.scaling(signal.key);
    let told = |raw: f64| raw * scale + offset;
    let nothing = || Absent::new("no value was recorded", "trace values, not only accesses");
    let (min, max) = values.min.zip(values.max).ok_or_else(nothing)?;
    let (min, max) = (told(min.value).min(told(max.value)), told(min.value).max(told(max.value)));
    let exactly = |value: f64| (value, Bounds::exact(value));
    let (observed, bounds) = match of {
        Of::Max => exactly(max),
        Of::Min => exactly(min),
        Of::Mean => {
            let (mean, Bounds { low, high }) = values.mean_until(end).ok_or_else(nothing)?;
            let (low, high) = (told(low), told(high));
            (told(mean), Bounds { low: low.min(high), high: low.max(high) })
        }
        Of::Deviation => {
            let deviation = values.deviation().map(|deviation| deviation * scale.abs());
            exactly(
                deviation
                    .ok_or_else(|| Absent::new("two are needed at least", "measure longer"))?,
            )
        }
        _ => return Err(no_such_figure()),
    };
    let unseen = unseen(of);
    let basis = match signals.lost {
        0 => format!("{} values, none missing", values.count),
        _ => format!("{} values", values.count),
    };
    let mut found = Figure::between(observed, bounds, values.count, basis);
    found.possible = ANYTHING;
    found.unit = signals.unit(signal.key).map(str::to_owned);
    if observed.abs() >= EXACT {
        // The number may be rounded, and so may the limit.
        (found.low, found.high) = (found.low.next_down(), found.high.next_up());
        found.doubt(Doubt::Rounded);
    }
    found.evidence.lossy = signals.lost > 0;
    if signals.lost > 0 {
        found.doubt_with(Doubt::ValuesLost { places: signals.lost }, unseen);
    }
    if signals.is_polled(signal.key) {
        found.doubt_with(Doubt::Polled, unseen);
    }
    if signal.key.access == Some(AccessKey::Read) {
        found.doubt_with(Doubt::ReadsOnly, unseen);
    }
    if signal.partial + values.not_finite > 0 {
        found.doubt_with(Doubt::PartialValues, unseen);
    }
    if signals.left_out > 0 {
        found.doubt_with(Doubt::TooManySignals, unseen);
    }
    found.evidence.narrows = LOSE_NOTHING;
    Ok(found)
}
