//! Verdicts on values over time.
//!
//! An extreme that was seen is one; that none was missed is known only where nothing is missing, and
//! where every access was traced: what is polled may have been anything between two reads.

use super::entry::{Measure, Of, TimingFigure};
use super::timing::{Finding, Found, LOSE_NOTHING, Timings, counted, no_such_figure};
use crate::measure::signals::{AccessKey, Signal, Signals};
use crate::measure::statistic::Scale;

impl Timings<'_> {
    pub(super) fn signal(&self, figure: &TimingFigure, scale: Scale) -> Found {
        let absent = || {
            (
                "nothing tells of this signal".to_owned(),
                "watch it, poll it, or let the firmware state it; `signals` lists what is there"
                    .to_owned(),
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
            return Err((
                "it was read and written, or several are called so".into(),
                "say which: access = \"read\", or \"write\"".into(),
            ));
        }
        let gaps = signals.gaps().map(|(_, from, until)| until - from).sum();
        let unknown = if signals.lost_undated { self.span } else { gaps };
        let missing = self.missing(signals.lost, 0, &signal.interval, unknown);
        let per_second = 1e9 / (self.span.max(1) as f64 * scale.ns);
        match figure.measure {
            Measure::Interval => self.spread(&signal.interval, figure.of, &missing, scale),
            Measure::Jitter => self.spread(&signal.jitter, figure.of, &missing, scale),
            Measure::Count => Ok(counted(signal.count, &missing, 1.0)),
            Measure::Rate => Ok(counted(signal.count, &missing, per_second)),
            Measure::Value => value(signal, figure.of, signals),
            _ => Err(no_such_figure()),
        }
    }
}

fn value(signal: &Signal, of: Of, signals: &Signals<'_>) -> Found {
    let values = &signal.values;
    let (scale, offset) = signals.scaling(signal.key);
    let told = |raw: f64| raw * scale + offset;
    let nothing = || ("no value was told".to_owned(), "trace values, not only accesses".to_owned());
    let (min, max) = values.min.zip(values.max).ok_or_else(nothing)?;
    let (min, max) = (told(min.value).min(told(max.value)), told(min.value).max(told(max.value)));
    let whole = signals.lost == 0;
    let (any_low, any_high) = (f64::NEG_INFINITY, f64::INFINITY);
    let (observed, low, high) = match of {
        Of::Max => (max, max, if whole { max } else { any_high }),
        Of::Min => (min, if whole { min } else { any_low }, min),
        Of::Mean => {
            let mean = values.mean().map(told).ok_or_else(nothing)?;
            if whole { (mean, mean, mean) } else { (mean, any_low, any_high) }
        }
        Of::Deviation => {
            let deviation = values.deviation().map(|deviation| deviation * scale.abs());
            let deviation =
                deviation.ok_or(("two are needed at least".into(), "measure longer".into()))?;
            if whole { (deviation, deviation, deviation) } else { (deviation, 0.0, any_high) }
        }
        _ => return Err(no_such_figure()),
    };
    let evidence = match signals.lost {
        0 => format!("{} values, none missing", values.count),
        1 => format!("{} values; something is missing in one place", values.count),
        gaps => format!("{} values; something is missing in {gaps} places", values.count),
    };
    let known = Finding::exact(observed, values.count, &evidence);
    let mut finding = Finding { low, high, lossy: !whole, ..known };
    if signals.is_polled(signal.key) {
        finding.object(
            "it was polled: between two reads it may have been anything",
            "watch it with a comparator (`plan --watch`)",
        );
    }
    if signal.key.access == Some(AccessKey::Read) {
        finding.object(
            "only reads of it were looked at: what was written between them is not known",
            "trace its writes",
        );
    }
    if signal.partial + values.not_finite > 0 {
        finding.object(
            "some accesses told no number: only a part of it, or none",
            "trace addresses too, or watch the part",
        );
    }
    if signals.left_out > 0 {
        finding.object("there are more signals than are kept", LOSE_NOTHING);
    }
    Ok(finding)
}
