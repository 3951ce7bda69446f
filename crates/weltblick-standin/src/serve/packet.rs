//! Packets of the GDB Remote Serial Protocol (*Debugging with GDB*, appendix E.1): framing only.

/// A packet longer than this is thrown away.
const LONGEST: usize = 16 * 1024;

/// What came in.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Received {
    /// A packet's payload, escapes undone.
    Packet(Vec<u8>),
    /// A packet whose checksum is wrong.
    Damaged,
    /// Ctrl-C: stop the target.
    Interrupt,
    /// The other side wants the last packet again.
    Again,
}

/// Finds packets in a stream of bytes.
#[derive(Debug, Default)]
pub(super) struct Framer {
    state: State,
    payload: Vec<u8>,
    sum: u8,
    digits: [u8; 2],
}

#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
enum State {
    #[default]
    Between,
    Payload,
    Escape,
    Sum(usize),
}

impl Framer {
    /// Reads one byte.
    pub(super) fn push(&mut self, byte: u8) -> Option<Received> {
        match self.state {
            State::Between => match byte {
                b'$' => {
                    self.payload.clear();
                    self.sum = 0;
                    self.state = State::Payload;
                }
                0x03 => return Some(Received::Interrupt),
                b'-' => return Some(Received::Again),
                _ => {}
            },
            State::Payload if byte == b'#' => self.state = State::Sum(0),
            State::Payload => {
                self.sum = self.sum.wrapping_add(byte);
                if byte == b'}' {
                    self.state = State::Escape;
                } else {
                    self.keep(byte);
                }
            }
            State::Escape => {
                self.sum = self.sum.wrapping_add(byte);
                self.state = State::Payload;
                self.keep(byte ^ 0x20);
            }
            State::Sum(0) => {
                self.digits[0] = byte;
                self.state = State::Sum(1);
            }
            State::Sum(_) => {
                self.digits[1] = byte;
                self.state = State::Between;
                return Some(self.finish());
            }
        }
        None
    }

    fn keep(&mut self, byte: u8) {
        if self.payload.len() < LONGEST {
            self.payload.push(byte);
        }
    }

    fn finish(&mut self) -> Received {
        let stated = std::str::from_utf8(&self.digits).ok();
        let stated = stated.and_then(|digits| u8::from_str_radix(digits, 16).ok());
        if stated == Some(self.sum) {
            Received::Packet(std::mem::take(&mut self.payload))
        } else {
            Received::Damaged
        }
    }
}

/// A packet around `payload`; `start` is `$`, or `%` for a notification.
pub(super) fn packet(start: u8, payload: &[u8]) -> Vec<u8> {
    let mut out = vec![start];
    for &byte in payload {
        if matches!(byte, b'#' | b'$' | b'}' | b'*') {
            out.extend([b'}', byte ^ 0x20]);
        } else {
            out.push(byte);
        }
    }
    let sum = out[1..].iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
    out.extend(format!("#{sum:02x}").bytes());
    out
}

/// Bytes as hexadecimal digits.
pub(super) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Hexadecimal digits as bytes.
pub(super) fn unhex(digits: &[u8]) -> Option<Vec<u8>> {
    if !digits.len().is_multiple_of(2) {
        return None;
    }
    let pair = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    digits.chunks(2).map(pair).collect()
}
