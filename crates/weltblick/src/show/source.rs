//! Faces of source with what ran in its margin.

use super::disassembly::{Disassembler, opcode};
use super::{Paint, count, duration_ns, path_end, percent, plain};
use crate::sources::SourceText;
use anyhow::Result;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::io::Write;
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{InstructionTimes, Listing, Role, Seen};

/// Name and version of the JSON form.
const SCHEMA: &str = "weltblick/source/1";
/// Cells of the hottest line.
const HEAT: usize = 6;

/// Source files, or parts of them, with what ran.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub(crate) struct SourceReport {
    /// `weltblick/source/1`.
    schema: String,
    /// What counts rest on: `instruction_flow` or `pc_samples`.
    basis: String,
    /// What was not seen may have run all the same.
    lower_bound: bool,
    /// Stretches of source, the function's own file first.
    parts: Vec<SourcePart>,
}

/// Lines of one file.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub(crate) struct SourcePart {
    /// The file.
    file: String,
    /// Its text was found.
    has_text: bool,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    text_from: Option<String>,
    /// All of the file is meant.
    whole: bool,
    /// The lines, in order; between lines with code those without, where the text is known.
    lines: Vec<SourceLine>,
}

/// One line.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema, Default)]
pub(crate) struct SourceLine {
    /// Its number.
    line: u32,
    /// Its text, if known.
    #[serde(skip_serializing_if = "Option::is_none")]
    text: Option<String>,
    /// How often it ran (or samples that found it): the most of its instructions; absent without code.
    #[serde(skip_serializing_if = "Option::is_none")]
    executions: Option<u64>,
    /// The fraction of all instructions (or samples).
    #[serde(skip_serializing_if = "Option::is_none")]
    share: Option<f64>,
    /// About how long it took in nanoseconds, all its runs together: time between two cycle counts is shared out
    /// by instructions. Absent where nothing counts cycles.
    #[serde(skip_serializing_if = "Option::is_none")]
    time_ns: Option<f64>,
    /// The fraction of all time.
    #[serde(skip_serializing_if = "Option::is_none")]
    time_share: Option<f64>,
    /// Its instructions.
    instructions: Vec<SourceInstruction>,
}

/// One instruction.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub(crate) struct SourceInstruction {
    /// Its address, in hexadecimal.
    address: String,
    /// Its halfwords.
    code: String,
    /// The instruction.
    text: String,
    /// How often it ran, or samples that found it.
    executions: u64,
    /// About how long it took in nanoseconds, all its runs together.
    #[serde(skip_serializing_if = "Option::is_none")]
    time_ns: Option<f64>,
    /// Of a conditional branch: how often it branched.
    #[serde(skip_serializing_if = "Option::is_none")]
    taken: Option<u64>,
    /// Of a conditional branch: how often it did not.
    #[serde(skip_serializing_if = "Option::is_none")]
    not_taken: Option<u64>,
    /// In an `it` block: how often its condition failed, so that it ran without effect. Only where the trace has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    condition_failed: Option<u64>,
}

/// Which instructions of a listing are shown.
pub(crate) struct Wanted<'a> {
    pub(crate) image: &'a Image,
    pub(crate) listing: &'a Listing,
    pub(crate) seen: &'a Seen,
    /// How long instructions took, where that is known.
    pub(crate) times: Option<Timed<'a>>,
    /// By place in the listing.
    pub(crate) chosen: Vec<usize>,
    /// The file that comes first.
    pub(crate) home: Option<String>,
    /// The whole file, also before its first and after its last line with code.
    pub(crate) whole: bool,
}

/// How long instructions took.
#[derive(Clone, Copy)]
pub(crate) struct Timed<'a> {
    pub(crate) times: &'a InstructionTimes,
    /// Nanoseconds in a tick.
    pub(crate) ns: f64,
    /// All ticks.
    pub(crate) ticks: u64,
}

/// Sorts instructions under their lines.
pub(crate) fn report(wanted: &Wanted<'_>, texts: &mut SourceText) -> Result<SourceReport> {
    let Wanted { image, listing, seen, .. } = wanted;
    let disassembler = Disassembler::new()?;
    let mut files: BTreeMap<String, BTreeMap<u32, SourceLine>> = BTreeMap::new();
    for &place in &wanted.chosen {
        let (listed, executions) = (&listing.instructions[place], seen.executed[place]);
        let (file, number) = match listed.line {
            Some((file, line)) => (listing.file(file).to_owned(), line),
            None => (String::new(), 0),
        };
        let bytes = image.instructions_from(listed.address).unwrap_or(&[]);
        let code = &bytes[..usize::from(listed.length).min(bytes.len())];
        let ways = (listed.role == Role::Branch && !seen.lower_bound)
            .then(|| seen.ways.get(&listed.address).copied().unwrap_or_default());
        let line = files.entry(file).or_default().entry(number).or_default();
        line.line = number;
        line.executions = line.executions.max(Some(executions));
        let share = executions as f64 / seen.total.max(1) as f64;
        line.share = Some(line.share.unwrap_or(0.0) + share);
        let ticks = wanted.times.map(|timed| timed.times.ticks(place));
        let time_ns = ticks.zip(wanted.times).map(|(ticks, timed)| ticks * timed.ns);
        let add = |sum: Option<f64>, more: Option<f64>| more.map(|more| sum.unwrap_or(0.0) + more);
        line.time_ns = add(line.time_ns, time_ns);
        let time_share = ticks.zip(wanted.times).map(|(t, timed)| t / timed.ticks.max(1) as f64);
        line.time_share = add(line.time_share, time_share);
        line.instructions.push(SourceInstruction {
            time_ns,
            address: format!("{:#010x}", listed.address),
            code: opcode(code),
            text: disassembler.text(image, listed.address, code),
            executions,
            taken: ways.map(|ways| ways[1]),
            not_taken: ways.map(|ways| ways[0]),
            condition_failed: (listed.role == Role::Conditional && seen.conditions)
                .then(|| seen.ways.get(&listed.address).map_or(0, |ways| ways[0])),
        });
    }
    let mut parts: Vec<SourcePart> =
        files.into_iter().map(|(file, lines)| part(file, lines, wanted.whole, texts)).collect();
    parts.sort_by_key(|part| wanted.home.as_ref() != Some(&part.file));
    let basis = if seen.lower_bound { "pc_samples" } else { "instruction_flow" };
    let lower_bound = seen.lower_bound || !seen.gaps.is_whole();
    Ok(SourceReport { schema: SCHEMA.into(), basis: basis.into(), lower_bound, parts })
}

/// Lines with code, and those between them.
fn part(
    file: String,
    mut lines: BTreeMap<u32, SourceLine>,
    whole: bool,
    texts: &mut SourceText,
) -> SourcePart {
    let first = lines.keys().next().copied().unwrap_or(1);
    let last = lines.keys().next_back().copied().unwrap_or(first);
    let text_from = texts.path(&file).map(|path| path.display().to_string());
    let text = texts.text(&file);
    let has_text = text.is_some();
    if let Some(text) = text {
        for (number, text) in (1..).zip(text.lines()) {
            if whole || (first..=last).contains(&number) {
                let line = lines.entry(number).or_default();
                line.line = number;
                line.text = Some(text.to_owned());
            }
        }
    }
    SourcePart { file, has_text, text_from, whole, lines: lines.into_values().collect() }
}

/// For people.
pub(crate) fn text(
    report: &SourceReport,
    instructions: bool,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let samples = report.basis == "pc_samples";
    let lines = report.parts.iter().flat_map(|part| &part.lines);
    let hottest = lines.filter_map(SourceLine::heat).fold(0.0, f64::max);
    let mut all = report.parts.iter().flat_map(|part| &part.lines);
    let timed = all.any(|line| line.time_ns.is_some());
    let what = if samples { "samples" } else { "runs" };
    let (time, share) =
        if timed { (format!(" {:>9}", "time"), "time %") } else { (String::new(), "share %") };
    let heading = format!("{what:>10}{time} {share:>7} {:<width$} {:>5}", "", "line", width = HEAT);
    for (number, part) in report.parts.iter().enumerate() {
        if number > 0 {
            writeln!(out)?;
        }
        let file = if part.file.is_empty() { "[no line data]".into() } else { plain(&part.file) };
        writeln!(out, "{}", paint.strong(&path_end(&file)))?;
        if let Some(note) = note_on_text(part) {
            writeln!(out, "{}", paint.faint(&format!("  {note}")))?;
        }
        writeln!(out, "{}", paint.faint(&heading))?;
        let mut left_out = 0;
        for (number, line) in part.lines.iter().enumerate() {
            // Other functions between those whose code is shown.
            let far = |near: &[SourceLine]| near.iter().all(|line| line.executions.is_none());
            let (before, after) = (number.saturating_sub(3), (number + 4).min(part.lines.len()));
            if !part.whole && far(&part.lines[before..after]) {
                left_out += 1;
                continue;
            }
            if std::mem::take(&mut left_out) > 0 {
                writeln!(out, "{}", paint.faint(&format!("{:>width$}", "...", width = 26 + HEAT)))?;
            }
            source_line(line, hottest, (samples, timed), paint, out)?;
            if instructions || !part.has_text {
                for instruction in &line.instructions {
                    instruction_line(instruction, timed, paint, out)?;
                }
            }
        }
    }
    let never = if samples { "no sample found it" } else { "it never ran" };
    let key = format!("  - {never}   ~ a part of it   {} how hot it is", "\u{2588}".repeat(2));
    writeln!(out, "\n{}", paint.faint(&key))?;
    if timed {
        let text = "  time between two cycle counts is shared out by instructions: an estimate";
        writeln!(out, "{}", paint.faint(text))?;
    }
    Ok(())
}

/// What is to be said of a file's text: that there is none, that it is of another version, or where it is from.
fn note_on_text(part: &SourcePart) -> Option<String> {
    let Some(from) = &part.text_from else {
        let text = "its text was not found beside the capture, in this folder, or where it was compiled; name its folder with --sources";
        return (!part.file.is_empty()).then(|| text.into());
    };
    let from = plain(from);
    let code = part.lines.iter().filter(|line| line.executions.is_some());
    Some(match code.into_iter().find(|line| line.text.is_none()) {
        Some(line) => format!(
            "{from} ends before line {}: it is another version; name the folder of the right one with --sources",
            line.line
        ),
        None => format!("text from {from}"),
    })
}

fn source_line(
    line: &SourceLine,
    hottest: f64,
    (samples, timed): (bool, bool),
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let ran = line.instructions.iter().filter(|one| one.executions > 0).count();
    let mark = match (line.executions, ran) {
        (None, _) => " ",
        (Some(_), 0) => "-",
        (Some(_), ran) if ran < line.instructions.len() && !samples => "~",
        _ => " ",
    };
    let share = line.heat().unwrap_or(0.0);
    let cells = if hottest > 0.0 { (share / hottest * HEAT as f64).round() as usize } else { 0 };
    let heat = match line.executions {
        Some(0) => "-".repeat(HEAT),
        _ => "\u{2588}".repeat(cells),
    };
    let executions = line.executions.map_or_else(String::new, count);
    let share = line.heat().filter(|share| *share > 0.0).map_or_else(String::new, percent);
    let time = time_cell(line.time_ns, timed);
    let one_way = one_way(line);
    let text = line
        .text
        .as_deref()
        .map_or_else(String::new, |text| plain(&text.replace('\t', "    ")).into_owned());
    let heat = format!("{heat:<HEAT$}");
    let heat = if mark == "-" { paint.alarm(&heat) } else { paint.accent(&heat) };
    let row = format!("{executions:>10}{time} {share:>7} {heat} {:>5} {mark} {text}", line.line);
    writeln!(out, "{}{}", row.trim_end(), paint.alarm(&one_way))?;
    Ok(())
}

impl SourceLine {
    /// Its part of all time, or of all instructions where no time is known.
    fn heat(&self) -> Option<f64> {
        self.time_share.or(self.share)
    }
}

/// The column of times, if there is one.
fn time_cell(ns: Option<f64>, timed: bool) -> String {
    let time = ns.filter(|&ns| ns > 0.0).map_or_else(String::new, duration_ns);
    if timed { format!(" {time:>9}") } else { String::new() }
}

/// Branches of a line that went only one way.
fn one_way(line: &SourceLine) -> String {
    let ways = line.instructions.iter().filter_map(|one| Some((one.taken?, one.not_taken?)));
    let (mut always, mut never) = (0, 0);
    for (taken, not_taken) in ways {
        always += u32::from(taken > 0 && not_taken == 0);
        never += u32::from(taken == 0 && not_taken > 0);
    }
    let several =
        |count: u32| if count > 1 { format!(" ({count} branches)") } else { String::new() };
    let mut notes = Vec::new();
    if always > 0 {
        notes.push(format!("always branches{}", several(always)));
    }
    if never > 0 {
        notes.push(format!("never branches{}", several(never)));
    }
    if notes.is_empty() { String::new() } else { format!("   <- {}", notes.join(", ")) }
}

fn instruction_line(
    instruction: &SourceInstruction,
    timed: bool,
    paint: Paint,
    out: &mut dyn Write,
) -> Result<()> {
    let SourceInstruction { address, code, text, executions, time_ns, .. } = instruction;
    let ways = match (instruction.taken, instruction.not_taken, instruction.condition_failed) {
        (Some(taken), Some(not_taken), _) => {
            format!("   -> {}  | {}", count(taken), count(not_taken))
        }
        (_, _, Some(failed)) if failed > 0 => format!("   condition failed: {}", count(failed)),
        _ => String::new(),
    };
    let mark = if *executions == 0 { "-" } else { " " };
    let margin = " ".repeat(8 + HEAT + 6);
    let time = time_cell(*time_ns, timed);
    let row =
        format!("{:>10}{time} {margin}{mark} {address} {code:<9} {text}{ways}", count(*executions));
    writeln!(out, "{}", paint.faint(row.trim_end()))?;
    Ok(())
}
