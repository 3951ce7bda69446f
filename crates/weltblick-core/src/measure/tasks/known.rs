//! What is known of the figures of a task.

use super::figures::{Figures, TaskFigures};
use crate::figure::{Absent, Basis, Doubt, Effect, Figure, SHARE};
use crate::measure::known::{
    Ask, Facts, Found, Measure, Missing, Of, OpenRuns, counted, no_such_figure, relied, spread,
    spread_or_open, unseen, weigh_silence,
};
use crate::measure::statistic::Scale;
use crate::stats::{Bounds, Spread};

impl TaskFigures {
    /// What is known of a figure of a task.
    ///
    /// # Errors
    ///
    /// Why nothing is.
    pub fn figure(&self, row: &Figures, ask: Ask, facts: &Facts) -> Found {
        let scale = facts.scale()?;
        let by_turns = self.are_turns();
        if by_turns && !ask.by_turns && !is_told_by_turns(ask) {
            return Err(Absent::new(
                "only turns on the core are known: an activation that was pre-empted is several",
                "let the kernel state its tasks (weltblick_marks.h), or judge load",
            ));
        }
        let unknown = self.unknown(facts.span.high, u64::from(facts.cores));
        let gaps = self.gaps.saturating_sub(facts.left_out);
        let missing = Missing::new(gaps, row.cut, facts.hiding(ask, unknown, scale));
        let lasting = missing.lasting(row.hidden);
        let apart = missing.apart(&row.bridges, &row.period);
        let of = ask.of;
        let open = OpenRuns {
            count: row.open,
            longest: row.open_elapsed,
            is_exact: ask.measure == Measure::Response,
        };
        // How much of an open one was waiting, and how much of it another's time, is unknown.
        let lasted = |times: &Spread, open: OpenRuns| -> Found {
            let mut found = spread_or_open(times, of, &lasting, open, scale)?;
            open.weigh(&mut found, times, of, scale);
            Ok(found)
        };
        let mut found = match ask.measure {
            Measure::Own => lasted(&row.own, open)?,
            Measure::Elapsed => lasted(&row.elapsed, open)?,
            // One that has begun to run waits no longer, whether it ended or not.
            Measure::Pending => {
                let at_start =
                    OpenRuns { count: [row.open[0], 0], longest: row.open_at_start, ..open };
                let (count, longest) = row.waiting;
                let at_end = OpenRuns { count: [0, count], longest, is_exact: true };
                let mut found = spread_or_open(&row.pending, of, &lasting, at_end, scale)?;
                at_start.weigh(&mut found, &row.pending, of, scale);
                at_end.weigh(&mut found, &row.pending, of, scale);
                found
            }
            Measure::Response => lasted(&row.response, open)?,
            Measure::Period => {
                let mut found = spread(&row.period, of, &apart, scale)?;
                weigh_silence(&mut found, row.silence, &row.period, of, scale);
                found
            }
            Measure::Jitter => spread(&row.jitter, of, &apart.unsummed(), scale)?,
            Measure::Count => counted(row.activations, &missing, 1.0),
            Measure::Rate => facts.rate(row.activations, &missing, scale),
            Measure::Load if of == Of::All => self.share_of_all(row, facts),
            Measure::Load => self.load(row, of, scale, facts)?,
            Measure::StackPeak => stack(row, self.gaps)?,
            Measure::Interval | Measure::Value => return Err(no_such_figure()),
        };
        relied(ask, &missing, &mut found);
        if row.reused {
            found.doubt(Doubt::NumberReused);
        }
        let of_activations = !matches!(ask.measure, Measure::Load | Measure::StackPeak);
        if of_activations && row.ready_again > 0 {
            found.doubt(Doubt::ReadyWhileRunning { times: row.ready_again });
        }
        if by_turns && !ask.by_turns && ask.measure != Measure::Load {
            found.doubt(Doubt::Turns);
        }
        match ask.measure {
            Measure::Own if row.own.count() < row.elapsed.count() => {
                found.doubt_with(Doubt::HandlersUnknown, unseen(of));
            }
            Measure::Own | Measure::Load if !facts.exceptions => found.doubt(Doubt::WithHandlers),
            Measure::Pending | Measure::Response => {
                let unready = row.elapsed.count().saturating_sub(row.response.count());
                if unready > 0 {
                    found.doubt_with(Doubt::Unready { activations: unready }, unseen(of));
                }
            }
            _ => {}
        }
        facts.tell_pace(ask, &mut found);
        let with_handlers = matches!(ask.measure, Measure::Own | Measure::Load);
        facts.weigh(ask, ask.rests(with_handlers), &mut found);
        Ok(found)
    }

    /// The part of all time in which it ran.
    fn share_of_all(&self, row: &Figures, facts: &Facts) -> Figure {
        let [shortest, longest] =
            [facts.span.low, facts.span.high].map(|ticks| ticks.max(1) as f64);
        let (busy, unknown) =
            (row.busy as f64, self.unknown(facts.span.high, u64::from(facts.cores)));
        let unknown = unknown as f64;
        let bounds = Bounds { low: busy / longest, high: ((busy + unknown) / shortest).min(1.0) };
        let known = self.known() as f64 / f64::from(facts.cores);
        let share = busy / known.max(1.0);
        let mut found = Figure::between(share, bounds, row.activations, Basis::Time);
        found.evidence.missing.unknown = unknown / longest;
        found.possible = SHARE;
        found.evidence.lossy = unknown > 0.0;
        found
    }

    fn load(&self, row: &Figures, of: Of, scale: Scale, facts: &Facts) -> Found {
        let loads = self.loads(row, facts.end.latest);
        if loads.windows == 0 {
            return Err(Absent::new(
                "the recording is shorter than the window of a load",
                "measure longer, or take a shorter window",
            ));
        }
        let [least, mean, most] = loads.bounds;
        let (observed, bounds) = match of {
            Of::Min => (loads.least, least),
            Of::Mean => (loads.mean, mean),
            _ => (loads.most, most),
        };
        let basis = Basis::Windows(self.window() as f64 * scale.ns);
        let mut found = Figure::between(observed, bounds, loads.windows, basis);
        found.possible = SHARE;
        found.evidence.lossy = self.gaps > 0;
        found.evidence.missing.places = self.gaps;
        if facts.cores > 1
            && self.gaps == 0
            && self.unknown(facts.span.high, facts.cores.into()) > 0
        {
            found.evidence.narrows = "begin to record all cores before what is judged, and end them together: where one is not recorded, nothing says who had it";
        }
        Ok(found)
    }
}

/// Whether turns on the core bound a figure of activations, which are not shorter.
const fn is_told_by_turns(ask: Ask) -> bool {
    match ask.measure {
        Measure::Load => true,
        Measure::Own | Measure::Elapsed => matches!(ask.of, Of::Max),
        _ => false,
    }
}

fn stack(row: &Figures, gaps: u64) -> Found {
    let stack = row.stack;
    let Some(((_, size), used)) = stack.extent.zip(stack.used) else {
        return Err(Absent::new(
            "nothing says how much of its stack was used",
            "let the firmware state it (wb_task_created, wb_task_stack_used)",
        ));
    };
    let observed = if stack.left { 1.0 } else { used as f64 / f64::from(size.max(1)) };
    let mut found = Figure::exact(observed, row.activations, Basis::Stack { used, size });
    if stack.left {
        found.doubt(Doubt::StackLeft);
    }
    if !stack.stated {
        found.doubt(Doubt::SeenAtSwitches);
    }
    // What the firmware states is the deepest so far: it makes up for what was lost before.
    if stack.missed {
        found.evidence.lossy = true;
        found.doubt_with(Doubt::ValuesLost { places: gaps }, Effect::Above);
    }
    Ok(found)
}
