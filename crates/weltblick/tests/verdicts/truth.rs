//! What is true of a figure within a recording, from the life alone.

use crate::life::{Life, Run, TAIL, Turn};
use std::ops::Range;

/// What a budget asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Asked {
    Own(Of),
    Elapsed(Of),
    Period(Of),
    Count,
    Rate,
    Load,
    /// Of tasks.
    Response(Of),
    Pending(Of),
    /// Of a quantity.
    Value(Of),
    Deviation,
    Interval(Of),
}

/// When handlers were left, where nothing tells when what they had interrupted went on: their way back counts with that,
/// or not.
#[derive(Debug, Clone, Copy)]
pub(crate) struct WayBack<'a>(pub(crate) &'a [u64]);

impl WayBack<'_> {
    fn cycles(self, run: &Range<u64>) -> u64 {
        let before = |at: u64| self.0.partition_point(|left| *left < at) as u64;
        TAIL * (before(run.end) - before(run.start))
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Of {
    Min,
    Mean,
    P50,
    P95,
    Max,
}

impl Of {
    pub(crate) const ALL: [Self; 5] = [Self::Min, Self::Mean, Self::P50, Self::P95, Self::Max];

    pub(crate) const fn key(self) -> &'static str {
        match self {
            Self::Min => "min",
            Self::Mean => "mean",
            Self::P50 => "p50",
            Self::P95 => "p95",
            Self::Max => "max",
        }
    }
}

/// All values that may be called the truth: from the least to the most. Where something stands open at an edge, it
/// counts as far as it was seen, or not at all.
pub(crate) fn truth(
    runs: &[Run],
    asked: Asked,
    window: &Range<u64>,
    last_packet: u64,
    way_back: WayBack<'_>,
) -> Option<(f64, f64)> {
    let whole: Vec<&Run> =
        runs.iter().filter(|run| run.began >= window.start && run.ended <= window.end).collect();
    let starts: Vec<u64> = runs
        .iter()
        .map(|run| run.began)
        .filter(|at| window.contains(at) || *at == window.end)
        .collect();
    let length = (window.end - window.start) as f64;
    let same = |value: f64| Some((value, value));
    // A last packet without its timestamp was recorded, and is outside of the time that was.
    let behind = window.end + 1..=last_packet;
    let behind = runs.iter().filter(|run| behind.contains(&run.began)).count() as f64;
    let count = starts.len() as f64;
    match asked {
        Asked::Own(of) => {
            let own = |run: &Run| run.pieces.iter().map(|piece| within(piece, window)).sum::<u64>();
            let high = |run: &Run| own(run) + way_back.cycles(&(run.began..run.ended));
            Some((lasted(&whole, runs, of, own)?, lasted(&whole, runs, of, high)?))
        }
        Asked::Elapsed(of) => {
            same(lasted(&whole, runs, of, |run| within(&(run.began..run.ended), window))?)
        }
        Asked::Period(of) => {
            let periods: Vec<u64> = starts.windows(2).map(|pair| pair[1] - pair[0]).collect();
            let (low, high) = (statistic(&periods, of)?, statistic(&periods, of)?);
            // Silence behind the last start is one more, as long as it was seen.
            let silent: Vec<u64> = periods
                .iter()
                .copied()
                .chain(starts.last().map(|last| window.end - last))
                .collect();
            let with = statistic(&silent, of)?;
            let longest = periods.iter().max()? < silent.last()?;
            match of {
                Of::Min => same(low),
                Of::Max => same(with),
                _ if longest => Some((low.min(with), high.max(with))),
                _ => same(low),
            }
        }
        Asked::Count => Some((count, count + behind)),
        Asked::Rate => Some((count / length, (count + behind) / length)),
        Asked::Load => {
            let busy: u64 =
                runs.iter().flat_map(|run| &run.pieces).map(|piece| within(piece, window)).sum();
            let most =
                busy + runs.iter().map(|run| way_back.cycles(&(run.began..run.ended))).sum::<u64>();
            Some((busy as f64 / length, most as f64 / length))
        }
        _ => None,
    }
}

/// All values of a task's figure that may be called the truth. What was ready before the recording began may count from when it ran, or not at all.
pub(crate) fn of_task(
    turns: &[Turn],
    asked: Asked,
    window: &Range<u64>,
    way_back: WayBack<'_>,
) -> Option<(f64, f64)> {
    let (low, most) = of_task_by(turns, asked, window, WayBack(&[]))?;
    let (least, high) = of_task_by(turns, asked, window, way_back)?;
    Some((low.min(least), high.max(most)))
}

fn of_task_by(
    turns: &[Turn],
    asked: Asked,
    window: &Range<u64>,
    way_back: WayBack<'_>,
) -> Option<(f64, f64)> {
    let lasts = |turn: &Turn| match asked {
        Asked::Own(_) => {
            let own: u64 = turn.run.pieces.iter().map(|piece| within(piece, window)).sum();
            own + way_back.cycles(&(turn.run.began..turn.run.ended))
        }
        Asked::Elapsed(_) => within(&(turn.run.began..turn.run.ended), window),
        Asked::Response(_) => within(&(turn.ready..turn.run.ended), window),
        _ => within(&(turn.ready..turn.run.began), window),
    };
    let is_whole = |turn: &&Turn| turn.run.ended <= window.end;
    let strictly = |turn: &&Turn| turn.ready >= window.start && is_whole(turn);
    let loosely = |turn: &&Turn| turn.run.began >= window.start && is_whole(turn);
    let seen = |turn: &&Turn| turn.ready <= window.end && turn.run.ended >= window.start;
    let (Asked::Own(of)
    | Asked::Elapsed(of)
    | Asked::Response(of)
    | Asked::Pending(of)
    | Asked::Period(of)) = asked
    else {
        return None;
    };
    let of_some = |chosen: &dyn Fn(&&Turn) -> bool| -> Option<f64> {
        let turns: Vec<&Turn> = turns.iter().filter(|turn| chosen(turn)).collect();
        // Of fewer nobody states a percentile.
        if of == Of::P95 && turns.len() <= 20 {
            return None;
        }
        let values: Vec<u64> = match asked {
            Asked::Period(_) => turns.windows(2).map(|two| two[1].ready - two[0].ready).collect(),
            _ => turns.iter().map(|turn| lasts(turn)).collect(),
        };
        statistic(&values, of)
    };
    let mut values = vec![of_some(&strictly)?, of_some(&loosely)?];
    if of == Of::Max || matches!(asked, Asked::Period(_)) {
        values.extend(of_some(&seen));
    }
    if let Asked::Period(_) = asked {
        // Silence is one more, from the last that was seen whole or only begun.
        let ready = |chosen: &dyn Fn(&&Turn) -> bool| -> Vec<u64> {
            turns.iter().filter(|turn| chosen(turn)).map(|turn| turn.ready).collect()
        };
        for starts in [ready(&strictly), ready(&loosely), ready(&seen)] {
            let mut periods: Vec<u64> = starts.windows(2).map(|two| two[1] - two[0]).collect();
            periods.extend(starts.last().map(|last| window.end.saturating_sub(*last)));
            values.extend(statistic(&periods, of));
        }
    }
    let low = values.iter().copied().fold(f64::INFINITY, f64::min);
    Some((low, values.into_iter().fold(0.0, f64::max)))
}

/// All values of a quantity's figure that may be called the truth: it has a value from when it is first stated on.
pub(crate) fn of_quantity(
    values: &[(u64, i32)],
    asked: Asked,
    window: &Range<u64>,
    last_packet: u64,
) -> Option<(f64, f64)> {
    // A last packet without its timestamp was stated, and nothing says when.
    let seen = |until: u64| -> Vec<(u64, i32)> {
        values.iter().copied().filter(|(at, _)| (window.start..=until).contains(at)).collect()
    };
    let of = |stated: &[(u64, i32)]| -> Vec<f64> {
        let numbers: Vec<f64> = stated.iter().map(|(_, value)| f64::from(*value)).collect();
        let least = numbers.iter().copied().reduce(f64::min);
        let most = numbers.iter().copied().reduce(f64::max);
        let count = numbers.len() as f64;
        let ends = stated.iter().skip(1).map(|(at, _)| *at).chain([window.end]);
        match asked {
            Asked::Value(Of::Min) => least.into_iter().collect(),
            Asked::Value(Of::Max) => most.into_iter().collect(),
            Asked::Value(Of::Mean) => {
                let held = stated
                    .iter()
                    .zip(ends)
                    .map(|((at, value), end)| f64::from(*value) * end.saturating_sub(*at) as f64);
                let all = stated.first().map(|(at, _)| (window.end - at) as f64);
                let all = all.filter(|all| *all > 0.0);
                all.map(|all| held.sum::<f64>() / all).into_iter().collect()
            }
            Asked::Deviation if count > 1.0 => {
                let mean = numbers.iter().sum::<f64>() / count;
                let squares = numbers.iter().map(|value| (value - mean).powi(2)).sum::<f64>();
                vec![(squares / (count - 1.0)).sqrt()]
            }
            Asked::Interval(of) => {
                let between: Vec<u64> = stated.windows(2).map(|two| two[1].0 - two[0].0).collect();
                let silence = stated.last().map(|(last, _)| window.end.saturating_sub(*last));
                let with: Vec<u64> = between.iter().copied().chain(silence).collect();
                match of {
                    Of::Min => statistic(&between, of).into_iter().collect(),
                    Of::Max => statistic(&with, of).into_iter().collect(),
                    _ => {
                        [&between, &with].into_iter().filter_map(|all| statistic(all, of)).collect()
                    }
                }
            }
            Asked::Count => vec![count],
            Asked::Rate => vec![count / (window.end - window.start) as f64],
            _ => Vec::new(),
        }
    };
    let all: Vec<f64> =
        [window.end, last_packet].into_iter().flat_map(|until| of(&seen(until))).collect();
    let low = all.iter().copied().reduce(f64::min)?;
    Some((low, all.iter().copied().fold(low, f64::max)))
}

fn lasted(whole: &[&Run], runs: &[Run], of: Of, long: impl Fn(&Run) -> u64) -> Option<f64> {
    let all: Vec<u64> = whole.iter().map(|run| long(run)).collect();
    if of == Of::Max {
        let longest = runs.iter().map(&long).max()? as f64;
        return (!all.is_empty() || longest > 0.0).then_some(longest);
    }
    statistic(&all, of)
}

/// How much of a range lies within the window.
fn within(range: &Range<u64>, window: &Range<u64>) -> u64 {
    range.end.min(window.end).saturating_sub(range.start.max(window.start))
}

fn statistic(values: &[u64], of: Of) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_unstable();
    let rank = |part: f64| {
        let rank = (part * sorted.len() as f64).ceil().max(1.0) as usize;
        sorted.get(rank - 1).map(|&value| value as f64)
    };
    match of {
        Of::Min => sorted.first().map(|&value| value as f64),
        Of::Max => sorted.last().map(|&value| value as f64),
        Of::Mean => {
            (!sorted.is_empty()).then(|| sorted.iter().sum::<u64>() as f64 / sorted.len() as f64)
        }
        Of::P50 => rank(0.5),
        Of::P95 => rank(0.95),
    }
}

/// The true share of all time.
pub(crate) fn share(life: &Life, window: &Range<u64>) -> f64 {
    let busy: u64 = life.sine.iter().map(|range| within(range, window)).sum();
    busy as f64 / (window.end - window.start) as f64
}
