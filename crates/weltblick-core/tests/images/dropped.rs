//! Debug information of thousands of functions that the linker dropped, all left at address 0, where the program begins.

use object::write::{Object, Symbol, SymbolSection};
use object::{
    Architecture, BinaryFormat, Endianness, SectionKind, SymbolFlags, SymbolKind, SymbolScope,
};
use weltblick_core::image::Image;

/// Abbreviations: a unit, a function, and one inlined into it; each with address and length, the latter two with a name.
const ABBREVIATIONS: [u8; 32] = [
    1, 0x11, 1, 0x11, 0x01, 0x12, 0x06, 0, 0, // unit
    2, 0x2e, 1, 0x03, 0x08, 0x11, 0x01, 0x12, 0x06, 0, 0, // function
    3, 0x1d, 0, 0x03, 0x08, 0x11, 0x01, 0x12, 0x06, 0, 0, 0, // inlined
];

/// A unit of DWARF 4 with one function, into which another is inlined from its second byte on.
fn unit(name: &str, inlined: &str, length: u32) -> Vec<u8> {
    let range = |start: u32, length: u32| [start.to_le_bytes(), length.to_le_bytes()].concat();
    let named = |code: u8, name: &str, range: Vec<u8>| {
        [&[code], name.as_bytes(), &[0], range.as_slice()].concat()
    };
    let entries = [
        [vec![1], range(0, length)].concat(),
        named(2, name, range(0, length)),
        named(3, inlined, range(2, length - 2)),
        vec![0, 0],
    ]
    .concat();
    let mut out = (entries.len() as u32 + 7).to_le_bytes().to_vec();
    out.extend([4, 0, 0, 0, 0, 0, 4]);
    out.extend(entries);
    out
}

#[test]
fn what_is_there_is_found_among_thousands_that_are_not() {
    let gone = |n: u32| unit(&format!("gone_{n}"), "gone_too", 8 + n % 100);
    let mut info: Vec<u8> = (0..2_000).flat_map(gone).collect();
    info.extend(unit("start", "scaled", 16));
    info.extend((2_000..4_000).flat_map(gone));
    let mut file = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
    let text = file.add_section(Vec::new(), b".text".to_vec(), SectionKind::Text);
    file.append_section_data(text, &[0x00, 0xbf].repeat(64), 4);
    for (name, bytes) in [(".debug_info", info.as_slice()), (".debug_abbrev", &ABBREVIATIONS)] {
        let id = file.add_section(Vec::new(), name.as_bytes().to_vec(), SectionKind::Debug);
        file.append_section_data(id, bytes, 1);
    }
    for (name, value, size) in [("start", 1, 16), ("without_debug_information", 17, 112)] {
        file.add_symbol(Symbol {
            name: name.as_bytes().to_vec(),
            value,
            size,
            kind: SymbolKind::Text,
            scope: SymbolScope::Linkage,
            weak: false,
            section: SymbolSection::Section(text),
            flags: SymbolFlags::None,
        });
    }
    let image = Image::parse(&file.write().unwrap()).unwrap();
    let names = |address: u64| -> Vec<String> {
        image.frames_at(address).into_iter().filter_map(|frame| frame.function).collect()
    };
    assert_eq!(names(8), ["scaled", "start"]);
    assert_eq!(names(0), ["start"]);
    // What is longer and dropped has no say about the code behind.
    assert_eq!(names(40), [""; 0]);
}
