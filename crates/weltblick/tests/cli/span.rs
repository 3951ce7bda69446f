//! `span` on laps: made by hand, by the stand-in, and by a core without a cycle counter.

use super::stand_in::Running;
use super::support::Bench;

const MANIFEST: &str = "format = 1\nintrusive = true\n[target]\ncore_clock = '48 MHz'\n\
    [[stream]]\nsegments = 'poll'\nprotocol = 'poll'\n\
    [[stream.settings.lap]]\nname = 'frame_begin'\naddress = 0x08000100\n\
    [[stream.settings.lap]]\nname = 'filter.c:31'\naddress = 0x08000140\n\
    [[stream.settings.lap]]\nname = 'frame_end'\naddress = 0x08000180\n";

/// A capture of 60 frames; every tenth is slow on its second leg. One is begun twice.
fn bench() -> Bench {
    let bench = Bench::new();
    let mut poll = String::new();
    let (mut host, mut cycles) = (1_000_000_u64, 4_294_000_000_u32);
    let mut lap = |number: u32, after: u32| {
        cycles = cycles.wrapping_add(after);
        host += 2_000_000;
        poll += &format!("l {host} {} {number} {cycles}\n", host + 30_000);
    };
    for frame in 0..60 {
        lap(0, 700);
        if frame == 33 {
            lap(0, 9000);
        }
        lap(1, 4800);
        lap(2, if frame % 10 == 7 { 24_000 } else { 9600 + frame });
    }
    bench.write("laps/capture.toml", MANIFEST);
    bench.write("laps/poll.000000.bin", poll);
    bench
}

#[test]
fn figures_have_the_worst_first() {
    insta::assert_snapshot!(bench().out("span laps --top 3"));
}

#[test]
fn points_are_found_by_name_and_by_address() {
    let bench = bench();
    let whole = bench.json("span laps");
    assert_eq!(whole["total"]["elapsed"]["count"], 60);
    assert_eq!(whole["total"]["elapsed"]["max"]["cycles"], 28_800);
    assert_eq!(whole["evidence"]["unfinished"], 1);
    let legs = bench.json("span laps filter.c:31 0x08000181");
    assert_eq!(legs["total"], whole["legs"][1]);
    let again = bench.json("span laps frame_begin frame_begin");
    assert_eq!(again["total"]["elapsed"]["count"], 60, "60 beginnings and one begun twice");
    let csv = bench.out("span laps --format csv");
    assert_eq!(csv.lines().count(), 4, "{csv}");
    assert!(csv.starts_with("from,until,count,elapsed_min_ns_low,"), "{csv}");
    for (points, part) in [
        (
            "frame_start",
            "none of the lap points of this capture: frame_begin, filter.c:31, frame_end",
        ),
        ("frame_begin", "a span needs two points"),
        ("frame_end filter.c:31 filter.c:31", "was passed not once"),
    ] {
        let error = bench.error(&format!("span laps {points}"));
        assert!(error.contains(part), "{points}: {error}");
    }
    let error = bench.error("span buoy wave_filter copy_bytes");
    assert!(error.contains("capture stub:HOST:PORT --laps A,B"), "{error}");
}

#[test]
fn without_a_clock_or_a_counter_the_host_is_asked() {
    let bench = bench();
    bench.write("laps/capture.toml", MANIFEST.replace("core_clock = '48 MHz'", ""));
    let report = bench.json("span laps");
    assert_eq!(report["evidence"]["basis"], "lap_host_times");
    let max = &report["legs"][0]["elapsed"]["max"];
    assert_eq!((max["ns_low"].as_f64(), max["ns_high"].as_f64()), (Some(1.97e6), Some(2.03e6)));
    let text = bench.out("span laps");
    assert!(text.contains("? No core clock is stated (--core-clock)"), "{text}");
    assert_eq!(bench.json("span laps --core-clock 48MHz")["evidence"]["basis"], "lap_cycles");
}

#[test]
fn laps_beside_a_trace_are_read_too() {
    let bench = super::stand_in::planned();
    let target = Running::start(&bench, "");
    let ended = bench.run(&format!(
        "capture {} {} --plan plan.toml --image buoy/wave-buoy.elf --reset \
         --laps wave_filter,spectrum_power --for 1500ms --out run --quiet",
        target.trace, target.stub
    ));
    ended.succeeded();
    let span = bench.json("span run");
    assert!(span["total"]["elapsed"]["count"].as_u64().unwrap() > 3, "{span}");
    // The trace's own samples lead in the profile, which knows that the core was stopped.
    let profile = bench.json("profile run");
    assert_eq!(profile["evidence"]["basis"], "pc_samples");
    assert_eq!(profile["evidence"]["intrusive"], true);
}

#[test]
fn spans_that_the_firmware_states() {
    let bench = Bench::new();
    insta::assert_snapshot!(bench.out("span buoy"));
    let report = bench.json("span buoy block --top 3");
    assert_eq!(report["schema"], "weltblick/spans/4");
    let span = &report["spans"][0];
    assert_eq!((span["worst"].as_array().unwrap().len(), &span["name"]), (3, &"block".into()));
    assert_eq!(span["worst"][0]["elapsed"]["ns_low"], span["elapsed"]["max"]["ns_low"]);
    let csv = bench.out("span buoy --format csv");
    assert_eq!(csv.lines().count(), 1 + bench.json("span buoy")["spans"].as_array().unwrap().len());
    assert!(bench.out("span buoy block").contains("up to"));
    assert!(bench.error("span buoy blok").contains("it states"), "names what there is");
}

#[test]
fn ways_between_marks() {
    let bench = Bench::with_all_flows();
    let command = "irq:adc_ready task:wave_estimator task:wave_estimator.end --top 1";
    insta::assert_snapshot!(bench.out(&format!("span buoy {command}")));
    // An instruction trace alone tells the same ways, of turns on the core.
    let flow = "irq:SysTick task:wave_estimator_task task:wave_estimator_task.end";
    let report = bench.json(&format!("span buoy-flow {flow}"));
    assert_eq!(report["evidence"]["basis"], "events");
    let whole = &report["spans"][0];
    assert_eq!(whole["name"], "irq:SysTick .. task:wave_estimator_task.end");
    let tasks = bench.json("tasks buoy-flow wave_estimator_task");
    assert_eq!(whole["elapsed"]["count"], tasks["tasks"][0]["count"]);
    // A handler from its beginning to its end lasts as long as `interrupts` says.
    let handler = bench.json("span buoy irq:radio_slot irq:radio_slot.end");
    let interrupts = bench.json("interrupts buoy radio_slot");
    let max = &interrupts["interrupts"][0]["elapsed"]["max"]["ns_low"];
    assert_eq!(handler["spans"][0]["elapsed"]["max"]["ns_low"], *max);
    for (arguments, part) in [
        ("irq:adc_ready", "give the same one twice"),
        ("irq:adc_ready wave_filter", "is no mark"),
        ("irq:adc_ready[3] irq:SysTick", "is no mark"),
        ("irq:adc_reddy irq:SysTick", "has no `adc_reddy`"),
        ("task:nobody irq:SysTick", "is called `nobody`"),
        ("irq:adc_ready irq:SysTick --across", "go with places in the code"),
        ("irq:SVCall irq:NMI", "no way from the first of these marks"),
    ] {
        let error = bench.error(&format!("span buoy {arguments}"));
        assert!(error.contains(part), "{arguments}: {error}");
    }
}
