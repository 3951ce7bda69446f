//! The large pane of the live view: functions, interrupts, tasks, or values and the plot of one.

use super::{ACCENT, ALARM, FAINT, Picture, STRONG};
use crate::cli::Color;
use crate::show::course::{Plot, SCALE, Size, plot};
use crate::show::coverage::share as covered;
use crate::show::signals::{gaps_of, least, most, strokes, undated};
use crate::show::statistic::{max, mean};
use crate::show::{Number, Paint, count, path_end, percent, plain, share};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Row, Table};
use weltblick_core::measure::coverage::{CoverageReport, Measures, Part};
use weltblick_core::measure::execution::{ExactProfile, ExactRow};
use weltblick_core::measure::interrupts::InterruptReport;
use weltblick_core::measure::profile::{ProfileReport, ReportRow};
use weltblick_core::measure::signals::{SignalReport, SignalRow};
use weltblick_core::measure::tasks::TaskReport;

/// Characters of the widest table, with some room for names.
pub(super) const WIDEST: u16 = 88;
/// Signals that are listed above a plot at most.
const MOST_LISTED: usize = 12;

/// Which pane is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Pane {
    /// Where time goes.
    Functions,
    /// Who is late.
    Interrupts,
    /// Who waits.
    Tasks,
    /// What values are.
    Values,
    /// What never ran.
    Coverage,
}

impl Pane {
    /// All of them, in order.
    pub(crate) const ALL: [Self; 5] =
        [Self::Functions, Self::Interrupts, Self::Tasks, Self::Values, Self::Coverage];

    /// The next one.
    pub(crate) const fn next(self) -> Self {
        match self {
            Self::Functions => Self::Interrupts,
            Self::Interrupts => Self::Tasks,
            Self::Tasks => Self::Values,
            Self::Values => Self::Coverage,
            Self::Coverage => Self::Functions,
        }
    }

    const fn name(self) -> &'static str {
        match self {
            Self::Functions => "functions",
            Self::Interrupts => "interrupts",
            Self::Tasks => "tasks",
            Self::Values => "values",
            Self::Coverage => "coverage",
        }
    }
}

/// Order of the functions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Order {
    /// Largest share first.
    Share,
    /// Least certain first.
    Doubt,
    /// By name.
    Name,
}

impl Order {
    /// The next one.
    pub(crate) const fn next(self) -> Self {
        match self {
            Self::Share => Self::Doubt,
            Self::Doubt => Self::Name,
            Self::Name => Self::Share,
        }
    }

    const fn name(self) -> &'static str {
        match self {
            Self::Share => "by share",
            Self::Doubt => "least certain first",
            Self::Name => "by name",
        }
    }
}

/// What the panes show; absent where there is none, or nobody looks.
#[derive(Debug, Default)]
pub(crate) struct Figures {
    pub(crate) profile: Option<ProfileReport>,
    /// Where an instruction trace comes: instead of the one from samples.
    pub(crate) executed: Option<ExactProfile>,
    pub(crate) coverage: Option<CoverageReport>,
    pub(crate) interrupts: Option<InterruptReport>,
    pub(crate) tasks: Option<TaskReport>,
    pub(crate) values: Option<SignalReport>,
}

/// Draws the pane that is shown, and above it the names of all.
pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let [title, body] = Layout::vertical([Constraint::Length(1), Constraint::Min(1)]).areas(area);
    heading(frame, title, picture);
    match picture.pane {
        Pane::Functions => match &picture.figures.executed {
            Some(executed) => ran(frame, body, executed, picture.order),
            None => functions(frame, body, picture),
        },
        Pane::Coverage => coverage(frame, body, picture.figures.coverage.as_ref()),
        Pane::Interrupts => interrupts(frame, body, picture.figures.interrupts.as_ref()),
        Pane::Tasks => tasks(frame, body, picture.figures.tasks.as_ref()),
        Pane::Values => values(frame, body, picture),
    }
}

fn heading(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let mut spans = Vec::new();
    for pane in Pane::ALL {
        let shown = pane == picture.pane;
        let text = match pane {
            Pane::Functions if shown => format!("[{}, {}]", pane.name(), picture.order.name()),
            Pane::Interrupts | Pane::Tasks if shown => {
                format!("[{}, longest so far]", pane.name())
            }
            Pane::Coverage if shown => format!("[{}, least covered first]", pane.name()),
            _ if shown => format!("[{}]", pane.name()),
            _ => pane.name().to_owned(),
        };
        spans.push(Span::styled(text, if shown { STRONG } else { FAINT }));
        spans.push(Span::raw("  "));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

fn nothing(frame: &mut Frame<'_>, area: Rect, why: &str) {
    frame.render_widget(Paragraph::new(Line::styled(why.to_owned(), FAINT)), area);
}

fn functions(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let Some(profile) = &picture.figures.profile else {
        return nothing(frame, area, "without an image there are no names: give --image");
    };
    let mut rows: Vec<&ReportRow> = profile.rows.iter().collect();
    let half = |row: &ReportRow| (row.share_high - row.share_low) / 2.0;
    match picture.order {
        Order::Share => {}
        Order::Doubt => rows.sort_by(|a, b| half(b).total_cmp(&half(a))),
        Order::Name => rows.sort_by(|a, b| a.function.cmp(&b.function)),
    }
    let most = rows.iter().map(|row| row.share).fold(1e-9, f64::max);
    let widget = Table::new(
        rows.iter().take(usize::from(area.height)).map(|row| {
            Row::new([
                Line::from(percent(row.share)).right_aligned(),
                Line::styled(percent(half(row)), FAINT).right_aligned(),
                Line::styled(bar(row.share / most, 10), ACCENT),
                Line::from(row_name(row)),
            ])
        }),
        [Constraint::Length(8), Constraint::Length(6), Constraint::Length(10), Constraint::Min(10)],
    )
    .header(Row::new([
        Line::styled("share %", FAINT).right_aligned(),
        Line::styled("+-", FAINT).right_aligned(),
        Line::default(),
        Line::styled("function", FAINT),
    ]));
    frame.render_widget(widget, area);
}

/// What ran, exactly.
fn ran(frame: &mut Frame<'_>, area: Rect, profile: &ExactProfile, order: Order) {
    let mut rows: Vec<&ExactRow> = profile.rows.iter().collect();
    let doubt = |row: &ExactRow| {
        row.self_share_high.unwrap_or_default() - row.self_share_low.unwrap_or_default()
    };
    match order {
        Order::Share => {}
        Order::Doubt => rows.sort_by(|a, b| doubt(b).total_cmp(&doubt(a))),
        Order::Name => rows.sort_by(|a, b| a.function.cmp(&b.function)),
    }
    let share = |row: &ExactRow| row.self_share.unwrap_or(row.instruction_share);
    let most = rows.iter().map(|row| share(row)).fold(1e-9, f64::max);
    let columns = [("self %", 7), ("", 8), ("calls", 9), ("longest", 13)];
    let rows = rows.into_iter().map(|row| {
        let cells = vec![
            percent(share(row)),
            bar(share(row) / most, 8),
            row.calls.map_or_else(String::new, count),
            row.elapsed.as_ref().map_or_else(String::new, max),
        ];
        (cells, row.function.clone().unwrap_or_default())
    });
    table(frame, area, &columns, "function", rows);
}

/// How much of each file ran.
fn coverage(frame: &mut Frame<'_>, area: Rect, report: Option<&CoverageReport>) {
    let Some(report) = report else {
        return nothing(frame, area, "none: trace instructions, and give --image");
    };
    let part = |part: Part| (covered(&part), of(part));
    let cells = |measures: &Measures| {
        let (lines, of_lines) = part(measures.lines);
        let (ways, of_ways) = part(measures.branches.unwrap_or_default());
        vec![lines, bar(measures.lines.share.unwrap_or(0.0), 8), of_lines, ways, of_ways]
    };
    let all = (cells(&report.total), "[all files]".to_owned());
    let files = report.files.iter().map(|row| {
        let name = row.file.as_deref().map_or_else(|| "[no line data]".into(), path_end);
        (cells(&row.measures), name)
    });
    let columns = [("lines %", 7), ("", 8), ("lines", 9), ("ways %", 7), ("ways", 9)];
    table(frame, area, &columns, "file", std::iter::once(all).chain(files));
}

fn of(part: Part) -> String {
    format!("{}/{}", part.covered, part.total)
}

fn row_name(row: &ReportRow) -> String {
    match (&row.function, &row.address) {
        (Some(name), _) => plain(name).into_owned(),
        (None, Some(address)) => address.clone(),
        (None, None) => format!("[{}]", row.kind),
    }
}

/// Blocks of eighths.
fn bar(part: f64, width: usize) -> String {
    const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    let eighths = (part.clamp(0.0, 1.0) * width as f64 * 8.0).round() as usize;
    "█".repeat(eighths / 8) + EIGHTHS[eighths % 8]
}

/// A table whose last column is a name; the others are figures, so many characters wide at least.
fn table(
    frame: &mut Frame<'_>,
    area: Rect,
    columns: &[(&'static str, u16)],
    name: &'static str,
    rows: impl Iterator<Item = (Vec<String>, String)>,
) {
    let cell = |(text, (head, _)): (String, &(&str, u16))| match *head {
        // A bar has no head.
        "" => Line::styled(text, ACCENT),
        _ => Line::from(text).right_aligned(),
    };
    let rows: Vec<_> = rows.take(usize::from(area.height.saturating_sub(1))).collect();
    // A figure that lost its first digits would be another figure.
    let widths = columns.iter().enumerate().map(|(place, (_, least))| {
        let cells = rows.iter().filter_map(|(cells, _)| cells.get(place));
        let widest = cells.map(|cell| cell.chars().count()).max().unwrap_or(0);
        Constraint::Length((*least).max(widest as u16))
    });
    let widths: Vec<_> = widths.chain([Constraint::Min(8)]).collect();
    let rows = rows.into_iter().map(|(cells, name)| {
        let cells = cells.into_iter().zip(columns).map(cell);
        Row::new(cells.chain([Line::from(plain(&name).into_owned())]))
    });
    let heads = columns.iter().map(|(head, _)| Line::styled(*head, FAINT).right_aligned());
    let widget =
        Table::new(rows, widths).header(Row::new(heads.chain([Line::styled(name, FAINT)])));
    frame.render_widget(widget, area);
}

/// The longest response first, then the longest run.
fn interrupts(frame: &mut Frame<'_>, area: Rect, report: Option<&InterruptReport>) {
    let Some(report) = report.filter(|report| !report.interrupts.is_empty()) else {
        return nothing(frame, area, "none so far: trace exceptions, with timestamps");
    };
    let mut rows: Vec<_> = report.interrupts.iter().collect();
    rows.sort_by(|a, b| {
        let longest = |row: &weltblick_core::measure::interrupts::InterruptRow| {
            let statistic = row.response.as_ref().unwrap_or(&row.elapsed);
            statistic.max.map_or(0.0, |max| max.ns)
        };
        longest(b).total_cmp(&longest(a))
    });
    let columns =
        [("response", 13), ("pending", 13), ("elapsed", 13), ("mean", 8), ("load", 6), ("runs", 9)];
    let rows = rows.into_iter().map(|row| {
        let longest = |statistic: Option<&_>| statistic.map_or_else(String::new, max);
        let cells = vec![
            longest(row.response.as_ref()),
            longest(row.pending.as_ref()),
            max(&row.elapsed),
            mean(&row.elapsed),
            share(row.load.share),
            count(row.often.count),
        ];
        (cells, row.name.clone())
    });
    table(frame, area, &columns, "interrupt", rows);
}

/// The longest wait first.
fn tasks(frame: &mut Frame<'_>, area: Rect, report: Option<&TaskReport>) {
    let Some(report) = report.filter(|report| !report.tasks.is_empty()) else {
        return nothing(
            frame,
            area,
            "none so far: let the firmware state them (weltblick_marks.h)",
        );
    };
    let mut rows: Vec<_> = report.tasks.iter().collect();
    let longest =
        |row: &weltblick_core::measure::tasks::TaskRow| row.pending.max.map_or(-1.0, |max| max.ns);
    rows.sort_by(|a, b| longest(b).total_cmp(&longest(a)));
    let columns =
        [("pending", 13), ("response", 13), ("own", 13), ("load", 6), ("stack", 6), ("runs", 8)];
    let rows = rows.into_iter().map(|row| {
        let cells = vec![
            max(&row.pending),
            max(&row.response),
            max(&row.own),
            share(row.load.all.share),
            row.stack.share.map_or_else(String::new, share),
            if row.idle { String::new() } else { count(row.often.count) },
        ];
        let end = if row.stack.overflowed { " ! its stack has reached its end" } else { "" };
        (cells, format!("{}{end}", row.name))
    });
    table(frame, area, &columns, "task", rows);
}

/// A list of values, and the course of one.
fn values(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let signals = picture.figures.values.as_ref();
    let shown: Vec<&SignalRow> = signals
        .map_or(&[][..], |report| &report.signals)
        .iter()
        .filter(|row| row.value.is_some())
        .collect();
    let Some((report, chosen)) = signals.zip(shown.get(picture.signal % shown.len().max(1))) else {
        let why = "none so far: watch a variable, poll it, or let the firmware state quantities";
        return nothing(frame, area, why);
    };
    let listed = shown.len().min(MOST_LISTED).min(usize::from(area.height) / 2);
    let [list, chart] =
        Layout::vertical([Constraint::Length(listed as u16 + 2), Constraint::Min(1)]).areas(area);
    // The chosen one is among those that are listed.
    let first = (picture.signal % shown.len() + 1).saturating_sub(listed);
    let rows = shown.iter().skip(first).take(listed).map(|row| {
        let told = |moment: Option<f64>| moment.map_or_else(String::new, |v| Number(v).to_string());
        let value = row.value.as_ref();
        let cells = vec![
            told(value.map(|value| value.last.value)),
            value.map_or_else(String::new, least),
            value.map_or_else(String::new, most),
            count(row.count),
        ];
        let mark = if std::ptr::eq(*row, *chosen) { "> " } else { "  " };
        let unit = row.unit.as_deref().map_or_else(String::new, |unit| format!(" ({unit})"));
        (cells, format!("{mark}{}{unit}", row.name))
    });
    let columns = [("last", 10), ("least", 10), ("most", 10), ("values", 8)];
    table(frame, list, &columns, "  signal", rows);
    course(frame, chart, chosen, report);
}

/// The course of a value, as large as there is room.
fn course(frame: &mut Frame<'_>, area: Rect, row: &SignalRow, report: &SignalReport) {
    let lines = usize::from(area.height.saturating_sub(2));
    let cells = usize::from(area.width).saturating_sub(SCALE + 1);
    if lines == 0 || cells == 0 {
        return;
    }
    let (strokes, gaps) = (strokes(row), gaps_of(row, &report.gaps));
    let by_number = undated(row);
    let size = Size { lines, cells };
    let mut text = Vec::new();
    let whole = Plot { strokes: &strokes, gaps: &gaps, by_number, middle: "", size };
    if plot(&whole, Paint::new(Color::Never), &mut text).is_err() {
        return;
    }
    let text = String::from_utf8_lossy(&text).into_owned();
    let lines = text.lines().map(|line| match line.split_once('|') {
        Some((scale, curve)) => Line::from(vec![
            Span::styled(format!("{scale}|"), FAINT),
            Span::styled(curve.to_owned(), ACCENT),
        ]),
        None if line.contains('o') && !line.contains(char::is_numeric) => {
            Line::styled(line.to_owned(), ALARM)
        }
        None => Line::styled(line.to_owned(), FAINT),
    });
    frame.render_widget(Paragraph::new(lines.collect::<Vec<_>>()), area);
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    #[test]
    fn a_figure_keeps_its_first_digits() {
        let mut terminal = Terminal::new(TestBackend::new(40, 3)).unwrap();
        let rows = [("3.92 us +-125 ns", "adc_ready"), ("1.72 ms", "spectrum_power")];
        let rows = rows.map(|(longest, name)| (vec![longest.to_owned()], name.to_owned()));
        let draw = |frame: &mut Frame<'_>| {
            let columns = [("longest", 13)];
            table(frame, frame.area(), &columns, "function", rows.into_iter());
        };
        terminal.draw(draw).unwrap();
        let screen = terminal.backend().to_string();
        assert!(screen.contains("\"3.92 us +-125 ns adc_ready "), "{screen}");
        assert!(screen.contains("\"         1.72 ms spectrum_power "), "{screen}");
    }
}
