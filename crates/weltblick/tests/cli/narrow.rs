//! Captures of a part: windows between points in the code, ranges of code, on the target and on the
//! host.

use super::stand_in::{Running, planned};
use super::support::Bench;
use serde_json::Value;
use std::collections::BTreeMap;

const IMAGE: &str = "--image buoy/wave-buoy.elf";

/// The samples of every row of a profile.
fn samples(report: &Value) -> BTreeMap<String, u64> {
    let rows = report["rows"].as_array().unwrap();
    let name = |row: &Value| row["function"].as_str().or(row["kind"].as_str()).unwrap().to_owned();
    rows.iter().map(|row| (name(row), row["samples"].as_u64().unwrap())).collect()
}

fn codes(report: &Value) -> Vec<String> {
    let findings = report["findings"].as_array().unwrap();
    findings.iter().map(|finding| finding["code"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn code_that_was_not_asked_for_is_not_told_apart_and_shares_stay() {
    let bench = Bench::alone();
    bench.out(&format!(
        "capture buoy/swo.bin {IMAGE} --inside filter.c --inside copy_bytes --exclude filter_precise \
         --core-clock 47.972352MHz --pc-sample-period 4096 --out part --quiet"
    ));
    assert_eq!(
        bench.read("part/trace.000000.bin"),
        bench.read("buoy/swo.bin"),
        "every byte is kept"
    );
    let (whole, part) = (bench.json("profile buoy"), bench.json("profile part"));
    let (all, some) = (samples(&whole), samples(&part));
    assert_eq!(
        some.keys().map(String::as_str).collect::<Vec<_>>(),
        ["asleep", "copy_bytes", "elsewhere", "wave_filter"]
    );
    for name in ["asleep", "copy_bytes", "wave_filter"] {
        assert_eq!(some[name], all[name], "{name}");
    }
    assert_eq!(some.values().sum::<u64>(), all.values().sum::<u64>());
    assert!(bench.out("profile part").contains("[code that was not asked for]"));
    let lines = bench.out("inspect part");
    assert!(lines.contains("not asked for: code inside filter_precise"), "{lines}");
    // What was asked for is judged; what was not is never met by having no samples.
    let checked = bench.json("check part budgets.toml");
    let verdict = |budget: &str| {
        let budgets = checked["budgets"].as_array().unwrap();
        let found = budgets.iter().find(|b| b["budget"].as_str().unwrap().contains(budget));
        found.unwrap()["verdict"].as_str().unwrap().to_owned()
    };
    assert_eq!(verdict("copy_bytes"), "broken");
    assert_eq!(verdict("wave_filter"), "met");
    assert_eq!(verdict("spectrum_power"), "undecided");
    assert_eq!(verdict("adc_ready_handler"), "undecided");
}

#[test]
fn between_points_in_the_code_the_stub_opens_and_closes() {
    let bench = planned();
    let target = Running::start(&bench, "");
    let (trace, stub) = (&target.trace, &target.stub);
    let ended = bench.run(&format!(
        "capture {trace} {stub} --plan plan.toml {IMAGE} --reset --window wave_filter..spectrum_power \
         --for 2s --out run --quiet"
    ));
    ended.succeeded();
    // It is off before the first point, on and off after it, and reading finds its feet at once.
    let journal = String::from_utf8(bench.read("run/journal.jsonl")).unwrap();
    let opened = journal.matches("\"watched\"").count();
    assert!(
        opened > 5 && opened.abs_diff(journal.matches("\"unwatched\"").count()) <= 1,
        "{journal}"
    );
    let inspected = bench.json("inspect run");
    let serious = ["damaged", "late", "starts_inside", "no_synchronisation", "period", "clock"];
    let codes = codes(&inspected);
    assert!(!codes.iter().any(|code| serious.contains(&code.as_str())), "{inspected}");
    let profile = bench.json("profile run");
    let found = samples(&profile);
    assert!(found["wave_filter"] > 20, "{found:?}");
    assert!(!found.contains_key("asleep") && !found.contains_key("spectrum_power"), "{found:?}");
    // The core was stopped again and again: no budget is met by that.
    assert_eq!(profile["evidence"]["intrusive"], true);
    bench.write("loose.toml", "[function.wave_filter]\nself_share = \"<= 99.9 %\"\n");
    let checked = bench.run("check run loose.toml");
    assert_eq!(checked.code, 3, "{}", checked.out);
    assert!(checked.out.contains("a share of that is none of all time"), "{}", checked.out);
    bench.write("tight.toml", "[function.wave_filter]\nself_share = \"<= 1 %\"\n");
    assert_eq!(bench.run("check run tight.toml").code, 3, "nor is it broken by that");
}

#[test]
fn samples_are_asked_for_between_points_only() {
    let bench = Bench::alone();
    bench.write("hot.elf", super::stub::HOT);
    let target = Running::start(&bench, "hot.elf");
    let ended = bench.run(&format!(
        "capture {} --image hot.elf --sample=500us --read rounds --read-every 5ms \
         --window smooth_spectrum..track_tide --laps smooth_spectrum,track_tide --for 1500ms --out run --quiet",
        target.stub
    ));
    ended.succeeded();
    let found = samples(&bench.json("profile run"));
    assert_eq!(found.keys().collect::<Vec<_>>(), ["smooth_spectrum"], "{found:?}");
    assert!(found["smooth_spectrum"] > 2, "{found:?}");
    // Laps at both edges of a window belong into it.
    let span = bench.json("span run --core-clock 47.972352MHz");
    assert!(span["total"]["elapsed"]["count"].as_u64().unwrap() > 10, "{span}");
    // What a variable is called is told also where nothing is kept.
    let poll = String::from_utf8(bench.read("run/poll.000000.bin")).unwrap();
    assert!(poll.starts_with("n 0 4 u ") || poll.contains("\nn 0 4 u "), "{poll}");
}

#[test]
fn comparators_of_the_target_open_and_close_a_micro_trace_buffer() {
    let bench = Bench::alone();
    bench.write("micro.toml", super::stub::MICRO);
    bench.out("plan micro.toml --out plan.toml");
    let target = Running::start(&bench, "");
    let ended = bench.run(&format!(
        "capture {} --plan plan.toml {IMAGE} --reset --read-out mtb:0xe0043000 --inside wave_filter \
         --window adc_ready_handler..sampler.c:29 --for 500ms --out run --quiet",
        target.stub
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    assert!(ended.err.contains("a micro trace buffer knows no ranges"), "{}", ended.err);
    let journal = String::from_utf8(bench.read("run/journal.jsonl")).unwrap();
    for part in ["MTB_TSTART = 0x00000001", "MTB_TSTOP = 0x00000002", "MTB_MASTER = 0x00000069"] {
        assert!(journal.contains(part), "{part}: {journal}");
    }
    assert!(!String::from_utf8(bench.read("run/capture.toml")).unwrap().contains("intrusive"));
    // The first branch after each start is one of the function where it starts.
    let listed = bench.out("inspect run --packets --top 0");
    let starts: Vec<&str> =
        listed.lines().filter(|line| line.contains("the first since tracing started")).collect();
    assert!(!starts.is_empty(), "{listed}");
    assert!(starts.iter().all(|line| line.contains("adc_ready_handler")), "{starts:?}");
    let report = bench.json("inspect run");
    assert_eq!(codes(&report).iter().filter(|code| *code != "overwritten").count(), 0, "{report}");
}

#[test]
fn what_cannot_be_narrowed_is_told() {
    let bench = Bench::alone();
    for (options, part) in [
        ("--window wave_filter..copy_bytes", "add stub:HOST:PORT"),
        ("--window 1s..wave_filter", "points in the code on both"),
        ("--window irq:adc_ready[3]..", "not by `irq:adc_ready[3]`"),
        ("--window 2s..1s", "ends before it starts"),
        ("--window wave_filtre..", "did you mean `wave_filter`?"),
        ("--inside nowhere", "--inside: the image has no function `nowhere`"),
        ("--inside 0x08000200..0x08000100", "is empty"),
        ("--exclude 12ms", "is no place in the code"),
    ] {
        let error = bench.error(&format!("capture buoy/swo.bin {IMAGE} {options} --out x"));
        assert!(error.contains(part), "{options}: {error}");
        assert!(!bench.path("x").exists(), "{options}");
    }
    let error = bench.error("capture buoy/swo.bin --inside wave_filter --out x");
    assert!(error.contains("give --image, or addresses"), "{error}");
}
