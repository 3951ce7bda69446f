//! What is known of many durations where some of them may be missing.
//!
//! What was seen is known to the resolution of the timestamps; what matters is what was not seen. A gap hides as many
//! runs as the core could enter and leave in that time, each as short or as long as fits. So a maximum is known only
//! if nothing is missing, or if what is missing lies between events that are close enough; a percentile is met if it
//! keeps the limit even if every run that may be missing had been longer than all others, and broken if it does not
//! even if all of them had been shorter.

use super::Of;
use crate::figure::{
    Absent, Basis, Doubt, Evidence, FROM_ZERO, Figure, LOSE_NOTHING, Note, SHARPEN,
};
use crate::measure::bridges::Bridges;
use crate::measure::statistic::Scale;
use crate::stats::{Bounds, Spread, Ticks};

pub(crate) type Found = Result<Figure, Absent>;

/// Nothing bounds how many.
const UNCOUNTED: u64 = u64::MAX / 4;

/// What may be missing of the runs of one subject.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Missing {
    /// Places where something is missing.
    pub(crate) gaps: u64,
    /// Runs that were cut there, or may have been there unseen.
    pub(crate) runs: u64,
    /// None of them was longer, in ticks; `u64::MAX`: nothing says.
    longest: u64,
    /// Of periods: how many and how long those are, all together, that span the gaps.
    bridged: Option<(u64, Ticks)>,
}

/// What bounds the runs that a gap hides.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Hiding {
    /// Ticks in which runs may hide.
    pub(crate) unknown: u64,
    /// So many ticks a run and what comes before the next take at least.
    pub(crate) shortest: f64,
    /// Time was lost: nothing bounds anything.
    pub(crate) slipped: bool,
}

impl Missing {
    /// In so many gaps, which cut so many runs.
    pub(crate) fn new(gaps: u64, cut: u64, hiding: Hiding) -> Self {
        if gaps == 0 && !hiding.slipped {
            return Self { gaps, runs: 0, longest: 0, bridged: None };
        }
        let hidden = (hiding.unknown as f64 / hiding.shortest.max(1e-9)).floor() + gaps as f64;
        let hidden =
            if hiding.slipped || hidden >= UNCOUNTED as f64 { UNCOUNTED } else { hidden as u64 };
        let runs = hidden.saturating_add(cut).min(UNCOUNTED);
        Self { gaps: gaps.max(1), runs, longest: u64::MAX, bridged: None }
    }

    /// As evidence.
    fn stated(&self, scale: Scale) -> crate::figure::Missing {
        let is_bounded = self.gaps > 0 && self.longest < u64::MAX;
        let longest_ns = is_bounded.then_some(self.longest as f64 * scale.ns);
        crate::figure::Missing { places: self.gaps, longest_ns, unknown: 0.0 }
    }

    /// Whether nothing bounds how many are missing.
    pub(crate) const fn is_uncounted(&self) -> bool {
        self.runs >= UNCOUNTED
    }

    /// None of them lasted longer.
    pub(crate) const fn lasting(&self, longest: u64) -> Self {
        // What spans a gap that never ends is a little less than the end of all time.
        let longest = if longest >= UNCOUNTED { u64::MAX } else { longest };
        let longest = if longest < self.longest { longest } else { self.longest };
        Self { longest, ..*self }
    }

    /// What lies from one start to the next.
    pub(crate) fn apart(&self, bridges: &Bridges, period: &Spread) -> Self {
        let seen = period.max().map_or(0, |max| max.high);
        let apart = self.lasting(bridges.longest().max(seen));
        Self { bridged: Some((bridges.count, bridges.sum())), ..apart }
    }

    /// Differences of two: every gap hides two more, and nothing bounds their sum.
    pub(crate) const fn unsummed(&self) -> Self {
        let runs = self.runs.saturating_add(self.gaps.saturating_mul(2));
        Self { runs, bridged: None, ..*self }
    }

    /// The longest of all, if what was seen was not longer than `seen`.
    fn longest(&self, seen: f64) -> f64 {
        if self.longest == u64::MAX { f64::INFINITY } else { seen.max(self.longest as f64) }
    }

    /// The mean of all, if the `count` that were seen have this one.
    fn mean(&self, seen: Bounds, count: u64) -> Bounds {
        let (seen_count, hidden) = (count as f64, self.runs as f64);
        let sum = seen.scaled(seen_count);
        let low = |sum: f64, count: f64| sum / (count + hidden);
        match self.bridged {
            _ if self.longest == u64::MAX => Bounds { low: 0.0, high: f64::INFINITY },
            // However many they are, together they are not longer than what they span.
            Some((bridges, together)) => {
                let count = seen_count + bridges as f64;
                let together = Bounds::from(together);
                let high = (sum.high + together.high) / count;
                Bounds { low: low(sum.low + together.low, count), high }
            }
            // None overlaps another of its kind: in one gap they are together not longer than the longest, and
            // the fewer the longer.
            None => {
                let gaps = (self.gaps as f64).min(hidden);
                let all = (sum.high + gaps * self.longest as f64) / (seen_count + gaps);
                Bounds { low: low(sum.low, seen_count), high: all.max(seen.high) }
            }
        }
    }
}

/// What is known of the runs that stand open at the edges of a recording.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct OpenRuns {
    /// How many when it began, and when it ended.
    pub(crate) count: [u64; 2],
    /// The longest stood open for so many ticks.
    pub(crate) longest: u64,
    /// That is of this very figure, and not of a longer time around it.
    pub(crate) is_exact: bool,
}

impl OpenRuns {
    /// The longest of all may be one of these: then it took at least as long as was seen of it. Where one that was
    /// seen whole took longer, it is the longest of this recording.
    pub(crate) fn weigh(&self, figure: &mut Figure, whole: &Spread, of: Of, scale: Scale) {
        let longest = whole.max().map_or(0, |max| max.high);
        if !matches!(of, Of::Max | Of::Each | Of::All) || self.longest <= longest {
            return;
        }
        let seen = self.longest as f64 * scale.ns * 1e-9;
        if self.is_exact {
            figure.low = if of == Of::Each { figure.low } else { figure.low.max(seen) };
            figure.seen = figure.seen.at_least(seen);
            if let Some([_, most]) = &mut figure.extremes {
                most.low = most.low.max(seen);
            }
        }
        if let Some([_, most]) = &mut figure.extremes {
            most.high = most.high.max(seen);
        }
        figure.high = figure.high.max(seen);
        let [at_start, at_end] = self.count;
        if at_start > 0 {
            figure.doubt(Doubt::OpenAtStart { count: at_start });
        }
        if at_end > 0 {
            figure.doubt(Doubt::OpenAtEnd { count: at_end });
        }
    }
}

/// After the last start nothing came for so many ticks: where that is longer than every period, it is one, too.
pub(crate) fn weigh_silence(
    figure: &mut Figure,
    silence: Ticks,
    spread: &Spread,
    of: Of,
    scale: Scale,
) {
    let longest = spread.max().map_or(0, |max| max.low);
    if silence.high <= longest {
        return;
    }
    let mut silent = Bounds::from(silence).scaled(scale.ns * 1e-9);
    if silence.high >= UNCOUNTED {
        silent.high = f64::INFINITY;
    }
    let count = spread.count() as f64;
    match of {
        Of::Max | Of::Each | Of::All => {
            figure.seen = figure.seen.at_least(silent.low);
            figure.high = figure.high.max(silent.high);
            if of != Of::Each {
                figure.low = figure.low.max(silent.low);
            }
            if let Some([_, most]) = &mut figure.extremes {
                *most = Bounds { low: most.low.max(silent.low), high: most.high.max(silent.high) };
            }
        }
        Of::Mean => {
            figure.high = figure.high.max((figure.high * count + silent.high) / (count + 1.0));
        }
        // One more, and longer than all of them.
        Of::Percentile(part) => {
            let part = f64::from(part) / 100.0;
            let upper = part * (count + 1.0) / count;
            let seen = spread.percentile(upper).filter(|_| upper <= 1.0);
            let bound = seen.map_or(silent.high, |bounds| bounds.high * scale.ns * 1e-9);
            figure.high = figure.high.max(bound);
        }
        Of::Deviation => figure.high = f64::INFINITY,
        Of::Min => {}
    }
    figure.evidence.notes.push(Note::Silence(silence.low as f64 * scale.ns));
}

/// What is known of one statistic of many durations.
pub(crate) fn spread(spread: &Spread, of: Of, missing: &Missing, scale: Scale) -> Found {
    let seconds = scale.ns * 1e-9;
    let count = spread.count();
    let (Some(min), Some(max), Some(mean)) = (spread.min(), spread.max(), spread.mean()) else {
        return Err(Absent::new("none was seen from its beginning to its end", LOSE_NOTHING));
    };
    let (min, max) = (Bounds::from(min), Bounds::from(max));
    let whole = missing.runs == 0;
    let longest = missing.longest(max.high);
    let open = |bounds: Bounds, low: f64, high: f64| {
        if whole { (bounds, bounds.low, bounds.high) } else { (bounds, low, high) }
    };
    let (seen, low, high) = match of {
        Of::Max | Of::All => open(max, max.low, longest),
        Of::Min => open(min, 0.0, min.high),
        Of::Each => {
            let (low, high) = if whole { (min.low, max.high) } else { (0.0, longest) };
            (max, low, high)
        }
        Of::Mean => {
            let all = missing.mean(mean, count);
            open(mean, all.low, all.high)
        }
        Of::Deviation => {
            let Some(deviation) = spread.deviation() else {
                return Err(Absent::new("two are needed at least", "measure longer"));
            };
            // Each may be off by half of its window, one way or the other.
            let blur = spread.widest() as f64;
            let known = Bounds { low: (deviation - blur).max(0.0), high: deviation + blur };
            let (_, low, high) = open(known, 0.0, f64::INFINITY);
            (Bounds::exact(deviation), low, high)
        }
        Of::Percentile(percent) => {
            let part = f64::from(percent) / 100.0;
            let Some(seen) = spread.percentile(part) else {
                let advice = format!("measure longer: p{percent} takes {:.0}", 1.0 / (1.0 - part));
                return Err(Absent::new(format!("only {count} of them"), advice));
            };
            let (n, k) = (count as f64, missing.runs as f64);
            // Were all that is missing longer, or all of it shorter.
            let upper = part * (n + k) / n;
            let lower = (part * (n + k) - k) / n;
            let high = if upper > 1.0 {
                longest
            } else {
                spread.percentile(upper).map_or(max.high, |bounds| bounds.high)
            };
            let low = if lower <= 0.0 {
                0.0
            } else {
                spread.percentile(lower).map_or(min.low, |bounds| bounds.low)
            };
            if whole { (seen, seen.low, seen.high) } else { (seen, low, high) }
        }
    };
    let extremes = (of == Of::Each).then(|| [min.scaled(seconds), max.scaled(seconds)]);
    let [low, high] = [low, high].map(|ticks| ticks * seconds);
    Ok(Figure {
        seen: seen.scaled(seconds),
        low,
        high,
        extremes,
        count,
        unit: None,
        possible: FROM_ZERO,
        evidence: Evidence {
            missing: missing.stated(scale),
            lossy: !whole,
            narrows: SHARPEN,
            ..Basis::Whole(count).into()
        },
    })
}

/// A count, or a rate: `factor` for each.
pub(crate) fn counted(count: u64, missing: &Missing, factor: f64) -> Figure {
    let low = count as f64 * factor;
    let high = count.saturating_add(missing.runs) as f64 * factor;
    let high = if missing.is_uncounted() { f64::INFINITY } else { high };
    let mut figure = Figure::between(low, Bounds { low, high }, count, Basis::Counted);
    figure.evidence.missing.places = missing.gaps;
    figure.evidence.lossy = missing.runs > 0;
    figure.evidence.narrows = SHARPEN;
    figure
}

/// A statistic; where no run was seen whole, an open one that lasted long is known all the same.
pub(crate) fn spread_or_open(
    times: &Spread,
    of: Of,
    missing: &Missing,
    open: OpenRuns,
    scale: Scale,
) -> Found {
    match spread(times, of, missing, scale) {
        Err(_) if matches!(of, Of::Max | Of::Each | Of::All) && open.longest > 0 => {
            let seen = if open.is_exact { open.longest as f64 * scale.ns * 1e-9 } else { 0.0 };
            let bounds = Bounds { low: seen, high: f64::INFINITY };
            Ok(Figure {
                extremes: Some([bounds; 2]),
                ..Figure::between(seen, bounds, 0, Basis::OpenOnly)
            })
        }
        found => found,
    }
}
