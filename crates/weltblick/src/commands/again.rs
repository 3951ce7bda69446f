//! What a command that is suggested must say again: the capture, and the options that it was read with.

use crate::show::shell;
use crate::sources::Capture;

impl Capture {
    /// The capture and the options that the user gave for it, as a shell takes them: `port --flow-only`.
    pub(super) fn again(&self) -> String {
        let name = self.name.display().to_string();
        let words = std::iter::once(&name).chain(&self.given);
        words.map(|word| shell(word)).collect::<Vec<_>>().join(" ")
    }
}
