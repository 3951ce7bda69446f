//! Images made on purpose, and the demo firmware.

use super::*;
use crate::isa::Isa;
use object::write::{Object, StandardSection, Symbol, SymbolSection};
use object::{Architecture, BinaryFormat, Endianness, SymbolFlags, SymbolKind, SymbolScope};
use proptest::prelude::*;

const FIRMWARE: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");

/// An ELF file with 64 halfwords of `nop` at address 0, and these symbols: name, address, size,
/// kind, weak.
fn elf(symbols: &[(&str, u64, u64, SymbolKind, bool)]) -> Vec<u8> {
    let mut object = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
    let text = object.section_id(StandardSection::Text);
    object.append_section_data(text, &[0x00, 0xbf].repeat(64), 4);
    for &(name, value, size, kind, weak) in symbols {
        object.add_symbol(Symbol {
            name: name.into(),
            value,
            size,
            kind,
            scope: SymbolScope::Linkage,
            weak,
            section: SymbolSection::Section(text),
            flags: SymbolFlags::None,
        });
    }
    object.write().unwrap()
}

fn ranges(image: &Image) -> Vec<(&str, Range<u64>)> {
    image.functions().iter().map(|f| (f.name.as_str(), f.range.clone())).collect()
}

#[test]
fn sizeless_symbols_reach_to_the_next_and_thumb_bits_are_cleared() {
    let image = Image::parse(&elf(&[
        ("sized", 0x01, 8, SymbolKind::Text, false),
        ("open", 0x10, 0, SymbolKind::Label, false),
        ("last", 0x21, 0, SymbolKind::Text, false),
    ]))
    .unwrap();
    assert_eq!(ranges(&image), [("sized", 0..8), ("open", 0x10..0x20), ("last", 0x20..0x80)]);
    assert_eq!(image.function_at(0x09), None, "between two functions");
    assert_eq!(image.function_at(0x1e), Some(FunctionId(1)));
    assert_eq!(image.function_at(0x80), None);
}

#[test]
fn code_of_two_sections_at_one_address_is_an_overlay() {
    let mut object = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
    let text = object.section_id(StandardSection::Text);
    object.append_section_data(text, &[0x00, 0xbf].repeat(64), 4);
    let kind = object::SectionKind::Text;
    let other = object.add_section(Vec::new(), b".overlay".to_vec(), kind);
    object.append_section_data(other, &[0x00, 0xbf].repeat(16), 4);
    for (section, name, value) in [(text, "below", 1), (other, "above", 5), (other, "$d", 8)] {
        object.add_symbol(Symbol {
            name: name.into(),
            value,
            size: 4,
            kind: if name == "$d" { SymbolKind::Label } else { SymbolKind::Text },
            scope: SymbolScope::Linkage,
            weak: false,
            section: SymbolSection::Section(section),
            flags: SymbolFlags::None,
        });
    }
    let image = Image::parse(&object.write().unwrap()).unwrap();
    assert_eq!(image.functions_named("above").len(), 1, "what a budget may name");
    assert_eq!(image.place(8), Place::Code, "the other's data");
    assert!(image.is_overlaid(&(0x10..0x12)) && image.is_overlaid(&(0..0x80)));
    assert!(!image.is_overlaid(&(0x20..0x80)));
}

#[test]
fn labels_inside_a_function_are_no_functions() {
    let image = Image::parse(&elf(&[
        ("outer", 0x01, 0x20, SymbolKind::Text, false),
        ("loop_inside", 0x08, 0, SymbolKind::Label, false),
        ("nested", 0x11, 0x04, SymbolKind::Text, false),
    ]))
    .unwrap();
    assert_eq!(ranges(&image), [("outer", 0..0x10), ("nested", 0x10..0x14)]);
}

#[test]
fn aliases_share_an_extent_and_every_name_finds_it() {
    let image = Image::parse(&elf(&[
        ("default_handler", 0x01, 8, SymbolKind::Text, true),
        ("timer_handler", 0x01, 8, SymbolKind::Text, false),
        ("_ZN4wave6filterEv", 0x11, 8, SymbolKind::Text, false),
    ]))
    .unwrap();
    assert_eq!(image.functions()[0].name, "timer_handler", "global before weak");
    assert_eq!(image.functions_named("default_handler"), [FunctionId(0)]);
    assert_eq!(image.functions_named("wave::filter()"), [FunctionId(1)]);
}

#[test]
fn mapping_symbols_tell_data_from_code() {
    let image = Image::parse(&elf(&[
        ("f", 0x01, 0x20, SymbolKind::Text, false),
        ("$t", 0x00, 0, SymbolKind::Label, false),
        ("$d", 0x10, 0, SymbolKind::Label, false),
        ("$t.1", 0x18, 0, SymbolKind::Label, false),
    ]))
    .unwrap();
    assert_eq!(ranges(&image), [("f", 0..0x20)]);
    for (address, place) in [
        (0x00, Place::Instruction),
        (0x01, Place::InsideInstruction),
        (0x02, Place::Instruction),
        (0x12, Place::Literal),
        (0x18, Place::Instruction),
        (0x30, Place::Code),
        (0x100, Place::Outside),
    ] {
        assert_eq!(image.place(address), place, "{address:#x}");
    }
}

#[test]
fn risc_v_images_are_read_too() {
    for (architecture, isa) in
        [(Architecture::Riscv32, Isa::Riscv32), (Architecture::Riscv64, Isa::Riscv64)]
    {
        let mut object = Object::new(BinaryFormat::Elf, architecture, Endianness::Little);
        let text = object.section_id(StandardSection::Text);
        // c.nop, nop, c.nop
        object.append_section_data(text, &[0x01, 0x00, 0x13, 0x00, 0x00, 0x00, 0x01, 0x00], 4);
        object.add_symbol(Symbol {
            name: b"start".to_vec(),
            value: 0,
            size: 8,
            kind: SymbolKind::Text,
            scope: SymbolScope::Linkage,
            weak: false,
            section: SymbolSection::Section(text),
            flags: SymbolFlags::None,
        });
        let image = Image::parse(&object.write().unwrap()).unwrap();
        assert_eq!(image.isa(), isa);
        let places: Vec<Place> = (0..8).step_by(2).map(|at| image.place(at)).collect();
        let (whole, inside) = (Place::Instruction, Place::InsideInstruction);
        assert_eq!(places, [whole, whole, inside, whole]);
        assert_eq!(image.vector(1), None, "no vector table of this kind");
    }
}

#[test]
fn static_functions_of_one_name_are_told_apart() {
    let image = Image::parse(&elf(&[
        ("clamp", 0x01, 8, SymbolKind::Text, false),
        ("clamp", 0x11, 8, SymbolKind::Text, false),
    ]))
    .unwrap();
    assert_eq!(image.functions_named("clamp"), [FunctionId(0), FunctionId(1)]);
}

#[test]
fn the_demo_firmware_is_known_through_and_through() {
    let image = Image::parse(FIRMWARE).unwrap();
    assert_eq!(image.isa(), Isa::Thumb);
    assert_eq!(image.build_id().map(<[u8]>::len), Some(20));
    assert!(image.has_lines());
    let [filter] = image.functions_named("wave_filter")[..] else { panic!("one wave_filter") };
    let range = image.function(filter).range.clone();
    assert_eq!(image.function_at(range.start), Some(filter));
    let location = image.location_at(range.start).unwrap();
    assert_eq!(location.file, "src/dsp/filter.c");
    // The assembly handler has no size of its own.
    let [svcall] = image.functions_named("svcall_handler")[..] else { panic!("one handler") };
    assert!(!image.function(svcall).range.is_empty());
    // Inlined frames: the resonator lives inside bands_update only.
    let [bands] = image.functions_named("bands_update")[..] else { panic!("one bands_update") };
    let names: Vec<Vec<String>> = image
        .function(bands)
        .range
        .clone()
        .step_by(2)
        .map(|at| image.frames_at(at).into_iter().filter_map(|frame| frame.function).collect())
        .collect();
    assert!(names.contains(&vec!["resonator".into(), "bands_update".into()]), "{names:?}");
}

#[test]
fn the_vector_table_names_exceptions() {
    let image = Image::parse(FIRMWARE).unwrap();
    for (number, name) in [
        (0, "thread"),
        (3, "HardFault"),
        (15, "SysTick"),
        (16, "adc_ready_handler"),
        (17, "radio_slot_handler"),
        (20, "gnss_pulse_handler"),
        (200, "exception 200"),
    ] {
        assert_eq!(image.exception_name(number), name);
    }
    let systick = image.vector(15).unwrap();
    assert_eq!(image.function(systick.handler.unwrap()).name, "systick_handler");
    assert_eq!(image.vector(7), None);
}

#[test]
fn errors_say_what_is_wrong() {
    assert_eq!(Image::parse(b"MZ").unwrap_err(), ImageError::NotElf);
    assert!(matches!(Image::parse(b"\x7fELF\x09"), Err(ImageError::Damaged(_))));
    let mut other = elf(&[]);
    other[18] = 3; // e_machine: 386
    assert!(matches!(Image::parse(&other), Err(ImageError::OtherMachine(_))));
    let empty = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
    assert_eq!(Image::parse(&empty.write().unwrap()).unwrap_err(), ImageError::NoCode);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    /// Damaged files are an error or an image, never a crash; what an image says stays answerable.
    #[test]
    fn damaged_files_never_panic(
        places in proptest::collection::vec((any::<proptest::sample::Index>(), any::<u8>()), 1..20),
        keep in any::<proptest::sample::Index>(),
        cut in any::<bool>(),
    ) {
        let mut bytes = FIRMWARE.to_vec();
        for (place, value) in places {
            let at = place.index(bytes.len());
            bytes[at] = value;
        }
        if cut {
            bytes.truncate(keep.index(bytes.len()));
        }
        if let Ok(image) = Image::parse(&bytes) {
            for address in (0x0800_0000..0x0800_1800).step_by(98) {
                let _ = (image.place(address), image.frames_at(address));
                let _ = image.location_at(address);
            }
            let _ = image.exception_name(16);
        }
    }

    /// The searched index agrees with looking at every function.
    #[test]
    fn the_index_agrees_with_a_plain_search(address in 0x0800_0000_u64..0x0800_2000) {
        let image = Image::parse(FIRMWARE).unwrap();
        let plain = image.functions().iter().position(|function| function.range.contains(&address));
        prop_assert_eq!(image.function_at(address).map(|id| id.0 as usize), plain);
    }
}

#[test]
fn an_address_of_data_has_a_name() {
    let variables = Variables::parse(FIRMWARE).unwrap();
    for name in ["kernel_current", "idle_task", "estimator"] {
        let variable = variables.find(name).unwrap();
        assert_eq!(variables.name_at(variable.address).as_deref(), Some(name));
        let last = variable.address + variable.size - 1;
        let inside = format!("{name}+{:#x}", variable.size - 1);
        assert_eq!(variables.name_at(last), Some(inside));
    }
    let stack = variables.find("idle_stack").unwrap();
    assert_eq!(variables.name_at(stack.address + 12).as_deref(), Some("idle_stack[3]"));
    assert_eq!(variables.name_at(stack.address + 14).as_deref(), Some("idle_stack[3]+0x2"));
    assert_eq!((variables.name_at(0), variables.name_at(u64::MAX)), (None, None));
}

#[test]
fn finds_variables_or_says_why_not() {
    let variables = Variables::parse(FIRMWARE).unwrap();
    let ticks = variables.find("ticks").unwrap();
    assert_eq!((ticks.size, ticks.element.kind), (4, Kind::Unsigned));
    let history = variables.find("src/dsp/spectrum.c#history").unwrap();
    assert_eq!((history.size, history.element), (512, Element { size: 2, kind: Kind::Signed }));
    // Declared in a header, defined in a file.
    let waves = variables.find("latest_waves").unwrap();
    assert_eq!((waves.size, waves.element.kind), (116, Kind::Other));
    assert_eq!(variables.at(history.address + 5), Some(history));
    let hint = variables.find("tickz").unwrap_err().to_string();
    assert!(hint.ends_with("did you mean `ticks`?"), "{hint}");
    let local = variables.find("value").unwrap_err();
    assert!(matches!(local, NotFixed::Local { .. }), "{local}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn variables_of_damaged_files_are_read_or_refused(
        hits in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..40),
        cut in any::<prop::sample::Index>(),
    ) {
        let mut bytes = FIRMWARE.to_vec();
        for (at, value) in hits {
            let at = at.index(bytes.len());
            bytes[at] = value;
        }
        if let Ok(variables) = Variables::parse(&bytes) {
            let _ = variables.find("ticks");
            let _ = variables.at(0x2000_0400);
        }
        let _ = Variables::parse(&bytes[..cut.index(bytes.len())]);
    }
}

/// A symbol of data that spans functions (a region's name, say) does not make their code data; one beside them is.
#[test]
fn data_among_code_holds_no_functions() {
    let image = Image::parse(&elf(&[
        ("region", 0x00, 0x40, SymbolKind::Data, false),
        ("inside", 0x11, 0x08, SymbolKind::Text, false),
        ("table", 0x40, 0x10, SymbolKind::Data, false),
        ("behind", 0x51, 0x08, SymbolKind::Text, false),
    ]))
    .unwrap();
    let places = [0x10, 0x40, 0x50].map(|address| image.place(address));
    assert_eq!(places, [Place::Instruction, Place::Literal, Place::Instruction]);
}
