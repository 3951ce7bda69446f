//! The few colours of text output. Colour never says anything alone.

use crate::cli::Color;
use std::io::IsTerminal as _;

/// Whether and how to colour.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Paint {
    on: bool,
}

impl Paint {
    /// As the user and the terminal want it.
    pub(crate) fn new(color: Color) -> Self {
        let on = match color {
            Color::Always => true,
            Color::Never => false,
            Color::Auto => {
                std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
                    && std::io::stdout().is_terminal()
            }
        };
        Self { on }
    }

    fn wrap(self, code: &str, text: &str) -> String {
        if self.on { format!("\u{1b}[{code}m{text}\u{1b}[0m") } else { text.to_owned() }
    }

    /// Headings.
    pub(crate) fn strong(self, text: &str) -> String {
        self.wrap("1", text)
    }

    /// What matters less.
    pub(crate) fn faint(self, text: &str) -> String {
        self.wrap("2", text)
    }

    /// Bars, curves and figures that stand out: blue.
    pub(crate) fn accent(self, text: &str) -> String {
        self.wrap("34", text)
    }

    /// Doubt and trouble: orange on terminals with 256 colours; always with a mark beside it.
    pub(crate) fn alarm(self, text: &str) -> String {
        self.wrap("38;5;166", text)
    }
}
