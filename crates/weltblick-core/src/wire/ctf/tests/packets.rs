//! Packets, their headers, and what is missing between them.

use super::*;

/// A trace as tracers write them: short headers with few bits of time, long ones now and then.
const TRACE: &str = r#"/* CTF 1.8 */
typealias integer { size = 8; } := uint8_t;
typealias integer { size = 16; } := uint16_t;
typealias integer { size = 32; } := uint32_t;
typealias integer { size = 64; } := uint64_t;
trace {
    major = 1; minor = 8;
    uuid = "2a6422d0-6cee-11e0-8c08-cb07d7b3a564";
    byte_order = le;
    packet.header := struct { uint32_t magic; uint8_t uuid[16]; uint32_t stream_id; };
};
env { domain = "buoy"; };
clock { name = monotonic; freq = 1000000; precision = 2; offset_s = 3; offset = 7; };
typealias integer { size = 27; align = 1; map = clock.monotonic.value; } := short_time;
typealias integer { size = 64; align = 8; map = clock.monotonic.value; } := long_time;
stream {
    id = 3;
    packet.context := struct {
        long_time timestamp_begin; long_time timestamp_end;
        uint64_t content_size; uint64_t packet_size;
        uint16_t events_discarded; uint16_t packet_seq_num;
    };
    event.header := struct {
        enum : integer { size = 5; align = 1; } { compact = 0 ... 30, extended = 31 } id;
        variant <id> {
            struct { short_time timestamp; } compact;
            struct { uint32_t id; long_time timestamp; } extended;
        } v;
    } align(8);
    event.context := struct { uint8_t core; };
};
event { name = tick; id = 0; stream_id = 3; fields := struct { uint8_t n; }; };
event { name = tock; id = 77; stream_id = 3; context := struct { uint8_t c; }; fields := struct { string s; }; };
"#;

const UUID: [u8; 16] = [
    0x2a, 0x64, 0x22, 0xd0, 0x6c, 0xee, 0x11, 0xe0, 0x8c, 0x08, 0xcb, 0x07, 0xd7, 0xb3, 0xa5, 0x64,
];

struct Packet {
    discarded: u16,
    sequence: u16,
    begin: u64,
    events: Vec<Vec<u8>>,
    padding: usize,
}

impl Packet {
    fn of(sequence: u16, begin: u64, events: &[Vec<u8>]) -> Self {
        Self { discarded: 0, sequence, begin, events: events.to_vec(), padding: 3 }
    }

    fn bytes(&self) -> Vec<u8> {
        let content = self.events.concat();
        let header = 4 + 16 + 4 + 4 * 8 + 4;
        let size = (header + content.len()) as u64 * 8;
        let mut bytes = 0xc1fc_1fc1_u32.to_le_bytes().to_vec();
        bytes.extend(UUID);
        bytes.extend(3_u32.to_le_bytes());
        for long in [self.begin, self.begin + 1000, size, size + self.padding as u64 * 8] {
            bytes.extend(long.to_le_bytes());
        }
        bytes.extend(self.discarded.to_le_bytes());
        bytes.extend(self.sequence.to_le_bytes());
        assert_eq!(bytes.len(), header);
        bytes.extend(content);
        bytes.extend(vec![0xaa; self.padding]);
        bytes
    }
}

/// `tick`, with 27 bits of its time.
fn tick(time: u64, n: u8) -> Vec<u8> {
    let mut bytes = ((time as u32 & 0x7ff_ffff) << 5).to_le_bytes().to_vec();
    bytes.extend([9, n]);
    bytes
}

/// `tock`, with all of its time.
fn tock(time: u64, text: &str) -> Vec<u8> {
    let mut bytes = vec![31];
    bytes.extend(77_u32.to_le_bytes());
    bytes.extend(time.to_le_bytes());
    bytes.extend([9, 4]);
    bytes.extend(text.bytes().chain([0]));
    bytes
}

#[test]
fn headers_dates_and_contexts_are_read() {
    let start = 5 << 27;
    let near = start + (1 << 27) - 1;
    let far = start + (1 << 27) + 4;
    let events_written = [tick(near, 1), tick(far, 2), tock(1 << 40, "hé"), tick((1 << 40) + 6, 3)];
    let bytes = Packet::of(0, start, &events_written).bytes();
    let schema = schema(TRACE);
    for cut in [1, 2, 7, 64, 4096] {
        let told = read(&schema, &bytes, cut);
        let found = events(&told);
        let times: Vec<_> = found.iter().map(|event| event.1.unwrap()).collect();
        assert_eq!(times, [near, far, 1 << 40, (1 << 40) + 6], "cut in {cut}s");
        let (name, _, values) = found[2];
        let of = |name: &str| values.iter().rfind(|(path, _)| path == name).unwrap().1.clone();
        assert_eq!(name, "tock");
        assert_eq!(of("core"), Kept::Unsigned(9));
        assert_eq!(of("c"), Kept::Unsigned(4));
        assert_eq!(of("s"), Kept::Text("hé".into()));
        assert_eq!(of("v.extended.id"), Kept::Unsigned(77));
    }
    let clock = &schema.clocks()[0];
    assert_eq!((clock.hertz, clock.precision, clock.offset), (1_000_000, 2, 3_000_007));
    let tock = &schema.events()[1];
    let named = |path: &str| schema.find_field(tock, path).map(|n| schema.field(n).path.clone());
    assert_eq!(named("s").as_deref(), Some("s"));
    assert_eq!(named("core").as_deref(), Some("core"));
    assert_eq!(named("packet_seq_num").as_deref(), Some("packet_seq_num"));
    assert_eq!(named("sx"), None);
}

#[test]
fn counters_say_what_is_missing() {
    let packet =
        |sequence, discarded| Packet { discarded, ..Packet::of(sequence, 0, &[tick(5, 1)]) };
    // The counters have 16 bits.
    let packets = [packet(65_534, 65_530), packet(65_535, 65_530), packet(0, 4), packet(3, 4)];
    let bytes = packets.map(|packet| packet.bytes()).concat();
    let told = read(&schema(TRACE), &bytes, 50);
    let missing: Vec<_> = told
        .iter()
        .filter_map(|told| match told {
            Told::Missing(_, what) => Some(*what),
            _ => None,
        })
        .collect();
    assert_eq!(missing, [Missing::Events(65_530), Missing::Events(10), Missing::Packets(2)]);
    assert_eq!(events(&told).len(), 4);
}

#[test]
fn damage_costs_its_packet_and_no_other() {
    let good = |n| Packet::of(n, 0, &[tick(5, n as u8)]).bytes();
    let schema = schema(TRACE);
    let case = |middle: Vec<u8>, why: Damage, lost: Range<u64>| {
        let before = good(0);
        let start = before.len() as u64;
        let bytes = [before, middle, good(2)].concat();
        for cut in [1, 9, 4096] {
            let told = read(&schema, &bytes, cut);
            let losses: Vec<_> = told
                .iter()
                .filter_map(|told| match told {
                    Told::Loss(at, why) => Some((at.start - start..at.end - start, *why)),
                    _ => None,
                })
                .collect();
            assert_eq!(losses, [(lost.clone(), why)], "cut in {cut}s");
            let numbers = events(&told).into_iter().filter(|event| event.0 == "tick");
            assert!(numbers.count() >= 2, "both neighbours are read");
        }
    };
    let changed = |at: usize, to: u8| {
        let mut bytes = good(1);
        bytes[at] = to;
        bytes
    };
    let len = good(1).len() as u64;
    case(changed(0, 0), Damage::NoMagic, 0..len);
    case(changed(6, 1), Damage::Foreign, 0..len);
    case(changed(20, 9), Damage::UnknownStream, 0..len);
    // A content of nothing.
    case(changed(41, 0), Damage::PacketSize, 0..len);
    // An event of number 7, behind a good header.
    case(changed(60, 7), Damage::UnknownEvent, 60..len);
    // The last event lacks its last byte: the content ends before.
    let short = Packet { events: vec![tick(5, 1)[..5].to_vec()], ..Packet::of(1, 0, &[]) };
    case(short.bytes(), Damage::Overrun, 60..60 + 5 + 3);
    // What the connection swallowed.
    let told = read(&schema, &good(1)[..62], 5);
    assert_eq!(told.last(), Some(&Told::Loss(60..62, Damage::CutOff)));
}

#[test]
fn a_file_without_packets_is_one() {
    let schema = schema(
        "trace { byte_order = be; };
         typealias integer { size = 16; } := u16;
         stream { event.header := struct { u16 timestamp; }; };
         event { name = beat; fields := struct { u16 rate; }; };",
    );
    let told = read(&schema, &[0, 1, 0, 60, 0xff, 0, 0, 61, 0, 3, 0, 62, 0, 4, 0], 2);
    let times: Vec<_> = events(&told).into_iter().map(|event| event.1).collect();
    assert_eq!(times, [Some(1), Some(0xff00), Some(0x1_0003)]);
    assert_eq!(told.last(), Some(&Told::Loss(12..15, Damage::CutOff)));
    assert!(schema.clock_of(&schema.events()[0]).is_none(), "nothing says how fast it ticks");
}

/// A trace whose events tell 16 bits of the time, and no more; packets tell when they end.
const SHORT: &str = r#"/* CTF 1.8 */
typealias integer { size = 8; } := uint8_t;
typealias integer { size = 64; } := uint64_t;
trace { major = 1; minor = 8; byte_order = le; };
clock { name = ticks; freq = 1000000; };
typealias integer { size = 16; map = clock.ticks.value; } := short_time;
typealias integer { size = 64; map = clock.ticks.value; } := long_time;
stream {
    packet.context := struct {
        long_time timestamp_begin; long_time timestamp_end; uint64_t content_size; uint64_t packet_size;
    };
    event.header := struct { uint8_t id; short_time timestamp; };
};
event { name = tick; id = 0; fields := struct { uint8_t n; }; };
"#;

#[test]
fn a_packet_that_ends_wraps_after_its_last_event_says_so() {
    let packet = |begin: u64, end: u64, stamps: &[u16]| {
        let size = 8 * (32 + 4 * stamps.len() as u64);
        let mut bytes = [begin, end, size, size].map(u64::to_le_bytes).concat();
        for stamp in stamps {
            bytes.push(0);
            bytes.extend(stamp.to_le_bytes());
            bytes.push(1);
        }
        bytes
    };
    let missing = |bytes: &[u8], cut: usize| -> Vec<Missing> {
        let told = read(&schema(SHORT), bytes, cut);
        let missing = told.iter().filter_map(|told| match told {
            Told::Missing(_, what) => Some(*what),
            _ => None,
        });
        missing.collect()
    };
    // The second event came one wrap after the first, or two: the end leaves room for that.
    let whole = packet(1000, 1000 + 2 * 65_536, &[1010, 1005]);
    let short = packet(1000, 1000 + 3 * 65_536, &[1010, 1005]);
    for cut in [1, 16, 4096] {
        assert_eq!(missing(&whole, cut), []);
        assert_eq!(missing(&short, cut), [Missing::Wraps(1)]);
        let both = [short.clone(), whole.clone()].concat();
        assert_eq!(missing(&both, cut), [Missing::Wraps(1)]);
    }
    // Where events have a longer form, the tracer would have used it.
    let events_written = [tick(5, 1)];
    let mut longer = Packet::of(0, 0, &events_written).bytes();
    let end = 4 + 16 + 4 + 8;
    longer[end..end + 8].copy_from_slice(&(1_u64 << 40).to_le_bytes());
    let told = read(&schema(TRACE), &longer, 4096);
    assert!(!told.iter().any(|told| matches!(told, Told::Missing(..))));
}
