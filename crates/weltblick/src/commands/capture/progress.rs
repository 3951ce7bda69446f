//! Plain lines of progress, where there is no terminal to draw on.

use super::watch::Watch;
use crate::show::{self, count};
use std::io::{self, Write as _};
use std::time::{Duration, Instant};

/// A line this often.
const EVERY: Duration = Duration::from_secs(2);

/// Lines on standard error.
pub(super) struct Progress {
    started: Instant,
    last: Instant,
    last_bytes: u64,
    capacity: Option<f64>,
}

impl Progress {
    pub(super) fn new(capacity: Option<f64>) -> Self {
        let now = Instant::now();
        Self { started: now, last: now, last_bytes: 0, capacity }
    }

    /// A line, if it is time for one.
    pub(super) fn tick(&mut self, watch: &Watch<'_>) {
        let since = self.last.elapsed();
        if since < EVERY {
            return;
        }
        let rate = (watch.bytes - self.last_bytes) as f64 / since.as_secs_f64();
        (self.last, self.last_bytes) = (Instant::now(), watch.bytes);
        let link = self.capacity.map_or_else(String::new, |capacity| {
            format!(" ({:.0} % of the link)", 100.0 * rate / capacity)
        });
        let losses = match watch.losses() {
            0 => "nothing lost".to_owned(),
            losses => format!("! {} losses", count(losses)),
        };
        let unseen = match watch.unseen {
            0 => String::new(),
            unseen => format!(", {} bytes came too fast to be counted here", count(unseen)),
        };
        let line = format!(
            "{:>5.0} s  {} bytes, {:.1} kB/s{link}, {}, {losses}{unseen}",
            self.started.elapsed().as_secs_f64(),
            count(watch.bytes),
            rate / 1e3,
            watch.observed(),
        );
        say(&line);
    }
}

/// A line on standard error; nobody need listen.
pub(super) fn say(line: &str) {
    let _ = writeln!(io::stderr(), "{}", show::plain(line));
}
