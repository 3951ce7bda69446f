//! The priorities of exceptions, as the target's registers have them when a capture ends.

use super::session::Session;
use weltblick_core::capture::{Priorities, What};

/// System handlers' priorities, of exceptions 4 to 15 (DDI 0403E, B3.2.10: SHPR1).
const SHPR: u64 = 0xe000_ed18;
const FIRST_SYSTEM: u16 = 4;
/// Interrupts' priorities, from exception 16 on (B3.4.9: NVIC_IPR0).
const NVIC_IPR: u64 = 0xe000_e400;
const FIRST_INTERRUPT: u16 = 16;
/// What NVIC_IPR holds.
pub(super) const MOST_EXCEPTIONS: u16 = FIRST_INTERRUPT + 240;

impl Session {
    /// Writes them into the journal, where the target tells them without being stopped. Whoever cannot
    /// know them loses nothing but a column.
    pub(super) fn note_priorities(&mut self) {
        let exceptions = self.questions.exceptions;
        if self.questions.stops || exceptions <= FIRST_SYSTEM {
            return;
        }
        let mut priorities = Priorities::default();
        let interrupts = exceptions.saturating_sub(FIRST_INTERRUPT);
        for (base, first, count) in [
            (SHPR, FIRST_SYSTEM, FIRST_INTERRUPT.min(exceptions) - FIRST_SYSTEM),
            (NVIC_IPR, FIRST_INTERRUPT, interrupts),
        ] {
            let whole = usize::from(count).next_multiple_of(4);
            let Ok(bytes) = self.client.read(base, whole) else { return };
            for (exception, byte) in (first..first + count).zip(bytes) {
                priorities.set(exception, byte);
            }
        }
        self.happened(What::Priorities, Some(priorities.to_string()));
    }
}
