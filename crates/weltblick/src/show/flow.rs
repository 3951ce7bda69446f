//! Faces of what ran around a place.

use super::disassembly::{Disassembler, opcode};
use super::{Paint, cell, count, path_end, plain, shell};
use crate::sources::SourceText;
use anyhow::Result;
use schemars::JsonSchema;
use serde::Serialize;
use std::io::Write;
use weltblick_core::flow::{Clocking, Gap};
use weltblick_core::image::{Image, interrupt_name};
use weltblick_core::isa::instruction_length;
use weltblick_core::measure::alignment::Alignment;
use weltblick_core::measure::execution::{History, Named, Root, Step, What};
use weltblick_core::measure::statistic::Scale;
use weltblick_core::time::Window;

/// Name and version of the JSON form.
const SCHEMA: &str = "weltblick/flow/1";

/// More of a source line does not fit beside times and addresses.
const LONGEST_SOURCE: usize = 40;

/// What ran around a place.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub(crate) struct FlowReport {
    /// `weltblick/flow/1`.
    schema: String,
    /// Who had called when the place was reached, outermost first.
    path: Vec<String>,
    /// Times are those of the ITM beside the instruction trace; where it is not known how both stand to each
    /// other there are none.
    by_itm: bool,
    /// What happened, in order.
    lines: Vec<FlowLine>,
}

/// One instruction, or something that happened between two.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema, Default)]
pub(crate) struct FlowLine {
    /// `instruction`, `entered`, `left`, `gap`, or `left_out` for what ran and is not shown.
    kind: String,
    /// This is the place that was asked for.
    here: bool,
    /// The byte of the trace that tells it.
    byte: u64,
    /// Nanoseconds after the recording's start, at the last moment before it whose time is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    since_ns: Option<f64>,
    /// Cycles from that moment to the next one whose time is known: with the first line behind it.
    #[serde(skip_serializing_if = "Option::is_none")]
    cycles: Option<u64>,
    /// How many calls deep it is.
    depth: u32,
    /// The instruction's address, in hexadecimal.
    #[serde(skip_serializing_if = "Option::is_none")]
    address: Option<String>,
    /// Its function.
    #[serde(skip_serializing_if = "Option::is_none")]
    function: Option<String>,
    /// Its source file.
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<String>,
    /// Its line.
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<u32>,
    /// That line's text, where the source is found.
    #[serde(skip_serializing_if = "Option::is_none")]
    source: Option<String>,
    /// Its halfwords.
    #[serde(skip_serializing_if = "Option::is_none")]
    code: Option<String>,
    /// The instruction.
    text: String,
    /// Of a branch: whether it branched.
    #[serde(skip_serializing_if = "Option::is_none")]
    branched: Option<bool>,
    /// How many instructions ran here that are not shown.
    #[serde(skip_serializing_if = "Option::is_none")]
    left_out: Option<u64>,
    /// Its condition failed: it had no effect. Only where the trace tells.
    passed_over: bool,
}

/// How times are stated.
#[derive(Clone, Copy)]
pub(crate) struct Time<'a> {
    /// How long a tick is, if that is known.
    pub(crate) scale: Option<Scale>,
    /// The ITM's time is told, which stands so to the ticks.
    pub(crate) alignment: Option<&'a Alignment>,
    /// What ticks are.
    pub(crate) clocking: Clocking,
}

impl Time<'_> {
    fn ns(self, ticks: u64) -> Option<f64> {
        let told = match self.alignment {
            Some(alignment) => alignment.to_itm(Window::exact(ticks))?.middle(),
            None => ticks,
        };
        Some(told as f64 * self.scale?.ns)
    }
}

/// What a history holds, as lines: so many instructions before the place, and after it. `None` if the place
/// was not reached.
pub(crate) fn report(
    history: &History<'_>,
    image: &Image,
    time: Time<'_>,
    place: Here,
    around: Around,
    texts: &mut SourceText,
) -> Result<Option<FlowReport>> {
    let Some((steps, hit)) = history.steps() else { return Ok(None) };
    let disassembler = Disassembler::new()?;
    let mut lines = Vec::new();
    let mut passed_over = Vec::new();
    let mut before = None;
    for (number, step) in steps.iter().enumerate() {
        let here = (number == hit).then_some(place);
        let first = lines.len();
        match step.what {
            What::PassedOver(address) => passed_over.push(address),
            _ => add(step, here, image, time, &disassembler, &mut passed_over, &mut lines),
        }
        if let (Some(line), Clocking::Cycles) = (lines.get_mut(first), time.clocking)
            && before.replace(step.ticks) != Some(step.ticks)
        {
            line.cycles = cycles_from(steps.iter().skip(number));
        }
    }
    let around = match around {
        Around::Place(around) => around,
        Around::End(count) => {
            // The place is the last block's beginning; the end is its last instruction.
            let last = lines.iter().rposition(|line| line.kind == "instruction");
            lines.iter_mut().enumerate().for_each(|(n, line)| line.here = Some(n) == last);
            [count.saturating_sub(1), 1]
        }
    };
    trim(&mut lines, around);
    for line in &mut lines {
        let place = line.file.as_deref().zip(line.line);
        line.source = place.and_then(|(file, number)| texts.line(file, number));
    }
    let path = history.path().iter().map(|entry| path_name(entry, image)).collect();
    Ok(Some(FlowReport { schema: SCHEMA.into(), path, by_itm: time.alignment.is_some(), lines }))
}

/// Cycles from the first of these steps to the next whose time is known; `None` where something is missing between
/// them, or not shown.
fn cycles_from<'s>(mut steps: impl Iterator<Item = &'s Step>) -> Option<u64> {
    let first = steps.next()?;
    let is_hidden = |step: &Step| matches!(step.what, What::LeftOut { .. });
    if is_hidden(first) {
        return None;
    }
    for step in steps {
        if step.ticks != first.ticks {
            let is_known = step.untimed == first.untimed;
            return step.ticks?.checked_sub(first.ticks?).filter(|_| is_known);
        }
        if is_hidden(step) {
            return None;
        }
    }
    None
}

/// Which instruction of the step that was found is the place.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Here {
    /// The one at this address.
    Address(u64),
    /// The one with this number.
    Instruction(u32),
}

/// Which instructions are shown.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Around {
    /// So many before the place, and so many from it on.
    Place([u64; 2]),
    /// The last ones.
    End(u64),
}

/// Histories hold whole blocks: instructions beyond those that were asked for go.
fn trim(lines: &mut Vec<FlowLine>, [before, after]: [u64; 2]) {
    let Some(here) = lines.iter().position(|line| line.here) else { return };
    let is_instruction = |line: &FlowLine| line.kind == "instruction";
    let last = lines[here..]
        .iter()
        .enumerate()
        .filter(|(_, line)| is_instruction(line))
        .nth(after.max(1) as usize)
        .map_or(lines.len(), |(place, _)| here + place);
    let first = lines[..here]
        .iter()
        .enumerate()
        .rev()
        .filter(|(_, line)| is_instruction(line))
        .nth(before as usize)
        .map_or(0, |(place, _)| place + 1);
    lines.truncate(last);
    lines.drain(..first);
}

fn path_name(&(root, function): &(Root, Option<Named>), image: &Image) -> String {
    match (function, root) {
        (Some(Named(Some(id))), _) => image.function(id).name.clone(),
        (Some(Named(None)), _) => "[code without a name]".into(),
        (None, Root::Thread) => "[thread]".into(),
        (None, Root::Unknown) => "[unknown]".into(),
        (None, Root::Exception(number)) => format!("[{}]", interrupt_name(Some(image), number)),
    }
}

/// A step's lines; `here`: the place lies in it. Conditions of the instructions in `passed_over` failed.
fn add(
    step: &Step,
    here: Option<Here>,
    image: &Image,
    time: Time<'_>,
    disassembler: &Disassembler,
    passed_over: &mut Vec<u64>,
    lines: &mut Vec<FlowLine>,
) {
    let since_ns = step.ticks.and_then(|ticks| time.ns(ticks));
    let base = FlowLine { byte: step.offset, since_ns, depth: step.depth, ..FlowLine::default() };
    let other = |kind: &str, text: String| FlowLine {
        kind: kind.into(),
        here: here.is_some(),
        text,
        ..base.clone()
    };
    match step.what {
        What::Ran { start, until, branched, .. } => {
            let Some(bytes) = image.instructions_from(start) else { return };
            let mut at = start;
            let mut number = 0;
            while at < until {
                let rest = &bytes[(at - start) as usize..];
                let Some(length) = instruction_length(image.isa(), rest) else { return };
                let code = &rest[..(length as usize).min(rest.len())];
                let last = at + length >= until;
                let function = image.function_at(at).map(|id| image.function(id).name.clone());
                let location = image.location_at(at);
                lines.push(FlowLine {
                    kind: "instruction".into(),
                    here: here.is_some_and(|place| match place {
                        Here::Address(address) => address == at,
                        Here::Instruction(wanted) => wanted == number,
                    }),
                    address: Some(format!("{at:#010x}")),
                    function,
                    file: location.as_ref().map(|location| location.file.clone()),
                    line: location.and_then(|location| location.line),
                    code: Some(opcode(code)),
                    text: disassembler.text(image, at, code),
                    branched: branched.filter(|_| last),
                    passed_over: passed_over.contains(&at),
                    ..base.clone()
                });
                at += length;
                number += 1;
            }
            passed_over.clear();
        }
        What::Entered(Some(exception)) => lines
            .push(other("entered", format!("{} enters", interrupt_name(Some(image), exception)))),
        What::Entered(None) => lines.push(other("entered", "no handler: the core halts".into())),
        What::Left => lines.push(other("left", "handler returns".into())),
        What::PassedOver(_) => {}
        What::Gap(gap) => lines.push(other("gap", gap_text(gap))),
        What::Unconfirmed => lines.push(other(
            "unconfirmed",
            "behind the last synchronisation: nothing confirms what follows".into(),
        )),
        What::LeftOut { instructions, losses } => lines.push(FlowLine {
            left_out: Some(instructions),
            ..other("left_out", left_out_text(instructions, losses))
        }),
    }
}

fn left_out_text(instructions: u64, losses: u32) -> String {
    let plural = if instructions == 1 { "" } else { "s" };
    let lost = match losses {
        0 => String::new(),
        1 => ", and once it is not known what ran".into(),
        times => format!(", and {} times it is not known what ran", count(times.into())),
    };
    format!("{} instruction{plural} left out{lost}", count(instructions))
}

fn gap_text(gap: Gap) -> String {
    match gap {
        Gap::Unwatched => "not traced by choice".into(),
        Gap::Overflow => "the trace unit's buffer was full: what ran is not known".into(),
        Gap::Discarded => "trace was switched off before all was sent".into(),
        Gap::Damaged { why, bytes } => format!("{bytes} bytes lost: {}", why.describe()),
        Gap::CutOff { .. } => "the recording ends inside a packet".into(),
        Gap::Missing => "bytes are missing here".into(),
        Gap::Uncounted(Some(count)) => format!("{count} instructions that the trace only counts"),
        Gap::Uncounted(None) => "instructions that the trace does not tell".into(),
        Gap::Mismatch(_) => "packets and image contradict each other".into(),
    }
}

/// For people.
pub(crate) fn text(
    report: &FlowReport,
    title: &str,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    writeln!(out, "{}", paint.strong(&plain(title)))?;
    let path: Vec<_> = report.path.iter().map(|name| plain(name)).collect();
    writeln!(out, "called by: {}\n", path.join(" > "))?;
    let timed = report.lines.iter().any(|line| line.since_ns.is_some());
    let counted = report.lines.iter().any(|line| line.cycles.is_some());
    let blank = " ".repeat(if timed { 13 } else { 0 } + if counted { 8 } else { 0 });
    let least = report.lines.iter().map(|line| line.depth).min().unwrap_or(0);
    let mut before: Option<&FlowLine> = None;
    let heading = format!(
        "  {}{}{:<10} {:<9} instruction",
        if timed { format!("{:>11}  ", "after") } else { String::new() },
        if counted { format!("{:>6}  ", "cycles") } else { String::new() },
        "address",
        "code"
    );
    writeln!(out, "{}", paint.faint(&heading))?;
    for line in &report.lines {
        let new_time = before.is_none_or(|before| before.since_ns != line.since_ns);
        let time = match (timed, line.since_ns.filter(|_| new_time)) {
            (false, _) => String::new(),
            (true, Some(ns)) => format!("{:>11}  ", format!("{:.4} ms", ns / 1e6)),
            (true, None) => " ".repeat(13),
        };
        let cycles = match (counted, line.cycles) {
            (false, _) => String::new(),
            (true, Some(cycles)) => format!("{:>6}  ", count(cycles)),
            (true, None) => " ".repeat(8),
        };
        let time = time + &cycles;
        let indent = "  ".repeat((line.depth - least).min(16) as usize);
        if line.kind != "instruction" {
            let mark = match line.kind.as_str() {
                "gap" => "!",
                "left_out" => "~",
                _ => "*",
            };
            let text = format!("  {time}{mark} {indent}{}", plain(&line.text));
            let text = match line.kind.as_str() {
                "gap" => paint.alarm(&text),
                "left_out" => paint.faint(&text),
                _ => paint.accent(&text),
            };
            writeln!(out, "{text}")?;
            before = Some(line);
            continue;
        }
        if let Some(place) = place_line(line, before) {
            writeln!(out, "  {blank}{}", paint.faint(&format!("{indent}{place}")))?;
        }
        if let Some(source) = source_line(line, before) {
            writeln!(out, "  {blank}{}", paint.faint(&format!("{indent}{source}")))?;
        }
        let arrow = match line.branched {
            _ if line.passed_over => "  (condition failed)",
            Some(true) => "  ->",
            Some(false) => "  |",
            _ => "",
        };
        let mark = if line.here { ">" } else { " " };
        let text = format!(
            "{mark} {time}{} {:<9} {indent}{}{arrow}",
            line.address.as_deref().unwrap_or_default(),
            line.code.as_deref().unwrap_or_default(),
            plain(&line.text)
        );
        writeln!(out, "{}", if line.here { paint.strong(&text) } else { text })?;
        before = Some(line);
    }
    if timed {
        let of_itm = if report.by_itm { ", in the ITM's time" } else { "" };
        let text = format!("  times are those of the last cycle count or timestamp before{of_itm}");
        writeln!(out, "{}", paint.faint(&text))?;
    }
    Ok(())
}

/// Function and file, where another one begins; with the line's number where its text is not known.
fn place_line(line: &FlowLine, before: Option<&FlowLine>) -> Option<String> {
    let has_text = line.source.is_some();
    let place = |line: &FlowLine| {
        let number = line.line.filter(|_| !has_text);
        (line.function.clone(), line.file.clone(), number, line.depth)
    };
    if before.is_some_and(|before| place(before) == place(line)) {
        return None;
    }
    let function = line.function.as_deref().map_or("[no function]".into(), plain);
    let file = line.file.as_deref().map_or(String::new(), |file| path_end(&plain(file)));
    let number = line.line.filter(|_| !has_text).map_or(String::new(), |line| format!(":{line}"));
    Some(format!("{function}  {file}{number}"))
}

/// The text of a source line, where another one begins.
fn source_line(line: &FlowLine, before: Option<&FlowLine>) -> Option<String> {
    let source = line.source.as_deref()?;
    let place = |line: &FlowLine| (line.file.clone(), line.line, line.depth);
    let is_same = before.is_some_and(|before| place(before) == place(line));
    let text = plain(source.trim());
    let text = match text.char_indices().nth(LONGEST_SOURCE) {
        Some((end, _)) => format!("{}...", &text[..end]),
        None => text.into_owned(),
    };
    (!is_same).then(|| format!("{:>10} {text}", format!(":{}", line.line.unwrap_or(0))))
}

/// The command that shows what ran next: from the packet on that has the last instruction.
pub(crate) fn go_on(
    report: &FlowReport,
    [again, stream]: [&str; 2],
    count: u64,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let here = report.lines.iter().find(|line| line.here).map_or(0, |line| line.byte);
    let Some(last) = report.lines.last() else { return Ok(()) };
    // One packet may stand for many instructions: then a longer page goes on.
    let count = if last.byte > here { count } else { count.saturating_mul(4) };
    let line = format!(
        "  -> weltblick flow {} --around {}@{} --back 0 -n {count}   goes on",
        again,
        shell(stream),
        last.byte
    );
    writeln!(out, "{}", paint.faint(&line))?;
    Ok(())
}

/// For spreadsheets.
pub(crate) fn csv(report: &FlowReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record([
        "kind",
        "here",
        "byte",
        "since_ns",
        "cycles",
        "depth",
        "address",
        "function",
        "file",
        "line",
        "source",
        "code",
        "text",
        "branched",
        "passed_over",
        "left_out",
    ])?;
    for line in &report.lines {
        let text = |field: &Option<String>| {
            field.as_deref().map(|text| cell(text).into_owned()).unwrap_or_default()
        };
        csv.write_record([
            line.kind.clone(),
            line.here.to_string(),
            line.byte.to_string(),
            line.since_ns.map(|ns| ns.to_string()).unwrap_or_default(),
            line.cycles.map(|cycles| cycles.to_string()).unwrap_or_default(),
            line.depth.to_string(),
            text(&line.address),
            text(&line.function),
            text(&line.file),
            line.line.map(|line| line.to_string()).unwrap_or_default(),
            text(&line.source),
            text(&line.code),
            cell(&line.text).into_owned(),
            line.branched.map(|branched| branched.to_string()).unwrap_or_default(),
            line.passed_over.to_string(),
            line.left_out.map(|count| count.to_string()).unwrap_or_default(),
        ])?;
    }
    csv.flush()?;
    Ok(())
}
