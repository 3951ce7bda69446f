//! Bad input gets one clear message, exit code 2, and nothing on standard output.

use super::support::{Bench, FIRMWARE};

fn contains(text: &str, parts: &[&str]) {
    for part in parts {
        assert!(text.contains(part), "no {part:?} in:\n{text}");
    }
}

#[test]
fn a_missing_file() {
    contains(&Bench::new().error("profile nowhere"), &["nowhere", "no such file or folder"]);
}

#[test]
fn a_folder_without_manifest() {
    let bench = Bench::new();
    bench.write("empty/readme.txt", "");
    contains(&bench.error("profile empty"), &["no capture.toml", "weltblick import"]);
}

#[test]
fn an_unknown_key() {
    let bench = Bench::new();
    bench.edit_manifest("pc_sample_period    =", "pc_sample_perod =");
    let error = bench.error("profile buoy");
    contains(&error, &["buoy/capture.toml:15:1", "did you mean `pc_sample_period`?", "^^^^"]);
}

#[test]
fn a_missing_unit() {
    let bench = Bench::new();
    bench.edit_manifest("\"47.972352 MHz\"", "\"47972352\"");
    contains(
        &bench.error("inspect buoy"),
        &["capture.toml:7:", "has no unit; write Hz, kHz, MHz or GHz"],
    );
    contains(&bench.error("inspect buoy --core-clock 48"), &["has no unit"]);
}

#[test]
fn an_unknown_protocol_framing_or_instruction_set() {
    let bench = Bench::new();
    bench.edit_manifest("protocol = \"itm\"", "protocol = \"itn\"");
    contains(&bench.error("profile buoy"), &["capture.toml:12:", "`itn` is no protocol"]);
    bench.edit_manifest("protocol = \"itm\"", "protocol = \"itm\"\nframing = \"tpui\"");
    contains(&bench.error("profile buoy"), &["capture.toml:13:", "did you mean `tpiu`?"]);
    bench.edit_manifest("\"thumb\"", "\"thump\"");
    contains(&bench.error("profile buoy"), &["did you mean `thumb`?"]);
    bench.edit_manifest("timestamp_prescaler = 1", "timestamp_prescaler = 3");
    contains(&bench.error("profile buoy"), &["must be 1, 4, 16 or 64"]);
}

#[test]
fn a_truncated_image() {
    let bench = Bench::new();
    for cut in [3, 20, 60, 5_000, 40_000, FIRMWARE.len() - 100] {
        bench.write("buoy/wave-buoy.elf", &FIRMWARE[..cut]);
        let error = bench.error("profile buoy");
        contains(&error, &["wave-buoy.elf", "ELF file"]);
    }
}

#[test]
fn an_image_of_another_machine() {
    let bench = Bench::new();
    let mut elf = FIRMWARE.to_vec();
    elf[18] = 62; // e_machine: x86-64
    bench.write("buoy/wave-buoy.elf", &elf);
    contains(&bench.error("profile buoy"), &["wave-buoy.elf", "is for", "Arm (Thumb) and RISC-V"]);
    bench.write("buoy/wave-buoy.elf", FIRMWARE);
    bench.edit_manifest("\"thumb\"", "\"riscv32\"");
    contains(&bench.error("profile buoy"), &["the image is for thumb", "target is riscv32"]);
}

#[test]
fn a_path_that_leaves_the_folder() {
    let bench = Bench::new();
    for path in ["../budgets.toml", "/etc/hostname", "sub/../../budgets.toml"] {
        bench.edit_manifest("\"swo.bin\"", &format!("\"{path}\""));
        contains(&bench.error("profile buoy"), &["capture.toml:11:", "leaves the capture folder"]);
    }
    bench.edit_manifest("\"swo.bin\"", "\"gone.bin\"");
    contains(&bench.error("profile buoy"), &["capture.toml:11:", "no file `gone.bin`"]);
}

#[cfg(unix)]
#[test]
fn a_link_that_leads_out_of_the_folder() {
    let bench = Bench::new();
    std::fs::remove_file(bench.path("buoy/swo.bin")).unwrap();
    std::os::unix::fs::symlink(bench.path("budgets.toml"), bench.path("buoy/swo.bin")).unwrap();
    contains(
        &bench.error("profile buoy"),
        &["capture.toml:11:", "is a link out of the capture folder"],
    );
}

#[test]
fn a_symbol_name_with_terminal_escapes() {
    let bench = Bench::new();
    let mut elf = FIRMWARE.to_vec();
    let name = b"spectrum_power\0";
    let at = elf.windows(name.len()).rposition(|window| window == name).unwrap();
    elf[at..at + 9].copy_from_slice(b"\x1b]2;owned");
    bench.write("buoy/wave-buoy.elf", &elf);
    for format in ["text", "csv"] {
        let out = bench.out(&format!("profile buoy --format {format}"));
        assert!(!out.contains('\u{1b}'), "{format}");
        contains(&out, &["\\u{1b}]2;owned"]);
    }
}

#[test]
fn a_formula_as_a_symbol_name() {
    let bench = Bench::new();
    let mut elf = FIRMWARE.to_vec();
    let name = b"spectrum_power\0";
    let at = elf.windows(name.len()).rposition(|window| window == name).unwrap();
    elf[at..at + 8].copy_from_slice(b"=cmd|'/C");
    bench.write("buoy/wave-buoy.elf", &elf);
    contains(&bench.out("profile buoy --format csv"), &[",'=cmd|"]);
}

#[test]
fn an_image_without_debug_information_or_symbols() {
    let bench = Bench::new();
    // Section names are looked up in the file: hide the debug sections, then the symbols.
    let hide = |elf: &mut Vec<u8>, name: &[u8]| {
        while let Some(at) = elf.windows(name.len()).position(|window| window == name) {
            elf[at + 1] = b'X';
        }
    };
    let mut elf = FIRMWARE.to_vec();
    hide(&mut elf, b".debug_");
    bench.write("buoy/wave-buoy.elf", &elf);
    let out = bench.out("profile buoy --top 3");
    contains(&out, &["no line data", "spectrum_power"]);
    contains(&bench.out("profile buoy --by line --top 3"), &["[no line]"]);
    // A symbol table that is no longer one.
    let header = u32::from_le_bytes(elf[32..36].try_into().unwrap()) as usize;
    for section in 0..usize::from(u16::from_le_bytes(elf[48..50].try_into().unwrap())) {
        let kind = header + 40 * section + 4;
        if elf[kind] == 2 {
            elf[kind] = 1;
        }
    }
    bench.write("buoy/wave-buoy.elf", &elf);
    contains(&bench.out("profile buoy --top 3"), &["stripped", "0x0800"]);
}

#[test]
fn a_window_that_makes_no_sense() {
    let bench = Bench::new();
    contains(&bench.error("profile buoy --within 2s..1s"), &["ends before it starts"]);
    contains(&bench.error("profile buoy --within 2s"), &["A..B"]);
    contains(&bench.error("profile buoy --within 1..2"), &["has no unit"]);
    contains(
        &bench.error("profile buoy --within main..last"),
        &["`main` is a place in the code", "instruction trace"],
    );
    contains(&bench.error("profile buoy --within 10s..11s"), &["in this window of time"]);
}

#[test]
fn random_bytes_as_anything_are_an_answer_not_a_crash() {
    let bench = Bench::new();
    let mut state = 1_u64;
    let noise: Vec<u8> = (0..50_000)
        .map(|_| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (state >> 56) as u8
        })
        .collect();
    bench.write("noise", &noise);
    assert!(bench.out("inspect noise").contains("or this is not ITM"));
    bench.out("inspect noise --framing tpiu");
    bench.out("inspect noise --packets");
    bench.error("profile buoy --image noise");
    bench.error("check buoy noise");
    bench.write("noisy/capture.toml", &noise);
    bench.error("profile noisy");
}
