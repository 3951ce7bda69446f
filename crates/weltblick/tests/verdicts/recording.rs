//! A life as the bytes of an ITM, and what may become of them on their way. It shares nothing with the decoder.

use crate::chance::Chance;
use crate::life::{Life, QUANTITY, What};
use std::ops::Range;

/// Core cycles for each tick of global timestamps.
const GLOBAL: u64 = 4;

/// What happens to a recording.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fault {
    Clean,
    /// It is only a part, begun and ended anywhere; judged from its first timestamp on.
    Cut,
    /// Cut as well, and all of it is judged: what its first bytes were about, too.
    Head,
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
    /// So is this one, and packets of one tick share a timestamp.
    Grouped,
    /// The clock of local timestamps stands still in parts of sleep; global timestamps go on.
    Sleeps,
    /// The core clock is half as fast from some moment on; global timestamps go on.
    Slows,
    /// Something of all this, or nothing, and only a window of time is judged.
    Windowed,
    /// Several of all this at once.
    Mixed,
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

    const fn loses_bytes(self) -> bool {
        matches!(self, Self::Cut | Self::Head | Self::Removed | Self::Flipped)
    }
}

pub(crate) struct Recording {
    pub(crate) bytes: Vec<u8>,
    pub(crate) prescaler: u32,
    /// Packets of one tick may share a timestamp.
    pub(crate) dates_group: bool,
    /// From its first moment to its last, in cycles.
    pub(crate) window: Range<u64>,
    /// What is judged of it, if not all.
    pub(crate) judged: Option<Range<u64>>,
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
        What::Value(value) => {
            [&[17 << 3 | 3][..], &value.to_le_bytes(), &mark(0xb, QUANTITY)].concat()
        }
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

/// A global timestamp in full: its low bits, and its high ones the first time.
fn global(at: u64, is_first: bool) -> Vec<u8> {
    let ticks = at / GLOBAL;
    let bits = |from: u32, mask: u64| (ticks >> from & mask) as u8;
    let mut bytes = vec![
        0x94,
        0x80 | bits(0, 0x7f),
        0x80 | bits(7, 0x7f),
        0x80 | bits(14, 0x7f),
        bits(21, 0x1f),
    ];
    if is_first {
        bytes.extend([0xb4, 0x80 | bits(26, 0x7f), 0x80 | bits(33, 0x7f), 0x80, 0]);
    }
    bytes
}

/// The clock of local timestamps at the times of these events: it may stand still between two of them, or slow down.
fn local_clock(life: &Life, faults: &[Fault], changed: Range<usize>) -> Vec<u64> {
    let mut now = 0;
    let mut before = 0;
    let passed = |(number, &(at, _)): (usize, &(u64, What))| {
        let cycles = at - std::mem::replace(&mut before, at);
        now += match faults {
            [Fault::Sleeps] if changed.contains(&number) && cycles > 400 => cycles / 3,
            [Fault::Slows] if number >= changed.start => cycles / 2,
            _ => cycles,
        };
        now
    };
    life.events.iter().enumerate().map(passed).collect()
}

impl Recording {
    pub(crate) fn of(life: &Life, fault: Fault, chance: &mut Chance) -> Self {
        let at_once = [
            Fault::Overflow,
            Fault::Undated,
            Fault::Delayed,
            Fault::DelayedPackets,
            Fault::Prescaled,
            Fault::Grouped,
            Fault::Windowed,
            Fault::Cut,
        ];
        let faults: Vec<Fault> = match fault {
            Fault::Mixed => at_once.into_iter().filter(|_| chance.once_in(2)).collect(),
            Fault::Windowed => vec![fault, chance.one_of(&at_once[..3])],
            fault => vec![fault],
        };
        let recording = Self::with(life, &faults, chance);
        // Times of one that was cut begin anew.
        let is_windowed = faults.contains(&Fault::Windowed) && !faults.contains(&Fault::Cut);
        if is_windowed { recording.windowed(life, chance) } else { recording }
    }

    fn with(life: &Life, faults: &[Fault], chance: &mut Chance) -> Self {
        let has = |fault: Fault| faults.contains(&fault);
        let dates_group = has(Fault::Grouped);
        let prescaler =
            if has(Fault::Prescaled) || dates_group { chance.one_of(&[4, 16, 64]) } else { 1 };
        let count = life.events.len();
        let some = count / 100 + 1;
        let from = chance.within(count as u64 / 4, count as u64 / 2) as usize;
        let mut hit = |fault: Fault, from: usize| match has(fault) {
            true => from..from + chance.within(1, some as u64 * 2) as usize,
            false => 0..0,
        };
        let dropped = hit(Fault::Overflow, from);
        let undated = hit(Fault::Undated, from * 3 / 2);
        let local = local_clock(life, faults, from..from + 400);
        let has_global = has(Fault::Sleeps) || has(Fault::Slows);
        let mut bytes = SYNC.to_vec();
        // Where each packet with its timestamp begins and ends, when it was, and until when its timestamp says that the
        // recording went on.
        let mut places: Vec<(Range<usize>, u64, u64)> = Vec::new();
        // And where the timestamp does.
        let mut stamps: Vec<usize> = Vec::new();
        let mut last = 0;
        let exceptions_until = if has(Fault::SwitchedOff) { from } else { usize::MAX };
        for (number, &(at, what)) in life.events.iter().enumerate() {
            let is_exception = matches!(what, What::Enter(_) | What::Leave(_) | What::Resume(_));
            if is_exception && number >= exceptions_until {
                continue;
            }
            if dropped.contains(&number) {
                if number == dropped.start {
                    bytes.push(0x70);
                }
                continue;
            }
            if number % 64 == 63 {
                bytes.extend(SYNC);
                if has_global {
                    let between = u64::midpoint(life.events[number - 1].0, at);
                    bytes.extend(global(between, number == 63));
                }
            }
            let start = bytes.len();
            bytes.extend(packet(what));
            let stamp = bytes.len();
            if undated.contains(&number) {
                continue;
            }
            let next = life.events.get(number + 1).map_or(at + 100, |(next, _)| *next);
            let delay = u8::from(has(Fault::Delayed)) + 2 * u8::from(has(Fault::DelayedPackets));
            let (sent, relation) = if delay > 0 && chance.once_in(5) {
                (chance.within(at, next), delay)
            } else {
                (local[number], 0)
            };
            let tick = sent / u64::from(prescaler);
            // The first of a tick may leave its timestamp to the next; one that comes late is not of its tick.
            let follows =
                number > 1 && !dropped.contains(&(number + 1)) && !undated.contains(&(number + 1));
            let shares =
                local.get(number + 1).is_some_and(|next| next / u64::from(prescaler) == tick);
            if dates_group && delay == 0 && follows && shares && exceptions_until == usize::MAX {
                continue;
            }
            bytes.extend(timestamp(tick - last, relation));
            last = tick;
            places.push((start..bytes.len(), at, at.max(sent)));
            stamps.push(stamp);
        }
        let length = bytes.len() as u64;
        let mut window = places[0].1..places[places.len() - 1].2;
        let mut last_packet = window.end;
        let mut judged = None;
        match faults.iter().find(|fault| fault.loses_bytes()) {
            Some(Fault::Cut | Fault::Head) => {
                let [a, b] = [chance.within(0, length / 3), chance.within(length / 2, length)];
                let cut = a as usize..b as usize;
                let first = bytes[cut.clone()].windows(6).position(|part| part == SYNC).unwrap();
                let start = cut.start + if has(Fault::Cut) { first + 6 } else { 0 };
                judged = has(Fault::Cut).then_some(0..u64::MAX);
                let held = |place: &&(Range<usize>, u64, u64)| {
                    place.0.start >= start && place.0.end <= cut.end
                };
                let mut inside = places.iter().filter(held);
                window = inside.clone().next().unwrap().1..inside.next_back().unwrap().2;
                let whole = stamps.iter().take_while(|stamp| **stamp <= cut.end).count();
                last_packet = places[whole - 1].1.max(window.end);
                bytes = bytes[cut].to_vec();
            }
            Some(Fault::Removed) => {
                let at = chance.within(length / 4, length / 2) as usize;
                bytes.drain(at..at + chance.within(1, 200) as usize);
            }
            Some(Fault::Flipped) => {
                let at = chance.within(length / 4, length / 2) as usize;
                bytes[at] ^= 1 << chance.within(0, 8);
            }
            _ => {}
        }
        Self { bytes, prescaler, dates_group, window, judged, last_packet }
    }

    /// Only a window of time is judged. The recording's own time begins with its first event.
    fn windowed(self, life: &Life, chance: &mut Chance) -> Self {
        let base = life.events[0].0;
        let from = base + chance.within(0, life.end / 2);
        let until = from + chance.within(life.end / 4, life.end);
        let mut inside =
            life.events.iter().map(|(at, _)| *at).filter(|at| (from..until).contains(at));
        let first = inside.next().unwrap();
        let last = inside.next_back().unwrap();
        Self { window: first..last, judged: Some(from..until), last_packet: last, ..self }
    }
}
