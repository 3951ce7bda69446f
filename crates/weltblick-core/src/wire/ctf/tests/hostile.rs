//! What somebody may have written to do harm.

use super::*;
use proptest::prelude::*;

fn why(text: &str) -> String {
    match Schema::parse("metadata", text) {
        Ok(_) => panic!("this reads: {}", &text[..text.len().min(200)]),
        Err(fault) => format!("{}: {}", fault.line, fault.message),
    }
}

#[test]
fn what_is_wrong_is_told_with_its_line() {
    let u8s = "typealias integer { size = 8; } := u8;\n";
    let fields =
        |inner: &str| format!("{u8s}event {{ name = e; fields := struct {{ {inner} }}; }};");
    for (text, expected) in [
        ("trace {", "1: this brace is never closed"),
        ("/* x", "1: this comment never ends"),
        ("event { name = \"x", "1: this text has no end on its line"),
        ("event { };", "1: an event needs its `name`"),
        ("\n\nzebra { };", "3: `zebra` is no block of metadata"),
        ("trace { byte_order = middle; };", "1: a byte order is `le`, `be`, `network` or `native`"),
        ("trace { major = 2; };", "1: version 1 of the format is read, no other"),
        ("trace { uuid = \"12\"; };", "1: a UUID is 32 hexadecimal digits in quotes"),
        ("clock { freq = 0; };", "1: a clock ticks at more than 0 Hz"),
        ("typealias integer { } := x;", "1: an integer needs its `size` in bits"),
        ("typealias integer { size = 0; } := x;", "1: `size` must lie between 1 and 65536"),
        (
            "typealias integer { size = 8; align = 3; } := x;",
            "1: an alignment must be a power of two",
        ),
        (
            "typealias integer { sise = 8; } := x;",
            "1: `sise` is no attribute here; did you mean `size`?",
        ),
        (
            "typealias integer { size = 8; map = clock.c.value; } := x;",
            "1: no clock `c` is declared before this",
        ),
        ("typealias a := a;", "1: no type `a` is declared before this"),
        ("struct a { struct a x; };", "1: no type `struct a` is declared before this"),
        (
            "event { name = e; stream_id = 4; };",
            "1: event `e` belongs to no stream that is declared",
        ),
        ("event { name = a; }; event { name = b; };", "1: stream 0 has two events of the number 0"),
        ("€", "1: this character has no place in metadata"),
        (
            "typealias integer { size = 99999999999999999999; } := x;",
            "1: this is no whole number below 2^64",
        ),
    ] {
        assert!(why(text).starts_with(expected), "{text}\n  {}\n  {expected}", why(text));
    }
    for (inner, expected) in [
        ("u8 a; u8 a;", "2: there are two fields `a`"),
        ("u9 a;", "2: no type `u9` is declared before this; did you mean `u8`?"),
        ("u8;", "2: `u8` needs a type and a name"),
        ("u8 a[b];", "2: there is no field `b` before this one"),
        ("u8 a[99999999999];", "2: an array of more than 2^32 elements"),
        ("string s; u8 a[s];", "2: the length of a sequence is an integer without sign"),
        ("u8 t; variant <t> { u8 a; } v;", "2: the tag of a variant is an enumeration"),
        ("variant { u8 a; } v;", "2: the variant `v` has no tag"),
        ("u8 a : 9;", "2: a bit-field of 1 to 8 bits"),
        ("enum : u8 { x = 3 ... 2 } a;", "2: the range of `x` ends before it starts"),
        ("enum { x } a;", "2: an enumeration needs its integer"),
    ] {
        let found = why(&fields(inner));
        assert!(found.starts_with(expected), "{inner}\n  {found}\n  {expected}");
    }
}

#[test]
fn nothing_is_nested_or_multiplied_without_end() {
    let deep = format!("event {{ name = e; fields := {}", "struct { ".repeat(100_000));
    assert!(why(&deep).contains("braces are nested more than 32 deep"));
    let mut doubled = String::from("struct s0 { integer { size = 1; } x; };\n");
    for level in 1..60 {
        let before = level - 1;
        doubled += &format!("struct s{level} {{ struct s{before} a; struct s{before} b; }};\n");
    }
    doubled += "event { name = e; fields := struct { struct s59 x; }; };";
    assert!(why(&doubled).contains("more than 131072 fields and labels"));
    let mut chained = String::from("struct s0 { integer { size = 1; } x; };\n");
    for level in 1..100 {
        chained += &format!("struct s{level} {{ struct s{} a; }};\n", level - 1);
    }
    chained += "event { name = e; fields := struct { struct s99 x; }; };";
    assert!(why(&chained).contains("fields are nested more than 64 deep"));
}

#[test]
fn arrays_of_nothing_take_no_time() {
    let schema = schema(
        "typealias integer { size = 8; } := u8;
         struct none { };
         event { name = e; fields := struct { u8 n; struct none a[4294967295][4294967295]; struct none b[n]; }; };",
    );
    assert_eq!(events(&read(&schema, &[1, 2, 3], 1)).len(), 3);
    let huge = super::schema(
        "typealias integer { size = 32; } := u32;
         event { name = e; fields := struct { u32 n; u32 a[n]; }; };",
    );
    let told = read(&huge, &[0xff; 3 << 20], 1 << 16);
    assert_eq!(told.last(), Some(&Told::Loss(0..3 << 20, Damage::EventSize)));
    let nothing = super::schema("event { name = e; fields := struct { }; };");
    assert_eq!(read(&nothing, &[1, 2], 1).last(), Some(&Told::Loss(0..2, Damage::EventSize)));
}

/// Words of the language in no order: pure noise never gets past the first.
fn babble() -> impl Strategy<Value = String> {
    let word = prop::sample::select(vec![
        "trace",
        "stream",
        "event",
        "clock",
        "struct",
        "variant",
        "enum",
        "integer",
        "string",
        "floating_point",
        "typealias",
        "typedef",
        "{",
        "}",
        "{",
        "}",
        ";",
        ";",
        ":=",
        "=",
        "[",
        "]",
        "<",
        ">",
        ":",
        ",",
        ".",
        "...",
        "name",
        "fields",
        "size",
        "align",
        "8",
        "1",
        "x",
        "y",
        "\"x\"",
        "packet.header",
        "event.header",
        "id",
        "(",
        ")",
        "-",
        "*",
        "struct { integer { size = 3; } x; }",
        "typealias integer { size = 8; } := x;",
        "event { name = x; fields := struct { x y; }; };",
    ]);
    prop::collection::vec(word, 0..60).prop_map(|words| words.join(" "))
}

const SMALL: &str = "
    typealias integer { size = 8; } := u8; typealias integer { size = 16; } := u16;
    trace { byte_order = be; packet.header := struct { integer { size = 32; } magic; }; };
    stream {
        packet.context := struct { u16 packet_size; u16 content_size; };
        event.header := struct { enum : u8 { a, b, more = 2 ... 9 } id; u8 timestamp; };
    };
    event { name = a; id = 0; fields := struct { u8 n; u16 list[n]; }; };
    event { name = b; id = 1; fields := struct { string s; integer { size = 3; } x; }; };
    event { name = c; id = 2; fields := struct { variant <stream.event.header.id> { u8 b; u16 more; } v; }; };";

proptest! {
    #[test]
    fn no_text_does_harm(text in babble(), noise in ".{0,40}") {
        let _ = Schema::parse("metadata", &text);
        let _ = Schema::parse("metadata", &noise);
    }

    #[test]
    fn every_byte_is_accounted_for(
        mut bytes in prop::collection::vec(prop_oneof![4 => 0_u8..4, 1 => any::<u8>()], 0..400),
        packets in prop::collection::vec((0_usize..400, 8_u8..60), 0..6),
        cut in 1_usize..50,
    ) {
        for (at, size) in packets {
            let head = [0xc1, 0xfc, 0x1f, 0xc1, 0, size * 4, 0, size * 4];
            if let Some(room) = bytes.get_mut(at..at + 8) {
                room.copy_from_slice(&head);
            }
        }
        let schema = schema(SMALL);
        let whole = read(&schema, &bytes, usize::MAX);
        let mut next = 0;
        for told in &whole {
            let (Told::Event { at, .. } | Told::Loss(at, _) | Told::Around(at)) = told else { continue };
            // Events may share a byte, and a loss may begin in the byte where one ended.
            prop_assert!(at.start == next || at.start + 1 == next, "{:?} after {}", told, next);
            next = at.end;
        }
        prop_assert_eq!(next, bytes.len() as u64, "{:?}", whole);
        prop_assert_eq!(read(&schema, &bytes, cut), whole, "where it was cut must not show");
    }
}
