//! The live view of a capture, drawn. The looks are those of `docs/looks.md`.

mod panes;

pub(crate) use panes::{Figures, Order, Pane};

use super::{count, duration_ns, plain};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Sparkline};
use std::time::Duration;
use weltblick_core::measure::losses::LossRow;

/// An interrupt and how often it was entered.
#[derive(Debug)]
pub(crate) struct Busy {
    pub(crate) name: String,
    pub(crate) count: u64,
}

/// Everything that is drawn.
pub(crate) struct Picture<'a> {
    pub(crate) name: &'a str,
    pub(crate) time: Duration,
    pub(crate) bytes: u64,
    /// Bytes of them that came too fast to be shown.
    pub(crate) unseen: u64,
    pub(crate) rate: f64,
    pub(crate) rates: &'a [u64],
    pub(crate) capacity: Option<f64>,
    /// How much is known, in words.
    pub(crate) observed: String,
    pub(crate) losses: Vec<LossRow>,
    pub(crate) pane: Pane,
    pub(crate) figures: &'a Figures,
    /// The signal that is plotted, by its place among all; counted round and round.
    pub(crate) signal: usize,
    pub(crate) order: Order,
    pub(crate) frozen_at: Option<Duration>,
    pub(crate) busy: Vec<Busy>,
    pub(crate) text: Vec<&'a str>,
    pub(crate) told: &'a [String],
}

const ACCENT: Style = Style::new().fg(Color::Blue);
const ALARM: Style = Style::new().fg(Color::Indexed(166));
const FAINT: Style = Style::new().add_modifier(Modifier::DIM);
const STRONG: Style = Style::new().add_modifier(Modifier::BOLD);

/// Draws one frame.
pub(crate) fn draw(frame: &mut Frame<'_>, picture: &Picture<'_>) {
    let told = picture.told.len().min(6) as u16;
    let losses = picture.losses.len().clamp(1, 4) as u16 + u16::from(picture.unseen > 0);
    let [head, rate, lost, notes, middle, keys] = Layout::vertical([
        Constraint::Length(2),
        Constraint::Length(3),
        Constraint::Length(losses + 1),
        Constraint::Length(told),
        Constraint::Min(5),
        Constraint::Length(1),
    ])
    .areas(frame.area());
    self::head(frame, head, picture);
    self::rate(frame, rate, picture);
    self::losses(frame, lost, picture);
    let lines = picture.told.iter().rev().take(6).rev().map(|line| noted(line));
    frame.render_widget(Paragraph::new(lines.collect::<Vec<_>>()), notes);
    let [pane, side] =
        Layout::horizontal([Constraint::Min(1), Constraint::Length(side_width(picture, middle))])
            .areas(middle);
    panes::draw(frame, pane, picture);
    // Who looks at interrupts sees their rates there.
    let shown =
        if picture.pane == Pane::Interrupts { 0 } else { picture.busy.len().clamp(1, 8) + 2 };
    let [busy, text] =
        Layout::vertical([Constraint::Length(shown as u16), Constraint::Min(2)]).areas(side);
    self::busy(frame, busy, picture);
    self::text(frame, text, picture);
    let line =
        "q end   p pane   s order   n next value   f freeze   m mark   r read the buffer out";
    frame.render_widget(Paragraph::new(Line::styled(line, FAINT)), keys);
}

/// What stands beside the pane: less of it, or nothing, where the pane needs the room.
fn side_width(picture: &Picture<'_>, area: Rect) -> u16 {
    match picture.pane {
        Pane::Functions | Pane::Coverage | Pane::Values => area.width * 2 / 5,
        Pane::Interrupts | Pane::Tasks => area.width.saturating_sub(panes::WIDEST).min(40),
    }
}

fn noted(line: &str) -> Line<'static> {
    let style = if line.starts_with(['!', '?']) { ALARM } else { Style::new() };
    Line::styled(line.to_owned(), style)
}

fn head(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let title = format!(
        "{}: {} bytes in {}, {}",
        plain(picture.name),
        count(picture.bytes),
        duration_ns(picture.time.as_nanos() as f64),
        picture.observed,
    );
    let frozen = picture.frozen_at.map_or_else(String::new, |at| {
        format!("; pane frozen at {}", duration_ns(at.as_nanos() as f64))
    });
    let title = title + &frozen;
    frame.render_widget(Paragraph::new(Line::styled(title, STRONG)), area);
}

/// The rate in words, and over the last minute as bars against the link's capacity.
fn rate(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let [words, bars] =
        Layout::horizontal([Constraint::Length(34), Constraint::Min(10)]).areas(area);
    let now = format!("{:.1} kB/s", picture.rate / 1e3);
    let lines = match picture.capacity {
        Some(capacity) => {
            let part = picture.rate / capacity;
            let style = if part > 0.9 { ALARM } else { Style::new() };
            let mark = if part > 0.9 { "? " } else { "" };
            vec![
                Line::from(now),
                Line::styled(
                    format!("{mark}{:.0} % of the link's {:.1} kB/s", 100.0 * part, capacity / 1e3),
                    style,
                ),
                Line::styled("bars: full height is the link", FAINT),
            ]
        }
        None => vec![Line::from(now), Line::styled("of a link of unknown rate", FAINT)],
    };
    frame.render_widget(Paragraph::new(lines), words);
    let width = usize::from(bars.width);
    let shown = &picture.rates[picture.rates.len().saturating_sub(width)..];
    let mut line = Sparkline::default().data(shown.iter().copied()).style(ACCENT);
    if let Some(capacity) = picture.capacity {
        line = line.max(capacity as u64);
    }
    frame.render_widget(line, bars);
}

fn losses(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let line = |row: &LossRow| {
        let bytes =
            if row.bytes > 0 { format!(", {} bytes", count(row.bytes)) } else { String::new() };
        let times =
            if row.count == 1 { "once".to_owned() } else { format!("{} times", count(row.count)) };
        Line::styled(format!("! {}: {times}{bytes}", row.reason), ALARM)
    };
    let mut lines: Vec<Line<'_>> = match picture.losses.as_slice() {
        [] => vec![Line::from("= nothing lost")],
        rows => rows.iter().take(4).map(line).collect(),
    };
    if picture.unseen > 0 {
        let unseen = count(picture.unseen);
        let line =
            format!("? too fast for this view: {unseen} bytes are kept, but not counted here");
        lines.push(Line::styled(line, ALARM));
    }
    frame.render_widget(Paragraph::new(lines), area);
}

fn busy(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let seconds = picture.time.as_secs_f64().max(1e-3);
    let mut lines = vec![Line::styled("interrupts, entries a second", STRONG)];
    if picture.busy.is_empty() {
        lines.push(Line::styled("none so far", FAINT));
    }
    for busy in picture.busy.iter().take(8) {
        let rate = busy.count as f64 / seconds;
        lines.push(Line::from(vec![
            Span::from(format!("{rate:>9.1}  ")),
            Span::from(plain(&busy.name).into_owned()),
        ]));
    }
    frame.render_widget(Paragraph::new(lines), area);
}

fn text(frame: &mut Frame<'_>, area: Rect, picture: &Picture<'_>) {
    let mut lines = vec![Line::styled("printed text, newest last", STRONG)];
    let room = usize::from(area.height.saturating_sub(1));
    let said: Vec<&&str> = picture.text.iter().filter(|line| !line.is_empty()).collect();
    if said.is_empty() {
        lines.push(Line::styled("none so far", FAINT));
    }
    let newest = &said[said.len().saturating_sub(room)..];
    lines.extend(newest.iter().map(|line| Line::from(plain(line).into_owned())));
    frame.render_widget(Paragraph::new(lines), area);
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    const NOTHING: &Figures = &Figures {
        profile: None,
        executed: None,
        coverage: None,
        interrupts: None,
        tasks: None,
        values: None,
    };

    fn picture<'a>(told: &'a [String], rates: &'a [u64]) -> Picture<'a> {
        Picture {
            name: "wave-buoy",
            time: Duration::from_secs(3),
            bytes: 494_352,
            unseen: 4096,
            rate: 185_000.0,
            rates,
            capacity: Some(200_000.0),
            observed: "35 118 samples".into(),
            losses: vec![LossRow { reason: "overflow".into(), count: 89, bytes: 0 }],
            pane: Pane::Functions,
            figures: NOTHING,
            signal: 0,
            order: Order::Share,
            frozen_at: None,
            busy: vec![Busy { name: "SysTick".into(), count: 3000 }],
            text: vec!["height 1.2 m", "\u{1b}[31mevil"],
            told,
        }
    }

    fn drawn(picture: &Picture<'_>, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| draw(frame, picture)).unwrap();
        terminal.backend().to_string()
    }

    #[test]
    fn shows_what_matters_and_steers_no_terminal() {
        let screen = drawn(&picture(&["! wrong bit rate".into()], &[1, 2, 3]), 100, 30);
        for part in [
            "494 352 bytes in 3.00 s, 35 118 samples",
            "? 92 % of the link's 200.0 kB/s",
            "! overflow: 89 times",
            "? too fast for this view: 4 096 bytes are kept",
            "1000.0  SysTick",
            "\\u{1b}[31mevil",
            "! wrong bit rate",
            "q end",
        ] {
            assert!(screen.contains(part), "{part} is missing in\n{screen}");
        }
    }

    #[test]
    fn small_terminals_do_no_harm() {
        for (width, height) in [(1, 1), (10, 3), (40, 8), (300, 4)] {
            for pane in Pane::ALL {
                drawn(&Picture { pane, ..picture(&[], &[]) }, width, height);
            }
        }
    }
}
