//! Each classic mistake, made on purpose: the diagnosis must name it.

use super::support::{BRANCHES, Bench, FIRMWARE, TRACE, recorded};
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;
use weltblick_standin::trace::tpiu::Formatter;

/// The codes of all findings, gravest first.
fn findings(bench: &Bench, arguments: &str) -> Vec<(String, String)> {
    let report = bench.json(arguments);
    let text = |value: &serde_json::Value| value.as_str().unwrap().to_owned();
    let pair =
        |f: &serde_json::Value| (text(&f["code"]), text(&f["finding"]) + " " + &text(&f["advice"]));
    report["findings"].as_array().unwrap().iter().map(pair).collect()
}

fn only(bench: &Bench, arguments: &str, code: &str) -> String {
    let found = findings(bench, arguments);
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0].0, code, "{found:?}");
    found[0].1.clone()
}

/// A link that loses nothing.
fn wide() -> Setup {
    Setup { link_bit_rate: 8_000_000, link_buffer: 512, ..Setup::default() }
}

#[test]
fn a_sound_recording_has_nothing_against_it() {
    let bench = Bench::new();
    bench.write("buoy/swo.bin", recorded(wide(), TraceSetup::default(), 0.5));
    assert_eq!(findings(&bench, "inspect buoy"), []);
    assert!(bench.out("inspect buoy").contains("= nothing speaks against this recording"));
}

#[test]
fn an_empty_file() {
    let bench = Bench::new();
    bench.write("buoy/swo.bin", "");
    assert!(only(&bench, "inspect buoy", "empty").contains("pin"));
}

#[test]
fn a_wrong_bit_rate() {
    // Sampling the line at three quarters of its rate shifts and drops bits.
    let bits = TRACE.iter().flat_map(|byte| (0..8).map(move |bit| byte >> bit & 1));
    let kept: Vec<u8> =
        bits.enumerate().filter(|(at, _)| at % 4 != 3).map(|(_, bit)| bit).collect();
    let wrong: Vec<u8> = kept
        .chunks_exact(8)
        .map(|byte| byte.iter().rev().fold(0, |value, bit| value << 1 | bit))
        .collect();
    let bench = Bench::new();
    bench.write("buoy/swo.bin", &wrong[..100_000]);
    assert!(only(&bench, "inspect buoy", "no_synchronisation").contains("bit rate"));
}

#[test]
fn frames_read_as_plain_packets_and_the_other_way_round() {
    let mut formatter = Formatter::new();
    for chunk in TRACE[..100_000].chunks(300) {
        formatter.synchronise();
        formatter.write(7, chunk);
    }
    formatter.complete();
    let bench = Bench::new();
    bench.write("port.bin", formatter.take());
    let image = "--image buoy/wave-buoy.elf";
    let text = only(&bench, &format!("inspect port.bin {image}"), "framed");
    assert!(text.contains("trace_id = 7"), "{text}");
    let text = only(&bench, &format!("inspect port.bin {image} --framing tpiu"), "other_source");
    assert!(text.contains("trace_id = 7"), "{text}");
    only(&bench, &format!("inspect buoy/swo.bin {image} --framing tpiu"), "not_framed");
}

#[test]
fn sampling_off() {
    let bench = Bench::new();
    let trace = TraceSetup { samples: false, ..TraceSetup::default() };
    bench.write("buoy/swo.bin", recorded(wide(), trace, 0.2));
    assert!(only(&bench, "inspect buoy", "no_samples").contains("PCSAMPLENA"));
    assert!(bench.error("profile buoy").contains("no program-counter samples"));
}

#[test]
fn the_image_of_another_build() {
    let bench = Bench::new();
    bench.write("buoy/swo.bin", recorded(wide(), TraceSetup::default(), 0.5));
    bench.write(
        "buoy/wave-buoy.elf",
        include_bytes!("../../../weltblick-standin/tests/isa/isa.elf"),
    );
    assert!(only(&bench, "inspect buoy", "other_image").contains("outside the image"));
    // The same firmware, shifted by one halfword: everything lies inside, but nothing fits.
    let mut shifted = FIRMWARE.to_vec();
    let code = 0x1000 + 0x100..0x1000 + 0x1200;
    shifted.copy_within(code.start..code.end - 2, code.start + 2);
    bench.write("buoy/wave-buoy.elf", shifted);
    assert!(only(&bench, "inspect buoy", "other_image").contains("another build"));
}

#[test]
fn overflow_says_by_how_much_the_period_must_grow() {
    let bench = Bench::new();
    let narrow = Setup { link_bit_rate: 1_400_000, link_buffer: 64, ..Setup::default() };
    // Marks come in bursts that no sampling period mends.
    let unmarked = TraceSetup { ports: 1, ..TraceSetup::default() };
    bench.write("buoy/swo.bin", recorded(narrow, unmarked, 1.0));
    let missing = |bench: &Bench| {
        let report = bench.json("profile buoy");
        report["evidence"]["samples_missing_at_most"].as_f64().unwrap()
            / report["recording"]["samples"].as_f64().unwrap()
    };
    let before = missing(&bench);
    let text = only(&bench, "inspect buoy", "overflow");
    let advice = text.split("every ").last().unwrap();
    let period: u64 = advice.split(' ').next().unwrap().parse().unwrap();
    assert!(period > 4096, "{text}");
    // Following the advice must help.
    let reload = u32::try_from(period / 1024 - 1).unwrap();
    let slower = TraceSetup { sample_reload: reload, ..unmarked };
    bench.write("buoy/swo.bin", recorded(narrow, slower, 1.0));
    bench.edit_manifest("= 4096", &format!("= {period}"));
    let after = missing(&bench);
    assert!(before > 0.05 && after < before / 4.0, "{before} then {after}");
}

#[test]
fn everything_asleep() {
    let bench = Bench::new();
    let asleep: Vec<u8> = [0, 0, 0, 0, 0, 0x80]
        .into_iter()
        .chain([0x15, 0x00, 0xc0, 0x80, 0x20].into_iter().cycle().take(5 * 400))
        .collect();
    bench.write("buoy/swo.bin", asleep);
    assert!(only(&bench, "inspect buoy", "asleep").contains("start-up"));
}

#[test]
fn a_core_clock_that_contradicts_the_tick() {
    let bench = Bench::new();
    bench.write("buoy/swo.bin", recorded(wide(), TraceSetup::default(), 0.5));
    let text = only(&bench, "inspect buoy --core-clock 72MHz", "clock");
    assert!(text.contains("47.972 MHz") && text.contains("core_clock"), "{text}");
    // Timestamps with a clock of their own: that one is wrong, not the core's.
    let report = bench.json("inspect buoy --timestamp-clock 2MHz");
    let clock = report["findings"].as_array().unwrap().iter().find(|f| f["code"] == "clock");
    assert!(clock.unwrap()["advice"].as_str().unwrap().contains("--timestamp-clock 4797"));
}

#[test]
fn a_sampling_period_that_is_stated_wrongly() {
    let bench = Bench::new();
    bench.write("buoy/swo.bin", recorded(wide(), TraceSetup::default(), 0.5));
    let text = only(&bench, "inspect buoy --pc-sample-period 1024", "period");
    assert!(text.contains("POSTPRESET"), "{text}");
}

#[test]
fn what_a_damaged_recording_costs() {
    let bench = Bench::new();
    let mut bytes = recorded(wide(), TraceSetup::default(), 1.0);
    let middle = bytes.len() / 2;
    bytes[middle] = 0x80;
    bench.write("buoy/swo.bin", bytes);
    let found = findings(&bench, "inspect buoy");
    assert!(found.iter().any(|(code, _)| code == "damaged"), "{found:?}");
    assert!(bench.out("inspect buoy").contains("over at least"));
}

#[test]
fn missing_timestamps_synchronisations_clock_and_image() {
    let bench = Bench::new();
    let trace = TraceSetup { timestamps: None, global: false, ..TraceSetup::default() };
    let bytes = recorded(wide(), trace, 0.3);
    bench.write("swo.bin", &bytes[6..]);
    let found = findings(&bench, "inspect swo.bin");
    let codes: Vec<&str> = found.iter().map(|(code, _)| code.as_str()).collect();
    assert_eq!(codes, ["never_synchronised", "no_timestamps", "no_image"]);
}

#[test]
fn a_start_inside_a_packet_that_nothing_heals() {
    let bench = Bench::new();
    let trace = TraceSetup { global: false, ..TraceSetup::default() };
    let bytes = recorded(wide(), trace, 0.3);
    // Without the synchronisation at the start and 0.3 s long there is none; the first packet is a
    // sample of five bytes.
    bench.write("buoy/swo.bin", &bytes[6 + 3..]);
    let text = only(&bench, "inspect buoy", "starts_inside");
    let byte = text.trim_end_matches('.').rsplit(' ').next().unwrap().parse::<usize>().unwrap();
    // Following the advice gives a readable recording.
    bench.write("buoy/swo.bin", &bytes[6 + 3 + byte..]);
    only(&bench, "inspect buoy", "never_synchronised");
}

#[test]
fn a_dump_of_a_micro_trace_buffer_that_was_not_full_or_has_wrapped() {
    let bench = Bench::new();
    let options = "--protocol mtb --image buoy/wave-buoy.elf";
    let mut dump = BRANCHES[..8192].to_vec();
    dump.resize(32_768, 0);
    bench.write("mtb.bin", &dump);
    assert_eq!(findings(&bench, &format!("inspect mtb.bin {options}")), [], "unwritten memory");
    // From its middle on: where the newest branch is followed by the oldest.
    bench.write("mtb.bin", [&BRANCHES[28_672..32_768], &BRANCHES[..28_672]].concat());
    let text = only(&bench, &format!("inspect mtb.bin {options}"), "image_contradicted");
    assert!(text.contains("MTB_POSITION"), "{text}");
}
