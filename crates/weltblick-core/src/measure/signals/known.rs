//! What is known of values over time.
//!
//! An extreme that was seen is one; that none was missed is known only where nothing is missing, and
//! where every access was traced: what is polled may have been anything between two reads.

use super::{AccessKey, Signal, Signals, Subject};
use crate::figure::{ANYTHING, Absent, Basis, Doubt, Figure, LOSE_NOTHING};
use crate::measure::known::{
    Ask, Facts, Found, Measure, Missing, Of, counted, no_such_figure, relied, spread, unseen,
    weigh_silence,
};
use crate::stats::Bounds;
use crate::time::Window;

/// Whole numbers below this are exact in 64 bits of floating point.
const EXACT: f64 = (1_u64 << 53) as f64;

impl Signals<'_> {
    /// What is known of a figure of a signal.
    ///
    /// # Errors
    ///
    /// Why nothing is.
    pub fn figure(&self, signal: &Signal, ask: Ask, facts: &Facts) -> Found {
        let mut found = match ask.measure {
            Measure::Value => self.value_figure(signal, ask.of, facts)?,
            _ => self.accesses(signal, ask, facts)?,
        };
        if self.is_reused(signal.key) {
            found.doubt(Doubt::NumberReused);
        }
        facts.weigh(ask, ask.rests(false), &mut found);
        Ok(found)
    }

    /// What is known of when it was accessed.
    fn accesses(&self, signal: &Signal, ask: Ask, facts: &Facts) -> Found {
        let scale = facts.scale()?;
        let gaps = self.gaps().map(|(_, from, until)| until - from).sum();
        let unknown = if self.lost_undated { facts.span.high } else { gaps };
        let missing = Missing::new(self.lost, 0, facts.hiding(ask, unknown, scale));
        let mut found = match ask.measure {
            Measure::Interval => {
                let mut found = spread(&signal.interval, ask.of, &missing, scale)?;
                let silence = signal.silence(facts.end);
                weigh_silence(&mut found, silence, &signal.interval, ask.of, scale);
                found
            }
            Measure::Jitter => spread(&signal.jitter, ask.of, &missing, scale)?,
            Measure::Count => counted(signal.count, &missing, 1.0),
            Measure::Rate => facts.rate(signal.count, &missing, scale),
            _ => return Err(no_such_figure()),
        };
        relied(ask, &missing, &mut found);
        Ok(found)
    }

    /// A value holds until the next. A variable has one all the time, and it is unknown before it is first written; a
    /// quantity has one from when it is first stated on.
    fn value_figure(&self, signal: &Signal, of: Of, facts: &Facts) -> Found {
        let mut found = value(signal, of, self, facts.end)?;
        let first = signal.values.first.and_then(|first| first.time);
        let began = facts.end.latest.saturating_sub(facts.span.high);
        let is_variable = matches!(signal.key.subject, Subject::Watch(_));
        if is_variable
            && !self.is_polled(signal.key)
            && first.is_some_and(|first| first.earliest > began)
        {
            found.doubt_with(Doubt::UnknownBefore, unseen(of));
        }
        Ok(found)
    }
}

fn value(signal: &Signal, of: Of, signals: &Signals<'_>, end: Window) -> Found {
    let values = &signal.values;
    let (scale, offset) = signals.scaling(signal.key);
    let in_unit = |raw: f64| raw * scale + offset;
    let nothing = || Absent::new("no value was recorded", "trace values, not only accesses");
    let (min, max) = values.min.zip(values.max).ok_or_else(nothing)?;
    let (min, max) =
        (in_unit(min.value).min(in_unit(max.value)), in_unit(min.value).max(in_unit(max.value)));
    let exactly = |value: f64| (value, Bounds::exact(value));
    let (observed, bounds) = match of {
        Of::Max => exactly(max),
        Of::Min => exactly(min),
        Of::Mean => {
            let (mean, Bounds { low, high }) = values.mean_until(end).ok_or_else(nothing)?;
            let (low, high) = (in_unit(low), in_unit(high));
            (in_unit(mean), Bounds { low: low.min(high), high: low.max(high) })
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
    let mut found = Figure::between(observed, bounds, values.count, Basis::Values(values.count));
    found.evidence.missing.places = signals.lost;
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
