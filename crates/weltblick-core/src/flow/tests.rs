//! Small programs, packet by packet; and any bytes with any image.

use super::*;
use crate::image::Image;
use crate::measure::execution::Calls;
use crate::wire::etmv3;
use crate::wire::etmv4::{Decoder, Settings};
use object::write::{Object, StandardSection, Symbol, SymbolSection};
use object::{Architecture, BinaryFormat, Endianness, SymbolFlags, SymbolKind, SymbolScope};
use proptest::collection::vec;
use proptest::prelude::*;
use std::ops::Range;

/// An image whose code begins at address 0: object files are not linked.
fn image(code: &[u16]) -> Image {
    image_of(&[("main", 0..2 * code.len() as u64)], code)
}

/// Code with these functions.
fn image_of(functions: &[(&str, Range<u64>)], code: &[u16]) -> Image {
    let mut file = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
    let text = file.section_id(StandardSection::Text);
    let bytes: Vec<u8> = code.iter().flat_map(|half| half.to_le_bytes()).collect();
    file.append_section_data(text, &bytes, 4);
    for (name, range) in functions {
        file.add_symbol(Symbol {
            name: name.as_bytes().to_vec(),
            value: range.start | 1,
            size: range.end - range.start,
            kind: SymbolKind::Text,
            scope: SymbolScope::Linkage,
            weak: false,
            section: SymbolSection::Section(text),
            flags: SymbolFlags::None,
        });
    }
    Image::parse(&file.write().unwrap()).unwrap()
}

/// What was told, in words.
#[derive(Debug, Default)]
struct Told(Vec<String>);

impl Sink for Told {
    fn ran(&mut self, block: &Block, taken: bool) {
        self.0.push(format!(
            "{:x}..{:x} {}",
            block.start,
            block.after(),
            if taken { "->" } else { "|" }
        ));
    }
    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.0.push(format!("{:x}..{until:x} ({instructions})", block.start));
    }
    fn arrived(&mut self, block: &Block) {
        self.0.push(format!("at {:x}", block.start));
    }
    fn moment(&mut self, _: u64, moment: &Moment) {
        self.0.push(match moment {
            Moment::Gap(gap) => format!("{gap:?}"),
            Moment::Entered { exception, .. } => format!("enter {exception:?}"),
            other => format!("{other:?}"),
        });
    }
}

const SYNC: [u8; 12] = [0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x80];

fn told(image: &Image, settings: Settings, packets: &[&[u8]]) -> Vec<String> {
    let mut told = Told::default();
    let mut flow = Etmv4Flow::new(image, &settings);
    let mut decoder = Decoder::new(settings);
    let start = [&SYNC[..], &[0x01, 0x00]].concat();
    for bytes in std::iter::once(&start[..]).chain(packets.iter().copied()) {
        decoder.push(bytes, &mut flow.feeding(&mut told));
    }
    decoder.finish(&mut flow.feeding(&mut told));
    flow.finish(&mut told);
    told.0
}

/// Packets: trace on, addresses, atoms.
const ON: &[u8] = &[0x04];
const AT_0: &[u8] = &[0x9b, 0, 0, 0, 0];
const AT_8: &[u8] = &[0x9b, 4, 0, 0, 0];
const E: &[u8] = &[0xf7];
const N: &[u8] = &[0xf6];

/// ```text
/// 0  movs r0, #0
/// 2  beq  8
/// 4  bl   8
/// 8  bx   lr
/// a  b    0
/// ```
const PROGRAM: [u16; 6] = [0x2000, 0xd001, 0xf000, 0xf800, 0x4770, 0xe7f9];

fn settings(return_stack: bool) -> Settings {
    Settings { trcconfigr: 1 | u32::from(return_stack) << 12, ..Settings::default() }
}

#[test]
fn branches_go_where_the_image_says() {
    let image = image(&PROGRAM);
    assert_eq!(
        told(&image, settings(false), &[ON, AT_0, E, E, AT_8, E]),
        ["at 0", "0..4 ->", "8..a ->", "at 8", "8..a ->"]
    );
    // Without an address nobody knows where it went.
    let lost = told(&image, settings(false), &[ON, AT_0, N, E, E, E, AT_0, E]);
    assert_eq!(lost[..4], ["at 0", "0..4 |", "4..8 ->", "8..a ->"]);
    assert!(lost[4].contains("NoTarget"), "{lost:?}");
    assert_eq!(lost.len(), 5, "addresses are not believed any more: {lost:?}");
}

#[test]
fn calls_tell_where_returns_go() {
    let image = image(&PROGRAM);
    // bl 8 at 4; bx lr goes back to 8, which the return stack says. There it always branches.
    let told = told(&image, settings(true), &[ON, AT_0, N, E, E, N]);
    assert_eq!(told[..5], ["at 0", "0..4 |", "4..8 ->", "8..a ->", "at 8"]);
    assert_eq!(told[5..], [format!("{:?}", Gap::Mismatch(Mismatch::AlwaysTaken(8)))]);
}

#[test]
fn what_the_image_does_not_allow_is_told_once() {
    let image = image(&PROGRAM);
    // `b 0` always branches.
    let at_a: &[u8] = &[0x9b, 5, 0, 0, 0];
    let told_of = told(&image, settings(false), &[ON, at_a, N, N, N]);
    assert_eq!(told_of[1..], [format!("{:?}", Gap::Mismatch(Mismatch::AlwaysTaken(0xa)))]);
    // Code elsewhere is told, and what comes after it is followed again.
    let elsewhere: &[u8] = &[0x9b, 0, 0, 0, 0x10];
    let told_of = told(&image, settings(false), &[ON, elsewhere, E, E, AT_8, E]);
    assert_eq!(
        told_of,
        [
            format!("{:?}", Gap::Mismatch(Mismatch::Outside(0x1000_0000))),
            "at 8".into(),
            "8..a ->".into()
        ]
    );
    // Where the image leads is not where the packets say.
    let told_of = told(&image, settings(false), &[ON, AT_0, E, AT_0, E]);
    let other = Mismatch::OtherTarget { expected: 8, told: 0 };
    assert_eq!(told_of[2..], [format!("{:?}", Gap::Mismatch(other))]);
}

#[test]
fn exceptions_come_in_anywhere() {
    let image = image(&PROGRAM);
    let at_2: &[u8] = &[0x9b, 1, 0, 0, 0];
    let after: &[u8] = &[0x06, 15 << 1 | 1];
    let at_target: &[u8] = &[0x06, 0x40 | 15 << 1];
    assert_eq!(
        told(&image, settings(false), &[ON, AT_0, after, at_2, AT_8, E, &[0x07], at_2, E]),
        ["at 0", "0..2 (1)", "enter Some(15)", "at 8", "8..a ->", "Left", "at 2", "2..4 ->"]
    );
    assert_eq!(
        told(&image, settings(false), &[ON, AT_0, at_target, AT_0, AT_8, E]),
        ["at 0", "enter Some(15)", "at 8", "8..a ->"]
    );
    // Behind an indirect branch whose target was not told, whatever address it carries.
    let value: &[u8] = &[0x9b, 0x7c, 0xff, 0xff, 0xff];
    assert_eq!(
        told(&image, settings(false), &[ON, AT_8, E, &[0x07], at_target, value, AT_8]),
        ["at 8", "8..a ->", "Left", "enter Some(15)", "at 8"]
    );
    // An address that the code does not lead to.
    let told_of = told(&image, settings(false), &[ON, AT_0, after, AT_8, AT_8]);
    assert!(told_of.iter().any(|line| line.contains("NotReached")), "{told_of:?}");
    // No address at all: that is damage.
    let told_of = told(&image, settings(false), &[ON, AT_0, after, E]);
    assert!(told_of[1].contains("Damaged"), "{told_of:?}");
}

#[test]
fn gaps_have_their_reasons() {
    let image = image(&PROGRAM);
    assert_eq!(told(&image, settings(false), &[ON, AT_0, E, ON, AT_8])[2..], ["Unwatched", "at 8"]);
    assert_eq!(
        told(&image, settings(false), &[ON, AT_0, &[0x00, 0x05], ON, AT_8])[1..],
        ["Overflow", "at 8"]
    );
    assert_eq!(told(&image, settings(false), &[ON, AT_0, &[0x00, 0x03]])[1..], ["Discarded"]);
    assert_eq!(
        told(&image, settings(false), &[ON, AT_0, &[0xac, 0x07], AT_8])[1..],
        ["Uncounted(Some(7))", "at 8"]
    );
    assert_eq!(
        told(&image, settings(false), &[ON, AT_0, &[0xab, 4, 0, 0, 0, 7], E])[1..],
        ["Uncounted(Some(7))", "at 8", "8..a ->"]
    );
}

#[test]
fn conditions_of_it_blocks_make_branches_conditional() {
    // it eq; bxeq lr; b .
    let image = image(&[0xbf08, 0x4770, 0xe7fe]);
    assert_eq!(told(&image, settings(false), &[ON, AT_0, N, E])[1..], ["0..4 |", "4..6 ->"]);
    // Also where execution goes on inside of the block.
    let at_2: &[u8] = &[0x9b, 1, 0, 0, 0];
    assert_eq!(told(&image, settings(false), &[ON, at_2, N, E])[1..], ["2..4 |", "4..6 ->"]);
}

#[test]
fn long_code_without_a_branch_is_run_through() {
    let mut code = vec![0xbf00; 1300];
    code.push(0xe7fe);
    let image = image(&code);
    assert_eq!(
        told(&image, settings(false), &[ON, AT_0, E])[1..],
        ["0..400 |", "400..800 |", "800..a2a ->"]
    );
    let late: &[u8] = &[0x9b, 0x10, 0x05, 0, 0];
    let exception: &[u8] = &[0x06, 15 << 1 | 1];
    assert_eq!(
        told(&image, settings(false), &[ON, AT_0, exception, late, AT_0])[1..],
        ["0..400 |", "400..520 (144)", "enter Some(15)", "at 0"]
    );
    // And where it ends without one, there was none.
    let end = image_without_branch();
    assert!(told(&end, settings(false), &[ON, AT_0, E])[1].contains("NoBranch"));
}

/// As a library subtracts: it changes the sign, and goes on in the addition.
#[test]
fn a_function_that_runs_into_the_next_has_its_own_instructions_only() {
    let functions = [("subtract", 0..4), ("add", 4..8)];
    let image = image_of(&functions, &[0xbf00, 0xbf00, 0xbf00, 0x4770]);
    assert_eq!(told(&image, settings(false), &[ON, AT_0, E])[1..], ["0..4 |", "4..8 ->"]);
    let mut code = Code::new(&image, false);
    let [subtract, add] = [0, 4].map(|address| {
        let id = code.block_at(address).unwrap();
        *code.block(id)
    });
    let mut calls = Calls::new(&image, Clocking::Nothing);
    calls.arrived(&subtract);
    for _ in 0..3 {
        calls.ran(&subtract, false);
        calls.ran(&add, true);
        calls.arrived(&subtract);
    }
    calls.finish();
    let own = |name: &str| {
        let node = |node: &&crate::measure::execution::Node| {
            node.function.is_some_and(|named| named.name(&image) == name)
        };
        calls.tree().nodes().iter().filter(node).map(|node| node.instructions).sum::<u64>()
    };
    assert_eq!((own("subtract"), own("add")), (6, 6));
    let adds = calls.figures().find(|(named, _)| named.name(&image) == "add").unwrap();
    assert_eq!(adds.1.calls, 3, "it goes on in the other's place");
}

fn image_without_branch() -> Image {
    image(&[0xbf00; 4])
}

/// A trace unit that may take back up to four elements.
fn speculative() -> Settings {
    Settings { trcidr0: 0x0800_06a1, trcidr8: 4, ..settings(false) }
}

#[test]
fn what_may_be_taken_back_waits() {
    let image = image(&PROGRAM);
    let run = |packets: &[&[u8]]| told(&image, speculative(), packets);
    let commit = |count: u8| [0x2d, count];
    // Three elements; the last one did not happen.
    assert_eq!(run(&[ON, AT_0, N, E, E, &[0x2e, 1], &commit(2)]), ["at 0", "0..4 |", "4..8 ->"]);
    // The last one went the other way.
    assert_eq!(run(&[ON, AT_0, N, &[0x30], E]), ["at 0", "0..4 ->", "8..a ->"]);
    // With atoms of its own: E, then that one is taken back and the one before is wrong.
    assert_eq!(run(&[ON, AT_0, N, &[0x35], E]), ["at 0", "0..4 ->", "8..a ->"]);
    // More than may wait are certain; at the end all are.
    assert_eq!(run(&[ON, AT_0, N, E, E, AT_0, N, E]).len(), 7);
    // A cycle count commits, and says how many.
    let counted = run(&[ON, AT_0, N, E, &[0x14], E]);
    assert_eq!(counted[..4], ["at 0", "0..4 |", "4..8 ->", "Cycles(Some(0))"]);
}

fn told_by_version_3(image: &Image, etmcr: u32, packets: &[u8]) -> Vec<String> {
    let mut told = Told::default();
    let settings = etmv3::Settings { etmcr, ..etmv3::Settings::default() };
    let mut flow = Etmv3Flow::new(image, &settings);
    let mut decoder = etmv3::Decoder::new(settings);
    let begin = [0, 0, 0, 0, 0, 0x80, 0x08, 0x21, 1, 0, 0, 0];
    decoder.push(&[&begin[..], packets].concat(), &mut flow.feeding(&mut told));
    decoder.finish(&mut flow.feeding(&mut told));
    flow.finish(&mut told);
    told.0
}

#[test]
fn a_branch_that_nobody_asked_for_is_a_contradiction_until_the_next_synchronisation() {
    // movs, movs, b 0: where it goes is fixed, so no packet says so.
    let image = image(&[0x2000, 0x2101, 0xe7fc, 0xbf00, 0x4770]);
    // Three executed; then a branch to 0, as if something had left that open; then two more.
    let packets = [0x8c, 0x01, 0x88];
    assert_eq!(
        told_by_version_3(&image, 0, &packets),
        ["at 0", "0..6 ->", "Mismatch(NotAsked(0))"]
    );
    // With branch output every branch that is taken says where it went.
    assert_eq!(told_by_version_3(&image, 1 << 8, &packets), ["at 0", "0..6 ->", "0..4 (2)"]);
}

#[test]
fn atoms_of_instructions_step_through_blocks() {
    // movs, movs, b 0; then a handler at 6: nop, bx lr.
    let image = image(&[0x2000, 0x2101, 0xe7fc, 0xbf00, 0x4770]);
    let told = |packets: &[u8]| told_by_version_3(&image, 0, packets);
    // Four executed: once around, and one more.
    assert_eq!(told(&[0x90]), ["at 0", "0..6 ->", "0..2 (1)"]);
    // SysTick comes in behind it, returns, and goes on where it was.
    let taken = [0x90, 0x87, 0x40, 0x1e];
    assert_eq!(
        told(&[&taken[..], &[0x88, 0x76, 0x03, 0x88]].concat()),
        [
            "at 0",
            "0..6 ->",
            "0..2 (1)",
            "enter Some(15)",
            "at 6",
            "6..a ->",
            "Left",
            "at 2",
            "2..6 ->"
        ]
    );
    // The exception cancels the last instruction.
    let cancels = [0x90, 0x87, 0x40, 0x3e];
    assert_eq!(told(&cancels), ["at 0", "0..6 ->", "enter Some(15)", "at 6"]);
    // The return is told behind the address.
    assert_eq!(
        told(&[&taken[..], &[0x88, 0x03, 0x76, 0x84]].concat())[4..],
        ["at 6", "6..a ->", "at 2", "Left", "at 2", "2..4 (1)"]
    );
}

#[test]
fn atoms_that_the_image_does_not_allow_are_told_once() {
    // it eq; movseq; bx lr
    let image = image(&[0xbf08, 0x2000, 0x4770]);
    let told = |packets: &[u8]| told_by_version_3(&image, 0, packets);
    // Executed, its condition failed, executed.
    assert_eq!(told(&[0xc4, 0x84]), ["at 0", "0..6 ->"]);
    let first = Mismatch::Unconditional(0);
    assert_eq!(told(&[0xc0, 0x84]), ["at 0".to_owned(), format!("{:?}", Gap::Mismatch(first))]);
    let branch = Mismatch::AlwaysTaken(4);
    assert_eq!(
        told(&[0xc8, 0x84])[1..],
        ["0..4 (2)".to_owned(), format!("{:?}", Gap::Mismatch(branch))]
    );
    let untold = Mismatch::NoTarget(4);
    assert_eq!(
        told(&[0x90, 0x84])[1..],
        ["0..6 ->".to_owned(), format!("{:?}", Gap::Mismatch(untold))]
    );
}

#[test]
fn cycles_of_atoms_are_told_block_by_block() {
    let image = image(&[0x2000, 0x2101, 0xe7fc, 0xbf00, 0x4770]);
    // WEWE, WWWE, then WE, and an exception after two more cycles.
    let packets = [0x88, 0xe8, 0x84, 0xa4, 0x87, 0x40, 0x1e, 0xbc, 0x84];
    assert_eq!(
        told_by_version_3(&image, 1 << 12, &packets),
        [
            "at 0",
            "0..6 ->",
            "Cycles(Some(5))",
            "0..2 (1)",
            "Cycles(Some(3))",
            "enter Some(15)",
            "at 6",
            // The last of the nine is the handler's first.
            "Cycles(Some(8))",
            "6..8 (1)",
            "Cycles(Some(1))",
        ]
    );
}

#[test]
fn a_part_ends_where_its_end_may_be_missing() {
    // movs, movs, b 0; then nop, bx lr at 6.
    let image = image(&[0x2000, 0x2101, 0xe7fc, 0xbf00, 0x4770]);
    let only = |from: Option<Edge>, until: Option<Edge>, packets: &[u8]| {
        let mut flow = Etmv3Flow::new(&image, &etmv3::Settings::default());
        flow.cut_at(&[2]);
        let mut only = Only::new(from, until, Told::default());
        let mut decoder = etmv3::Decoder::new(etmv3::Settings::default());
        let begin = [0, 0, 0, 0, 0, 0x80, 0x08, 0x21, 1, 0, 0, 0];
        decoder.push(&[&begin[..], packets].concat(), &mut flow.feeding(&mut only));
        decoder.finish(&mut flow.feeding(&mut only));
        flow.finish(&mut only);
        only.sink.0
    };
    let (start, second) = (Some(Edge::Address(0)), Some(Edge::Address(2)));
    // Twice around: six executed.
    assert_eq!(only(second, start, &[0x98]), ["at 2", "2..6 ->", "Unwatched", "at 2", "2..6 ->"]);
    assert_eq!(only(start, second, &[0x98])[..3], ["at 0", "0..2 |", "Unwatched"]);
    // An overflow inside a part ends it; outside of it, it may hide one.
    let overflow = [0x08, 0x41, 1, 0, 0, 0];
    let packets = [&[0x88, 0x84][..], &overflow, &[0x84]].concat();
    assert_eq!(only(second, start, &packets), ["at 2", "2..4 (1)", "Overflow"]);
    let packets = [&[0x90, 0x84][..], &overflow, &[0x88]].concat();
    assert_eq!(only(start, None, &packets)[..3], ["at 0", "0..2 |", "2..6 ->"]);
    // From the beginning on, what is missing before it ends nothing.
    assert_eq!(only(None, start, &[0x98]), ["at 0", "Unwatched"]);
    assert_eq!(only(None, second, &[0x98]), ["at 0", "0..2 |", "Unwatched"]);
}

/// Halfwords that lean towards branches.
fn code() -> impl Strategy<Value = Vec<u16>> {
    let half = prop_oneof![
        3 => any::<u16>(),
        2 => 0xd000_u16..0xde00,
        1 => 0xe000_u16..0xe800,
        1 => Just(0x4770_u16),
        1 => 0xf000_u16..0xf800,
        1 => 0xb100_u16..0xb400,
        1 => 0xbf00_u16..0xbfff,
    ];
    vec(half, 1..300)
}

/// Bytes that lean towards packets.
fn packets() -> impl Strategy<Value = Vec<u8>> {
    let piece = prop_oneof![
        6 => (0xc0_u8..).prop_map(|atoms| vec![atoms]),
        3 => (0_u8..0x80, 0_u8..3).prop_map(|(low, high)| vec![0x9b, low, high, 0, 0]),
        2 => (0_u8..0x80).prop_map(|low| vec![0x96, low]),
        1 => Just([&SYNC[..], &[0x01, 0x00]].concat()),
        1 => (0_u8..64, 0_u8..2).prop_map(|(kind, e)| vec![0x06, if e == 0 { kind << 1 & 0x3e | 1 } else { 0x40 | kind << 1 & 0x3e }]),
        1 => Just(vec![0x04]),
        1 => Just(vec![0x07]),
        1 => (0_u8..6).prop_map(|count| vec![0x2d, count]),
        1 => (0_u8..6).prop_map(|count| vec![0x2e, count]),
        1 => vec(any::<u8>(), 1..5),
    ];
    vec(piece, 0..200).prop_map(|pieces| pieces.concat())
}

/// Bytes that lean towards packets of version 3.
fn packets_of_version_3() -> impl Strategy<Value = Vec<u8>> {
    let start = |reason: u8, at: u8| vec![0x08, 1 | reason << 5, at << 1 | 1, 0, 0, 0];
    let piece = prop_oneof![
        6 => (0x20_u8..0x40).prop_map(|atoms| vec![0x80 | (atoms & 0x1f) << 2]),
        3 => (0x80_u8..).prop_map(|atoms| vec![atoms & !1]),
        3 => (0_u8..0x40).prop_map(|low| vec![low << 1 | 1]),
        2 => (0_u8..0x40, 0_u8..0x40).prop_map(|(low, kind)| vec![low << 1 | 0x81, 0x40, kind]),
        1 => (0_u8..4, 0_u8..0x7f).prop_map(move |(reason, at)| start(reason, at)),
        1 => Just(vec![0, 0, 0, 0, 0, 0x80]),
        1 => Just(vec![0x76]),
        1 => (0_u8..0x80).prop_map(|count| vec![0x04, count]),
        1 => (0_u8..0x80).prop_map(|value| vec![0x42, value]),
        1 => vec(any::<u8>(), 1..5),
    ];
    vec(piece, 0..200).prop_map(|pieces| pieces.concat())
}

/// Checks what every sink may rely on, and counts how much it was told.
#[derive(Default)]
struct Checked {
    instructions: u64,
}

impl Sink for Checked {
    fn ran(&mut self, block: &Block, _: bool) {
        assert!(block.instructions > 0 && block.last >= block.start && block.after() > block.last);
        self.instructions += u64::from(block.instructions);
    }
    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        assert!(until > block.start && until <= block.after());
        assert!(instructions > 0 && instructions <= block.instructions);
        self.instructions += u64::from(instructions);
    }
}

/// What is told of a stream whose packets nobody chose; `follow` says how many blocks were reached.
fn told_of_any(
    image: &Image,
    chunk: usize,
    follow: impl FnOnce(&mut (Told, (Checked, Calls<'_>))) -> usize,
) -> Vec<String> {
    let clocking = [Clocking::Cycles, Clocking::Timestamps, Clocking::Nothing][chunk % 3];
    let mut told = (Told::default(), (Checked::default(), Calls::new(image, clocking)));
    // A block at each address at most.
    assert!(follow(&mut told) <= 512);
    let (told, (checked, mut calls)) = told;
    calls.finish();
    assert_eq!(calls.instructions(), checked.instructions);
    let in_paths: u64 = calls.tree().nodes().iter().map(|node| node.instructions).sum();
    assert_eq!(in_paths, checked.instructions);
    for (_, figures) in calls.figures() {
        assert!(figures.instructions.count() + figures.cut <= figures.calls);
    }
    told.0
}

/// Deeper than calls are followed, they are counted all the same, and returns find back.
#[test]
fn calls_deeper_than_are_followed_are_counted() {
    // `main` calls `down`, which calls itself, and then goes on to `other` in its place.
    let functions = [("main", 0..8), ("down", 8..0x12), ("other", 0x12..0x14)];
    let code = [0xf000, 0xf802, 0xbf00, 0x4770, 0xb500, 0xf7ff, 0xfffd, 0xe000, 0xbf00, 0xbd00];
    let image = image_of(&functions, &code);
    let mut code = Code::new(&image, false);
    let [main, back, down, on, other] = [0, 4, 8, 0xe, 0x12].map(|address| {
        let id = code.block_at(address).unwrap();
        *code.block(id)
    });
    for depth in [10, 1022, 1023, 1024, 5000_u64] {
        let mut calls = Calls::new(&image, Clocking::Nothing);
        calls.arrived(&main);
        calls.ran(&main, true);
        (0..depth).for_each(|_| calls.ran(&down, true));
        calls.ran(&other, true);
        for _ in 0..depth {
            calls.arrived(&on);
            calls.ran(&on, true);
            calls.ran(&other, true);
        }
        calls.arrived(&back);
        calls.ran(&back, false);
        assert_eq!(calls.depth(), 1, "{depth}");
        calls.finish();
        assert_eq!(calls.instructions(), 3 + depth * 4 + 1, "{depth}");
        let mut counts: Vec<_> =
            calls.figures().map(|(named, figures)| (named.name(&image), figures.calls)).collect();
        counts.sort();
        let expected = [("down", depth), ("main", 1), ("other", depth + 1)];
        assert_eq!(counts, expected.map(|(name, calls)| (name.to_owned(), calls)), "{depth}");
    }
}

proptest! {
    #[test]
    fn any_packets_with_any_image_are_harmless(
        code in code(),
        packets in packets(),
        return_stack: bool,
        depth in prop_oneof![Just(0_u32), 1_u32..9],
        cut in 1_usize..50,
    ) {
        let image = image(&code);
        let settings = Settings { trcidr0: 0x0800_06a1, trcidr8: depth, ..settings(return_stack) };
        let stream = [&SYNC[..], &[0x01, 0x00], &packets].concat();
        let run = |chunk: usize| {
            told_of_any(&image, chunk, |told| {
                let mut flow = Etmv4Flow::new(&image, &settings);
                let mut decoder = Decoder::new(settings);
                for bytes in stream.chunks(chunk) {
                    decoder.push(bytes, &mut flow.feeding(told));
                }
                decoder.finish(&mut flow.feeding(told));
                flow.finish(told);
                flow.into_code().blocks().len()
            })
        };
        prop_assert_eq!(run(cut), run(usize::MAX));
    }

    #[test]
    fn any_packets_of_version_3_with_any_image_are_harmless(
        code in code(),
        packets in packets_of_version_3(),
        cycle_accurate: bool,
        cut in 1_usize..50,
    ) {
        let image = image(&code);
        let etmcr = u32::from(cycle_accurate) << 12;
        let settings = etmv3::Settings { etmcr, ..etmv3::Settings::default() };
        let stream = [&[0, 0, 0, 0, 0, 0x80, 0x08, 0x21, 1, 0, 0, 0][..], &packets].concat();
        let run = |chunk: usize| {
            told_of_any(&image, chunk, |told| {
                let mut flow = Etmv3Flow::new(&image, &settings);
                let mut decoder = etmv3::Decoder::new(settings);
                for bytes in stream.chunks(chunk) {
                    decoder.push(bytes, &mut flow.feeding(told));
                }
                decoder.finish(&mut flow.feeding(told));
                flow.finish(told);
                flow.into_code().blocks().len()
            })
        };
        prop_assert_eq!(run(cut), run(usize::MAX));
    }
}
