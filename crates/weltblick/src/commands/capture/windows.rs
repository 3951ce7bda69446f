//! Windows between points in the code, as a debug stub opens and closes them.

use super::options::CodeWindow;

/// The windows that a stub opens and closes, and which of them are open.
#[derive(Debug, Clone, Default)]
pub(super) struct Windows {
    windows: Vec<(CodeWindow, bool)>,
}

impl Windows {
    /// Those that have no start are open from the beginning.
    pub(super) fn new(windows: Vec<CodeWindow>) -> Self {
        let open = |window: CodeWindow| (window, window.start.is_none());
        Self { windows: windows.into_iter().map(open).collect() }
    }

    pub(super) const fn is_empty(&self) -> bool {
        self.windows.is_empty()
    }

    /// Where they open and close.
    pub(super) fn points(&self) -> impl Iterator<Item = u64> + '_ {
        self.windows.iter().flat_map(|(window, _)| [window.start, window.stop]).flatten()
    }

    /// Whether one of them is open.
    pub(super) fn is_open(&self) -> bool {
        self.windows.iter().any(|(_, open)| *open)
    }

    /// Nobody knows what was passed.
    pub(super) fn forget(&mut self) {
        for (window, open) in &mut self.windows {
            *open &= window.start.is_none();
        }
    }

    /// The core is about to execute `pc`. A window that starts and stops there is switched.
    pub(super) fn pass(&mut self, pc: u64) {
        for (window, open) in &mut self.windows {
            *open = match *open {
                true => window.stop != Some(pc),
                false => window.start == Some(pc),
            };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn window(start: impl Into<Option<u64>>, stop: impl Into<Option<u64>>) -> CodeWindow {
        CodeWindow { start: start.into(), stop: stop.into() }
    }

    #[test]
    fn windows_open_and_close_again_and_again() {
        let mut windows = Windows::new(vec![window(0x10, 0x20)]);
        let mut open = |pc| {
            windows.pass(pc);
            windows.is_open()
        };
        assert_eq!([0x20, 0x10, 0x10, 0x20, 0x10].map(&mut open), [false, true, true, false, true]);
    }

    #[test]
    fn half_open_and_overlapping_windows() {
        let mut windows = Windows::new(vec![window(None, 0x20)]);
        assert!(windows.is_open(), "it begins with the capture");
        windows.pass(0x20);
        assert!(!windows.is_open());
        let mut windows = Windows::new(vec![window(0x10, 0x30), window(0x20, 0x20)]);
        for (pc, open) in [(0x20, true), (0x10, true), (0x20, true), (0x30, false), (0x20, true)] {
            windows.pass(pc);
            assert_eq!(windows.is_open(), open, "{pc:#x}");
        }
    }
}
