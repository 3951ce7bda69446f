//! A life as the bytes of an ITM, and what may become of them on their way. It shares nothing with the decoder.

use crate::chance::Chance;
use crate::life::{Life, What};
use std::ops::Range;

/// What happens to a recording.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fault {
    Clean,
    /// It is only a part, begun and ended anywhere.
    Cut,
    /// The target dropped packets, once.
    Overflow,
    /// For a while packets have no timestamps.
    Undated,
    /// Timestamps come late, and say so.
    Delayed,
    /// Packets come late, and say so.
    DelayedPackets,
    /// A slow clock: a tick is so many cycles.
    Prescaled,
    /// From some moment on exceptions are not traced any more.
    SwitchedOff,
    /// Bytes are missing, or changed: the formats have no checksums.
    Removed,
    Flipped,
}

impl Fault {
    /// An encoder could have sent the very bytes about another life.
    pub(crate) const fn is_silent(self) -> bool {
        matches!(self, Self::Removed | Self::Flipped | Self::SwitchedOff)
    }
}

pub(crate) struct Recording {
    pub(crate) bytes: Vec<u8>,
    pub(crate) prescaler: u32,
    /// From its first moment to its last, in cycles.
    pub(crate) window: Range<u64>,
    /// When the last packet was whose timestamp may be cut off.
    pub(crate) last_packet: u64,
}

const SYNC: [u8; 6] = [0, 0, 0, 0, 0, 0x80];

fn packet(what: What) -> Vec<u8> {
    let exception =
        |number: u16, action: u8| vec![0x0e, number as u8, (number >> 8) as u8 & 1 | action << 4];
    let mark = |kind: u16, number: u16| {
        let word = (kind << 12 | number).to_le_bytes();
        vec![16 << 3 | 2, word[0], word[1]]
    };
    match what {
        What::Enter(number) => exception(number, 1),
        What::Leave(number) => exception(number, 2),
        What::Resume(number) => exception(number, 3),
        What::SpanBegins(number) => mark(8, number),
        What::SpanEnds(number) => mark(9, number),
        What::Runs(number) => mark(1, number),
        What::Ready(number) => mark(2, number),
        What::Stops(number) => mark(3, number),
        What::Sample(pc) => [&[0x17][..], &pc.to_le_bytes()].concat(),
    }
}

fn timestamp(ticks: u64, relation: u8) -> Vec<u8> {
    if relation == 0 && (1..=6).contains(&ticks) {
        return vec![(ticks as u8) << 4];
    }
    let (mut bytes, mut left) = (vec![0xc0 | relation << 4], ticks);
    loop {
        let low = (left & 0x7f) as u8;
        left >>= 7;
        bytes.push(if left > 0 { low | 0x80 } else { low });
        if left == 0 {
            return bytes;
        }
    }
}

impl Recording {
    pub(crate) fn of(life: &Life, fault: Fault, chance: &mut Chance) -> Self {
        let prescaler = if fault == Fault::Prescaled { chance.one_of(&[4, 16, 64]) } else { 1 };
        let count = life.events.len();
        let some = count / 100 + 1;
        let from = chance.within(count as u64 / 4, count as u64 / 2) as usize;
        let hit = match fault {
            Fault::Overflow | Fault::Undated => {
                from..from + chance.within(1, some as u64 * 2) as usize
            }
            _ => 0..0,
        };
        let mut bytes = SYNC.to_vec();
        // Where each packet with its timestamp begins and ends, and when it was.
        let mut places: Vec<(Range<usize>, u64)> = Vec::new();
        let mut last = 0;
        let exceptions_until = match fault {
            Fault::SwitchedOff => from,
            _ => usize::MAX,
        };
        for (number, &(at, what)) in life.events.iter().enumerate() {
            let is_exception = matches!(what, What::Enter(_) | What::Leave(_) | What::Resume(_));
            if is_exception && number >= exceptions_until {
                continue;
            }
            if fault == Fault::Overflow && hit.contains(&number) {
                if number == hit.start {
                    bytes.push(0x70);
                }
                continue;
            }
            if number % 64 == 63 {
                bytes.extend(SYNC);
            }
            let start = bytes.len();
            bytes.extend(packet(what));
            if fault == Fault::Undated && hit.contains(&number) {
                continue;
            }
            let next = life.events.get(number + 1).map_or(at + 100, |(next, _)| *next);
            let late = matches!(fault, Fault::Delayed | Fault::DelayedPackets) && chance.once_in(5);
            let (sent, relation) = if late {
                (chance.within(at, next), if fault == Fault::Delayed { 1 } else { 2 })
            } else {
                (at, 0)
            };
            let tick = sent / u64::from(prescaler);
            bytes.extend(timestamp(tick - last, relation));
            last = tick;
            places.push((start..bytes.len(), at));
        }
        let length = bytes.len() as u64;
        let mut window = places[0].1..places[places.len() - 1].1;
        let mut last_packet = window.end;
        match fault {
            Fault::Cut => {
                let [a, b] = [chance.within(0, length / 3), chance.within(length / 2, length)];
                let cut = a as usize..b as usize;
                let first = bytes[cut.clone()].windows(6).position(|part| part == SYNC).unwrap();
                let start = cut.start + first + 6;
                let held =
                    |place: &&(Range<usize>, u64)| place.0.start >= start && place.0.end <= cut.end;
                let mut inside = places.iter().filter(held).map(|(_, at)| *at);
                let whole = |(range, _): &&(Range<usize>, u64)| range.start + 3 <= cut.end;
                last_packet = places.iter().filter(whole).map(|(_, at)| *at).max().unwrap();
                window = inside.clone().next().unwrap()..inside.next_back().unwrap();
                bytes = bytes[cut].to_vec();
            }
            Fault::Removed => {
                let at = chance.within(length / 4, length / 2) as usize;
                bytes.drain(at..at + chance.within(1, 200) as usize);
            }
            Fault::Flipped => {
                let at = chance.within(length / 4, length / 2) as usize;
                bytes[at] ^= 1 << chance.within(0, 8);
            }
            _ => {}
        }
        Self { bytes, prescaler, window, last_packet }
    }
}
