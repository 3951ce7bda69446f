//! A micro trace buffer, held against what the stand-in executed.

use crate::executed::{Executed, FIRMWARE, image, stands_in};
use weltblick_core::flow::{Block, Moment, MtbFlow, Sink};
use weltblick_core::wire::mtb;
use weltblick_standin::machine::Setup;
use weltblick_standin::{Machine, Program};

/// Registers of the micro trace buffer, and where it writes.
const MTB: u32 = 0xe004_3000;
const BUFFER: u32 = 0x2001_0000;

/// The buffer's bytes after so many cycles, the oldest packet first.
fn record_branches(cycles: u64, size_code: u32) -> (Machine, Vec<u8>) {
    let program = Program::parse(FIRMWARE).unwrap();
    let mut machine = Machine::new(&program, Setup::default()).unwrap();
    machine.keep_addresses();
    machine.poke(MTB, 4, BUFFER - 0x2000_0000).unwrap();
    machine.poke(MTB + 4, 4, 1 << 31 | size_code).unwrap();
    machine.run(cycles);
    let position = machine.peek(MTB, 4).unwrap();
    let size = 16 << size_code;
    let written = (position & !7) - (BUFFER - 0x2000_0000);
    let (start, length) = if position & 4 != 0 { (written, size) } else { (0, written) };
    let word = |at: u32| BUFFER + (start + at) % size;
    let words: Vec<u32> =
        (0..length).step_by(4).map(|at| machine.peek(word(at), 4).unwrap()).collect();
    (machine, words.iter().flat_map(|word| word.to_le_bytes()).collect())
}

#[test]
fn a_micro_trace_buffer_tells_the_same() {
    let image = image();
    // Not full, and wrapped many times.
    for (cycles, size_code, at_least) in [(60_000, 11, 5_000), (5_000_000, 11, 8_000)] {
        let (machine, bytes) = record_branches(cycles, size_code);
        let truth = machine.truth().addresses.as_ref().unwrap();
        let mut executed = Executed::new(&image);
        let mut flow = MtbFlow::new(&image);
        let mut decoder = mtb::Decoder::new();
        decoder.push(&bytes, &mut flow.feeding(&mut executed));
        decoder.finish(&mut flow.feeding(&mut executed));
        assert_eq!(executed.gaps, []);
        let [found] = executed.segments.as_slice() else { panic!("{}", executed.segments.len()) };
        assert!(found.len() > at_least, "{}", found.len());
        assert!(stands_in(found, truth, 0).is_some(), "{cycles}");
    }
}

/// Numbers of exceptions as they are entered, and 0 where a handler ends.
#[derive(Default)]
struct Handlers(Vec<u16>);

impl Sink for Handlers {
    fn ran(&mut self, _: &Block, _: bool) {}
    fn moment(&mut self, _: u64, moment: &Moment) {
        match *moment {
            Moment::Entered { exception, .. } => self.0.extend(exception),
            Moment::Left => self.0.push(0),
            _ => {}
        }
    }
}

/// A handler that is interrupted before its first instruction is returned to, and not entered again.
#[test]
fn a_micro_trace_buffer_tells_of_every_exception_once() {
    let image = image();
    let mut before_their_first = 0;
    for tenth in 1..=8 {
        let (machine, bytes) = record_branches(2_000_000 + tenth * 400_000, 11);
        let mut handlers = Handlers::default();
        let mut flow = MtbFlow::new(&image);
        let mut decoder = mtb::Decoder::new();
        decoder.push(&bytes, &mut flow.feeding(&mut handlers));
        decoder.finish(&mut flow.feeding(&mut handlers));
        // What was entered and left at which cycle; a handler that goes before another one ends first.
        let real = &machine.truth().exceptions;
        let mut truth: Vec<(u64, bool, u16)> = real
            .iter()
            .flat_map(|run| {
                let left = run.left.map(|left| (left, false, 0));
                [Some((run.entered, true, run.number)), left].into_iter().flatten()
            })
            .collect();
        truth.sort_unstable();
        let truth: Vec<u16> = truth.into_iter().map(|(_, _, number)| number).collect();
        let told = &handlers.0;
        assert!(told.len() > 4, "{}", told.len());
        // The last may have been entered, and its first branch not be written yet.
        let ends = (0..3).any(|unwritten| truth[..truth.len() - unwritten].ends_with(told));
        assert!(ends, "{told:?}\n{:?}", &truth[truth.len() - told.len() - 3..]);
        let nested = told.windows(2).filter(|pair| pair[0] != 0 && pair[1] != 0);
        before_their_first += nested.count();
    }
    assert!(before_their_first > 0);
}
