//! The UART to the radio modem, and the modem: it acknowledges every line.
//!
//! | offset | register |
//! |---|---|
//! | `0x0` | data: write sends, read receives |
//! | `0x4` | status: bit 0 ready to send, bit 1 a byte was received |
//! | `0x8` | control: bit 0 interrupt when ready, bit 1 interrupt when received |
//! | `0xC` | cycles per byte |

use std::collections::VecDeque;

/// What the modem says after a line.
const ACKNOWLEDGEMENT: &[u8] = b"+SENT\r\n";
/// Bytes until the modem has sent a line by radio.
const THINKING: u64 = 40;

/// UART and modem.
#[derive(Debug, Clone)]
pub(super) struct Uart {
    per_byte: u32,
    interrupt_ready: bool,
    interrupt_received: bool,
    /// When the byte being sent is out.
    sending: Option<u64>,
    /// Bytes on their way here, with their arrival.
    incoming: VecDeque<(u64, u8)>,
    received: Option<u8>,
}

impl Uart {
    pub(super) const fn new() -> Self {
        Self {
            per_byte: 0,
            interrupt_ready: false,
            interrupt_received: false,
            sending: None,
            incoming: VecDeque::new(),
            received: None,
        }
    }

    pub(super) fn due(&self) -> u64 {
        let arrival = self.incoming.front().map_or(u64::MAX, |&(at, _)| at);
        self.sending.unwrap_or(u64::MAX).min(arrival)
    }

    /// Returns whether the two interrupts rise: ready to send, byte received.
    pub(super) fn advance(&mut self, cycle: u64) -> (bool, bool) {
        let sent = self.sending.is_some_and(|at| at <= cycle);
        if sent {
            self.sending = None;
        }
        let arrived = self.incoming.front().is_some_and(|&(at, _)| at <= cycle);
        if arrived {
            self.received = self.incoming.pop_front().map(|(_, byte)| byte);
        }
        (sent && self.interrupt_ready, arrived && self.interrupt_received)
    }

    pub(super) fn read(&mut self, offset: u32) -> Option<u32> {
        match offset {
            0x0 => Some(self.received.take().map_or(0, u32::from)),
            0x4 => {
                Some(u32::from(self.sending.is_none()) | u32::from(self.received.is_some()) << 1)
            }
            0x8 => Some(u32::from(self.interrupt_ready) | u32::from(self.interrupt_received) << 1),
            0xc => Some(self.per_byte),
            _ => None,
        }
    }

    pub(super) fn write(&mut self, offset: u32, value: u32, cycle: u64) -> Option<()> {
        match offset {
            0x0 => self.send(value as u8, cycle),
            0x8 => {
                self.interrupt_ready = value & 1 == 1;
                self.interrupt_received = value & 2 == 2;
            }
            0xc => self.per_byte = value,
            _ => return None,
        }
        Some(())
    }

    fn send(&mut self, byte: u8, cycle: u64) {
        let per_byte = u64::from(self.per_byte);
        self.sending = Some(cycle + per_byte);
        if byte == b'\n' {
            let first = cycle + THINKING * per_byte;
            let arrivals = (0..).map(|number| first + number * per_byte);
            self.incoming.extend(arrivals.zip(ACKNOWLEDGEMENT.iter().copied()));
        }
    }
}
