//! The stable form of ways through the code, as an instruction trace tells them.

use crate::figure::ObjectionRow;
use crate::measure::alignment::Alignment;
use crate::measure::duration::Duration;
use crate::measure::execution::{
    CallMeasure, Crossing, Crossings, Executed, Gaps, LegFigures, Numbers, Took,
};
use crate::measure::known::{Against, Of, statistic};
use crate::measure::statistic::{Scale, Statistic};
use crate::point::Point;
use crate::stats::{Spread, Ticks};
use crate::time::Window;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
pub const CODE_SCHEMA: &str = "weltblick/code-span/3";
/// Columns of the distribution.
const COLUMNS: usize = 48;
/// Fewer occurrences than this have no distribution worth drawing, and deserve a word.
const FEW: u64 = 20;

/// What a report needs beside the figures.
#[derive(Debug)]
pub struct CodeContext<'a> {
    /// What the points are called, first to last.
    pub points: &'a [String],
    /// Who must have called where they begin, and who must not, as it was asked for.
    pub callers: [&'a [String]; 2],
    /// How ticks are stated; `None`: only instructions are.
    pub scale: Option<Scale>,
    /// How the time of an ITM beside it stands to the ticks: moments are told in that.
    pub alignment: Option<&'a Alignment>,
    /// What is not known of the recording.
    pub gaps: &'a Gaps,
    /// `cycle_counts`, `timestamps` or `nothing`.
    pub time: &'a str,
    /// From reset to `main`: instructions, and ticks.
    pub start_up: Option<(u64, Option<Ticks>)>,
    /// What speaks for and against the figures of this way, where all of a recording is read.
    pub executed: Option<(&'a Executed<'a>, &'a [Point])>,
}

/// From one point to another.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CodeLeg {
    /// Where it begins.
    pub from: String,
    /// Where it ends.
    pub until: String,
    /// How long it took.
    pub elapsed: Statistic,
    /// The same without what interrupted it: handlers, and other threads.
    pub own: Statistic,
    /// Instructions: its own; of all, where it goes across threads.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instructions: Option<Numbers>,
}

/// One leg, once.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct CodeTook {
    /// How long; absent where nothing tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elapsed: Option<Duration>,
    /// Without what interrupted it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own: Option<Duration>,
    /// Instructions.
    pub instructions: u64,
}

/// Once the whole way.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CodeCase {
    /// Its number, from 0, by when it ended.
    pub number: u64,
    /// The byte of the trace that tells where it began.
    pub from_byte: u64,
    /// And where it ended.
    pub until_byte: u64,
    /// When it began after the recording's start, in nanoseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub began_ns: Option<f64>,
    /// The whole way.
    pub total: CodeTook,
    /// Its legs, where there are several.
    pub legs: Vec<CodeTook>,
}

/// From reset to `main`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct StartUpRow {
    /// How long; absent where nothing tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elapsed: Option<Duration>,
    /// Instructions.
    pub instructions: u64,
}

/// How far to believe it.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CodeEvidence {
    /// `instruction_flow`.
    pub basis: String,
    /// What tells time: `cycle_counts`, `timestamps` or `nothing`.
    pub time: String,
    /// How often the first point was passed.
    pub begun: u64,
    /// Begun anew before it had ended, or its handler ended before.
    pub unfinished: u64,
    /// Something on the way is not known, or the recording ended.
    pub cut: u64,
    /// The last point was passed by a thread in which no way had begun.
    pub strays: u64,
    /// Passed as a whole, without a time.
    pub untimed: u64,
    /// The first point was passed where others called than were asked for.
    pub elsewhere: u64,
    /// The same where it is not known who called: not counted.
    pub unplaced: u64,
    /// What speaks against the figures of the whole way: their bounds count it for and against them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<ObjectionRow>,
    /// What else to know, each a sentence.
    pub doubts: Vec<String>,
}

/// Ways through the code.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct CodeSpanReport {
    /// `weltblick/code-span/3`.
    pub schema: String,
    /// The points, first to last.
    pub points: Vec<String>,
    /// Points may have been passed by different threads and handlers.
    pub across: bool,
    /// Only ways that began while code of such a name was on the call stack.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub inside: Vec<String>,
    /// Not those that began while this was.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<String>,
    /// The whole way.
    pub total: CodeLeg,
    /// From each point to the next, where there are more than two.
    pub legs: Vec<CodeLeg>,
    /// From the first point to each further one but the last, where there are more than two.
    pub running: Vec<CodeLeg>,
    /// From reset to `main`, where the trace begins with the reset handler.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub start_up: Option<StartUpRow>,
    /// The first one: caches and the like were cold.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first: Option<CodeCase>,
    /// The longest (where nothing tells time: with the most instructions), longest first.
    pub worst: Vec<CodeCase>,
    /// How many lie in each of equal parts from the shortest to the longest; empty for a few.
    pub distribution: Vec<u64>,
    /// How far to believe it.
    pub evidence: CodeEvidence,
}

/// States what came out.
#[must_use]
pub fn code_report(crossings: &Crossings, context: &CodeContext<'_>) -> CodeSpanReport {
    let points = context.points;
    let scale = context.scale.filter(|_| crossings.is_timed());
    let stated = Stated { scale, alignment: context.alignment };
    let (first, last) = (points[0].as_str(), points[points.len() - 1].as_str());
    let mut total = stated.leg(first, last, &crossings.total);
    let objections = weigh(&mut total, stated.scale, context.executed);
    let several = crossings.legs.len() > 1;
    let pairs = points.windows(2).zip(&crossings.legs);
    let legs = pairs.map(|(pair, figures)| stated.leg(&pair[0], &pair[1], figures));
    let legs: Vec<CodeLeg> = legs.filter(|_| several).collect();
    let further = points[1..points.len() - 1].iter().zip(&crossings.running);
    let running = further.map(|(point, figures)| stated.leg(first, point, figures)).collect();
    let spread = if stated.scale.is_some() {
        &crossings.total.elapsed
    } else {
        &crossings.total.instructions
    };
    let count = crossings.total.instructions.count();
    CodeSpanReport {
        schema: CODE_SCHEMA.into(),
        points: points.to_vec(),
        across: crossings.goes_across(),
        inside: context.callers[0].to_vec(),
        exclude: context.callers[1].to_vec(),
        total,
        legs,
        running,
        start_up: context.start_up.map(|(instructions, ticks)| StartUpRow {
            elapsed: stated.duration(ticks),
            instructions,
        }),
        first: crossings.first.as_ref().map(|case| stated.case(case, several)),
        worst: crossings.worst.iter().map(|case| stated.case(case, several)).collect(),
        distribution: if count >= FEW { spread.columns(COLUMNS) } else { Vec::new() },
        evidence: CodeEvidence {
            basis: "instruction_flow".into(),
            time: context.time.into(),
            begun: crossings.begun,
            unfinished: crossings.unfinished,
            cut: crossings.cut,
            strays: crossings.strays,
            untimed: crossings.untimed,
            elsewhere: crossings.elsewhere,
            unplaced: crossings.unplaced,
            objections,
            doubts: doubts(crossings, context),
        },
    }
}

/// Puts the figures that budgets judge in the place of what was seen; returns what speaks against them.
fn weigh(
    total: &mut CodeLeg,
    scale: Option<Scale>,
    executed: Option<(&Executed<'_>, &[Point])>,
) -> Vec<ObjectionRow> {
    let Some((executed, points)) = executed else { return Vec::new() };
    let mut against = Against::default();
    let mut known = |kind, of: &'static str, measure| {
        let figure = executed.agreed(|ran| ran.way(points, measure)).ok()?;
        against.note(kind, of, &figure);
        Some(figure)
    };
    known("count", "", CallMeasure::Count);
    if let Some(scale) = scale {
        let mut of = |kind, measure: fn(Of) -> CallMeasure| {
            statistic(scale, |of| known(kind, of.key(), measure(of)))
        };
        total.elapsed = of("elapsed", CallMeasure::Elapsed);
        total.own = of("own", CallMeasure::Own);
    }
    against.rows()
}

/// Ticks in the form of results.
struct Stated<'a> {
    scale: Option<Scale>,
    alignment: Option<&'a Alignment>,
}

impl Stated<'_> {
    fn duration(&self, ticks: Option<Ticks>) -> Option<Duration> {
        self.scale.zip(ticks).map(|(scale, ticks)| scale.duration(ticks))
    }

    /// `None` where it has no place in the recording's time.
    fn moment_ns(&self, ticks: Option<Ticks>) -> Option<f64> {
        let (scale, ticks) = self.scale.zip(ticks)?;
        let told = match self.alignment {
            Some(alignment) => alignment.to_itm(Window::exact(ticks.low))?.earliest,
            None => ticks.low,
        };
        Some(told as f64 * scale.ns)
    }

    fn leg(&self, from: &str, until: &str, figures: &LegFigures) -> CodeLeg {
        let statistic = |spread: &Spread| {
            self.scale.map_or_else(Statistic::default, |scale| scale.statistic(spread))
        };
        CodeLeg {
            from: from.to_owned(),
            until: until.to_owned(),
            elapsed: statistic(&figures.elapsed),
            own: statistic(&figures.own),
            instructions: Numbers::of(&figures.instructions),
        }
    }

    fn took(&self, took: &Took) -> CodeTook {
        CodeTook {
            elapsed: self.duration(took.elapsed),
            own: self.duration(took.own),
            instructions: took.instructions,
        }
    }

    fn case(&self, case: &Crossing, several: bool) -> CodeCase {
        let legs = case.took.iter().skip(1).filter(|_| several);
        CodeCase {
            number: case.number,
            from_byte: case.from,
            until_byte: case.until,
            began_ns: self.moment_ns(case.began),
            total: self.took(&case.took[0]),
            legs: legs.map(|took| self.took(took)).collect(),
        }
    }
}

fn doubts(crossings: &Crossings, context: &CodeContext<'_>) -> Vec<String> {
    let mut doubts = context.gaps.doubts();
    let mut tell = |count: u64, what: &str| {
        if count > 0 {
            let times = if count == 1 { "Once".to_owned() } else { format!("{count} times") };
            doubts.push(format!("{times} {what}"));
        }
    };
    tell(
        crossings.unfinished,
        "it was begun anew before it had ended (or its handler ended): only the last beginning counts.",
    );
    tell(crossings.cut, "its end is not known: the recording ended, or something is missing.");
    tell(crossings.unplaced, "it began where it is not known who called: not counted.");
    tell(crossings.untimed, "it has no time: nothing tells how long a part of it took.");
    let count = crossings.total.instructions.count();
    if (1..FEW).contains(&count) {
        let occurrences = if count == 1 { "occurrence" } else { "occurrences" };
        doubts.push(format!("Only {count} {occurrences}: extremes are rough; record longer."));
    }
    doubts
}
