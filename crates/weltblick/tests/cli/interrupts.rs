//! `interrupts`: goldens on the demo data, faces that agree, and bad input.

use super::support::{Bench, recorded};
use std::process::Stdio;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;

#[test]
fn all_of_them() {
    insta::assert_snapshot!(Bench::new().out("interrupts buoy"));
}

#[test]
fn one_in_detail() {
    insta::assert_snapshot!(Bench::new().out("interrupts buoy adc_ready --worst 2"));
}

#[test]
fn every_single_run() {
    let bench = Bench::new();
    insta::assert_snapshot!(bench.out("interrupts buoy radio_slot --each --within 1s..1.06s"));
    let rows = bench.json("interrupts buoy adc_ready --each");
    let whole = bench.json("interrupts buoy adc_ready");
    let count = whole["interrupts"][0]["elapsed"]["count"].as_u64().unwrap();
    assert_eq!(rows.as_array().unwrap().len() as u64, count);
    let longest = rows
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["pending"]["ns_high"].as_f64().unwrap())
        .fold(0.0, f64::max);
    let stated = whole["interrupts"][0]["pending"]["max"]["seen_ns_high"].as_f64().unwrap();
    assert!((longest - stated).abs() < 50.0, "{longest} {stated}");
    let csv = bench.out("interrupts buoy adc_ready --each --format csv");
    assert_eq!(csv.lines().count() as u64, count + 1);
}

/// The n-th in a window of time is the n-th of the recording: points such as `irq:adc_ready[4803]` lead to it.
#[test]
fn runs_have_the_numbers_of_the_recording() {
    Bench::new().each_has_the_number_of_the_recording("interrupts", "interrupt");
}

#[test]
fn faces_agree() {
    let bench = Bench::new();
    let json = bench.json("interrupts buoy --sort name");
    let csv = bench.out("interrupts buoy --sort name --format csv");
    let rows = json["interrupts"].as_array().unwrap();
    assert_eq!(csv.lines().count(), rows.len() + 1);
    let heading: Vec<&str> = csv.lines().next().unwrap().split(',').collect();
    let at = heading.iter().position(|name| *name == "elapsed_max_ns_low").unwrap();
    for (line, row) in csv.lines().skip(1).zip(rows) {
        let cells: Vec<&str> = line.split(',').collect();
        assert_eq!(cells[1], row["name"]);
        let ns: f64 = cells[at].parse().unwrap();
        assert_eq!(ns.round(), row["elapsed"]["max"]["ns_low"].as_f64().unwrap().round());
    }
    let pulse = rows.iter().find(|row| row["name"] == "gnss_pulse").unwrap();
    assert_eq!(pulse["basis"], "stated");
    // Something is missing: what was seen is the least that the longest took.
    let longest = &pulse["response"]["max"];
    assert_eq!(longest["ns_low"], longest["seen_ns_high"], "{pulse}");
    assert!(longest.get("cycles").is_none() && longest.get("ns_high").is_none(), "{pulse}");
    assert_eq!(bench.json("interrupts --schema")["title"], "InterruptReport");
}

#[test]
fn a_window_cuts_what_crosses_its_edges() {
    let bench = Bench::new();
    let whole = bench.json("interrupts buoy radio_slot");
    let case = &whole["interrupts"][0]["worst"][0];
    let middle = (case["began_ns"].as_f64().unwrap() + case["ended_ns"].as_f64().unwrap()) / 2e9;
    let part = bench.json(&format!("interrupts buoy --within {middle:.6}s..3s"));
    let mut rows = part["interrupts"].as_array().unwrap().iter();
    let slot = rows.find(|row| row["name"] == "radio_slot").unwrap();
    assert_eq!(slot["cut"].as_u64().unwrap(), 1, "its end alone was seen: {slot}");
}

#[test]
fn without_an_image_there_are_numbers() {
    let bench = Bench::new();
    let out = bench.out("interrupts buoy/swo.bin --core-clock 48MHz --sort elapsed");
    assert!(out.contains("interrupt 1\n") && out.contains("SysTick"), "{out}");
    let piped = bench
        .command("interrupts - --core-clock 48MHz")
        .stdin(Stdio::from(std::fs::File::open(bench.path("buoy/swo.bin")).unwrap()))
        .output()
        .unwrap();
    let text = String::from_utf8(piped.stdout).unwrap();
    assert!(text.contains("not explained: standard input"), "{text}");
}

#[test]
fn bad_input_is_told() {
    let bench = Bench::new();
    for (command, part) in [
        (
            "interrupts buoy adc_redy",
            "the image's vector table has no `adc_redy`; it has adc_ready, radio_slot,",
        ),
        ("interrupts buoy 40", "none of these ever ran; what did: "),
        ("interrupts buoy/swo.bin", "give --core-clock"),
        ("interrupts buoy/swo.bin adc_ready --core-clock 48MHz", "without an image"),
        ("interrupts buoy --within 2s..1s", "ends before it starts"),
    ] {
        let error = bench.error(command);
        assert!(error.contains(part), "{command}: {error}");
    }
    let silent = TraceSetup { exceptions: false, ..TraceSetup::default() };
    bench.write("buoy/swo.bin", recorded(Setup::default(), silent, 0.1));
    assert!(bench.error("interrupts buoy").contains("no exception trace"));
    let undated = TraceSetup { timestamps: None, ..TraceSetup::default() };
    bench.write("buoy/swo.bin", recorded(Setup::default(), undated, 0.1));
    assert!(bench.error("interrupts buoy").contains("without timestamps"));
}

#[test]
fn priorities_are_shown_and_held_against_what_happened() {
    let bench = Bench::new();
    let rows = bench.json("interrupts buoy --sort name");
    let of = |name: &str| {
        let rows = rows["interrupts"].as_array().unwrap().clone();
        rows.into_iter().find(|row| row["name"] == name).unwrap()["priority"].as_i64()
    };
    // Fault 2: neither may interrupt the other.
    assert_eq!((of("adc_ready"), of("radio_slot")), (Some(0x40), Some(0x40)));
    let doubt = "adc_ready interrupted SysTick, though by the priorities that are known it cannot";
    assert!(!bench.out("interrupts buoy").contains(doubt));
    bench.edit_manifest("priority = 0x80", "priority = 0x10");
    assert!(bench.out("interrupts buoy").contains(doubt));
    for (from, to, part) in [
        ("priority = 0x80", "priority = 256", "0 to 255; lower is more urgent"),
        ("priority = 0x80", "prio = 1", "needs the key `priority`"),
        ("[interrupt.SysTick]", "[interrupt.Systick]", "the image's vector table has no such name"),
    ] {
        bench.edit_manifest(from, to);
        let error = bench.error("interrupts buoy");
        assert!(error.contains(part) && error.contains("capture.toml"), "{error}");
    }
    bench.edit_manifest("[interrupt.SysTick]", "[interrupt.15]");
    assert_eq!(bench.json("interrupts buoy --sort name"), rows);
}

/// The longest that hides in gaps, in nanoseconds: of interrupts, of tasks, of spans.
fn hidden(bench: &Bench) -> [Option<f64>; 3] {
    let interrupts = bench.json("interrupts buoy");
    let tasks = bench.json("tasks buoy");
    let spans = bench.json("span buoy");
    let busiest = tasks["tasks"].as_array().unwrap().iter().find(|task| task["idle"] == false);
    [&interrupts["evidence"], busiest.unwrap(), &spans["spans"][0]]
        .map(|holder| holder["hidden"]["ns_high"].as_f64())
}

#[test]
fn what_hides_in_gaps_is_bounded_by_the_events_around_them() {
    let bench = Bench::new();
    for longest in hidden(&bench) {
        let longest = longest.expect("dropped packets lose no time");
        assert!((50e3..100e3).contains(&longest), "{longest} ns");
    }
    // Bytes that vanished on the way took time with them: nothing says how much.
    let mut bytes = bench.read("buoy/swo.bin");
    let middle = bytes.len() / 2;
    bytes[middle..middle + 3].fill(0xff);
    bench.write("buoy/swo.bin", bytes);
    assert_eq!(hidden(&bench), [None; 3]);
    let text = bench.out("interrupts buoy").replace("\n  ", " ");
    assert!(text.contains("The true maximum may be among them"), "{text}");
    let text = bench.out("span buoy").replace("\n  ", " ");
    assert!(text.contains("The true maximum may be among them"), "{text}");
}

#[test]
fn an_event_trace_bounds_what_hides_as_the_capture_does() {
    let bench = Bench::new();
    bench.out("export buoy --out events");
    let [capture, trace] = ["buoy", "events"].map(|name| {
        let report = bench.json(&format!("interrupts {name}"));
        report["evidence"]["hidden"]["ns_high"].as_f64().unwrap()
    });
    // The trace tells a gap when it is over: at most by a packet later.
    assert!((capture - trace).abs() <= 0.2 * capture, "{capture} {trace}");
}
