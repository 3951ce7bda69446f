//! Loads over time, window by window, in fixed memory.

/// Cuts stretches of time into windows of equal length. A window counts if all of it is known.
#[derive(Debug, Clone, Copy)]
pub(super) struct Windows {
    length: u64,
    /// The number of the window that is being filled.
    at: u64,
    /// Its end.
    end: u64,
    /// Up to where that window is known without a gap from its start; `None`: it is not whole.
    known: Option<u64>,
}

/// What a stretch of time does to the windows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Cut {
    /// So many ticks belong to the window that is being filled.
    Part(u64),
    /// That window ends: whether it counts, and when it began.
    Close(bool, u64),
    /// So many windows follow that are filled by this stretch alone; the first begins then.
    Filled(u64, u64),
}

impl Windows {
    /// Windows of so many ticks.
    pub(super) const fn new(length: u64) -> Self {
        let length = if length == 0 { 1 } else { length };
        // The first window begins before the recording.
        Self { length, at: 0, end: length, known: None }
    }

    pub(super) const fn length(&self) -> u64 {
        self.length
    }

    /// Something is missing: the window that is being filled says nothing.
    pub(super) const fn gap(&mut self) {
        self.known = None;
    }

    /// Mostly a stretch lies within the window that is being filled, and follows the one before it:
    /// then it is a part of that, and there is nothing to cut.
    #[inline]
    pub(super) fn goes_on(&mut self, from: u64, until: u64) -> bool {
        let goes_on = self.known == Some(from) && until <= self.end && from <= until;
        if goes_on {
            self.known = Some(until);
        }
        goes_on
    }

    /// Cuts the stretch from one tick to another.
    pub(super) fn cut(&mut self, mut from: u64, until: u64, mut tell: impl FnMut(Cut)) {
        while from < until {
            let (at, start) = (from / self.length, from / self.length * self.length);
            if at != self.at {
                let whole = self.known == Some((self.at + 1).saturating_mul(self.length));
                tell(Cut::Close(whole, self.at * self.length));
                self.at = at;
                // What lies between the windows, if anything, was not seen.
                self.known = (from == start).then_some(start);
            }
            if self.known.is_some_and(|known| known != from) {
                self.known = None;
            }
            let full = (until - start) / self.length;
            if from == start && full > 1 {
                // However long the stretch is: the last of its windows alone is cut in parts.
                tell(Cut::Filled(full - 1, start));
                self.at += full - 1;
                from = start + (full - 1) * self.length;
                self.known = Some(from);
                continue;
            }
            self.end = start.saturating_add(self.length);
            let end = start.saturating_add(self.length).min(until);
            tell(Cut::Part(end - from));
            self.known = self.known.map(|_| end);
            if end == from {
                return;
            }
            from = end;
        }
    }
}

/// The loads of one task in whole windows.
#[derive(Debug, Clone, Copy)]
pub struct Loads {
    busy: u64,
    /// Windows that are whole.
    pub windows: u64,
    /// The least load.
    pub least: f64,
    /// The highest load.
    pub most: f64,
    /// The start of the window with the highest load, in ticks.
    pub most_at: u64,
    sum: f64,
}

impl Default for Loads {
    fn default() -> Self {
        Self { busy: 0, windows: 0, least: f64::INFINITY, most: 0.0, most_at: 0, sum: 0.0 }
    }
}

impl Loads {
    /// The task ran for so long in the window that is being filled.
    pub(super) const fn ran(&mut self, ticks: u64) {
        self.busy += ticks;
    }

    /// The window ends.
    pub(super) fn close(&mut self, whole: bool, start: u64, length: u64) {
        let load = std::mem::take(&mut self.busy) as f64 / length as f64;
        if !whole {
            return;
        }
        self.windows += 1;
        self.sum += load;
        self.least = self.least.min(load);
        if load > self.most {
            (self.most, self.most_at) = (load, start);
        }
    }

    /// So many windows had one load, from `start` on.
    pub(super) fn filled(&mut self, windows: u64, start: u64, load: f64) {
        self.windows += windows;
        self.sum += load * windows as f64;
        self.least = self.least.min(load);
        if load > self.most {
            (self.most, self.most_at) = (load, start);
        }
    }

    /// The mean load of whole windows.
    #[must_use]
    pub fn mean(&self) -> Option<f64> {
        (self.windows > 0).then(|| self.sum / self.windows as f64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The loads of stretches: from, until, and whether the task ran.
    fn loads(stretches: &[(u64, u64, bool)]) -> Loads {
        let (mut windows, mut loads) = (Windows::new(100), Loads::default());
        for &(from, until, mine) in stretches {
            windows.cut(from, until, |cut| match cut {
                Cut::Part(ticks) if mine => loads.ran(ticks),
                Cut::Part(_) => {}
                Cut::Close(whole, start) => loads.close(whole, start, 100),
                Cut::Filled(windows, start) => {
                    loads.filled(windows, start, f64::from(u8::from(mine)));
                }
            });
        }
        loads
    }

    #[test]
    fn only_whole_windows_count() {
        let loads = loads(&[
            (50, 130, true), // the first begins before the recording
            (130, 200, false),
            (200, 260, true),
            (260, 300, false),
            (300, 650, false), // three idle ones, and half of one more
            (650, 651, true),
        ]);
        assert_eq!((loads.windows, loads.least, loads.most, loads.most_at), (5, 0.0, 0.6, 200));
        assert!((loads.mean().unwrap() - 0.18).abs() < 1e-9);
    }

    #[test]
    fn an_endless_stretch_takes_no_endless_time() {
        let loads = loads(&[(0, 1 << 60, true), (1 << 60, (1 << 60) + 100, false)]);
        assert!(loads.windows > 1 << 53 && loads.least < 1.0, "{loads:?}");
    }

    #[test]
    fn a_window_with_a_gap_says_nothing() {
        let loads = loads(&[
            (0, 100, false),
            (100, 150, true),
            (190, 300, true), // 40 ticks are missing before
            (300, 400, false),
            (500, 501, false), // and a whole window here
        ]);
        assert_eq!((loads.windows, loads.least, loads.most), (2, 0.0, 1.0));
    }
}
