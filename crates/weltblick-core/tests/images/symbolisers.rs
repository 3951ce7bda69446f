//! The same questions put to `llvm-symbolizer` and `gdb`.

use super::{halfwords, image, path, variables};
use std::io::Write as _;
use std::process::{Command, Stdio};
use weltblick_core::image::{Frame, Image};

/// Images whose debug information other programs understand: where dropped code has the addresses of code that is
/// there, they are wrong themselves.
const IMAGES: [&str; 14] = [
    "gcc-dw2-0x8000000.elf",
    "gcc-dw3-0x8000000.elf",
    "gcc-dw4-0x8000000.elf",
    "gcc-dw5-0x8000000.elf",
    "gcc-lto.elf",
    "be8.elf",
    "clang-dw2-0x8000000.elf",
    "clang-dw3-0x8000000.elf",
    "clang-dw4-0x8000000.elf",
    "clang-dw5-0x8000000.elf",
    "rv32-0x8000000.elf",
    "rv64-0x8000000.elf",
    "names.elf",
    "rust.elf",
];

/// Whether a program is there; a loud word if not, that the test was left out.
fn is_there(program: &str, test: &str) -> bool {
    if Command::new(program).arg("--version").stdout(Stdio::null()).status().is_ok() {
        return true;
    }
    assert!(
        std::env::var_os("CI").is_none(),
        "{test}: {program} is missing, and CI must not leave this test out"
    );
    let text = format!("\n!!! {test} WAS LEFT OUT: {program} is not installed !!!\n\n");
    let _ = std::io::stderr().write_all(text.as_bytes());
    false
}

fn asked(program: &str, arguments: &[&str], input: &str) -> String {
    let mut child = Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let (mut stdin, input) = (child.stdin.take().unwrap(), input.to_owned());
    let writer = std::thread::spawn(move || stdin.write_all(input.as_bytes()));
    let output = child.wait_with_output().unwrap();
    writer.join().unwrap().unwrap();
    String::from_utf8(output.stdout).unwrap()
}

/// A frame as both have it: the function's name without parameters, the file without its folder, the line.
type Plain = (String, String, u64);

fn plain(function: &str, file: &str, line: u64) -> Plain {
    let name = function.split(['(', '<', ' ']).next().unwrap_or_default();
    (name.to_owned(), file.rsplit('/').next().unwrap_or_default().to_owned(), line)
}

fn ours(frames: &[Frame]) -> Vec<Plain> {
    let frame = |frame: &Frame| {
        let place = frame.location.as_ref();
        let file = place.map_or("", |place| place.file.as_str());
        let line = place.and_then(|place| place.line).unwrap_or(0);
        plain(frame.function.as_deref().unwrap_or_default(), file, u64::from(line))
    };
    frames.iter().map(frame).collect()
}

/// What `llvm-symbolizer` says of each address.
fn theirs(name: &str, addresses: &[u64]) -> Vec<Vec<Plain>> {
    let input: String = addresses.iter().map(|address| format!("{address:#x}\n")).collect();
    let object = format!("--obj={}", path(name).display());
    let text = asked("llvm-symbolizer", &[&object, "--output-style=JSON"], &input);
    let frame = |frame: &serde_json::Value| {
        let text = |key: &str| frame[key].as_str().unwrap_or_default().to_owned();
        plain(&text("FunctionName"), &text("FileName"), frame["Line"].as_u64().unwrap_or(0))
    };
    let line = |line: &str| {
        let answer: serde_json::Value = serde_json::from_str(line).unwrap();
        answer["Symbol"].as_array().unwrap().iter().map(frame).collect()
    };
    text.lines().map(line).collect()
}

/// Addresses of whole instructions that have a line.
fn addresses(image: &Image) -> Vec<u64> {
    let is_known = |address: &u64| image.location_at(*address).is_some_and(|at| at.line.is_some());
    halfwords(image).into_iter().filter(is_known).collect()
}

#[test]
fn frames_are_those_of_an_independent_symboliser() {
    if !is_there("llvm-symbolizer", "THE COMPARISON WITH A SYMBOLISER") {
        return;
    }
    for name in IMAGES {
        let image = image(name);
        // Of folded functions each may be named, with its own lines.
        let is_folded = |address: &u64| {
            let function = image.function_at(*address).map(|id| image.function(id));
            function.is_some_and(|function| !function.aliases.is_empty())
        };
        let mut addresses = addresses(&image);
        addresses.retain(|address| !is_folded(address));
        assert!(addresses.len() > 10, "{name}");
        let answers = theirs(name, &addresses);
        assert_eq!(answers.len(), addresses.len(), "{name}");
        for (address, theirs) in addresses.into_iter().zip(answers) {
            let mut ours = ours(&image.frames_at(address));
            // It calls the outermost function by its debug information, which has no name for what is folded and
            // none of the compiler's for copies: those are held against the symbols by the other tests.
            assert_eq!(ours.len(), theirs.len(), "{name} {address:#x}: {ours:?} {theirs:?}");
            if let (Some(ours), Some(theirs)) = (ours.last_mut(), theirs.last()) {
                ours.0.clone_from(&theirs.0);
            }
            assert_eq!(ours, theirs, "{name} {address:#x}");
        }
    }
}

#[test]
fn members_are_where_an_independent_debugger_finds_them() {
    if !is_there("gdb-multiarch", "THE COMPARISON WITH A DEBUGGER") {
        return;
    }
    let paths = [
        "station.id",
        "station.cell[2].newton",
        "station.cell[1].adc.channel",
        "station.valve",
        "station.u.byte[2]",
        "station.high",
        "station.next",
        "station.total",
        "ring[1].cell[0].raw",
        "ring[1].total",
        "seconds",
        "drift",
    ];
    for name in IMAGES.into_iter().filter(|name| !["names.elf", "rust.elf"].contains(name)) {
        let variables = variables(name);
        let file = path(name).display().to_string();
        let mut arguments = vec!["-batch", "-nx", file.as_str()];
        let commands: Vec<String> = paths
            .iter()
            .map(|path| format!("printf \"%ld %d\\n\", (long)&{path}, (int)sizeof({path})"))
            .collect();
        arguments.extend(commands.iter().flat_map(|command| ["-ex", command.as_str()]));
        let text = asked("gdb-multiarch", &arguments, "");
        let answers: Vec<&str> = text.lines().collect();
        assert_eq!(answers.len(), paths.len(), "{name}: {text}");
        for (path, answer) in paths.into_iter().zip(answers) {
            let field = variables.field(path).unwrap_or_else(|why| panic!("{name}: {why}"));
            assert_eq!(format!("{} {}", field.address, field.size), answer, "{name}: {path}");
        }
    }
}
