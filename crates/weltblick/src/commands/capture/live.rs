//! The live view on a terminal: keys in, figures out. What is drawn is [`show::live`]'s work.

use super::watch::Watch;
use crate::show;
use crate::show::live::{Busy, Figures, Order, Pane, Picture};
use crate::sources::live::{Message, Outbox};
use anyhow::{Context as _, Result};
use ratatui::DefaultTerminal;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread;
use std::time::{Duration, Instant};
use weltblick_core::capture::What;

/// The view is drawn this often, unless drawing takes too long.
const EVERY: Duration = Duration::from_millis(250);
/// Drawing takes at most this part of the time.
const PART: u32 = 20;
/// Rates over time that are kept: a minute.
const MOST_RATES: usize = 240;

/// The terminal, while a capture runs.
pub(super) struct Screen {
    terminal: DefaultTerminal,
    outbox: Outbox,
    /// What is pressed. A thread of its own reads it: a terminal that has gone away may keep its
    /// reader for ever, and the capture must not wait for it.
    events: Receiver<Event>,
    /// Asks for a buffer on the chip to be read out.
    read_out_now: Arc<AtomicBool>,
    capacity: Option<f64>,
    started: Instant,
    drawn: Instant,
    /// How long to wait until the next drawing.
    pause: Duration,
    last_bytes: u64,
    rates: VecDeque<u64>,
    order: Order,
    pane: Pane,
    /// The signal that is plotted, by its place among all.
    signal: usize,
    frozen: Option<Frozen>,
    marks: u32,
    told: Vec<String>,
}

/// What stands still while the view is frozen: the figures of all panes.
struct Frozen {
    figures: Figures,
    at: Duration,
}

impl Screen {
    pub(super) fn open(
        capacity: Option<f64>,
        outbox: Outbox,
        read_out_now: Arc<AtomicBool>,
    ) -> Result<Self> {
        let terminal = ratatui::try_init().context("the live view (--no-view does without)")?;
        let now = Instant::now();
        let (sender, events) = sync_channel(64);
        thread::spawn(move || {
            while let Ok(event) = event::read() {
                if sender.send(event).is_err() {
                    break;
                }
            }
        });
        Ok(Self {
            terminal,
            outbox,
            events,
            read_out_now,
            capacity,
            started: now,
            drawn: now,
            pause: Duration::ZERO,
            last_bytes: 0,
            rates: VecDeque::new(),
            order: Order::Share,
            pane: Pane::Functions,
            signal: 0,
            frozen: None,
            marks: 0,
            told: Vec::new(),
        })
    }

    /// A line that stays.
    pub(super) fn tell(&mut self, line: &str) {
        self.told.push(show::plain(line).into_owned());
    }

    /// Looks at the keys and draws, if it is time. Whether the capture is to end.
    pub(super) fn tick(&mut self, watch: &Watch<'_>) -> Result<bool> {
        while let Ok(event) = self.events.try_recv() {
            if let Event::Key(key) = event
                && key.kind != KeyEventKind::Release
            {
                let control = key.modifiers.contains(KeyModifiers::CONTROL);
                match key.code {
                    KeyCode::Char('c') if control => return Ok(true),
                    KeyCode::Char('q') | KeyCode::Esc => return Ok(true),
                    KeyCode::Char('s') => self.order = self.order.next(),
                    KeyCode::Char('p') | KeyCode::Tab => self.pane = self.pane.next(),
                    KeyCode::Char('n') => self.signal += 1,
                    KeyCode::Char('f') => self.freeze(watch),
                    KeyCode::Char('m') => self.mark(),
                    KeyCode::Char('r') => self.read_out_now.store(true, Ordering::Relaxed),
                    _ => {}
                }
                self.pause = Duration::ZERO;
            }
        }
        if self.drawn.elapsed() >= self.pause {
            self.draw(watch)?;
        }
        Ok(false)
    }

    fn freeze(&mut self, watch: &Watch<'_>) {
        self.frozen = match self.frozen.take() {
            Some(_) => None,
            None => {
                let mut figures = Figures::default();
                Pane::ALL.iter().for_each(|pane| look(watch, *pane, &mut figures));
                Some(Frozen { figures, at: self.started.elapsed() })
            }
        };
    }

    fn mark(&mut self) {
        self.marks += 1;
        let detail = Some(format!("mark {}", self.marks));
        let mark = Message::Happened { stream: None, what: What::Mark, detail };
        if self.outbox.try_send(mark).is_ok() {
            let at = show::duration_ns(self.started.elapsed().as_nanos() as f64);
            self.tell(&format!("mark {} at {at}", self.marks));
        }
    }

    /// Bytes per second over about the last second: single pictures jump.
    fn recent_rate(&self) -> f64 {
        let recent = self.rates.iter().rev().take(4);
        recent.clone().sum::<u64>() as f64 / recent.count().max(1) as f64
    }

    fn draw(&mut self, watch: &Watch<'_>) -> Result<()> {
        let began = Instant::now();
        let since = self.drawn.elapsed().as_secs_f64().max(1e-3);
        let rate = (watch.bytes - self.last_bytes) as f64 / since;
        (self.drawn, self.last_bytes) = (began, watch.bytes);
        if self.rates.len() == MOST_RATES {
            self.rates.pop_front();
        }
        self.rates.push_back(rate as u64);
        let mut now = Figures::default();
        let figures = match &self.frozen {
            Some(frozen) => &frozen.figures,
            None => {
                look(watch, self.pane, &mut now);
                &now
            }
        };
        let mut busy: Vec<Busy> = watch
            .ticker
            .entered
            .iter()
            .enumerate()
            .filter(|(_, count)| **count > 0)
            .map(|(number, &count)| Busy {
                name: watch.image.map_or_else(
                    || format!("exception {number}"),
                    |open| open.image.exception_name(number as u16),
                ),
                count,
            })
            .collect();
        busy.sort_by_key(|busy| std::cmp::Reverse(busy.count));
        let mut text: Vec<&str> = watch.ticker.text.iter().map(String::as_str).collect();
        text.push(watch.ticker.open_line());
        let picture = Picture {
            name: watch.manifest.target.name.as_deref().unwrap_or("target"),
            time: self.started.elapsed(),
            bytes: watch.bytes,
            unseen: watch.unseen,
            rate: self.recent_rate(),
            rates: self.rates.make_contiguous(),
            capacity: self.capacity,
            observed: watch.observed(),
            losses: watch.loss_rows(),
            pane: self.pane,
            figures,
            signal: self.signal,
            order: self.order,
            frozen_at: self.frozen.as_ref().map(|frozen| frozen.at),
            busy,
            text,
            told: &self.told,
        };
        self.terminal.draw(|frame| show::live::draw(frame, &picture))?;
        self.pause = EVERY.max(began.elapsed() * PART);
        Ok(())
    }
}

/// Adds what a pane shows.
fn look(watch: &Watch<'_>, pane: Pane, figures: &mut Figures) {
    let panes = watch.panes.as_ref();
    match pane {
        Pane::Functions => match &watch.executed {
            Some(executed) => figures.executed = Some(executed.profile()),
            None => figures.profile = watch.profile(),
        },
        Pane::Coverage => {
            figures.coverage = watch.executed.as_ref().map(|executed| executed.coverage());
        }
        Pane::Interrupts => figures.interrupts = panes.and_then(|panes| panes.interrupts(watch)),
        Pane::Tasks => figures.tasks = panes.and_then(|panes| panes.tasks(watch)),
        Pane::Values => figures.values = panes.map(|panes| panes.values(watch)),
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        ratatui::restore();
        // What was told stays readable after the view is gone.
        for line in &self.told {
            super::progress::say(line);
        }
    }
}
