//! What was executed, named: exact profiles.

use super::calls::Calls;
use super::counts::Gaps;
use super::figures::CallFigures;
use super::known::{CallMeasure, Executed};
use super::listing::Listing;
use super::roster::Roster;
use super::rows::{ExactEvidence, ExactProfile, ExactRow, LongestCall, Numbers, SCHEMA};
use super::seen::Seen;
use super::sums::{Sum, Sums, partners};
use super::times::InstructionTimes;
use super::tree::{Named, NodeId, Root};
use crate::figure::{Basis, Figure, Objection, ObjectionRow, SHARE};
use crate::image::Image;
use crate::measure::duration::Duration;
use crate::measure::known::{Against, Of, statistic};
use crate::measure::statistic::Scale;
use crate::stats::Bounds;
use std::collections::BTreeMap;

/// What a report is made of.
#[derive(Debug, Clone, Copy)]
pub struct ExactContext<'a> {
    /// The image.
    pub image: &'a Image,
    /// How ticks are stated; `None` where no clock is known.
    pub scale: Option<Scale>,
    /// What is not known.
    pub gaps: &'a Gaps,
    /// The name of what tells time.
    pub time: &'a str,
    /// What speaks for and against the figures, where all of a recording is profiled.
    pub executed: Option<&'a Executed<'a>>,
}

impl ExactContext<'_> {
    /// Whether it is not known how long something lasted that was to be traced: of a part, shares are of the part.
    pub(super) fn lacks_time(&self, calls: &Calls<'_>) -> bool {
        calls.ticks().is_some() && !calls.knows_all_time() && self.gaps.unwatched == 0
    }

    fn report(&self, by: &str, calls: &Calls<'_>, rows: Vec<ExactRow>) -> ExactProfile {
        let gaps = self.gaps;
        let mut objections: Vec<Objection> = Vec::new();
        for row in rows.iter().flat_map(|row| &row.objections) {
            if !objections.contains(&row.objection) {
                objections.push(row.objection.clone());
            }
        }
        let duration = calls.ticks().zip(self.scale).map(|(ticks, scale)| {
            let known = scale.duration(Bounds::exact(ticks as f64));
            let knows_all = !self.lacks_time(calls);
            Duration {
                ns_high: known.ns_high.filter(|_| knows_all),
                cycles: known.cycles.filter(|_| knows_all),
                ..known
            }
        });
        let mut doubts = gaps.doubts();
        if self.lacks_time(calls) {
            doubts.push(
                "Of some stretches it is not known how long they lasted: shares are of the time that is known, and nothing bounds those of all time.".into(),
            );
        }
        ExactProfile {
            schema: SCHEMA.into(),
            by: by.into(),
            from_ns: None,
            until_ns: None,
            instructions: calls.instructions(),
            duration,
            evidence: ExactEvidence {
                basis: "instruction_flow".into(),
                time: self.time.into(),
                overflows: gaps.overflows,
                damaged: gaps.damaged + gaps.untold,
                unwatched: gaps.unwatched,
                mismatches: gaps.mismatches,
                objections,
                doubts,
            },
            rows,
        }
    }

    /// What to call a function.
    #[must_use]
    pub fn name(&self, named: Named) -> String {
        named.name(self.image)
    }

    /// What to call the beginning of a path.
    #[must_use]
    pub fn root_name(&self, root: Root) -> String {
        match root {
            Root::Thread => "[thread]".into(),
            Root::Unknown => "[unknown]".into(),
            Root::Exception(number) => self.image.interrupt_name(number),
        }
    }
}

/// Rows of some calls, each with what distinguishes it.
type Keyed<K> = Vec<(K, ExactRow)>;

impl ExactContext<'_> {
    /// Rows of all calls, each with the bounds that it has with what no synchronisation confirms, and without it; and with
    /// what speaks against the recording.
    fn weighed<K: PartialEq>(
        &self,
        calls: &Calls<'_>,
        rows: impl Fn(&Calls<'_>) -> Keyed<K>,
    ) -> Vec<ExactRow> {
        let all = rows(calls);
        let Some(executed) = self.executed else {
            return all.into_iter().map(|(_, row)| row).collect();
        };
        let confirmed = executed.confirmed.and_then(|confirmed| confirmed.calls.as_ref());
        let before = confirmed.map(&rows);
        let weighed = |(key, mut row): (K, ExactRow)| {
            let same = before.as_ref().map(|rows| rows.iter().find(|(other, _)| *other == key));
            self.weigh_share(executed, &mut row, same.map(|same| same.map(|(_, row)| row)));
            row
        };
        all.into_iter().map(weighed).collect()
    }

    /// Counts for and against a row's share what speaks against the recording; `before`: where only a part of it is
    /// confirmed, the row of that, if it has one.
    fn weigh_share(
        &self,
        executed: &Executed<'_>,
        row: &mut ExactRow,
        before: Option<Option<&ExactRow>>,
    ) {
        let Some(mut figure) = share_of(row) else { return };
        executed.weigh_all(&mut figure);
        if let Some(before) = before {
            figure.agree_with(before.and_then(share_of));
        }
        row.self_share_low = Some(figure.low);
        row.self_share_high = Some(figure.high);
        let mut against = Against::default();
        against.note("self_share", "", &figure);
        for further in against.rows() {
            let known = |row: &&mut ObjectionRow| row.objection == further.objection;
            match row.objections.iter_mut().find(known) {
                Some(row) => row.figures.extend(further.figures),
                None => row.objections.push(further),
            }
        }
    }
}

/// A row's share of all time as a figure.
fn share_of(row: &ExactRow) -> Option<Figure> {
    let bounds = Bounds { low: row.self_share_low?, high: row.self_share_high? };
    let found = Figure::between(row.self_share?, bounds, row.instructions, Basis::Counted);
    Some(Figure { possible: SHARE, ..found })
}

/// One row for each function.
#[must_use]
pub fn by_function(calls: &Calls<'_>, context: &ExactContext<'_>) -> ExactProfile {
    let mut rows = context.weighed(calls, |calls| functions(calls, context));
    sort(&mut rows);
    context.report("function", calls, rows)
}

fn functions(calls: &Calls<'_>, context: &ExactContext<'_>) -> Keyed<Named> {
    let sums = Sums::of(calls.tree());
    let rows = sums.functions.iter();
    let rows = rows.map(|(&function, sum)| {
        let mut row = sum.row(calls, context);
        row.function = Some(context.name(function));
        let start = function.0.map(|id| context.image.function(id).range.start);
        row.address = start.map(|start| format!("{start:#010x}"));
        if let Some(place) = start.and_then(|start| context.image.location_at(start)) {
            (row.file, row.line) = (Some(place.file), place.line);
        }
        if let Some(figures) = calls.figures_of(function) {
            let scale = context.scale.filter(|_| calls.ticks().is_some());
            add_calls(&mut row, function, figures, (context.executed, scale));
        }
        row.callers = partners(sums.callers.get(&function), context, |partner| partner.calls);
        row.callees =
            partners(sums.callees.get(&function), context, |partner| partner.instructions);
        (function, row)
    });
    rows.collect()
}

/// One row for each interrupt, and one for thread mode.
#[must_use]
pub fn by_interrupt(calls: &Calls<'_>, context: &ExactContext<'_>) -> ExactProfile {
    let mut rows = context.weighed(calls, |calls| interrupts(calls, context));
    sort(&mut rows);
    context.report("interrupt", calls, rows)
}

fn interrupts(calls: &Calls<'_>, context: &ExactContext<'_>) -> Keyed<Root> {
    let mut sums: BTreeMap<Root, Sum> = BTreeMap::new();
    for node in calls.tree().nodes() {
        let sum = sums.entry(node.root).or_default();
        sum.add(node);
        let enters = node.parent.is_some_and(|parent| calls.tree().node(parent).function.is_none());
        sum.calls += if enters { node.calls } else { 0 };
    }
    let ran = sums.iter().filter(|(_, sum)| sum.instructions > 0);
    let rows = ran.map(|(&root, sum)| {
        let mut row = sum.row(calls, context);
        row.interrupt = Some(context.root_name(root));
        row.calls = matches!(root, Root::Exception(_)).then_some(sum.calls);
        (root, row)
    });
    rows.collect()
}

/// One row for each task, as a [`Roster`] knows them. Handlers are one row, and so is what ran before it was
/// seen whose it was.
#[must_use]
pub fn by_task(calls: &Calls<'_>, context: &ExactContext<'_>) -> ExactProfile {
    let mut rows = context.weighed(calls, |calls| tasks(calls, context));
    sort(&mut rows);
    context.report("task", calls, rows)
}

fn tasks(calls: &Calls<'_>, context: &ExactContext<'_>) -> Keyed<Task> {
    let tree = calls.tree();
    let roster = Roster::of(calls, context.image);
    let mut sums: BTreeMap<Task, Sum> = BTreeMap::new();
    for (number, node) in tree.nodes().iter().enumerate() {
        let task = match node.root {
            Root::Exception(_) => Task::Handlers,
            Root::Thread | Root::Unknown => {
                roster.task_of_node(tree, NodeId(number as u32)).map_or(Task::Unknown, Task::Begins)
            }
        };
        sums.entry(task).or_default().add(node);
    }
    let named = sums.iter().filter(|(_, sum)| sum.instructions > 0);
    let rows = named.map(|(&task, sum)| {
        let name = match task {
            Task::Begins(function) => context.name(function),
            Task::Handlers => "[handlers]".into(),
            Task::Unknown => "[unknown whose]".into(),
        };
        (task, ExactRow { task: Some(name), ..sum.row(calls, context) })
    });
    rows.collect()
}

/// Whose time it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Task {
    Begins(Named),
    Handlers,
    Unknown,
}

/// What rows of code stand for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CodeBy {
    /// A source file.
    File,
    /// A source line.
    Line,
    /// An address.
    Address,
}

/// File, line and address, as far as they tell rows apart.
type Place = (Option<u32>, Option<u32>, Option<u64>);

/// One row for each file, line or address that ran. Instructions are certain; time is shared out among them
/// between two cycle counts, and nothing bounds that so finely.
#[must_use]
pub fn by_code(
    calls: &Calls<'_>,
    listing: &Listing,
    (seen, times): (&Seen, Option<&InstructionTimes>),
    by: CodeBy,
    context: &ExactContext<'_>,
) -> ExactProfile {
    let mut rows: BTreeMap<Place, ExactRow> = BTreeMap::new();
    let mut ticks: BTreeMap<Place, f64> = BTreeMap::new();
    for function in &listing.functions {
        let name = &context.image.function(function.id).name;
        for place in function.instructions.clone() {
            let (listed, count) = (&listing.instructions[place], seen.executed[place]);
            if count == 0 {
                continue;
            }
            let (file, line) =
                (listed.line.map(|(file, _)| file), listed.line.map(|(_, line)| line));
            let key = match by {
                CodeBy::File => (file, None, None),
                CodeBy::Line => (file, line, None),
                CodeBy::Address => (file, line, Some(listed.address)),
            };
            let row = rows.entry(key).or_insert_with(|| ExactRow {
                function: (by != CodeBy::File).then(|| name.clone()),
                file: file.map(|file| listing.file(file).to_owned()),
                line: line.filter(|_| by != CodeBy::File),
                address: (by == CodeBy::Address).then(|| format!("{:#010x}", listed.address)),
                ..ExactRow::default()
            });
            row.instructions += count;
            if let Some(times) = times {
                *ticks.entry(key).or_default() += times.ticks(place);
            }
        }
    }
    let all = calls.instructions().max(1) as f64;
    let whole = calls.ticks().unwrap_or(0).max(1) as f64;
    for (key, row) in &mut rows {
        let time = ticks.get(key).copied();
        row.self_share = time.map(|ticks| ticks / whole);
        row.self_time = time.zip(context.scale).map(|(ticks, scale)| Duration {
            ns: ticks * scale.ns,
            ns_low: 0.0,
            ns_high: None,
            cycles: None,
            seen: None,
        });
    }
    let mut rows: Vec<ExactRow> = rows.into_values().collect();
    for row in &mut rows {
        row.instruction_share = row.instructions as f64 / all;
    }
    sort(&mut rows);
    let name = match by {
        CodeBy::File => "file",
        CodeBy::Line => "line",
        CodeBy::Address => "address",
    };
    context.report(name, calls, rows)
}

/// Most time first, then most instructions.
fn sort(rows: &mut [ExactRow]) {
    rows.sort_by(|a, b| {
        let time = |row: &ExactRow| row.self_time.map_or(0.0, |time| time.ns);
        time(b).total_cmp(&time(a)).then(b.instructions.cmp(&a.instructions))
    });
}

fn add_calls(
    row: &mut ExactRow,
    function: Named,
    figures: &CallFigures,
    (executed, scale): (Option<&Executed<'_>>, Option<Scale>),
) {
    row.calls = Some(figures.calls);
    row.calls_cut = Some(figures.cut);
    row.instructions_per_call = Numbers::of(&figures.instructions);
    row.self_instructions_per_call = Numbers::of(&figures.self_instructions);
    row.longest = figures.longest.map(|longest| LongestCall {
        elapsed: scale.map(|scale| scale.duration(longest.ticks)),
        from_byte: longest.from,
        until_byte: longest.until,
    });
    let Some((executed, id)) = executed.zip(function.0) else {
        row.self_own = scale.map(|scale| scale.statistic(&figures.self_own));
        row.own = scale.map(|scale| scale.statistic(&figures.own));
        row.elapsed = scale.map(|scale| scale.statistic(&figures.elapsed));
        return;
    };
    // The figures that budgets judge.
    let mut against = Against::default();
    let mut known = |kind, of: &'static str, measure| {
        let figure = executed.agreed(|ran| ran.calls(id, measure)).ok()?;
        against.note(kind, of, &figure);
        Some(figure)
    };
    let count = known("calls", "", CallMeasure::Count);
    row.calls_high = count.filter(|count| count.high.is_finite()).map(|count| count.high as u64);
    let mut of = |kind, measure: fn(Of) -> CallMeasure| {
        scale.map(|scale| statistic(scale, |of| known(kind, of.key(), measure(of))))
    };
    row.self_own = of("self_own", CallMeasure::SelfOwn);
    row.own = of("own", CallMeasure::Own);
    row.elapsed = of("elapsed", CallMeasure::Elapsed);
    row.objections = against.rows();
}
