//! A micro trace buffer, held against what the stand-in executed.

use crate::executed::{Executed, FIRMWARE, image, stands_in};
use weltblick_core::flow::MtbFlow;
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
