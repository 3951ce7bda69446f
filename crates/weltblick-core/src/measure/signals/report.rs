//! The stable form of the figures of signals.

use super::figures::{AccessKey, Reading, Signal, Signals, Subject};
use super::threshold::Threshold;
use super::values::Moment;
use crate::capture::SignalSpec;
use crate::event::Origin;
use crate::figure::{Objection, ObjectionRow};
use crate::image::Image;
use crate::measure::counters::{self, CounterRow};
use crate::measure::duration::Duration;
use crate::measure::known::{Ask, Facts, Measure, Of, RowFigures};
use crate::measure::losses::{GapRow, LossRow};
use crate::measure::recording::Recording;
use crate::measure::statistic::{Scale, Statistic};
use crate::stats::Ticks;
use crate::time::Window;
use schemars::JsonSchema;
use serde::Serialize;

/// Name and version of the JSON form.
const SCHEMA: &str = "weltblick/signals/3";

/// What a report needs beside the figures.
pub struct Context<'a> {
    /// Names places in the code.
    pub image: Option<&'a Image>,
    /// What the manifest says.
    pub dictionary: &'a super::Dictionary<'a>,
    /// How each origin's ticks are stated; nothing without a clock.
    pub scale: &'a dyn Fn(Origin) -> Option<Scale>,
    /// Origins whose times are the host's.
    pub polled: &'a dyn Fn(Origin) -> bool,
    /// Facts about the recording.
    pub recording: &'a Recording,
    /// Ticks of its clock for each core cycle.
    pub ticks_per_cycle: f64,
    /// The core was stopped now and then.
    pub intrusive: bool,
    /// What every figure of the trace rests on.
    pub facts: &'a Facts,
}

/// A value at a moment.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct MomentRow {
    /// The value.
    pub value: f64,
    /// When, in nanoseconds since the trace began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_ns: Option<f64>,
    /// What the value is called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
}

/// A rate of change per second at a moment: at least this.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct RateRow {
    /// Units per second.
    pub per_second: f64,
    /// When the value after the change was there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_ns: Option<f64>,
}

/// Figures of values. What so few do not tell is absent.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ValueRow {
    /// How many.
    pub count: u64,
    /// What was no finite number.
    pub not_finite: u64,
    /// The first.
    pub first: MomentRow,
    /// The last.
    pub last: MomentRow,
    /// The smallest that was seen, where it first was.
    pub min: MomentRow,
    /// The true one is not smaller; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub min_low: Option<f64>,
    /// The largest that was seen, where it first was.
    pub max: MomentRow,
    /// The true one is not larger; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub max_high: Option<f64>,
    /// The mean of all.
    pub mean: f64,
    /// The mean over time: each value counts as long as it was there, the last until the recording's end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mean_over_time: Option<f64>,
    /// Not less than this; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mean_over_time_low: Option<f64>,
    /// Not more than this; absent where nothing bounds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mean_over_time_high: Option<f64>,
    /// The standard deviation.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stddev: Option<f64>,
    /// The largest step upwards to the next value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rise: Option<MomentRow>,
    /// The largest step downwards.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fall: Option<MomentRow>,
    /// The fastest change upwards.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rise_rate: Option<RateRow>,
    /// The fastest change downwards.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fall_rate: Option<RateRow>,
}

/// One of few different values.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct LevelRow {
    /// The value.
    pub value: f64,
    /// What it is called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// How often.
    pub count: u64,
    /// For how long, where nothing is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held: Option<Duration>,
}

/// A level that was asked about.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ThresholdRow {
    /// The level.
    pub level: f64,
    /// Times that the value rose above it.
    pub up: u64,
    /// Times that it fell back.
    pub down: u64,
    /// Times that it was on the other side after a gap.
    pub unseen: u64,
    /// Time above.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub above: Option<Duration>,
    /// The longest stay above.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest: Option<Duration>,
    /// When that began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest_ns: Option<f64>,
    /// When it first rose above.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_ns: Option<f64>,
}

/// Where in the code it was accessed.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct PlaceRow {
    /// The instruction, in hexadecimal.
    pub address: String,
    /// Its function.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub function: Option<String>,
    /// Its file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Its line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// How often.
    pub count: u64,
}

/// A stretch of the course of a value.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ChartRow {
    /// When it begins, in nanoseconds since the trace began; without times the number of the value.
    pub at: f64,
    /// How many values.
    pub count: u64,
    /// The first.
    pub first: f64,
    /// The smallest.
    pub min: f64,
    /// The largest.
    pub max: f64,
    /// The last.
    pub last: f64,
}

/// An element of an array as it was last seen.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ElementRow {
    /// Its index.
    pub index: u64,
    /// Its value.
    pub value: f64,
    /// When it was last accessed, in nanoseconds since the trace began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_ns: Option<f64>,
}

/// Figures of one signal; reads and writes of a variable are two.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct SignalRow {
    /// Its name.
    pub name: String,
    /// `watched`, `polled`, `quantity`, `text` or `argument`.
    pub source: String,
    /// `read` or `write`, where the trace tells it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub access: Option<String>,
    /// What a comparator's accesses show: `read`, `write`, or without a value `code`, `address` or `match`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shows: Option<String>,
    /// The unit of its values.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Accesses, or statements.
    pub count: u64,
    /// Accesses per second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rate: Option<f64>,
    /// Accesses of only a part of the variable: without a value.
    pub partial: u64,
    /// Its values; absent where none were told.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<ValueRow>,
    /// From one access to the next.
    pub interval: Statistic,
    /// From one such interval to the next, the difference.
    pub jitter: Statistic,
    /// Each value by itself, where they are few.
    pub levels: Vec<LevelRow>,
    /// Levels that were asked about.
    pub thresholds: Vec<ThresholdRow>,
    /// Where in the code it was accessed, most often first.
    pub places: Vec<PlaceRow>,
    /// The elements of an array, as they were last seen.
    pub elements: Vec<ElementRow>,
    /// `true` if times are those of the host.
    pub host_times: bool,
    /// Its course.
    pub course: Vec<ChartRow>,
    /// What speaks against these figures: their bounds count it for and against them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<ObjectionRow>,
}

/// One access, or statement.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ReadingRow {
    /// When, in nanoseconds since the trace began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_ns: Option<f64>,
    /// Not before this.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_ns_low: Option<f64>,
    /// The signal.
    pub signal: String,
    /// `read` or `write`, where the trace tells it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub access: Option<String>,
    /// The element of an array.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub element: Option<u64>,
    /// The value, where it was told.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<f64>,
    /// What the value is called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Its unit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Where in the code it was accessed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<PlaceRow>,
}

/// How far to believe it.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct SignalEvidence {
    /// The core was stopped now and then: its timing is not its own.
    pub intrusive: bool,
    /// Values of more signals than are kept.
    pub left_out: u64,
    /// What is missing.
    pub losses: Vec<LossRow>,
    /// What speaks against figures of this recording, whichever they are.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub objections: Vec<Objection>,
    /// What else to know, each a sentence.
    pub doubts: Vec<String>,
}

/// Figures of all signals.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct SignalReport {
    /// `weltblick/signals/3`.
    pub schema: String,
    /// One row for each.
    pub signals: Vec<SignalRow>,
    /// Counters of the debug block that wrapped.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub counters: Vec<CounterRow>,
    /// Where something may be missing.
    pub gaps: Vec<GapRow>,
    /// How far to believe it.
    pub evidence: SignalEvidence,
}

/// Raw values as they are told.
#[derive(Clone, Copy)]
struct Unit {
    scale: f64,
    offset: f64,
}

impl Unit {
    fn of(spec: Option<&SignalSpec>) -> Self {
        spec.map_or(Self { scale: 1.0, offset: 0.0 }, |spec| Self {
            scale: spec.scale,
            offset: spec.offset,
        })
    }

    fn told(self, raw: f64) -> f64 {
        raw * self.scale + self.offset
    }

    /// A difference of two values.
    fn step(self, raw: f64) -> f64 {
        raw * self.scale.abs()
    }
}

/// States what came out.
#[must_use]
pub fn report(signals: &Signals<'_>, context: &Context<'_>) -> SignalReport {
    let rows = signals.list().iter().map(|signal| Row::new(signal, signals, context).state());
    let mut rows: Vec<SignalRow> = rows.collect();
    rows.sort_by(|a, b| (&a.name, &a.access).cmp(&(&b.name, &b.access)));
    // What polls missed has the host's times.
    let gap = |(origin, from, until): (Origin, u64, u64)| {
        let ns = (context.scale)(origin).filter(|_| !(context.polled)(origin))?.ns;
        Some(GapRow { from_ns: from as f64 * ns, until_ns: until as f64 * ns })
    };
    let counters = counters::Context {
        recording: context.recording,
        ticks_per_cycle: context.ticks_per_cycle,
        hertz: (context.scale)(Origin(0)).map(|scale| 1e9 / scale.ns),
    };
    SignalReport {
        schema: SCHEMA.into(),
        counters: signals.counters.rows(&counters),
        gaps: signals.gaps().filter_map(gap).collect(),
        evidence: SignalEvidence {
            intrusive: context.intrusive,
            left_out: signals.left_out,
            losses: context.recording.losses.rows(),
            objections: context.facts.objections(),
            doubts: doubts(signals, &rows, context),
        },
        signals: rows,
    }
}

fn doubts(signals: &Signals<'_>, rows: &[SignalRow], context: &Context<'_>) -> Vec<String> {
    let mut doubts = Vec::new();
    if context.recording.time_slipped {
        doubts.push("bytes are missing: times after that are at least what they say".into());
    }
    if signals.counters.others {
        doubts
            .push("event counters come from several sources: those of the first are shown".into());
    }
    if signals.left_out > 0 {
        doubts.push(format!("{} values of further signals are left out", signals.left_out));
    }
    for signal in signals.list().iter().filter(|signal| signal.partial > 0) {
        let advice = match signal.field.as_ref().map(|field| field.element.size) {
            Some(8) => {
                "halves are put together where the trace has their addresses, and says which belong together; read it through a debug stub (`capture --read`), which gets all 8 bytes, or watch each half"
            }
            _ => "trace the address, or watch the part",
        };
        doubts.push(format!(
            "{}: {} accesses of only a part of it have no value; {advice}",
            signals.name(signal.key),
            signal.partial
        ));
    }
    for signal in signals.list().iter().filter(|signal| signal.elsewhere + signal.beyond > 0) {
        doubts.push(format!(
            "{}: {} accesses from further places in the code, and {} of elements beyond those kept, are left out",
            signals.name(signal.key),
            signal.elsewhere,
            signal.beyond
        ));
    }
    if rows.iter().any(|row| row.host_times) && rows.iter().any(|row| !row.host_times) {
        doubts.push(
            "polled values have the host's times, which begin elsewhere than those of the trace"
                .into(),
        );
    }
    doubts
}

/// Every access, one by one, in the order of the recording.
#[must_use]
pub fn each(signals: &Signals<'_>, context: &Context<'_>) -> Vec<ReadingRow> {
    let rows: Vec<Row<'_>> =
        signals.list().iter().map(|signal| Row::new(signal, signals, context)).collect();
    let readings = signals.each.as_deref().unwrap_or_default();
    let told = |reading: &Reading| {
        let row = &rows[reading.signal];
        ReadingRow {
            time_ns: row.ns(reading.time),
            time_ns_low: row.ns(reading.time.map(|time| Window::exact(time.earliest))),
            signal: row.name.clone(),
            access: row.access(),
            element: reading.element,
            value: reading.value.map(|value| row.unit.told(value)),
            label: reading.value.and_then(|value| row.label(value)),
            unit: row.spec.and_then(|spec| spec.unit.clone()),
            place: reading.code.map(|code| row.place(code, 1)),
        }
    };
    readings.iter().map(told).collect()
}

/// One signal on its way into a row.
struct Row<'a> {
    signal: &'a Signal,
    name: String,
    unit: Unit,
    spec: Option<&'a SignalSpec>,
    scale: Option<Scale>,
    signals: &'a Signals<'a>,
    /// What its figures rest on.
    facts: Facts,
    context: &'a Context<'a>,
}

impl<'a> Row<'a> {
    fn new(signal: &'a Signal, signals: &'a Signals<'a>, context: &'a Context<'a>) -> Self {
        let name = signals.name(signal.key);
        let spec = context.dictionary.spec(&name);
        let has_one_clock =
            signals.list().iter().all(|other| other.key.origin == signal.key.origin);
        let scale = (context.scale)(signal.key.origin);
        let facts = Facts { scale, ..context.facts.clone() };
        let last = signal.values.last.and_then(|last| last.time).unwrap_or_default();
        let host = (context.polled)(signal.key.origin);
        Self {
            signal,
            signals,
            facts: match has_one_clock {
                true => facts,
                // Of several clocks nobody knows which the recording ends by, and what is wrong with one is not with
                // the host's.
                false => Facts {
                    end: last,
                    span: Ticks { low: 0, high: last.latest },
                    against: if host { Vec::new() } else { facts.against },
                    ..facts
                },
            },
            unit: Unit::of(spec),
            spec,
            scale,
            name,
            context,
        }
    }

    fn state(self) -> SignalRow {
        let signal = self.signal;
        let find = |ask: Ask| self.signals.figure(signal, ask, &self.facts);
        let plain = Scale { ns: 1.0, cycles: false };
        let mut figures = RowFigures::new(self.scale.unwrap_or(plain), None, &find);
        let host_times = (self.context.polled)(signal.key.origin);
        let interval = figures.statistic(Measure::Interval);
        let jitter = figures.statistic(Measure::Jitter);
        let value = self.value(&mut figures);
        SignalRow {
            source: self.source(host_times).into(),
            access: self.access(),
            shows: self.signal.shows().map(str::to_owned),
            unit: self.spec.and_then(|spec| spec.unit.clone()),
            count: signal.count,
            rate: interval.mean.filter(|mean| mean.ns > 0.0).map(|mean| 1e9 / mean.ns),
            partial: signal.partial,
            value,
            interval,
            jitter,
            levels: self.levels(),
            thresholds: signal
                .thresholds
                .iter()
                .map(|threshold| self.threshold(threshold))
                .collect(),
            places: self.places(),
            elements: self.elements(),
            host_times,
            course: self.course(),
            objections: figures.objections(),
            name: self.name,
        }
    }

    fn source(&self, polled: bool) -> &'static str {
        match self.signal.key.subject {
            Subject::Watch(_) if polled => "polled",
            Subject::Watch(_) => "watched",
            Subject::Argument { .. } => "argument",
            Subject::Quantity(n) if self.context.dictionary.captured(n).is_some() => "text",
            Subject::Quantity(_) => "quantity",
        }
    }

    fn ns(&self, time: Option<Window>) -> Option<f64> {
        Some(time?.latest as f64 * self.scale?.ns)
    }

    fn duration(&self, ticks: Ticks) -> Option<Duration> {
        Some(self.scale?.duration(ticks))
    }

    fn moment(&self, moment: Moment) -> MomentRow {
        MomentRow {
            value: self.unit.told(moment.value),
            time_ns: self.ns(moment.time),
            label: self.label(moment.value),
        }
    }

    fn label(&self, raw: f64) -> Option<String> {
        self.signal.field.as_ref()?.label(raw).map(str::to_owned)
    }

    fn value(&self, figures: &mut RowFigures<'_>) -> Option<ValueRow> {
        let values = &self.signal.values;
        let step = |moment: Moment| MomentRow {
            value: self.unit.step(moment.value),
            time_ns: self.ns(moment.time),
            label: None,
        };
        let rate = |moment: Option<Moment>| {
            let (moment, scale) = moment.zip(self.scale)?;
            let per_second = self.unit.step(moment.value) * 1e9 / scale.ns;
            Some(RateRow { per_second, time_ns: self.ns(moment.time) })
        };
        // A negative scale turns everything upside down.
        let swap = self.unit.scale < 0.0;
        let pair = |a: Option<Moment>, b: Option<Moment>| if swap { (b, a) } else { (a, b) };
        let (min, max) = pair(values.min, values.max);
        let (rise, fall) = pair(values.rise, values.fall);
        let (rise_rate, fall_rate) = pair(values.rise_rate, values.fall_rate);
        // The figures that budgets judge.
        let mut known = |of| figures.figure(Measure::Value, of);
        let bound = |end: f64| end.is_finite().then_some(end);
        let (least, over_time, most) = (known(Of::Min), known(Of::Mean), known(Of::Max));
        known(Of::Deviation);
        Some(ValueRow {
            count: values.count,
            not_finite: values.not_finite,
            first: self.moment(values.first?),
            last: self.moment(values.last?),
            min: self.moment(min?),
            min_low: least.and_then(|least| bound(least.low)),
            max: self.moment(max?),
            max_high: most.and_then(|most| bound(most.high)),
            mean: self.unit.told(values.mean()?),
            mean_over_time_low: over_time.as_ref().and_then(|mean| bound(mean.low)),
            mean_over_time_high: over_time.as_ref().and_then(|mean| bound(mean.high)),
            mean_over_time: over_time
                .filter(|_| self.facts.end.latest > 0)
                .map(|mean| mean.observed()),
            stddev: values.deviation().map(|deviation| self.unit.step(deviation)),
            rise: rise.map(step),
            fall: fall.map(step),
            rise_rate: rate(rise_rate),
            fall_rate: rate(fall_rate),
        })
    }

    fn levels(&self) -> Vec<LevelRow> {
        let levels = self.signal.values.levels.list().iter();
        let row = |level: &super::ValueLevel| LevelRow {
            value: self.unit.told(level.value),
            label: self.label(level.value),
            count: level.count,
            held: self.duration(level.held),
        };
        let mut rows: Vec<LevelRow> = levels.map(row).collect();
        rows.sort_by(|a, b| a.value.total_cmp(&b.value));
        rows
    }

    fn threshold(&self, threshold: &Threshold) -> ThresholdRow {
        // Upside down, what rises above falls below.
        let (up, down) = match self.unit.scale < 0.0 {
            true => (threshold.down, threshold.up),
            false => (threshold.up, threshold.down),
        };
        let upright = self.unit.scale > 0.0;
        let longest = threshold.longest.filter(|_| upright);
        ThresholdRow {
            level: self.unit.told(threshold.level),
            up,
            down,
            unseen: threshold.unseen,
            above: self.duration(threshold.above).filter(|_| upright),
            longest: longest.and_then(|(long, _)| self.duration(long)),
            longest_ns: longest.and_then(|(_, since)| self.ns(Some(since))),
            first_ns: self.ns(threshold.first).filter(|_| upright),
        }
    }

    fn places(&self) -> Vec<PlaceRow> {
        let places = self.signal.places.iter();
        let mut rows: Vec<PlaceRow> = places.map(|&(at, count)| self.place(at, count)).collect();
        rows.sort_by_key(|row| std::cmp::Reverse(row.count));
        rows
    }

    fn place(&self, address: u64, count: u64) -> PlaceRow {
        let image = self.context.image;
        let function =
            image.and_then(|image| Some(image.function(image.function_at(address)?).name.clone()));
        let location = image.and_then(|image| image.location_at(address));
        let (file, line) = location.map_or((None, None), |at| (Some(at.file), at.line));
        let address = format!("{address:#010x}");
        PlaceRow { address, function, file, line, count }
    }

    fn access(&self) -> Option<String> {
        let access = self.signal.key.access?;
        Some(if access == AccessKey::Read { "read" } else { "write" }.to_owned())
    }

    fn elements(&self) -> Vec<ElementRow> {
        let elements = (0_u64..).zip(&self.signal.elements);
        let row = |(index, element): (u64, &super::figures::Element)| {
            let (value, time) = (*element)?;
            Some(ElementRow { index, value: self.unit.told(value), time_ns: self.ns(time) })
        };
        elements.filter_map(row).collect()
    }

    fn course(&self) -> Vec<ChartRow> {
        let dated = self.signal.values.last.is_some_and(|last| last.time.is_some());
        let swap = self.unit.scale < 0.0;
        let told = |raw| self.unit.told(raw);
        let row = |(tick, column): (u64, super::Column)| {
            let at = match self.scale.filter(|_| dated) {
                Some(scale) => (self.signal.base() + tick) as f64 * scale.ns,
                None => tick as f64,
            };
            let (min, max) = (told(column.min), told(column.max));
            let (min, max) = if swap { (max, min) } else { (min, max) };
            let (first, last) = (told(column.first), told(column.last));
            ChartRow { at, count: column.count, first, min, max, last }
        };
        self.signal.trend.columns().map(row).collect()
    }
}
