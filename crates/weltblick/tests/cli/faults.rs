//! What `inspect` says of each fault of the stand-in and of each mistake in a set-up, and that it says nothing else: the
//! tables of the guide (docs/guide/trusting.md).

use super::stand_in::Running;
use super::support::Bench;
use serde_json::Value;

const IMAGE: &str = "--image buoy/wave-buoy.elf";
const CLOCKS: &str = "--core-clock 47.972352MHz --tick-period 1ms";

/// A way to trace: the core, what is planned, and how much is recorded.
struct Setup {
    core: &'static str,
    plan: &'static str,
    bytes: &'static str,
}

const ITM: Setup = Setup {
    core: "cortex-m3",
    plan: "--link uart --bit-rate 4Mbit/s --pc-sample-period 4096 --interrupt SysTick=1kHz",
    bytes: "120kB",
};
const ETMV3: Setup = Setup {
    core: "cortex-m3",
    plan: "--link port --port-width 4 --port-clock 24MHz --instructions",
    bytes: "200kB",
};
const ETMV4: Setup = Setup { core: "cortex-m33", ..ETMV3 };

impl Setup {
    /// Captures it, with a fault or without.
    fn capture(&self, fault: &str) -> Bench {
        let Self { core, plan, bytes } = self;
        // A connection that breaks is only made again if time passes meanwhile.
        let (bench, pace, until) = if fault == "disconnect" {
            (Bench::alone(), "", "--for 1500ms".to_owned())
        } else {
            (Bench::new(), "--hurry", format!("--bytes {bytes}"))
        };
        bench.out(&format!("plan --core {core} {CLOCKS} {IMAGE} {plan} --out plan.toml"));
        let fault = if fault.is_empty() { String::new() } else { format!("--fault {fault}") };
        let target = Running::start(&bench, &format!("--core {core} {fault} {pace}"));
        let (trace, stub) = (&target.trace, &target.stub);
        let ended = bench.run(&format!(
            "capture {trace} {stub} --plan plan.toml {IMAGE} --reset {until} --out run --quiet"
        ));
        assert_eq!(ended.code, 0, "{}", ended.err);
        // Bytes that went missing are no other clock, also while it is recorded.
        assert!(!ended.err.contains("core_clock"), "{}", ended.err);
        bench
    }

    /// The codes of what is found with a fault are all among these, and the first of these is among them.
    fn shows(&self, fault: &str, codes: &[&str]) {
        let found = codes_of(&self.capture(fault).json("inspect run"));
        let expected = codes.first().is_none_or(|first| found.iter().any(|code| code == first));
        let alone = found.iter().all(|code| codes.contains(&code.as_str()));
        assert!(expected && alone, "{} {fault}: {found:?} instead of {codes:?}", self.core);
    }
}

fn codes_of(report: &Value) -> Vec<String> {
    let findings = report["findings"].as_array().unwrap().iter();
    findings.map(|finding| finding["code"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn each_fault_of_samples_and_interrupts() {
    for (fault, codes) in [
        ("", &[][..]),
        ("drop", &["damaged", "contradictions"]),
        ("corrupt", &["damaged", "contradictions"]),
        ("stall", &["overflow"]),
        ("disconnect", &["disconnected"]),
        ("clock", &["no_synchronisation"]),
        ("late", &["late"]),
    ] {
        ITM.shows(fault, codes);
    }
}

#[test]
fn each_fault_of_instruction_trace() {
    for (fault, codes) in [
        ("", &[][..]),
        ("drop", &["damaged", "image_contradicted"]),
        ("corrupt", &["damaged", "image_contradicted"]),
        ("stall", &["flow_gaps"]),
        ("disconnect", &["disconnected"]),
    ] {
        ETMV3.shows(fault, codes);
        ETMV4.shows(fault, codes);
    }
    ETMV4.shows("late", &["late"]);
    // The next synchronisation of its frames comes only after 350 ms.
    ETMV3.shows("late", &["no_synchronisation"]);
}

#[test]
fn a_receiver_that_stops_listening_is_no_slow_link() {
    let report = ITM.capture("stall").out("inspect run");
    assert!(report.contains("nobody took the trace"), "{report}");
    assert!(!report.contains("Sample every"), "{report}");
}

/// Each finding of a capture that is sound, read with a mistake, and part of its advice.
fn mistakes(setup: &Setup, all: &[(&str, &str, &str)]) {
    let bench = setup.capture("");
    for (options, code, advice) in all {
        let report = bench.json(&format!("inspect run {options}"));
        assert_eq!(codes_of(&report), [*code], "{options}: {report}");
        let said = report["findings"][0]["advice"].as_str().unwrap();
        assert!(said.contains(advice), "{options}: {said}");
    }
}

#[test]
fn each_mistake_in_what_is_said_of_samples_and_interrupts() {
    let all = [
        ("--core-clock 96MHz", "clock", "--core-clock 47.97"),
        // Both the tick and the samples seem to come 16 times too seldom: no clock is that wrong.
        ("--timestamp-prescaler 16", "clock", "timestamp_prescaler = 1 "),
        ("--timestamp-clock 2MHz", "clock", "--timestamp-clock 479"),
        ("--pc-sample-period 16384", "period", "Correct pc_sample_period"),
        ("--pc-sample-period 1024", "period", "Correct pc_sample_period"),
        ("--framing tpiu", "not_framed", "leave --framing out"),
        ("--protocol etmv3", "wrong_protocol", "--protocol itm"),
        ("--protocol etmv4", "wrong_protocol", "--protocol itm"),
        ("--protocol mtb", "wrong_protocol", "--protocol itm"),
    ];
    mistakes(&ITM, &all);
}

#[test]
fn each_mistake_in_what_is_said_of_an_instruction_trace() {
    let of_etmv4 = [
        ("--protocol itm", "wrong_protocol", "--protocol etmv4"),
        ("--protocol etmv3", "wrong_protocol", "--protocol etmv4"),
        ("--trace-id 3", "other_source", "--trace-id 2"),
        ("--framing none", "framed", "--framing tpiu --trace-id 2"),
        ("--register trcconfigr=0", "image_contradicted", "registers as they were written"),
    ];
    mistakes(&ETMV4, &of_etmv4);
    let of_etmv3 = [
        ("--protocol itm", "wrong_protocol", "--protocol etmv3"),
        ("--protocol etmv4", "wrong_protocol", "--protocol etmv3"),
    ];
    mistakes(&ETMV3, &of_etmv3);
}

#[test]
fn a_pipeline_stops_at_what_is_wrong_and_at_what_is_doubtful() {
    let sound = ITM.capture("");
    assert_eq!(sound.run("inspect run --strict").code, 0);
    assert_eq!(sound.run("inspect run --strict --core-clock 96MHz").code, 1);
    assert_eq!(ITM.capture("late").run("inspect run --strict").code, 3);
    // A capture that is made of it says the same at its end.
    let command = "capture run/trace.000000.bin --image buoy/wave-buoy.elf --pc-sample-period 4096 \
                   --core-clock 96MHz --tick-period 1ms --out again --quiet --strict";
    let ended = sound.run(command);
    assert_eq!(ended.code, 1, "{}{}", ended.out, ended.err);
    assert!(ended.out.contains("! Ticks that are known to come every 1 ms"), "{}", ended.out);
}
