//! Encoders and decoders share no code and no types: what one writes, the other must read.

use proptest::collection::vec;
use proptest::prelude::*;
use std::ops::Range;
use weltblick_core::wire::itm::{
    Action, Counters, Decoder, Malformed, Packet, Relation, Sink, Size,
};
use weltblick_core::wire::{mtb, tpiu};
use weltblick_standin::trace::itm::{self as encode, Encoded};
use weltblick_standin::trace::tpiu::Formatter;
use weltblick_standin::{Machine, Program};

#[derive(Default)]
struct Recorder {
    packets: Vec<Packet>,
    losses: Vec<(Range<u64>, Malformed)>,
}

impl Sink for Recorder {
    fn packet(&mut self, _: Range<u64>, packet: Packet) {
        self.packets.push(packet);
    }
    fn loss(&mut self, at: Range<u64>, why: Malformed) {
        self.losses.push((at, why));
    }
}

fn decode(bytes: &[u8], cut: usize) -> Recorder {
    let mut recorder = Recorder::default();
    let mut decoder = Decoder::new();
    for chunk in bytes.chunks(cut) {
        decoder.push(chunk, &mut recorder);
    }
    decoder.finish(&mut recorder);
    recorder
}

fn size() -> impl Strategy<Value = (Size, u32)> {
    prop_oneof![
        any::<u8>().prop_map(|value| (Size::Byte, u32::from(value))),
        any::<u16>().prop_map(|value| (Size::Half, u32::from(value))),
        any::<u32>().prop_map(|value| (Size::Word, value)),
    ]
}

fn time() -> impl Strategy<Value = (Encoded, Packet)> {
    let ticks = prop_oneof![0_u32..8, 0_u32..300, 0_u32..1 << 28];
    (ticks, 0_u8..4).prop_map(|(ticks, tc)| {
        let relation = [
            Relation::Synchronous,
            Relation::TimestampDelayed,
            Relation::PacketDelayed,
            Relation::BothDelayed,
        ][usize::from(tc)];
        (encode::local_timestamp(ticks, tc), Packet::LocalTime { ticks, relation })
    })
}

fn global_time() -> impl Strategy<Value = (Encoded, Packet)> {
    prop_oneof![
        (any::<u64>(), any::<bool>(), any::<bool>()).prop_map(|(time, clock_changed, wrapped)| {
            let bits = time as u32 & 0x03ff_ffff;
            let packet = Packet::GlobalTimeLow { bits, width: 26, clock_changed, wrapped };
            (encode::global_timestamp_low(time, clock_changed, wrapped), packet)
        }),
        (any::<u64>(), 1_u32..4).prop_map(|(time, groups)| {
            let bits = time as u32 & ((1 << (7 * groups)) - 1);
            let (clock_changed, wrapped) = (false, false);
            let width = 7 * groups as u8;
            let packet = Packet::GlobalTimeLow { bits, width, clock_changed, wrapped };
            (encode::global_timestamp_short(time, groups), packet)
        }),
        (any::<u64>(), any::<bool>()).prop_map(|(time, wide)| {
            let width = if wide { 38 } else { 22 };
            let bits = time >> 26 & ((1 << width) - 1);
            let packet = Packet::GlobalTimeHigh { bits, width };
            (encode::global_timestamp_high(time, wide), packet)
        }),
    ]
}

fn software() -> impl Strategy<Value = (Encoded, Packet)> {
    let extension = prop_oneof![0_u32..8, 0_u32..1024, any::<u32>()];
    prop_oneof![
        (0_u8..32, size()).prop_map(|(port, (size, value))| {
            let packet = Packet::Stimulus { port, size, value };
            (encode::stimulus(port, size.bytes() as u32, value), packet)
        }),
        (extension, any::<bool>()).prop_map(|(value, hardware)| {
            (encode::extension(value, hardware), Packet::Extension { hardware, value })
        }),
        Just((encode::overflow(), Packet::Overflow)),
        Just((encode::synchronisation(), Packet::Sync)),
    ]
}

fn hardware() -> impl Strategy<Value = (Encoded, Packet)> {
    prop_oneof![
        (0_u8..64).prop_map(|bits| {
            (encode::event_counters(bits), Packet::EventCounters(Counters(bits)))
        }),
        (0_u16..512, 1_u8..4).prop_map(|(number, function)| {
            let action = [Action::Enter, Action::Exit, Action::Return][usize::from(function - 1)];
            (encode::exception(number, function), Packet::Exception { number, action })
        }),
        any::<u32>().prop_map(|pc| (encode::pc_sample(pc), Packet::PcSample { pc })),
        Just((encode::asleep(), Packet::Asleep)),
        Just((encode::prohibited(), Packet::Prohibited)),
        any::<u8>().prop_map(|bits| {
            (encode::pmu_overflow(bits), Packet::PmuOverflow { counters: bits })
        }),
    ]
}

fn data_trace() -> impl Strategy<Value = (Encoded, Packet)> {
    prop_oneof![
        (0_u8..4, any::<u32>()).prop_map(|(comparator, pc)| {
            (encode::data_pc(comparator, pc), Packet::DataPc { comparator, pc })
        }),
        (0_u8..4, any::<u16>()).prop_map(|(comparator, offset)| {
            let packet = Packet::DataAddress { comparator, offset };
            (encode::data_address(comparator, offset), packet)
        }),
        (0_u8..4, any::<bool>(), size()).prop_map(|(comparator, write, (size, value))| {
            let packet = Packet::DataValue { comparator, write, size, value };
            (encode::data_value(comparator, write, size.bytes() as u32, value), packet)
        }),
        (0_u8..4).prop_map(|comparator| {
            (encode::data_match(comparator), Packet::DataMatch { comparator })
        }),
    ]
}

proptest! {
    #[test]
    fn every_itm_packet_comes_back(
        script in vec(prop_oneof![time(), global_time(), software(), hardware(), data_trace()], 0..200),
        cut in 1_usize..50,
    ) {
        let bytes: Vec<u8> =
            script.iter().flat_map(|(encoded, _)| encoded.as_slice()).copied().collect();
        let packets: Vec<Packet> = script.iter().map(|(_, packet)| *packet).collect();
        let seen = decode(&bytes, cut);
        prop_assert_eq!(seen.losses, []);
        prop_assert_eq!(seen.packets, packets);
    }

    #[test]
    fn every_source_comes_back_from_its_frames(
        script in vec((1_u8..0x70, vec(any::<u8>(), 1..40), 0_u8..6), 0..60),
        cut in 1_usize..50,
    ) {
        let mut formatter = Formatter::new();
        let mut expected: Vec<Vec<u8>> = vec![Vec::new(); 128];
        formatter.synchronise();
        for (id, bytes, sync) in &script {
            match sync {
                0 => formatter.synchronise(),
                1 => { formatter.half_synchronise(); }
                _ => {}
            }
            formatter.write(*id, bytes);
            expected[usize::from(*id)].extend_from_slice(bytes);
        }
        formatter.complete();
        let framed = formatter.take();
        prop_assert_eq!(deframe(&framed, cut), expected);
    }
}

struct Sources {
    bytes: Vec<Vec<u8>>,
}

impl tpiu::Sink for Sources {
    fn data(&mut self, id: tpiu::TraceId, bytes: &[u8], _: u64) {
        self.bytes[usize::from(id)].extend_from_slice(bytes);
    }
    fn loss(&mut self, at: Range<u64>, why: tpiu::Damage) {
        panic!("lost {at:?}: {why:?}");
    }
    fn synchronised(&mut self, _: Range<u64>) {}
}

fn deframe(bytes: &[u8], cut: usize) -> Vec<Vec<u8>> {
    let mut sources = Sources { bytes: vec![Vec::new(); 128] };
    let mut deframer = tpiu::Deframer::new(tpiu::Start::Anywhere);
    for chunk in bytes.chunks(cut) {
        deframer.push(chunk, &mut sources);
    }
    deframer.finish(&mut sources);
    sources.bytes
}

/// What a micro trace buffer wrote, as (source, destination, exceptional).
#[derive(Default)]
struct Jumps(Vec<(u32, u32, bool)>);

impl mtb::Sink for Jumps {
    fn packet(&mut self, _: Range<u64>, packet: mtb::Packet) {
        assert_eq!(packet.starts, self.0.is_empty(), "only the first one starts");
        self.0.push((packet.source, packet.destination, packet.exceptional));
    }

    fn unwritten(&mut self, at: Range<u64>) {
        panic!("unwritten at {at:?}");
    }

    fn erased(&mut self, at: Range<u64>) {
        panic!("erased at {at:?}");
    }

    fn cut_off(&mut self, at: Range<u64>) {
        panic!("cut off at {at:?}");
    }
}

#[test]
fn a_micro_trace_buffer_holds_every_jump_of_the_core() {
    const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");
    const BUFFER: u32 = 0x2001_0000;
    const SIZE: u32 = 0x8000;
    let program = Program::parse(FIRMWARE).unwrap();
    let mut machine = Machine::new(&program, Default::default()).unwrap();
    // Into the middle of things, where interrupts come and tasks switch.
    machine.run(3_000_000);
    machine.poke(0xe004_3000, 4, BUFFER - 0x2000_0000).unwrap();
    machine.poke(0xe004_3004, 4, 1 << 31 | SIZE.ilog2() - 4).unwrap();
    let mut expected = Vec::new();
    while expected.len() < 3900 {
        let before = machine.regs.pc;
        let handler = machine.regs.ipsr;
        let first = machine.peek(before, 2).unwrap();
        let length = if first >> 11 >= 0b11101 { 4 } else { 2 };
        let slept = machine.is_asleep();
        let instructions = machine.truth().instructions;
        machine.step().unwrap();
        let after = machine.regs.pc;
        if slept || after == before + length {
            continue;
        }
        // A step without an instruction entered an exception; one that left a handler returned.
        let executed = machine.truth().instructions > instructions;
        if !executed {
            expected.push((before, after, true));
        } else if machine.regs.ipsr == handler {
            expected.push((before, after, false));
        } else {
            // Its first half goes to the exception return value, which the next one comes from.
            expected.push((before, 0, false));
            expected.push((0, after, true));
        }
    }
    let position = machine.peek(0xe004_3000, 4).unwrap();
    assert_eq!(position, BUFFER - 0x2000_0000 + 8 * expected.len() as u32, "it has not wrapped");
    let words = (BUFFER..BUFFER + 8 * expected.len() as u32).step_by(4);
    let bytes: Vec<u8> =
        words.flat_map(|address| machine.peek(address, 4).unwrap().to_le_bytes()).collect();
    let (mut decoder, mut jumps) = (mtb::Decoder::new(), Jumps::default());
    decoder.push(&bytes, &mut jumps);
    decoder.finish(&mut jumps);
    // Only the machine knows the exception return values.
    let plain = |address: u32| if address >= 0xf000_0000 { 0 } else { address };
    let told: Vec<_> =
        jumps.0.into_iter().map(|(from, to, ex)| (plain(from), plain(to), ex)).collect();
    assert_eq!(told, expected);
    let exceptions = told.iter().filter(|jump| jump.2).count();
    assert!(exceptions > 20, "{exceptions} of them by exceptions");
}
