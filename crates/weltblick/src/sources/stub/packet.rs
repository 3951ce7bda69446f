//! Packets of the GDB Remote Serial Protocol (*Debugging with GDB*, appendix E.1): framing,
//! checksums, escapes, run lengths. Every length is bounded: the other side may be anything.

use std::fmt;

/// A packet longer than this, run lengths expanded, is none that was asked for.
pub(crate) const LONGEST: usize = 1 << 20;

/// What came in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Received {
    /// An answer.
    Packet(Vec<u8>),
    /// Something that happened by itself (`%`).
    Notice(Vec<u8>),
    /// `+`: our packet arrived.
    Acknowledged,
    /// `-`: our packet arrived damaged.
    Refused,
}

/// Why bytes are no packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Damage {
    /// The sum at its end is not that of its bytes.
    Checksum,
    /// It does not end.
    TooLong,
    /// An escape or a run length with nothing to follow or to repeat.
    Dangling,
}

impl fmt::Display for Damage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Checksum => "its packets have wrong checksums",
            Self::TooLong => "it sends a packet without an end",
            Self::Dangling => "it sends an escape or run length with nothing behind or before it",
        })
    }
}

/// Finds packets in a stream of bytes.
#[derive(Debug, Default)]
pub(crate) struct Framer {
    state: State,
    payload: Vec<u8>,
    sum: u8,
    first_digit: u8,
    is_notice: bool,
    damage: Option<Damage>,
}

#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
enum State {
    #[default]
    Between,
    Payload,
    Escape,
    Run,
    Sum,
    SumEnd,
}

impl Framer {
    /// Reads one byte.
    pub(crate) fn push(&mut self, byte: u8) -> Option<Result<Received, Damage>> {
        match self.state {
            State::Between => match byte {
                b'$' | b'%' => {
                    self.payload.clear();
                    (self.sum, self.damage, self.is_notice) = (0, None, byte == b'%');
                    self.state = State::Payload;
                }
                b'+' => return Some(Ok(Received::Acknowledged)),
                b'-' => return Some(Ok(Received::Refused)),
                _ => {}
            },
            State::Payload => self.payload(byte),
            State::Escape | State::Run if byte == b'#' => {
                self.damage = Some(Damage::Dangling);
                self.state = State::Sum;
            }
            State::Escape => {
                self.sum = self.sum.wrapping_add(byte);
                self.state = State::Payload;
                self.keep(byte ^ 0x20, 1);
            }
            State::Run => self.run(byte),
            State::Sum => {
                self.first_digit = byte;
                self.state = State::SumEnd;
            }
            State::SumEnd => {
                self.state = State::Between;
                return Some(self.finish(byte));
            }
        }
        // A packet that does not end is given up at once, not when memory is full.
        (self.damage == Some(Damage::TooLong)).then(|| {
            self.state = State::Between;
            self.damage = None;
            Err(Damage::TooLong)
        })
    }

    fn payload(&mut self, byte: u8) {
        if byte == b'#' {
            self.state = State::Sum;
            return;
        }
        self.sum = self.sum.wrapping_add(byte);
        match byte {
            b'}' => self.state = State::Escape,
            b'*' => self.state = State::Run,
            _ => self.keep(byte, 1),
        }
    }

    /// The character after `*` says how often the one before it repeats.
    fn run(&mut self, byte: u8) {
        self.sum = self.sum.wrapping_add(byte);
        self.state = State::Payload;
        match (byte.checked_sub(29), self.payload.last()) {
            (Some(count @ 3..), Some(&last)) => self.keep(last, usize::from(count)),
            _ => self.damage = Some(Damage::Dangling),
        }
    }

    fn keep(&mut self, byte: u8, times: usize) {
        if self.payload.len() + times > LONGEST {
            self.damage = Some(Damage::TooLong);
        } else {
            self.payload.extend(std::iter::repeat_n(byte, times));
        }
    }

    fn finish(&mut self, second_digit: u8) -> Result<Received, Damage> {
        let digit = |byte: u8| char::from(byte).to_digit(16);
        let stated = digit(self.first_digit).zip(digit(second_digit)).map(|(a, b)| a << 4 | b);
        let payload = std::mem::take(&mut self.payload);
        match self.damage.take() {
            _ if stated != Some(u32::from(self.sum)) => Err(Damage::Checksum),
            Some(damage) => Err(damage),
            None if self.is_notice => Ok(Received::Notice(payload)),
            None => Ok(Received::Packet(payload)),
        }
    }
}

/// A packet around `payload`.
pub(crate) fn packet(payload: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(payload.len() + 4);
    out.push(b'$');
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
pub(crate) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Hexadecimal digits as bytes.
pub(crate) fn unhex(digits: &[u8]) -> Option<Vec<u8>> {
    let digit = |digit: u8| char::from(digit).to_digit(16).map(|digit| digit as u8);
    let pair = |pair: &[u8]| Some(digit(pair[0])? << 4 | digit(*pair.get(1)?)?);
    digits.chunks(2).map(pair).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(bytes: &[u8]) -> Vec<Result<Received, Damage>> {
        let mut framer = Framer::default();
        bytes.iter().filter_map(|&byte| framer.push(byte)).collect()
    }

    fn one(payload: &str) -> Received {
        Received::Packet(payload.as_bytes().to_vec())
    }

    #[test]
    fn reads_the_manual_s_examples() {
        assert_eq!(read(b"+$OK#9a"), [Ok(Received::Acknowledged), Ok(one("OK"))]);
        // "0* " is four zeros: one, and three more.
        let run = packet_raw("0* ");
        assert_eq!(read(&run), [Ok(one("0000"))]);
        assert_eq!(read(b"noise-$#00"), [Ok(Received::Refused), Ok(one(""))]);
        assert_eq!(read(b"%Stop:T05#36").len(), 1);
    }

    fn packet_raw(payload: &str) -> Vec<u8> {
        let sum = payload.bytes().fold(0_u8, u8::wrapping_add);
        format!("${payload}#{sum:02x}").into_bytes()
    }

    #[test]
    fn says_what_is_wrong() {
        assert_eq!(read(b"$OK#9b"), [Err(Damage::Checksum)]);
        assert_eq!(read(&packet_raw("ab}")), [Err(Damage::Dangling)]);
        assert_eq!(read(&packet_raw("* ")), [Err(Damage::Dangling)]);
        assert_eq!(read(&packet_raw("a*")), [Err(Damage::Dangling)]);
        let endless = [b"$".as_slice(), &vec![b'a'; LONGEST + 10]].concat();
        assert_eq!(read(&endless), [Err(Damage::TooLong)]);
        let bomb = packet_raw(&("a".to_owned() + &"*~".repeat(12_000)));
        assert_eq!(read(&bomb)[0], Err(Damage::TooLong));
    }

    proptest! {
        #[test]
        fn what_is_sent_is_received(payload in prop::collection::vec(any::<u8>(), 0..300)) {
            prop_assert_eq!(read(&packet(&payload)), [Ok(Received::Packet(payload))]);
        }

        #[test]
        fn any_bytes_do_no_harm(bytes in prop::collection::vec(any::<u8>(), 0..600)) {
            let mut framer = Framer::default();
            for byte in bytes {
                let _ = framer.push(byte);
                prop_assert!(framer.payload.len() <= LONGEST);
            }
        }

        #[test]
        fn digits_and_bytes_agree(bytes in prop::collection::vec(any::<u8>(), 0..50)) {
            prop_assert_eq!(unhex(hex(&bytes).as_bytes()), Some(bytes));
        }
    }
}
