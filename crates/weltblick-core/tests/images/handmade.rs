//! Debug information written by hand: what linkers and compilers leave seldom, or a thousand times.

use object::write::{Object, Symbol, SymbolSection};
use object::{
    Architecture, BinaryFormat, Endianness, SectionKind, SymbolFlags, SymbolKind, SymbolScope,
};
use weltblick_core::image::Image;

/// Abbreviations: a unit and a function; one inlined into it, one into which others are inlined, and such a one without
/// a range. The others have address and length, and all but the unit a name.
const ABBREVIATIONS: [u8; 49] = [
    1, 0x11, 1, 0x11, 0x01, 0x12, 0x06, 0, 0, // unit
    2, 0x2e, 1, 0x03, 0x08, 0x11, 0x01, 0x12, 0x06, 0, 0, // function
    3, 0x1d, 0, 0x03, 0x08, 0x11, 0x01, 0x12, 0x06, 0, 0, // inlined
    4, 0x1d, 1, 0x03, 0x08, 0x11, 0x01, 0x12, 0x06, 0, 0, // inlined, with others
    5, 0x1d, 1, 0x03, 0x08, 0, 0, // the same without a range
];

fn range(start: u32, length: u32) -> Vec<u8> {
    [start.to_le_bytes(), length.to_le_bytes()].concat()
}

fn named(code: u8, name: &str, range: &[u8]) -> Vec<u8> {
    [&[code], name.as_bytes(), &[0], range].concat()
}

/// A unit of DWARF 4 with one function, into which others are inlined.
fn unit(name: &str, inlined: &[u8], length: u32) -> Vec<u8> {
    let function = named(2, name, &range(0, length));
    let entries = [&[1], range(0, length).as_slice(), &function, inlined, &[0, 0]].concat();
    let mut out = (entries.len() as u32 + 7).to_le_bytes().to_vec();
    out.extend([4, 0, 0, 0, 0, 0, 4]);
    out.extend(entries);
    out
}

/// An image with 128 bytes of code at 0, and functions: name, address and size.
fn image(info: &[u8], functions: &[(&str, u64, u64)]) -> Image {
    let mut file = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
    let text = file.add_section(Vec::new(), b".text".to_vec(), SectionKind::Text);
    file.append_section_data(text, &[0x00, 0xbf].repeat(64), 4);
    let abbreviations = [ABBREVIATIONS.as_slice(), &[0]].concat();
    for (name, bytes) in [(".debug_info", info), (".debug_abbrev", abbreviations.as_slice())] {
        let id = file.add_section(Vec::new(), name.as_bytes().to_vec(), SectionKind::Debug);
        file.append_section_data(id, bytes, 1);
    }
    for &(name, address, size) in functions {
        file.add_symbol(Symbol {
            name: name.as_bytes().to_vec(),
            value: address + 1,
            size,
            kind: SymbolKind::Text,
            scope: SymbolScope::Linkage,
            weak: false,
            section: SymbolSection::Section(text),
            flags: SymbolFlags::None,
        });
    }
    Image::parse(&file.write().unwrap()).unwrap()
}

fn names(image: &Image, address: u64) -> Vec<String> {
    let frames = image.frames_at(address);
    frames.into_iter().filter_map(|frame| frame.function).collect()
}

#[test]
fn what_is_there_is_found_among_thousands_that_are_not() {
    let with = |inlined: &str, length: u32| named(3, inlined, &range(2, length - 2));
    let gone = |n: u32| {
        let length = 8 + n % 100;
        unit(&format!("gone_{n}"), &with("gone_too", length), length)
    };
    let mut info: Vec<u8> = (0..2_000).flat_map(gone).collect();
    info.extend(unit("start", &with("scaled", 16), 16));
    info.extend((2_000..4_000).flat_map(gone));
    let image = image(&info, &[("start", 0, 16), ("without_debug_information", 16, 112)]);
    assert_eq!(names(&image, 8), ["scaled", "start"]);
    assert_eq!(names(&image, 0), ["start"]);
    // What is longer and dropped has no say about the code behind.
    assert_eq!(names(&image, 40), [""; 0]);
}

/// Before DWARF 3 an entry had one range at most: of what a compiler inlined in several pieces it says no range, only
/// what was inlined into it.
#[test]
fn what_has_no_range_of_its_own_encloses_what_was_inlined_into_it() {
    let inlined = [
        named(5, "pieces", &[]),
        named(3, "first", &range(4, 4)),
        named(4, "second", &range(16, 8)),
        named(3, "within", &range(18, 2)),
        vec![0, 0],
        named(3, "after", &range(32, 4)),
    ]
    .concat();
    let image = image(&unit("start", &inlined, 64), &[("start", 0, 64)]);
    for (address, expected) in [
        (0, vec!["start"]),
        (4, vec!["first", "pieces", "start"]),
        (8, vec!["start"]),
        (16, vec!["second", "pieces", "start"]),
        (18, vec!["within", "second", "pieces", "start"]),
        (20, vec!["second", "pieces", "start"]),
        (34, vec!["after", "start"]),
        (36, vec!["start"]),
    ] {
        assert_eq!(names(&image, address), expected, "{address}");
    }
}
