//! Every type, at every place.

use super::*;
use proptest::prelude::*;

/// A field, and what it holds.
#[derive(Debug, Clone)]
enum Any {
    Integer { size: usize, align: usize, signed: bool, big: bool, value: u64 },
    Single(f32),
    Double(f64),
    Text(String),
    Characters(String),
    Array { size: usize, values: Vec<u64> },
    Sequence { size: usize, values: Vec<u64> },
    Choice { number: bool, value: u64 },
    Struct { align: usize, members: Vec<Any> },
}

fn masked(value: u64, size: usize) -> u64 {
    value & (u64::MAX >> (64 - size))
}

fn extended(value: u64, size: usize) -> i64 {
    (value << (64 - size)) as i64 >> (64 - size)
}

impl Any {
    /// Its declaration; what is declared before it may be needed by it.
    fn declare(&self, name: &str, text: &mut String) {
        let bit_array = |size| format!("integer {{ size = {size}; align = 1; }}");
        text.push_str(&match self {
            Self::Integer { size, align, signed, big, .. } => format!(
                "integer {{ size = {size}; align = {align}; signed = {signed}; byte_order = {}; }} {name};\n",
                if *big { "be" } else { "le" },
            ),
            Self::Single(_) => {
                format!("floating_point {{ exp_dig = 8; mant_dig = 24; align = 8; }} {name};\n")
            }
            Self::Double(_) => format!(
                "floating_point {{ exp_dig = 11; mant_dig = 53; align = 32; byte_order = be; }} {name};\n"
            ),
            Self::Text(_) => format!("string {name};\n"),
            Self::Characters(text) => format!(
                "integer {{ size = 8; encoding = UTF8; }} {name}[{}];\n",
                text.len() + 2
            ),
            Self::Array { size, values } => {
                format!("{} {name}[{}];\n", bit_array(*size), values.len())
            }
            Self::Sequence { size, .. } => format!(
                "integer {{ size = 16; }} {name}_len; {} {name}[{name}_len];\n",
                bit_array(*size)
            ),
            Self::Choice { .. } => format!(
                "enum : integer {{ size = 3; align = 1; signed = true; }} {{ number = -4 ... -2, words }} {name}_tag;
                 variant <{name}_tag> {{ integer {{ size = 24; }} number; string words; }} {name};\n"
            ),
            Self::Struct { align, members } => {
                let mut inner = String::new();
                for (number, member) in members.iter().enumerate() {
                    member.declare(&format!("f{number}"), &mut inner);
                }
                format!("struct {{\n{inner}}} align({align}) {name};\n")
            }
        });
    }

    fn alignment(&self) -> usize {
        match self {
            Self::Integer { align, .. } => *align,
            Self::Single(_) | Self::Text(_) | Self::Characters(_) | Self::Sequence { .. } => 8,
            Self::Double(_) => 32,
            Self::Array { .. } | Self::Choice { .. } => 1,
            Self::Struct { align, members } => {
                members.iter().map(Self::alignment).fold(*align, usize::max)
            }
        }
    }

    /// Its bits, and what is to be read from them.
    fn write(&self, path: &str, pen: &mut Pen, read: &mut Vec<(String, Kept)>) {
        let mut told = |path: &str, kept| read.push((path.to_owned(), kept));
        match self {
            Self::Integer { size, align, signed, big, value } => {
                pen.align(*align);
                pen.number(masked(*value, *size), *size, *big);
                told(
                    path,
                    match signed {
                        true => Kept::Signed(extended(*value, *size)),
                        false => Kept::Unsigned(masked(*value, *size)),
                    },
                );
            }
            Self::Single(value) => {
                pen.align(8);
                pen.number(u64::from(value.to_bits()), 32, false);
                told(path, Kept::Float(f64::from(*value)));
            }
            Self::Double(value) => {
                pen.align(32);
                pen.number(value.to_bits(), 64, true);
                told(path, Kept::Float(*value));
            }
            Self::Text(text) => {
                pen.align(8);
                pen.text(text);
                told(path, Kept::Text(text.clone()));
            }
            Self::Characters(text) => {
                pen.align(8);
                pen.text(text);
                pen.number(0x21, 8, false);
                told(path, Kept::Text(text.clone()));
            }
            Self::Array { size, values } => {
                for value in values {
                    pen.number(masked(*value, *size), *size, false);
                    told(path, Kept::Unsigned(masked(*value, *size)));
                }
            }
            Self::Sequence { size, values } => {
                pen.align(8);
                pen.number(values.len() as u64, 16, false);
                told(&format!("{path}_len"), Kept::Unsigned(values.len() as u64));
                Self::Array { size: *size, values: values.clone() }.write(path, pen, read);
            }
            Self::Choice { number, value } => {
                let tag = if *number { -4 + (*value % 3) as i64 } else { -1 };
                pen.number(masked(tag as u64, 3), 3, false);
                told(&format!("{path}_tag"), Kept::Signed(tag));
                pen.align(8);
                if *number {
                    pen.number(masked(*value, 24), 24, false);
                    told(&format!("{path}.number"), Kept::Unsigned(masked(*value, 24)));
                } else {
                    let text = format!("{value:x}");
                    pen.text(&text);
                    told(&format!("{path}.words"), Kept::Text(text));
                }
            }
            Self::Struct { members, .. } => {
                pen.align(self.alignment());
                for (number, member) in members.iter().enumerate() {
                    let dot = if path.is_empty() { "" } else { "." };
                    member.write(&format!("{path}{dot}f{number}"), pen, read);
                }
            }
        }
    }
}

fn field() -> impl Strategy<Value = Any> {
    let text = || "[a-zäö ]{0,12}";
    let bits = || prop::collection::vec(any::<u64>(), 0..5);
    let leaf = prop_oneof![
        4 => (1_usize..=64, 0_u32..6, any::<bool>(), any::<u64>()).prop_map(
            |(size, align, signed, value)| {
                Any::Integer { size, align: 1 << align, signed, big: false, value }
            }
        ),
        // Another byte order needs a byte of its own.
        2 => (1_usize..=64, any::<bool>(), any::<u64>()).prop_map(|(size, signed, value)| {
            let padded = Any::Integer { size, align: 8, signed, big: true, value };
            let after = Any::Integer { size: 8, align: 8, signed: false, big: false, value: 1 };
            Any::Struct { align: 8, members: vec![padded, after] }
        }),
        1 => any::<i16>().prop_map(|value| Any::Single(f32::from(value) / 8.0)),
        1 => any::<i32>().prop_map(|value| Any::Double(f64::from(value) / 3.0)),
        1 => text().prop_map(Any::Text),
        1 => text().prop_map(Any::Characters),
        1 => (1_usize..40, bits()).prop_map(|(size, values)| Any::Array { size, values }),
        1 => (1_usize..40, bits()).prop_map(|(size, values)| Any::Sequence { size, values }),
        1 => (any::<bool>(), any::<u64>()).prop_map(|(number, value)| Any::Choice { number, value }),
    ];
    leaf.prop_recursive(3, 20, 5, |inner| {
        (0_u32..6, prop::collection::vec(inner, 1..5))
            .prop_map(|(align, members)| Any::Struct { align: 1 << align, members })
    })
}

proptest! {
    #[test]
    fn what_was_written_is_read(
        members in prop::collection::vec(field(), 1..8),
        repeat in 1_usize..4,
        cut in 1_usize..40,
    ) {
        // One byte at the end, so that every event has bits.
        let end = Any::Integer { size: 8, align: 8, signed: false, big: false, value: 5 };
        let all = Any::Struct { align: 1, members: members.into_iter().chain([end]).collect() };
        let mut declared = String::new();
        all.declare("all", &mut declared);
        let declared = declared.replace("} align(1) all;", "}");
        let text = format!(
            "trace {{ byte_order = le; }};\nevent {{ name = it; fields := {}; }};",
            declared.trim().trim_end_matches("all;")
        );
        let schema = schema(&text);
        let (mut pen, mut expected) = (Pen::default(), Vec::new());
        for _ in 0..repeat {
            let mut read = Vec::new();
            all.write("", &mut pen, &mut read);
            expected.push(read);
        }
        let told = read(&schema, &pen.bytes, cut);
        let found: Vec<_> = events(&told).into_iter().map(|(_, _, values)| values.to_vec()).collect();
        prop_assert_eq!(found, expected, "{}", text);
        prop_assert_eq!(&told, &read(&schema, &pen.bytes, usize::MAX), "cut in {}s", cut);
    }
}

#[test]
fn bit_fields_stay_in_their_units() {
    let schema = schema(
        "typealias integer { size = 8; } := unsigned char;
         event { name = it; fields := struct { unsigned char a : 3, b : 4, c : 2; }; };",
    );
    // 3 in the low bits and 10 above them; `c` does not fit behind these 7 bits.
    let told = read(&schema, &[0x53, 0b10], 1);
    let values = events(&told)[0].2.iter().map(|(_, value)| value.clone()).collect::<Vec<_>>();
    assert_eq!(values, [Kept::Unsigned(3), Kept::Unsigned(10), Kept::Unsigned(2)]);
}

#[test]
fn names_are_found_where_c_would_find_them() {
    let text = "
        typealias integer { size = 8; align = 8; } := const unsigned char;
        typedef unsigned char byte_t, pair_t[2];
        struct point { byte_t x; byte_t y; };
        enum kind : unsigned char { NONE, SOME = 5, \"THE REST\" = 6 ... 0xff };
        variant shape { struct point SOME; pair_t REST; };
        typealias unsigned char := void *;
        typealias struct point := place;
        event {
            name = \"it\";
            fields := struct {
                enum kind _kind;
                variant shape <_kind> _shape;
                void * where;
                struct { byte_t n; byte_t list[n][2]; } inner;
                place last;
            };
        };";
    let told = read(&schema(text), &[5, 1, 2, 9, 2, 10, 11, 12, 13, 20, 21], 3);
    let named: Vec<_> = events(&told)[0].2.iter().map(|(name, _)| name.as_str()).collect();
    let list = "inner.list";
    let expected =
        ["_kind", "_shape.SOME.x", "_shape.SOME.y", "where", "inner.n", list, list, list];
    assert_eq!(named[..8], expected);
    assert_eq!(named[9..], ["last.x", "last.y"]);
}
