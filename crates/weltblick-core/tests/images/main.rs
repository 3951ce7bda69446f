//! Images that several compilers made of the same source, in ways that hide what is at an address.
//!
//! `make.sh` builds them. What the answers must be comes from elsewhere: from the same program linked to another
//! address, from the layout that the C standard and the platform's ABI prescribe, and from two independent symbolisers.

mod handmade;
mod symbolisers;

use object::{Object as _, ObjectSection as _, ObjectSymbol as _};
use std::collections::BTreeSet;
use std::path::PathBuf;
use weltblick_core::image::{
    DebugFiles, Frame, Image, ImageError, Kind, NotFixed, Place, SplitFile, Variables,
};

/// Where the pairs of images are linked to: nothing else is different about them.
const FAR: u64 = 0x0800_0000;

fn path(name: &str) -> PathBuf {
    PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/images")).join(name)
}

fn bytes(name: &str) -> Vec<u8> {
    std::fs::read(path(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
}

fn image(name: &str) -> Image {
    Image::parse(&bytes(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
}

fn variables(name: &str) -> Variables {
    Variables::parse(&bytes(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
}

/// Every address at which a halfword of a function begins.
fn halfwords(image: &Image) -> Vec<u64> {
    image.functions().iter().flat_map(|function| function.range.clone().step_by(2)).collect()
}

fn names(frames: &[Frame]) -> Vec<&str> {
    frames.iter().filter_map(|frame| frame.function.as_deref()).collect()
}

/// Linkers leave debug information of dropped code at 0, or at addresses that no code has: of a program at 0 nothing
/// else may be said than of the same program elsewhere.
#[test]
fn debug_information_of_dropped_code_changes_nothing() {
    for build in [
        "gcc-dw2",
        "gcc-dw3",
        "gcc-dw4",
        "gcc-dw5",
        "clang-dw2",
        "clang-dw3",
        "clang-dw4",
        "clang-dw5",
        "rv32",
        "rv64",
    ] {
        let near = image(&format!("{build}-0.elf"));
        let far = image(&format!("{build}-0x8000000.elf"));
        let mut inlined = 0;
        for address in halfwords(&far) {
            let at = format!("{build} at {address:#x}");
            let frames = far.frames_at(address);
            inlined += usize::from(frames.len() > 1);
            assert_eq!(near.frames_at(address - FAR), frames, "{at}");
            assert_eq!(near.location_at(address - FAR), far.location_at(address), "{at}");
            assert_eq!(near.declaration_of(address - FAR), far.declaration_of(address), "{at}");
            assert_eq!(near.place(address - FAR), far.place(address), "{at}");
            assert!(!names(&frames).iter().any(|name| name.starts_with("unused")), "{at}");
        }
        assert!(inlined > 10, "{build}: {inlined}");
        for file in ["hull.c", "mooring.c", "station.h"] {
            let mut lines = far.lines_of(file);
            assert!(!lines.is_empty(), "{build}: {file}");
            lines.iter_mut().for_each(|(address, _)| *address -= FAR);
            assert_eq!(near.lines_of(file), lines, "{build}: {file}");
        }
        let name = |id| near.function(id).name.clone();
        for exception in 1..32 {
            let vector = |image: &Image| image.vector(exception).map(|vector| vector.address);
            assert_eq!(vector(&near), vector(&far).map(|address| address - FAR), "{build}");
            let handler = near.vector(exception).and_then(|vector| vector.handler).map(name);
            assert_eq!(handler.is_some(), vector(&far).is_some(), "{build}");
        }
    }
}

/// Debug information of assembly has lines for labels, and no names: what it has for dropped code is not said of others.
#[test]
fn code_without_debug_information_has_no_lines_of_dropped_assembly() {
    for name in ["plain-dw4.elf", "plain-dw5.elf"] {
        let image = image(name);
        for function in image.functions() {
            for address in function.range.clone().step_by(2) {
                let file = image.location_at(address).map(|at| at.file);
                let is_known = file.is_some_and(|file| file.ends_with("dropped.S"));
                assert_eq!(is_known, function.name == "kept", "{name}: {address:#x}");
            }
        }
        assert_eq!(image.lines_of("dropped.S").len(), 2, "{name}");
    }
}

/// Paths have one kind of separator, whatever system the compiler ran on: people write them so, and patterns.
#[test]
fn paths_of_windows_are_found_as_others_are() {
    let (image, variables) = (image("windows.elf"), variables("windows.elf"));
    let files: BTreeSet<String> = halfwords(&image)
        .into_iter()
        .filter_map(|address| image.location_at(address))
        .map(|at| at.file)
        .collect();
    let expected = ["C:/buoy/src/dsp/heave.c", "D:/buoy/src/start.c"].map(str::to_owned);
    assert_eq!(files, BTreeSet::from(expected));
    for (file, line) in [("dsp/heave.c", 11), ("src/start.c", 20)] {
        assert!(image.lines_of(file).iter().any(|&(_, at)| at == line), "{file}");
    }
    assert_eq!(variables.find("windows.c#heave_level"), variables.find("heave_level"));
}

/// Where members of `struct station` lie, by the rules of the Arm and RISC-V ABIs: path, offset, size, kind, bits.
type Member = (&'static str, u64, u64, Kind, Option<(u8, u8)>);

const MEMBERS: [Member; 17] = [
    ("id", 0, 4, Kind::Unsigned, None),
    ("cell[0].raw", 4, 2, Kind::Unsigned, None),
    ("cell[1].newton", 20, 4, Kind::Float, None),
    ("cell[2].adc.gain", 36, 1, Kind::Signed, None),
    ("cell[2].adc.channel", 37, 1, Kind::Unsigned, None),
    ("valve", 40, 1, Kind::Signed, None),
    ("flags.ready", 44, 4, Kind::Unsigned, Some((0, 1))),
    ("flags.phase", 44, 4, Kind::Unsigned, Some((1, 3))),
    ("flags.trim", 44, 4, Kind::Signed, Some((4, 5))),
    ("flags.wide", 44, 4, Kind::Unsigned, Some((9, 17))),
    ("flags.tail", 44, 4, Kind::Unsigned, Some((28, 4))),
    ("u.word", 48, 4, Kind::Unsigned, None),
    ("u.byte[3]", 51, 1, Kind::Unsigned, None),
    ("u.level", 48, 4, Kind::Float, None),
    ("low", 52, 2, Kind::Unsigned, None),
    ("high", 54, 2, Kind::Unsigned, None),
    ("total", 64, 8, Kind::Signed, None),
];

fn symbol(name: &str, wanted: &str) -> u64 {
    let bytes = bytes(name);
    let file = object::File::parse(bytes.as_slice()).unwrap();
    let found = file.symbols().find(|symbol| symbol.name() == Ok(wanted));
    found.unwrap_or_else(|| panic!("{name} has no symbol {wanted}")).address()
}

fn members_are_where_they_lie(name: &str, variables: &Variables) {
    let station = symbol(name, "station");
    for (path, offset, size, kind, bits) in MEMBERS {
        let field = variables.field(&format!("station.{path}"));
        let field = field.unwrap_or_else(|why| panic!("{name}: {why}"));
        let found = (field.address - station, field.size, field.element.kind);
        // Enumerations of bare-metal Arm are as short as they can be, of clang and RISC-V as long as an `int`.
        let size = if path == "valve" { field.size } else { size };
        assert_eq!(found, (offset, size, kind), "{name}: {path}");
        assert_eq!(field.bits.map(|bits| (bits.from, bits.count)), bits, "{name}: {path}");
    }
    let whole = variables.find("station").unwrap();
    let ring = variables.field("ring[1].total").unwrap();
    assert_eq!(ring.address, symbol(name, "ring") + whole.size + 64, "{name}");
}

#[test]
fn members_are_where_the_compiler_put_them() {
    let builds = ["gcc-dw2-0", "gcc-dw2-0x8000000", "gcc-dw3-0", "gcc-dw4-0", "gcc-dw5-0"];
    for name in builds.into_iter().chain([
        "types-dw4",
        "types-dw5",
        "gcc-lto",
        "clang-dw4-0",
        "clang-dw5-0x8000000",
        "rv32-0",
    ]) {
        let name = format!("{name}.elf");
        let variables = variables(&name);
        members_are_where_they_lie(&name, &variables);
        assert_eq!(variables.field("drift").unwrap().element.kind, Kind::Float, "{name}");
        assert_eq!(variables.field("seconds").unwrap().element.kind, Kind::Signed, "{name}");
        let dropped = variables.find("unused_table").unwrap_err();
        let gone = matches!(dropped, NotFixed::OptimisedOut(_) | NotFixed::Unknown { .. });
        assert!(gone, "{name}: {dropped}");
        // Two statics of one name, and one in a function.
        let NotFixed::Ambiguous { places, .. } = variables.find("level").unwrap_err() else {
            panic!("{name}: two are called level")
        };
        let found: BTreeSet<u64> =
            places.iter().map(|place| variables.find(place).unwrap().address).collect();
        assert_eq!(found.len(), 2, "{name}: {places:?}");
        let calls = variables.find("hull_heel::calls").unwrap();
        assert_eq!((calls.size, calls.element.kind), (4, Kind::Signed), "{name}");
        assert_eq!(variables.find("calls").unwrap().address, calls.address, "{name}");
        assert_eq!(variables.field("last.adc.gain").unwrap().element.kind, Kind::Signed, "{name}");
    }
}

/// Bits of big-endian data are counted from the other end.
#[test]
fn data_of_be8_images_are_big_endian() {
    let (image, variables) = (image("be8.elf"), variables("be8.elf"));
    for (number, handler) in [(1, "start"), (2, "other_handler"), (15, "hull_heel")] {
        let vector = image.vector(number).unwrap();
        assert_eq!(image.function(vector.handler.unwrap()).name, handler);
    }
    let start = image.function(image.functions_named("start")[0]).range.start;
    assert_eq!(image.place(start), Place::Instruction);
    for (path, from, count) in
        [("ready", 31, 1), ("phase", 28, 3), ("trim", 23, 5), ("wide", 6, 17), ("tail", 0, 4)]
    {
        let field = variables.field(&format!("station.flags.{path}")).unwrap();
        let bits = field.bits.unwrap();
        assert_eq!((field.size, bits.from, bits.count), (4, from, count), "{path}");
    }
}

#[test]
fn other_states_and_byte_orders_are_refused_with_the_reason() {
    let refused = Image::parse(&bytes("arm-state.elf")).unwrap_err();
    assert!(matches!(refused, ImageError::ArmState(_)), "{refused}");
    // The same file, without the flag that says that its instructions are little-endian.
    let mut all_big = bytes("be8.elf");
    all_big[0x25] &= !0x80;
    assert_eq!(Image::parse(&all_big).unwrap_err(), ImageError::BigEndianCode);
}

/// A mapping symbol of a debug section is no statement about code; absolute symbols are no functions; a function
/// without a size ends where the next symbol begins.
#[test]
fn the_librarys_division_is_code() {
    let image = image("divides.elf");
    let [main] = image.functions_named("main")[..] else { panic!("one main") };
    let [divides] = image.functions_named("__udivsi3")[..] else { panic!("one __udivsi3") };
    assert_eq!(image.function_at(image.function(divides).range.start), Some(divides));
    for id in [main, divides] {
        let range = image.function(id).range.clone();
        assert_eq!(image.place(range.start), Place::Instruction);
        let code = image.instructions_from(range.start).unwrap();
        let literal = image.after_literal(range.end - 4).is_some();
        assert!(literal || code.len() as u64 >= range.end - range.start, "{range:?}");
    }
    assert!(image.functions_named("_least_stack_size").is_empty());
    assert!(image.functions_named("stack_top").is_empty());
    assert_eq!(image.place(0), Place::Literal, "the vector table");
}

#[test]
fn labels_of_assembly_are_functions_up_to_the_next() {
    for name in ["rv32-0.elf", "rv64-0x8000000.elf"] {
        let image = image(name);
        let length = |function: &str| {
            let [id] = image.functions_named(function)[..] else { panic!("{name}: {function}") };
            let range = image.function(id).range.clone();
            range.end - range.start
        };
        assert_eq!((length("label_only"), length("after_it")), (6, 2), "{name}");
        // Mapping symbols are no names, also where they name the extensions of their code.
        let mut names = image.functions().iter().flat_map(|f| f.aliases.iter().chain([&f.name]));
        assert!(names.all(|name| !name.starts_with('$')), "{name}");
    }
}

#[test]
fn link_time_optimisation_leaves_names_and_types_in_other_units() {
    let (image, variables) = (image("gcc-lto.elf"), variables("gcc-lto.elf"));
    assert_eq!(variables.find("level").unwrap_err().to_string().matches("level").count(), 3);
    let hull = variables.find("hull.c#level").unwrap();
    let mooring = variables.find("mooring.c#level").unwrap();
    assert_ne!(hull.address, mooring.address);
    assert_eq!((hull.size, hull.element.kind), (4, Kind::Signed));
    let inlined = halfwords(&image).into_iter().map(|address| image.frames_at(address));
    let inlined: BTreeSet<String> = inlined
        .filter(|frames| frames.len() > 1)
        .filter_map(|frames| frames[0].function.clone())
        .collect();
    assert!(inlined.contains("scaled"), "{inlined:?}");
}

/// A linker that keeps one of two functions that are the same gives it both names.
#[test]
fn folded_functions_are_one_with_two_names() {
    for name in ["clang-dw4-0.elf", "clang-dw5-0x8000000.elf"] {
        let image = image(name);
        let [port] = image.functions_named("mooring_port")[..] else { panic!("{name}") };
        assert_eq!(image.functions_named("mooring_starboard"), [port], "{name}");
        let function = image.function(port);
        let frames = image.frames_at(function.range.start);
        assert_eq!(names(&frames).last(), Some(&function.name.as_str()), "{name}");
        // And its lines are those of the name that it is shown by.
        let at = frames.last().and_then(|frame| frame.location.clone()).unwrap();
        let declared = image.declaration_of(function.range.start).unwrap();
        let (line, from) = (at.line.unwrap(), declared.line.unwrap());
        assert!(at.file == declared.file && (from..from + 4).contains(&line), "{name}: {line}");
        let source = include_str!("src/mooring.c").lines().nth(from as usize - 1);
        assert!(source.unwrap().contains(&function.name), "{name}: {declared:?}");
    }
}

#[test]
fn a_file_that_debug_information_was_moved_to_is_named() {
    let image = image("moved.elf");
    assert_eq!(image.moved_debug_files(), ["moved.debug"]);
    assert!(!image.has_lines() && image.missing_debug_files().is_empty());
    assert_eq!(image.functions_named("hull_heel").len(), 1);
}

/// Finds files beside the image, and notes what it was asked for.
#[derive(Debug)]
struct Beside {
    package: Option<&'static str>,
    has_files: bool,
}

impl DebugFiles for Beside {
    fn split(&mut self, wanted: &SplitFile) -> Option<Vec<u8>> {
        let name = wanted.name.rsplit('/').next()?;
        self.has_files.then(|| bytes(name))
    }

    fn package(&mut self) -> Option<Vec<u8>> {
        self.package.map(bytes)
    }
}

#[test]
fn files_that_hold_the_debug_information_are_read() {
    let whole = image("gcc-dw5-0x8000000.elf");
    let beside = |package, has_files| Box::new(Beside { package, has_files });
    for (name, package, has_files) in [
        ("split-dw4.elf", None, true),
        ("split-dw5.elf", None, true),
        ("split-dw4.elf", Some("packed-dw4.elf.dwp"), false),
        ("split-dw4.elf", Some("split-dw4.elf"), true),
    ] {
        let split = Image::parse_with(&bytes(name), beside(package, has_files)).unwrap();
        assert_eq!(split.missing_debug_files(), Vec::<String>::new(), "{name}");
        for address in halfwords(&whole) {
            assert_eq!(split.frames_at(address), whole.frames_at(address), "{name} {address:#x}");
            let declared = (split.declaration_of(address), whole.declaration_of(address));
            assert_eq!(declared.0, declared.1, "{name} {address:#x}");
        }
        let variables = Variables::parse_with(&bytes(name), beside(package, has_files)).unwrap();
        members_are_where_they_lie(name, &variables);
    }
}

#[test]
fn files_that_are_missing_are_named() {
    let image = image("split-dw5.elf");
    let missing = image.missing_debug_files();
    assert_eq!(missing, ["split-dw5-hull.dwo", "split-dw5-mooring.dwo"]);
    // Lines are in the image itself, and functions in its symbols.
    let [heel] = image.functions_named("hull_heel")[..] else { panic!("one hull_heel") };
    let start = image.function(heel).range.start;
    assert!(image.location_at(start).unwrap().file.ends_with("hull.c"));
    assert_eq!(names(&image.frames_at(start)), ["hull_heel"]);
    // Those of another build are as good as none.
    #[derive(Debug)]
    struct Others;
    impl DebugFiles for Others {
        fn split(&mut self, wanted: &SplitFile) -> Option<Vec<u8>> {
            Some(bytes(&wanted.name.replace("dw5", "dw4")))
        }
        fn package(&mut self) -> Option<Vec<u8>> {
            None
        }
    }
    let others = Image::parse_with(&bytes("split-dw5.elf"), Box::new(Others)).unwrap();
    assert_eq!(others.missing_debug_files(), missing);
}

#[test]
fn names_of_cpp_are_found_as_people_write_them() {
    let (image, variables) = (image("names.elf"), variables("names.elf"));
    for (name, function) in [
        ("wave::heights", None),
        ("heights", None),
        ("wave::height::limit", None),
        ("wave::the_heave", None),
        ("swell::level", None),
        ("wave::run::count", Some("wave::run")),
        ("walk::count", Some("wave::walk")),
    ] {
        let found = variables.find(name).unwrap_or_else(|why| panic!("{why}"));
        assert_eq!(found.function.as_deref(), function, "{name}");
    }
    let heave = variables.find("the_heave").unwrap().address;
    assert_eq!(variables.field("wave::the_heave.k").unwrap().address, heave + 8);
    assert_eq!(variables.field("the_heave.kind").unwrap().address, heave + 4, "of its base");
    for name in ["level", "count"] {
        let NotFixed::Ambiguous { places, .. } = variables.find(name).unwrap_err() else {
            panic!("several are called {name}")
        };
        let found: BTreeSet<u64> =
            places.iter().map(|place| variables.find(place).unwrap().address).collect();
        assert_eq!(found.len(), places.len(), "{places:?}");
    }
    let functions: BTreeSet<&str> =
        image.functions().iter().map(|function| function.name.as_str()).collect();
    for name in ["say;hello", "wave::walk(int)"] {
        assert!(functions.contains(name), "{functions:?}");
    }
    // What was not inlined has one name, in every table.
    for function in image.functions() {
        let frames = image.frames_at(function.range.start);
        assert_eq!(names(&frames).last(), Some(&function.name.as_str()));
    }
}

#[test]
fn names_of_rust_have_their_modules() {
    let (image, variables) = (image("rust.elf"), variables("rust.elf"));
    let log = variables.find("heave::wave::LOG").unwrap();
    assert_eq!(log.file.as_deref(), Some("heave.rs"));
    for name in ["wave::LOG", "LOG", "heave.rs#LOG"] {
        assert_eq!(variables.find(name), Ok(log), "{name}");
    }
    assert_eq!(variables.field("LOG.head").unwrap().address, log.address + 16);
    let [filter] = image.functions_named("heave::wave::filter")[..] else { panic!("one filter") };
    let range = image.function(filter).range.clone();
    let frames: Vec<_> = range.step_by(2).map(|at| image.frames_at(at)).collect();
    let inlined = ["heave::wave::pick", "heave::wave::filter"];
    assert!(frames.iter().any(|frames| names(frames) == inlined), "{frames:?}");
}

/// Sections that no image of the tests may be without: else they would show nothing.
#[test]
fn the_images_are_what_they_are_for() {
    let debug_frame_mapping = |name: &str| {
        let bytes = bytes(name);
        let file = object::File::parse(bytes.as_slice()).unwrap();
        file.symbols().any(|symbol| {
            let section = symbol.section_index().and_then(|at| file.section_by_index(at).ok());
            let is_debug = section
                .is_some_and(|section| section.name().is_ok_and(|name| name.starts_with(".debug")));
            is_debug && symbol.name() == Ok("$d")
        })
    };
    assert!(debug_frame_mapping("divides.elf"));
}
