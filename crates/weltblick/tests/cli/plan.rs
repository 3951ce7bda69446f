use super::support::Bench;

fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("target.toml", include_str!("../../../../demo/target.toml"));
    bench
}

#[test]
fn instruction_trace_is_narrowed_by_options() {
    let bench = Bench::new();
    let plan = |options: &str| {
        format!(
            "plan --core cortex-m33 --core-clock 48MHz --link buffer --buffer-size 4KiB \
            --image buoy/wave-buoy.elf {options}"
        )
    };
    let narrow = "--instructions --window wave_filter..filter.c:71 --inside spectrum.c";
    let report = bench.json(&plan(narrow));
    let value = |name: &str| {
        let registers = report["registers"].as_array().unwrap();
        registers.iter().rev().find(|r| r["name"] == name).unwrap()["value"].as_u64().unwrap()
    };
    assert_eq!(value("TRCVIPCSSCTLR"), 0x0002_0001);
    assert_eq!((value("TRCRSCTLR2"), value("TRCVICTLR")), (0x0001_0008, 2));
    // Four comparators: two points, and one range, which takes a pair.
    let watched = bench.run(&plan(&format!("{narrow} --pc-sample-period 4096 --watch ticks=1kHz")));
    assert!(watched.out.contains("there are not enough free comparators"), "{}", watched.out);
    let error = bench.error(&plan("--instructions --inside nowhere.c"));
    assert!(error.contains("cannot be narrowed to `nowhere.c`"), "{error}");
    let error = bench.error(&plan("--inside wave_filter"));
    assert!(error.contains("--instructions"), "{error}");
}

#[test]
fn an_earlier_capture_says_what_stretches_a_buffer() {
    let bench = Bench::new();
    bench.write("target.toml", include_str!("../../../../demo/target.toml"));
    let options =
        "--core cortex-m33 --core-clock 48MHz --link buffer --buffer-size 4KiB --instructions";
    let report = bench.json(&format!("plan {options} --measured buoy"));
    let stretches = report["buffer"]["stretches"].as_array().unwrap();
    assert_eq!(stretches.len(), 5, "{report}");
    assert_eq!(stretches[0]["inside"], "spectrum_power");
    // 8.27 % of all time, of which three quarters are sleep.
    let share = stretches[0]["share"].as_f64().unwrap();
    assert!((0.3..0.4).contains(&share), "{share}");
    let text = bench.out(&format!("plan {options} --measured buoy --out plan.toml"));
    assert!(text.contains("with instruction trace only inside"), "{text}");
    let error = bench.error(&format!("plan {options} --measured nowhere"));
    assert!(error.starts_with("error: --measured: nowhere"), "{error}");
}

#[test]
fn the_demo_target() {
    insta::assert_snapshot!(bench().out("plan target.toml"));
}

#[test]
fn what_does_not_fit_is_said_first_and_ends_with_1() {
    let bench = bench();
    let ended = bench.run("plan target.toml --pc-sample-period 512");
    assert_eq!(ended.code, 1, "{}", ended.err);
    let third = ended.out.lines().nth(2).unwrap();
    assert!(third.starts_with("! it overflows for certain"), "{}", ended.out);
    assert!(ended.out.contains("-> sample every"), "{}", ended.out);
}

#[test]
fn options_alone_are_enough() {
    let out = Bench::new().out(
        "plan --core cortex-m7 --core-clock 216MHz --link port --port-width 4 --port-clock 54MHz \
         --pc-sample-period 1024 --interrupt dma=20kHz --instructions --share 2% --known-to 0.1%",
    );
    for part in ["cortex-m7 at 216 MHz", "TPIU_CSPSR", "TRCVICTLR", "instruction trace", "2.0 %"] {
        assert!(out.contains(part), "{part} is missing in\n{out}");
    }
}

#[test]
fn a_variable_is_watched_or_the_reason_said() {
    let bench = bench();
    let out = bench.out("plan target.toml --watch ticks=100Hz");
    assert!(out.contains("comparator 1 watches ticks at 0x2000"), "{out}");
    assert!(bench.error("plan target.toml --watch value=1kHz").contains("is local to `"));
    assert!(bench.error("plan target.toml --watch history=1kHz").contains("512 bytes long"));
    assert!(bench.error("plan target.toml --watch tickz=1kHz").contains("did you mean `ticks`?"));
}

#[test]
fn the_plan_is_written_once() {
    let bench = bench();
    let out = bench.out("plan target.toml --out plan.toml");
    assert!(out.contains("next: weltblick capture SOURCE --plan plan.toml"), "{out}");
    assert!(bench.error("plan target.toml --out plan.toml").contains("--replace"));
    bench.out("plan target.toml --out plan.toml --replace");
    let json = bench.json("plan target.toml");
    assert_eq!(json["schema"], "weltblick/plan/1");
    assert_eq!(json["registers"][0]["name"], "DEMCR");
}

#[test]
fn mistakes_point_at_their_line() {
    let bench = bench();
    bench.write("bad.toml", "format = 1\ncore = 'cortex-m3'\n[link]\nkind = 'urat'\n");
    let error = bench.error("plan bad.toml");
    assert!(error.contains("bad.toml:4:8") && error.contains("did you mean `uart`?"), "{error}");
    assert!(bench.error("plan").contains("the core is not stated"));
    assert!(bench.error("plan target.toml --bit-rate 30Mbit/s").contains("% off"));
}
