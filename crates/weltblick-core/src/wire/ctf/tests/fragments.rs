//! Descriptions of version 2, and packets that they describe, written here by hand.

use super::{Kept, Told, events, read, schema};
use crate::wire::ctf::{Damage, Missing, Schema};
use proptest::prelude::*;
use serde_json::{Value, json};

/// Fragments as a metadata stream has them.
fn text(fragments: &[Value]) -> String {
    fragments.iter().map(|fragment| format!("\u{1e}{fragment:#}\n")).collect()
}

fn unsigned(length: u64, roles: &[&str]) -> Value {
    json!({
        "type": "fixed-length-unsigned-integer", "length": length, "alignment": 8,
        "byte-order": "little-endian", "roles": roles,
    })
}

fn structure(members: &[(&str, Value)]) -> Value {
    let members: Vec<Value> =
        members.iter().map(|(name, class)| json!({"name": name, "field-class": class})).collect();
    json!({"type": "structure", "member-classes": members})
}

/// The fragments before the first event.
fn head() -> Vec<Value> {
    let uuid: Vec<u8> = (0..16).collect();
    vec![
        json!({"type": "preamble", "version": 2, "uuid": uuid}),
        json!({"type": "field-class-alias", "name": "byte", "field-class": unsigned(8, &[])}),
        json!({"type": "trace-class", "packet-header-field-class": structure(&[
            ("first", unsigned(32, &["packet-magic-number"])),
            ("whose", json!({"type": "static-length-blob", "length": 16,
                "roles": ["metadata-stream-uuid"]})),
            ("kind", unsigned(8, &["data-stream-class-id"])),
        ])}),
        json!({"type": "clock-class", "id": "c", "name": "ticks", "frequency": 1_000_000,
            "precision": 2, "origin": "unix-epoch",
            "offset-from-origin": {"seconds": 5, "cycles": -3}}),
        json!({"type": "data-stream-class", "id": 7, "default-clock-class-id": "c",
        "packet-context-field-class": structure(&[
            ("from", unsigned(64, &["default-clock-timestamp"])),
            ("to", unsigned(64, &["packet-end-default-clock-timestamp"])),
            ("used", unsigned(32, &["packet-content-length"])),
            ("whole", unsigned(32, &["packet-total-length"])),
            ("lost", unsigned(8, &["discarded-event-record-counter-snapshot"])),
            ("number", unsigned(8, &["packet-sequence-number"])),
        ]),
        "event-record-header-field-class": structure(&[
            ("which", unsigned(8, &["event-record-class-id"])),
            ("when", unsigned(16, &["default-clock-timestamp"])),
        ])}),
    ]
}

fn event(id: u64, name: &str, payload: &Value) -> Value {
    json!({"type": "event-record-class", "id": id, "data-stream-class-id": 7, "name": name,
        "payload-field-class": payload})
}

/// A packet that begins and ends at these times, by what it says of itself.
fn packet([from, to]: [u64; 2], [lost, number]: [u8; 2], body: &[u8]) -> Vec<u8> {
    let mut bytes = 0xc1fc_1fc1_u32.to_le_bytes().to_vec();
    bytes.extend(0..16);
    bytes.push(7);
    bytes.extend(from.to_le_bytes());
    bytes.extend(to.to_le_bytes());
    let bits = (bytes.len() + 4 + 4 + 2 + body.len()) as u32 * 8;
    // Two bytes fill it up.
    [bits, bits + 16].iter().for_each(|bits| bytes.extend(bits.to_le_bytes()));
    bytes.extend([lost, number]);
    bytes.extend(body);
    bytes.extend([0xee; 2]);
    bytes
}

#[test]
fn roles_say_what_the_format_uses_a_field_for() {
    let mut fragments = head();
    fragments.push(event(1, "beat", &structure(&[("rate", json!("byte"))])));
    let schema = schema(&text(&fragments));
    let clock = &schema.clocks()[0];
    assert_eq!((clock.hertz, clock.precision, clock.offset), (1_000_000, 2, 4_999_997));
    let one = packet([0x1_fff0, 0x2_0005], [0, 0], &[1, 0xf8, 0xff, 60, 1, 2, 0, 61]);
    let two = packet([0x2_0010, 0x2_0020], [4, 2], &[1, 0x11, 0, 62]);
    let bytes = [one, two].concat();
    let told = read(&schema, &bytes, usize::MAX);
    assert_eq!(read(&schema, &bytes, 3), told, "where it was cut");
    let heard: Vec<(Option<u64>, Kept)> = events(&told)
        .into_iter()
        .map(|(_, time, all)| (time, all.last().unwrap().1.clone()))
        .collect();
    // Short timestamps go on from the packet's begin, and wrap.
    assert_eq!(
        heard,
        [
            (Some(0x1_fff8), Kept::Unsigned(60)),
            (Some(0x2_0002), Kept::Unsigned(61)),
            (Some(0x2_0011), Kept::Unsigned(62)),
        ]
    );
    let missing: Vec<&Missing> = told
        .iter()
        .filter_map(|told| match told {
            Told::Missing(_, what) => Some(what),
            _ => None,
        })
        .collect();
    assert_eq!(missing, [&Missing::Packets(1), &Missing::Events(4)]);
    // Another trace's packet.
    let mut foreign = bytes;
    foreign[4] = 99;
    assert!(
        read(&schema, &foreign, 7)
            .iter()
            .any(|told| matches!(told, Told::Loss(_, Damage::Foreign)))
    );
}

/// What an event of one kind, with this payload and these bytes, says.
fn values(payload: &Value, bytes: &[u8]) -> Vec<(String, Kept)> {
    let mut fragments = head();
    fragments.push(event(1, "it", payload));
    let schema = schema(&text(&fragments));
    let body = [&[1, 0, 0][..], bytes].concat();
    let told = read(&schema, &packet([0, 9], [0, 0], &body), 5);
    let all = events(&told);
    let [(_, _, values)] = all[..] else { panic!("{told:?}") };
    let own = |(path, _): &&(String, Kept)| {
        ![
            "first", "whose", "kind", "from", "to", "used", "whole", "lost", "number", "which",
            "when",
        ]
        .contains(&path.as_str())
    };
    values.iter().filter(own).cloned().collect()
}

fn named(values: &[(&str, Kept)]) -> Vec<(String, Kept)> {
    values.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect()
}

#[test]
fn numbers_of_any_length() {
    let variable = |signed: &str| json!({"type": format!("variable-length-{signed}-integer")});
    let payload = structure(&[
        ("a", variable("unsigned")),
        ("b", variable("signed")),
        ("c", variable("signed")),
        (
            "d",
            json!({"type": "fixed-length-signed-integer", "length": 12, "byte-order": "big-endian"}),
        ),
        ("e", json!({"type": "fixed-length-boolean", "length": 4, "byte-order": "big-endian"})),
        (
            "f",
            json!({"type": "fixed-length-floating-point-number", "length": 32, "alignment": 8,
            "byte-order": "big-endian"}),
        ),
        ("g", variable("unsigned")),
    ]);
    let mut bytes = vec![0xe5, 0x8e, 0x26, 0x7f, 0xc0, 0xbb, 0x78, 0xff, 0xe1];
    bytes.extend(1.5_f32.to_be_bytes());
    bytes.extend([0xff; 9]);
    bytes.push(1);
    assert_eq!(
        values(&payload, &bytes),
        named(&[
            ("a", Kept::Unsigned(624_485)),
            ("b", Kept::Signed(-1)),
            ("c", Kept::Signed(-123_456)),
            ("d", Kept::Signed(-2)),
            ("e", Kept::Unsigned(1)),
            ("f", Kept::Float(1.5)),
            ("g", Kept::Unsigned(u64::MAX)),
        ])
    );
}

#[test]
fn texts_arrays_and_blobs() {
    let location = |path: &Value| json!({"path": path});
    let payload = structure(&[
        ("n", json!("byte")),
        ("a", json!({"type": "null-terminated-string"})),
        ("b", json!({"type": "static-length-string", "length": 4})),
        (
            "c",
            json!({"type": "dynamic-length-string", "length-field-location": location(&json!(["n"]))}),
        ),
        (
            "d",
            structure(&[
                ("n", json!("byte")),
                // One structure further out.
                (
                    "e",
                    json!({"type": "dynamic-length-array", "element-field-class": "byte",
                "length-field-location": location(&json!([null, "n"]))}),
                ),
                (
                    "f",
                    json!({"type": "dynamic-length-blob",
                "length-field-location": {"origin": "event-record-payload", "path": ["d", "n"]}}),
                ),
            ]),
        ),
    ]);
    let bytes = [&[3][..], b"wave\0", b"hi\0\0", b"abc", &[1, 7, 8, 9, 42]].concat();
    let text = |text: &str| Kept::Text(text.to_owned());
    assert_eq!(
        values(&payload, &bytes),
        named(&[
            ("n", Kept::Unsigned(3)),
            ("a", text("wave")),
            ("b", text("hi")),
            ("c", text("abc")),
            ("d.n", Kept::Unsigned(1)),
            ("d.e", Kept::Unsigned(7)),
            ("d.e", Kept::Unsigned(8)),
            ("d.e", Kept::Unsigned(9)),
            ("d.f", Kept::Unsigned(42)),
        ])
    );
}

#[test]
fn options_and_what_may_be_there() {
    let tag = json!({"path": ["tag"]});
    let labelled = json!({"type": "fixed-length-signed-integer", "length": 8, "byte-order":
        "little-endian", "mappings": {"cold": [[-128, -1]], "warm": [[0, 20], [30, 30]]}});
    let payload = structure(&[
        ("tag", labelled),
        (
            "reading",
            json!({"type": "variant", "selector-field-location": tag, "options": [
                {"name": "low", "field-class": "byte", "selector-field-ranges": [[-128, -1]]},
                {"name": "high", "field-class": unsigned(16, &[]), "selector-field-ranges": [[0, 127]]},
            ]}),
        ),
        (
            "more",
            json!({"type": "optional", "selector-field-location": tag,
            "selector-field-ranges": [[5, 9]], "field-class": structure(&[("x", json!("byte"))])}),
        ),
        (
            "last",
            json!({"type": "optional", "selector-field-location": tag, "field-class": "byte"}),
        ),
    ]);
    let of = |bytes: &[u8]| -> Vec<String> {
        let told = values(&payload, bytes);
        told.into_iter().map(|(path, value)| format!("{path} {value:?}")).collect()
    };
    assert_eq!(
        of(&[0xfe, 3, 4]),
        ["tag Signed(-2)", "reading.low Unsigned(3)", "last Unsigned(4)"]
    );
    assert_eq!(
        of(&[6, 1, 2, 3, 4]),
        ["tag Signed(6)", "reading.high Unsigned(513)", "more.x Unsigned(3)", "last Unsigned(4)"]
    );
    assert_eq!(of(&[0, 1, 0]), ["tag Signed(0)", "reading.high Unsigned(1)"]);
}

#[test]
fn what_cannot_be_read_is_named_with_its_line() {
    let fault = |fragments: &[Value]| Schema::parse("metadata", &text(fragments)).unwrap_err();
    let with = |class: Value| {
        let mut fragments = head();
        fragments.push(event(1, "it", &structure(&[("x", class)])));
        fault(&fragments).message
    };
    for (class, why) in [
        (json!("nobody"), "no field class `nobody` is declared before this"),
        (json!({"type": "quaternion"}), "no field class has the type `quaternion`"),
        (json!({"type": "static-length-string"}), "`length` is missing"),
        (
            json!({"type": "null-terminated-string", "encoding": "utf-16le"}),
            "texts in `utf-16le` are not read",
        ),
        (json!({"type": "fixed-length-unsigned-integer", "length": 8}), "`byte-order` is missing"),
        (
            json!({"type": "fixed-length-unsigned-integer", "length": 8, "byte-order": "little-endian",
            "bit-order": "last-to-first"}),
            "the bit order `last-to-first` of these bytes is not read",
        ),
        (
            json!({"type": "fixed-length-unsigned-integer", "length": 8, "byte-order": "little-endian",
            "alignment": 12}),
            "`alignment` must be a power of two",
        ),
        (
            json!({"type": "dynamic-length-string", "length-field-location": {"path": ["n"]}}),
            "there is no field `n` before this one",
        ),
        (
            json!({"type": "dynamic-length-string", "length-field-location": {"origin": "moon", "path": ["n"]}}),
            "no field location begins at `moon`",
        ),
        (
            json!({"type": "fixed-length-unsigned-integer", "length": 8, "byte-order": "little-endian",
            "mappings": {"a": [3]}}),
            "ranges of numbers are a list of pairs",
        ),
    ] {
        let found = with(class);
        assert!(found.contains(why), "{found}");
    }
    let mut fragments = head();
    fragments.remove(0);
    assert!(fault(&fragments).message.contains("begins with one fragment of the type `preamble`"));
    let mut fragments = head();
    fragments[0]["version"] = json!(3);
    assert!(fault(&fragments).message.contains("version 3 of the format is unknown"));
    let mut fragments = head();
    fragments[0]["extensions"] = json!({"fast.packets": {}});
    assert!(fault(&fragments).message.contains("an extension that is unknown: `fast.packets`"));
    let mut fragments = head();
    fragments.push(json!({"type": "weather"}));
    let found = fault(&fragments);
    assert_eq!(found.message, "no fragment has the type `weather`");
    assert!(found.line > 60, "{found}");
    let broken = format!("{}\u{1e}{{\n  \"type\": oops\n}}", text(&head()));
    let found = Schema::parse("metadata", &broken).unwrap_err();
    assert!(found.message.starts_with("no JSON fragment"), "{found}");
}

/// Fragments in which any key or value may be another.
fn broken(changes: &[(usize, u8)]) -> String {
    let mut fragments = head();
    let payload = structure(&[
        ("n", json!("byte")),
        ("t", json!({"type": "dynamic-length-string", "length-field-location": {"path": ["n"]}})),
        (
            "v",
            json!({"type": "optional", "selector-field-location": {"path": ["n"]}, "field-class": "byte"}),
        ),
    ]);
    fragments.push(event(1, "it", &payload));
    let mut bytes = text(&fragments).into_bytes();
    for (at, byte) in changes {
        let at = at % bytes.len();
        bytes[at] = *byte;
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

proptest! {
    #[test]
    fn any_text_and_any_bytes_do_no_harm(
        changes in prop::collection::vec((any::<usize>(), 32_u8..127), 0..6),
        body in prop::collection::vec(any::<u8>(), 0..80),
    ) {
        if let Ok(schema) = Schema::parse("metadata", &broken(&changes)) {
            let bytes = packet([0, 9], [0, 0], &body);
            let told = read(&schema, &bytes, usize::MAX);
            prop_assert_eq!(read(&schema, &bytes, 3), told);
        }
    }
}
