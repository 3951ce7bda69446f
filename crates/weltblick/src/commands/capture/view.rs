//! What follows a capture on a screen, or in lines.

use super::live;
use super::options::{Args, LastEvent};
use super::progress::{Progress, say};
use super::watch::Watch;
use crate::show;
use crate::sources::live::{Message, Outbox, Seen};
use anyhow::Result;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::{Duration, Instant};
use weltblick_core::capture::What;

/// What has arrived is judged after so long.
const FIRST_LOOK: Duration = Duration::from_millis(200);

/// What follows the capture on a screen, or in lines.
pub(super) struct View<'a> {
    pub(super) args: &'a Args,
    pub(super) outbox: Outbox,
    pub(super) capacity: Option<f64>,
    pub(super) last: Option<LastEvent>,
    /// Set by the key `r`.
    pub(super) read_out_now: Arc<AtomicBool>,
}

impl View<'_> {
    /// Follows until the recorder is done.
    pub(super) fn follow(
        &self,
        mut watch: Watch<'_>,
        seen: &Receiver<Seen>,
        stop: &AtomicBool,
    ) -> Result<()> {
        let mut screen = self
            .args
            .wants_screen()
            .then(|| {
                live::Screen::open(
                    self.capacity,
                    self.outbox.clone(),
                    Arc::clone(&self.read_out_now),
                )
            })
            .transpose()?;
        let mut progress = Progress::new(self.capacity);
        let started = Instant::now();
        // Whoever starts a program on the other side of a pipe may take his time.
        let (mut silence_told, mut looked) = (self.args.reads_a_pipe(), false);
        let mut enough = false;
        loop {
            match seen.recv_timeout(Duration::from_millis(20)) {
                Ok(message) => watch.see(message),
                Err(RecvTimeoutError::Timeout) => {}
                // The recorder is done.
                Err(RecvTimeoutError::Disconnected) => break,
            }
            let since = watch.first.unwrap_or(started);
            let told = if watch.first.is_some() { &mut looked } else { &mut silence_told };
            // Before a window opens, and before a buffer is read out, nothing can have arrived.
            let nothing_due = watch.first.is_none() && self.args.waits_for_bytes();
            if !*told
                && !nothing_due
                && since.elapsed() > FIRST_LOOK
                && !stop.load(Ordering::Relaxed)
            {
                *told = true;
                self.first_look(&watch, screen.as_mut());
            }
            let looks = watch.looks();
            let has_enough = !enough && watch.has_enough();
            if watch.looks() > looks {
                // A look that is not journaled would not be spent.
                let _ = self.outbox.send(Message::Happened {
                    stream: None,
                    what: What::Looked,
                    detail: None,
                });
            }
            if has_enough {
                enough = true;
                let line = format!(
                    "= you have enough: {} decided after {} samples",
                    watch.what_is_decided(),
                    show::count(watch.samples())
                );
                self.tell(&line, screen.as_mut());
                if self.args.until_enough() {
                    let why = format!("{} decided", watch.what_is_decided());
                    let _ = self.outbox.send(Message::Stop(why));
                }
            }
            if self
                .last
                .is_some_and(|last| last.is_here(&*watch.ticker.entered, watch.ticker.events))
            {
                let _ = self
                    .outbox
                    .try_send(Message::Stop("the event that was asked for is here".into()));
            }
            match &mut screen {
                Some(live) => match live.tick(&watch) {
                    Ok(false) => {}
                    Ok(true) => stop.store(true, Ordering::Relaxed),
                    // The terminal is gone; the capture goes on.
                    Err(_) => screen = None,
                },
                None if self.args.quiet => {}
                None => progress.tick(&watch),
            }
        }
        Ok(())
    }

    fn tell(&self, line: &str, screen: Option<&mut live::Screen>) {
        match screen {
            Some(screen) => screen.tell(line),
            None if self.args.quiet && line.starts_with('=') => {}
            None => say(line),
        }
    }

    /// A set-up fault is told before an hour is wasted.
    fn first_look(&self, watch: &Watch<'_>, mut screen: Option<&mut live::Screen>) {
        for finding in watch.faults() {
            let happened = Message::Happened {
                stream: None,
                what: What::Diagnosed,
                detail: Some(finding.finding.clone()),
            };
            let _ = self.outbox.try_send(happened);
            self.tell(&format!("! {}", finding.finding), screen.as_deref_mut());
            self.tell(&format!("  -> {}", finding.advice), screen.as_deref_mut());
        }
    }
}
