//! The trace unit through its registers, and its encoder by the manual's figures.

use weltblick_standin::Model;
use weltblick_standin::trace::itm::{self, Encoded};
use weltblick_standin::trace::{Link, TraceUnit};

const DEMCR: u32 = 0xe000_edfc;
const DWT_CTRL: u32 = 0xe000_1000;
const CYCCNT: u32 = 0xe000_1004;
const ITM_TCR: u32 = 0xe000_0e80;
const ITM_TER: u32 = 0xe000_0e00;

/// A unit on a link that never fills.
fn unit(writes: &[(u32, u32)]) -> TraceUnit {
    let mut unit =
        TraceUnit::new(Link::new(1_000_000, 1_000_000_000, 1 << 20), 1_000_000, Model::default());
    for &(address, value) in writes {
        unit.write(address, 4, value, 0).unwrap();
    }
    unit
}

fn sent(mut unit: TraceUnit) -> Vec<u8> {
    unit.finish()
}

fn bytes(packets: &[Encoded]) -> Vec<u8> {
    packets.iter().flat_map(|packet| packet.as_slice()).copied().collect()
}

/// Everything on: samples every 64 cycles, exceptions, no synchronisation.
const ON: [(u32, u32); 4] =
    [(DEMCR, 1 << 24), (ITM_TER, 1), (ITM_TCR, 0b1001), (DWT_CTRL, 1 | 1 << 12 | 1 << 16)];

#[test]
fn samples_come_at_their_period_awake_and_asleep() {
    let mut unit = unit(&ON);
    unit.advance(65, Some(0x0800_0100));
    unit.advance(130, Some(0x0800_0102));
    unit.advance(330, None);
    let expected = [
        itm::pc_sample(0x0800_0100),
        itm::pc_sample(0x0800_0102),
        itm::asleep(),
        itm::asleep(),
        itm::asleep(),
    ];
    assert_eq!(sent(unit), bytes(&expected));
}

#[test]
fn the_reload_and_the_tap_set_the_period() {
    for (control, period) in
        [(0, 64), (1 << 1, 128), (15 << 1, 1024), (1 << 9, 1024), (1 << 9 | 3 << 1, 4096)]
    {
        let mut unit = unit(&[ON[0], ON[2], (DWT_CTRL, 1 | 1 << 12 | control)]);
        unit.advance(10 * period + 1, None);
        assert_eq!(sent(unit).len(), 2 * 10, "{control:#x}");
    }
}

#[test]
fn nothing_comes_out_unless_every_gate_is_open() {
    for (closed, _) in ON {
        let mut unit = unit(&[]);
        for (address, value) in ON {
            let value = if address == closed { 0 } else { value };
            unit.write(address, 4, value, 0).unwrap();
        }
        unit.advance(1000, Some(0x100));
        unit.exception(1000, 15, 1);
        unit.write(0xe000_0000, 1, 0x41, 1000).unwrap();
        let out = sent(unit);
        match closed {
            // Without its port enabled only the text is missing, without the DWT only the rest.
            ITM_TER => assert!(!out.is_empty() && !out.ends_with(&[0x01, 0x41])),
            DWT_CTRL => assert_eq!(out, [0x01, 0x41]),
            _ => assert!(out.is_empty(), "{closed:#x}"),
        }
    }
}

#[test]
fn timestamps_follow_their_packets_in_ticks() {
    for (prescaler, divisor) in [(0, 1), (1, 4), (2, 16), (3, 64)] {
        let mut unit = unit(&[ON[0], (ITM_TCR, 0b1011 | prescaler << 8), (DWT_CTRL, 1 | 1 << 16)]);
        unit.exception(640, 15, 1);
        unit.exception(1280, 15, 2);
        let ticks = 640 / divisor;
        let expected = [
            itm::exception(15, 1),
            itm::local_timestamp(ticks, 0),
            itm::exception(15, 2),
            itm::local_timestamp(ticks, 0),
        ];
        assert_eq!(sent(unit), bytes(&expected), "/{divisor}");
    }
}

#[test]
fn packets_of_one_cycle_share_a_timestamp() {
    let mut unit = unit(&[ON[0], (ITM_TCR, 0b1011), (DWT_CTRL, 1 | 1 << 16)]);
    unit.exception(100, 15, 2);
    unit.exception(100, 0, 3);
    let expected = [itm::exception(15, 2), itm::exception(0, 3), itm::local_timestamp(100, 0)];
    assert_eq!(sent(unit), bytes(&expected));
}

#[test]
fn a_full_buffer_delays_the_timestamp_and_then_drops() {
    // 100 cycles per byte, room for 8 bytes.
    let mut unit = TraceUnit::new(Link::new(1_000_000, 100_000, 8), 1_000_000, Model::default());
    for (address, value) in [ON[0], (ITM_TCR, 0b1011), (DWT_CTRL, 1 | 1 << 16)] {
        unit.write(address, 4, value, 0).unwrap();
    }
    unit.exception(10, 15, 1);
    unit.exception(20, 15, 2); // its timestamp has to wait
    unit.exception(5000, 16, 1);
    let dropped = unit.dropped;
    let out = sent(unit);
    let first = [itm::exception(15, 1), itm::local_timestamp(10, 0)];
    assert!(out.starts_with(&bytes(&first)), "{out:02x?}");
    assert!(out.contains(&0xd0), "a delayed timestamp: {out:02x?}");
    assert_eq!(dropped, 0);
}

#[test]
fn global_timestamps_stand_beside_synchronisations() {
    let mut unit = unit(&[ON[0], (ITM_TCR, 0b1101 | 1 << 10), (DWT_CTRL, 1 | 1 << 10)]);
    unit.advance(1, Some(0));
    let expected = [
        itm::synchronisation(),
        itm::global_timestamp_low(0, true, true),
        itm::global_timestamp_high(0, false),
    ];
    assert_eq!(sent(unit), bytes(&expected));
}

#[test]
fn registers_read_back_and_the_counter_counts() {
    let mut unit = unit(&ON);
    // The upper bits say what is built in.
    assert_eq!(unit.read(DWT_CTRL, 0).map(|value| value & 0x007f_ffff), Some(ON[3].1));
    assert_eq!((unit.read(DEMCR, 0), unit.read(ITM_TER, 0)), (Some(1 << 24), Some(1)));
    assert_eq!(unit.read(CYCCNT, 1234), Some(1234));
    unit.write(CYCCNT, 4, 10, 2000).unwrap();
    assert_eq!(unit.read(CYCCNT, 2005), Some(15));
    unit.write(DWT_CTRL, 4, 0, 2010).unwrap();
    assert_eq!(unit.read(CYCCNT, 9999), Some(20), "stopped");
    assert_eq!(unit.read(0x4000_0000, 0), None);
    assert_eq!(unit.write(0x4000_0000, 4, 0, 0), None);
}

#[test]
fn encodes_as_the_manual_draws() {
    for (packet, expected) in [
        (itm::synchronisation(), &[0, 0, 0, 0, 0, 0x80][..]),
        (itm::overflow(), &[0x70]),
        (itm::local_timestamp(6, 0), &[0x60]),
        (itm::local_timestamp(7, 0), &[0xc0, 0x07]),
        (itm::local_timestamp(1, 2), &[0xe0, 0x01]),
        (itm::local_timestamp(0x0fff_ffff, 3), &[0xf0, 0xff, 0xff, 0xff, 0x7f]),
        (itm::stimulus(31, 2, 0x1234), &[0xfa, 0x34, 0x12]),
        (itm::pc_sample(0x0800_1234), &[0x17, 0x34, 0x12, 0x00, 0x08]),
        (itm::exception(0x1ff, 3), &[0x0e, 0xff, 0x31]),
        (itm::data_value(3, true, 1, 7), &[0xbd, 7]),
        (itm::data_address(2, 0xabcd), &[0x6e, 0xcd, 0xab]),
        (itm::extension(2, false), &[0x28]),
        (itm::global_timestamp_high(1 << 47, false), &[0xb4, 0x80, 0x80, 0x80, 0x01]),
    ] {
        assert_eq!(packet.as_slice(), expected);
    }
}

/// `DWT_COMP0`, `DWT_MASK0`, `DWT_FUNCTION0`; `TPIU_ACPR`, `TPIU_FFCR`.
const COMPARATOR: [u32; 3] = [0xe000_1020, 0xe000_1024, 0xe000_1028];
const DIVISOR: u32 = 0xe004_0010;
const FORMATTER: u32 = 0xe004_0304;

#[test]
fn comparators_send_what_their_function_says() {
    for (function, write, expected) in [
        (0b1101, true, vec![itm::data_value(0, true, 4, 7)]),
        (0b1101, false, vec![]),
        (0b1100, false, vec![itm::data_value(0, false, 4, 7)]),
        (0b0010, false, vec![itm::data_value(0, false, 4, 7)]),
        (0b0001, true, vec![itm::data_pc(0, 0x0800_0100)]),
        (0b1111, true, vec![itm::data_pc(0, 0x0800_0100), itm::data_value(0, true, 4, 7)]),
        (0b10_1101, true, vec![itm::data_address(0, 0x12), itm::data_value(0, true, 4, 7)]),
        (0, true, vec![]),
    ] {
        let mut unit = unit(&[ON[0], ON[1], (ITM_TCR, 1 | 1 << 3)]);
        for (register, value) in COMPARATOR.into_iter().zip([0x2000_0010, 2, function]) {
            unit.write(register, 4, value, 0).unwrap();
        }
        assert_eq!(unit.watches(), function != 0);
        unit.accessed(10, 0x0800_0100, 0x2000_0012, 4, 7, write);
        // The next word is not watched.
        unit.accessed(11, 0x0800_0100, 0x2000_0014, 4, 7, write);
        assert_eq!(sent(unit), bytes(&expected), "function {function:#b}, write {write}");
    }
}

#[test]
fn the_divisor_sets_the_pace() {
    let mut unit = TraceUnit::new(Link::new(1_000_000, 1_000_000, 8), 1_000_000, Model::default());
    assert_eq!(unit.bit_rate(), None);
    unit.write(DIVISOR, 4, 99, 0).unwrap();
    assert_eq!((unit.bit_rate(), unit.read(DIVISOR, 0)), (Some(10_000), Some(99)));
    for (register, value) in [ON[0], (ITM_TER, 1), (ITM_TCR, 1)] {
        unit.write(register, 4, value, 0).unwrap();
    }
    // Five bytes take 5000 cycles now: of three writes at once, one fits the buffer of eight bytes.
    for _ in 0..3 {
        unit.write(0xe000_0000, 4, 1, 10);
    }
    assert_eq!((unit.sent, unit.dropped), (1, 2));
}

#[test]
fn frames_go_around_the_packets_when_they_are_switched_on() {
    let mut unit = unit(&[ON[0], (FORMATTER, 0x102), (ITM_TER, 1), (ITM_TCR, 1)]);
    assert!(unit.framed());
    unit.write(0xe000_0000, 1, 0x41, 10);
    let framed = sent(unit);
    assert!(framed.starts_with(&[0xff, 0xff, 0xff, 0x7f]), "{framed:02x?}");
    assert_eq!(framed.len(), 4 + 16);
    assert_eq!(framed[4], 1 << 1 | 1, "the ITM is source 1");
}
