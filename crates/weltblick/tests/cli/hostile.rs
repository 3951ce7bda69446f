//! Captures and images that were made to do harm: each ends soon, in little memory, with a message that fits a screen.

use super::support::{Bench, Ended, ended};
use object::write::{Object, SectionId, Symbol, SymbolSection};
use object::{Architecture, BinaryFormat, Endianness, SectionKind};
use object::{Object as _, ObjectSection as _};
use std::process::Command;

/// Runs the program with half a gigabyte of memory and ten seconds of a core.
fn limited(bench: &Bench, arguments: &str) -> Ended {
    let program = env!("CARGO_BIN_EXE_weltblick");
    // One limit a call: a shell that knows fewer would otherwise set none, and say so where nobody looks.
    let script = format!("ulimit -v 500000 && ulimit -t 10 && exec {program} {arguments}");
    let mut command = Command::new("sh");
    command.args(["-c", &script]).current_dir(bench.path("."));
    let ended = ended(command.output().unwrap());
    assert!((0..=3).contains(&ended.code), "{arguments}: {ended:?}");
    assert!(
        ended.err.lines().count() < 25 && ended.err.len() < 16_000,
        "{arguments}: {}",
        ended.err
    );
    ended
}

fn uleb(mut value: u64, out: &mut Vec<u8>) {
    loop {
        let low = (value & 0x7f) as u8;
        value >>= 7;
        out.push(low | if value > 0 { 0x80 } else { 0 });
        if value == 0 {
            return;
        }
    }
}

/// Tag, whether it has children, attributes and their forms.
type Abbreviation<'a> = (u64, bool, &'a [(u64, u64)]);

fn abbreviations(all: &[Abbreviation<'_>]) -> Vec<u8> {
    let mut out = Vec::new();
    for (code, (tag, children, attributes)) in (1..).zip(all) {
        uleb(code, &mut out);
        uleb(*tag, &mut out);
        out.push(u8::from(*children));
        for (name, form) in attributes.iter().chain(&[(0, 0)]) {
            uleb(*name, &mut out);
            uleb(*form, &mut out);
        }
    }
    out.push(0);
    out
}

const COMPILE_UNIT: u64 = 0x11;
const SUBPROGRAM: u64 = 0x2e;
const INLINED: u64 = 0x1d;
const STRUCTURE: u64 = 0x13;
const MEMBER: u64 = 0x0d;
const VARIABLE: u64 = 0x34;
const POINTER: u64 = 0x0f;
const RANGE: [(u64, u64); 2] = [(0x11, 0x01), (0x12, 0x06)];

/// A unit of DWARF 4 with these entries.
fn unit(entries: &[u8]) -> Vec<u8> {
    let mut out = (entries.len() as u32 + 7).to_le_bytes().to_vec();
    out.extend([4, 0, 0, 0, 0, 0, 4]);
    out.extend(entries);
    out
}

/// An entry's code, address and length.
fn range(code: u8, address: u32, length: u32) -> Vec<u8> {
    [&[code][..], &address.to_le_bytes(), &length.to_le_bytes()].concat()
}

/// 64 instructions at 0, in a section of their own.
fn code() -> (Object<'static>, SectionId) {
    let mut file = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
    let text = file.add_section(Vec::new(), b".text".to_vec(), SectionKind::Text);
    file.append_section_data(text, &[0x00, 0xbf].repeat(64), 4);
    (file, text)
}

/// An image with that code, and these sections.
fn elf(sections: &[(&str, &[u8])]) -> Vec<u8> {
    let (mut file, _) = code();
    for (name, bytes) in sections {
        let id = file.add_section(Vec::new(), name.as_bytes().to_vec(), SectionKind::Debug);
        file.append_section_data(id, bytes, 1);
    }
    file.write().unwrap()
}

/// A function of all of that code.
fn symbol(name: Vec<u8>, text: SectionId) -> Symbol {
    Symbol {
        name,
        value: 1,
        size: 128,
        kind: object::SymbolKind::Text,
        scope: object::SymbolScope::Linkage,
        weak: false,
        section: SymbolSection::Section(text),
        flags: object::SymbolFlags::None,
    }
}

/// Samples at every instruction of such an image.
fn recorded() -> Bench {
    let bench = Bench::new();
    let mut bytes = vec![0, 0, 0, 0, 0, 0x80];
    for address in (0..128_u32).step_by(2) {
        bytes.push(0x17);
        bytes.extend(address.to_le_bytes());
    }
    bench.write("swo.bin", bytes);
    bench
}

/// Asks for all that an image says.
fn all_of(bench: &Bench, image: &[u8]) -> Vec<Ended> {
    bench.write("evil.elf", image);
    let setup = "--image evil.elf --core-clock 48MHz --pc-sample-period 1024";
    let commands = [
        format!("profile swo.bin {setup} --inline"),
        format!("profile swo.bin {setup} --by line"),
        format!("inspect swo.bin {setup}"),
        format!("signals swo.bin {setup} --watch 0=nothing"),
        format!("signals swo.bin {setup} --watch 0=v"),
        format!(
            "plan --core cortex-m3 --image evil.elf {}",
            "--watch nothing=1kHz --link uart --bit-rate 2Mbit/s --core-clock 48MHz"
        ),
    ];
    commands.iter().map(|command| limited(bench, command)).collect()
}

/// The limits themselves: without them no other test here shows anything.
#[test]
fn the_limits_hold() {
    let script = "ulimit -v 500000 && ulimit -t 10 && ulimit -v && ulimit -t";
    let output = Command::new("sh").args(["-c", script]).output().unwrap();
    assert_eq!(String::from_utf8(output.stdout).unwrap(), "500000\n10\n");
}

#[test]
fn functions_inlined_into_each_other_without_end() {
    let table = abbreviations(&[
        (COMPILE_UNIT, true, &RANGE),
        (SUBPROGRAM, true, &RANGE),
        (INLINED, true, &RANGE),
    ]);
    let deep = 60_000;
    let mut entries = [range(1, 0, 128), range(2, 0, 128)].concat();
    entries.extend((0..deep).flat_map(|_| range(3, 0, 128)));
    entries.extend(vec![0; deep + 2]);
    let info = unit(&entries);
    all_of(&recorded(), &elf(&[(".debug_info", &info), (".debug_abbrev", &table)]));
}

#[test]
fn types_within_types_without_end() {
    let table = abbreviations(&[
        (COMPILE_UNIT, true, &[]),
        (STRUCTURE, true, &[(0x0b, 0x0b)]),
        (MEMBER, false, &[(0x49, 0x13), (0x38, 0x0b)]),
        (VARIABLE, false, &[(0x03, 0x08), (0x49, 0x13), (0x02, 0x18)]),
        (POINTER, false, &[(0x49, 0x13)]),
    ]);
    let deep = 60_000_u32;
    let mut entries = vec![1];
    for level in 0..deep {
        // Each holds the next as a child, and as a member's type.
        entries.extend([2, 4, 3]);
        entries.extend((11 + 1 + (level + 1) * 8).to_le_bytes());
        entries.push(0);
    }
    entries.extend(vec![0; deep as usize]);
    for level in (0..deep).step_by(5) {
        // All of them are called the same.
        entries.extend(b"\x04v\0");
        entries.extend((11 + 1 + level * 8).to_le_bytes());
        entries.extend([5, 0x03]);
        entries.extend((level % 128).to_le_bytes());
    }
    entries.push(0);
    let info = unit(&entries);
    all_of(&recorded(), &elf(&[(".debug_info", &info), (".debug_abbrev", &table)]));
}

/// A line program of version 4 with many files and rows.
fn lines(files: usize, rows: usize) -> Vec<u8> {
    let mut header = vec![1, 1, 1, 0xfb, 14, 13, 0, 1, 1, 1, 1, 0, 0, 0, 1, 0, 0, 1];
    header.push(0);
    header.extend(b"f.c\0\0\0\0".repeat(files));
    header.push(0);
    let mut program = vec![0, 5, 2, 0, 0, 0, 0];
    // A special opcode each: the line up by one, the address by one.
    program.extend(vec![13 + 14 + 6; rows]);
    program.extend([0, 1, 1]);
    let mut out = ((2 + 4 + header.len() + program.len()) as u32).to_le_bytes().to_vec();
    out.extend([4, 0]);
    out.extend((header.len() as u32).to_le_bytes());
    out.extend(header);
    out.extend(program);
    out
}

#[test]
fn ten_thousand_units_of_one_line_table() {
    let table = abbreviations(&[(COMPILE_UNIT, false, &[RANGE[0], RANGE[1], (0x10, 0x17)])]);
    let one = unit(&[range(1, 0, 128), vec![0; 4]].concat());
    let (info, lines) = (one.repeat(10_000), lines(20_000, 1_000_000));
    let sections = [
        (".debug_info", info.as_slice()),
        (".debug_abbrev", table.as_slice()),
        (".debug_line", lines.as_slice()),
    ];
    all_of(&recorded(), &elf(&sections));
}

#[test]
fn abbreviations_and_names_that_all_share() {
    // Each unit has its abbreviations begin one byte later in a table that never ends.
    let table =
        [1, 0x11, 0].iter().copied().chain([0x3f, 0x19].repeat(500_000)).collect::<Vec<u8>>();
    let mut info = Vec::new();
    for offset in 0..40_000_u32 {
        let mut one = unit(&[1, 0]);
        one[6..10].copy_from_slice(&offset.to_le_bytes());
        info.extend(one);
    }
    let sections = [(".debug_info", info.as_slice()), (".debug_abbrev", table.as_slice())];
    all_of(&recorded(), &elf(&sections));
    // And every function has the same endless name.
    let table = abbreviations(&[
        (COMPILE_UNIT, true, &RANGE),
        (SUBPROGRAM, false, &[RANGE[0], RANGE[1], (0x03, 0x0e)]),
    ]);
    let mut entries = range(1, 0, 128);
    for _ in 0..40_000 {
        entries.extend(range(2, 0, 128));
        entries.extend([0; 4]);
    }
    let (info, names) = (unit(&entries), vec![b'a'; 4 << 20]);
    let sections = [
        (".debug_info", info.as_slice()),
        (".debug_abbrev", table.as_slice()),
        (".debug_str", names.as_slice()),
    ];
    all_of(&recorded(), &elf(&sections));
}

/// Variables, members and constants of which each has the same endless text as its name, or one within it.
#[test]
fn names_that_lie_within_each_other() {
    const ENUMERATION: u64 = 0x04;
    const ENUMERATOR: u64 = 0x28;
    let table = abbreviations(&[
        (COMPILE_UNIT, true, &RANGE),
        (VARIABLE, false, &[(0x03, 0x0e), (0x49, 0x13), (0x02, 0x18)]),
        (STRUCTURE, true, &[(0x0b, 0x0b)]),
        (MEMBER, false, &[(0x03, 0x0e), (0x49, 0x13), (0x38, 0x0b)]),
        (ENUMERATION, true, &[(0x0b, 0x0b)]),
        (ENUMERATOR, false, &[(0x03, 0x0e), (0x1c, 0x0b)]),
        (VARIABLE, false, &[(0x03, 0x08), (0x49, 0x13), (0x02, 0x18)]),
        (VARIABLE, false, &[(0x03, 0x0e)]),
        (COMPILE_UNIT, false, &[(0x1b, 0x0e)]),
    ]);
    let many = 200_000_u32;
    let (unit_head, mut entries) = (11, range(1, 0, 128));
    let place = |entries: &[u8]| unit_head + entries.len() as u32;
    let constants = place(&entries);
    entries.extend([5, 4]);
    for at in 0..many {
        entries.push(6);
        entries.extend(at.to_le_bytes());
        entries.push(at as u8);
    }
    entries.push(0);
    let structure = place(&entries);
    entries.extend([3, 4]);
    for at in 0..many {
        entries.push(4);
        entries.extend(at.to_le_bytes());
        entries.extend(constants.to_le_bytes());
        entries.push(0);
    }
    entries.push(0);
    let located = |at: u32| [&[5, 0x03], at.to_le_bytes().as_slice()].concat();
    for at in 0..many {
        entries.push(2);
        entries.extend(at.to_le_bytes());
        entries.extend(constants.to_le_bytes());
        entries.extend(located(at % 128));
        // One without an address.
        entries.push(8);
        entries.extend(at.to_le_bytes());
    }
    entries.extend(b"\x07v\0");
    entries.extend(structure.to_le_bytes());
    entries.extend(located(0));
    entries.push(0);
    let names = vec![b'a'; 1 << 20];
    // And as many units that were compiled in a folder of that name.
    for info in [unit(&entries), unit(&[9, 0, 0, 0, 0]).repeat(many as usize)] {
        let sections = [
            (".debug_info", info.as_slice()),
            (".debug_abbrev", table.as_slice()),
            (".debug_str", names.as_slice()),
        ];
        all_of(&recorded(), &elf(&sections));
    }
}

/// Symbols, or sections, that all have the same endless name.
#[test]
fn symbols_and_sections_that_share_their_name() {
    use object::read::elf::{ElfFile32, FileHeader as _};
    let many = 60_000;
    let (mut file, text) = code();
    let name = |length: usize| vec![b'a'; length];
    for at in 0..many {
        file.add_symbol(symbol(name(if at == 0 { 4 << 20 } else { 1 }), text));
    }
    for at in 0..many {
        file.add_section(Vec::new(), name(if at == 0 { 4 << 20 } else { 1 }), SectionKind::Data);
    }
    let whole = file.write().unwrap();
    let read = ElfFile32::<Endianness>::parse(whole.as_slice()).unwrap();
    let sections = read.elf_header().e_shoff(read.endian()) as usize;
    let table = read.section_by_name(".symtab").unwrap().file_range().unwrap();
    let (symbols, end) = (table.0 as usize, (table.0 + table.1) as usize);
    // The name of an entry is in its first word, as an offset into a table of names.
    let renamed = |entries: std::ops::Range<usize>, step: usize, names: &str| {
        let names = read.section_by_name(names).unwrap();
        let long = names.data().unwrap().windows(4).position(|four| four == b"aaaa").unwrap();
        let mut renamed = whole.clone();
        // Those that are needed come first, or last.
        let all: Vec<usize> = entries.step_by(step).collect();
        for &at in &all[8..all.len() - 8] {
            renamed[at..at + 4].copy_from_slice(&(long as u32).to_le_bytes());
        }
        renamed
    };
    for image in
        [renamed(symbols..end, 16, ".strtab"), renamed(sections..whole.len(), 40, ".shstrtab")]
    {
        for ended in all_of(&recorded(), &image) {
            assert!(ended.code == 2 && ended.err.contains("longer than the file"), "{ended:?}");
        }
    }
}

#[test]
fn sections_that_unpack_to_more_than_a_file_can_hold() {
    use std::io::Write as _;
    let mut packed = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::best());
    for _ in 0..900 {
        packed.write_all(&[0; 1 << 20]).unwrap();
    }
    let packed = packed.finish().unwrap();
    let mut section = b"ZLIB".to_vec();
    section.extend((900_u64 << 20).to_be_bytes());
    section.extend(packed);
    for name in [".zdebug_info", ".zdebug_str", ".zdebug_line"] {
        let sections = [(name, section.as_slice()), (".debug_abbrev", &[0][..])];
        all_of(&recorded(), &elf(&sections));
    }
}

#[test]
fn ranges_that_many_entries_share() {
    let table = abbreviations(&[
        (COMPILE_UNIT, true, &RANGE),
        (SUBPROGRAM, true, &RANGE),
        (INLINED, false, &[(0x55, 0x17)]),
    ]);
    let mut entries = [range(1, 0, 128), range(2, 0, 128)].concat();
    entries.extend([3, 0, 0, 0, 0].repeat(20_000));
    entries.extend([0, 0]);
    let mut ranges = Vec::new();
    for start in 0..100_000_u32 {
        ranges.extend((start + 1).to_le_bytes());
        ranges.extend((start + 3).to_le_bytes());
    }
    let info = unit(&entries);
    let sections = [
        (".debug_info", info.as_slice()),
        (".debug_abbrev", table.as_slice()),
        (".debug_ranges", ranges.as_slice()),
    ];
    all_of(&recorded(), &elf(&sections));
}

/// Names of members, of which an error lists all.
#[test]
fn an_error_is_at_most_a_screen() {
    let bench = recorded();
    let table = abbreviations(&[
        (COMPILE_UNIT, true, &[]),
        (STRUCTURE, true, &[(0x0b, 0x0b)]),
        (MEMBER, false, &[(0x03, 0x08), (0x38, 0x0b)]),
        (VARIABLE, false, &[(0x03, 0x08), (0x49, 0x13), (0x02, 0x18)]),
    ]);
    let mut entries = vec![1, 2, 4];
    for member in 0..5_000 {
        entries.extend(format!("\x03member_{member}\x1b[31m\0\0").into_bytes());
    }
    entries.push(0);
    entries.extend(b"\x04nothing\0");
    entries.extend(12_u32.to_le_bytes());
    entries.extend([5, 0x03, 4, 0, 0, 0, 0]);
    let info = unit(&entries);
    let ended = all_of(&bench, &elf(&[(".debug_info", &info), (".debug_abbrev", &table)]));
    let structure = &ended.last().unwrap().err;
    assert!(structure.contains("is a structure") && structure.len() < 3_000, "{structure}");
    assert!(!structure.contains('\x1b'), "{structure:?}");
}

#[cfg(unix)]
#[test]
fn pipes_devices_and_links_are_no_files_of_a_capture() {
    use std::os::unix::fs::symlink;
    let pipe = |bench: &Bench, name: &str| {
        std::fs::remove_file(bench.path(name)).unwrap();
        let made = Command::new("mkfifo").arg(bench.path(name)).status().unwrap();
        assert!(made.success());
    };
    for name in ["capture.toml", "swo.bin", "wave-buoy.elf"] {
        let bench = Bench::new();
        pipe(&bench, &format!("buoy/{name}"));
        let ended = limited(&bench, "profile buoy");
        assert!(ended.code == 2 && ended.err.contains("no plain file"), "{name}: {ended:?}");
    }
    // A link to a secret: not a line of it is shown.
    for name in ["capture.toml", "journal.jsonl"] {
        let bench = Bench::new();
        bench.write("secret", "password = \"heave\"\n");
        let _ = std::fs::remove_file(bench.path(&format!("buoy/{name}")));
        symlink(bench.path("secret"), bench.path(&format!("buoy/{name}"))).unwrap();
        let ended = limited(&bench, "profile buoy");
        assert!(ended.code == 2 && ended.err.contains("link out of"), "{name}: {ended:?}");
        assert!(!ended.err.contains("heave") && !ended.err.contains("password"), "{ended:?}");
    }
    let bench = Bench::new();
    pipe(&bench, "buoy/capture.toml");
    let ended = limited(&bench, "import --amend --out buoy --name other");
    assert!(ended.code == 2 && ended.err.contains("no plain file"), "{ended:?}");
    let bench = Bench::new();
    bench.write("secret", "password heave\n");
    std::fs::create_dir_all(bench.path("events")).unwrap();
    bench.write("events/k0", [0; 64]);
    symlink(bench.path("secret"), bench.path("events/metadata")).unwrap();
    let ended = limited(&bench, "import events --out sea");
    assert!(ended.code == 2 && !ended.err.contains("heave"), "{ended:?}");
}

/// Hundreds of thousands of names for one address, and thousands of sections that may be vector tables.
#[test]
fn names_and_sections_without_end() {
    let (mut file, text) = code();
    for number in 0..100_000 {
        file.add_symbol(symbol(format!("name_{number}").into_bytes(), text));
    }
    // A stack pointer, no reset vector, and handlers: no table, but long to look at.
    let table: Vec<u8> =
        [0_u32, 0].into_iter().chain([1; 510]).flat_map(u32::to_le_bytes).collect();
    for number in 0..20_000 {
        let name = format!(".isr_{number}").into_bytes();
        let id = file.add_section(Vec::new(), name, SectionKind::ReadOnlyData);
        file.append_section_data(id, &table[..64], 4);
    }
    all_of(&recorded(), &file.write().unwrap());
}
