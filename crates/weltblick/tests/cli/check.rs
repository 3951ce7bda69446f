use super::support::{Bench, recorded};
use insta::assert_snapshot;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;

fn check(bench: &Bench, budgets: &str) -> (i32, serde_json::Value) {
    bench.write("mine.toml", budgets);
    let ended = bench.run("check buoy mine.toml --format json");
    assert_eq!(ended.err, "");
    (ended.code, serde_json::from_str(&ended.out).unwrap())
}

#[test]
fn judges_the_demo() {
    let ended = Bench::new().run("check buoy budgets.toml");
    assert_eq!((ended.code, ended.err.as_str()), (1, ""));
    assert_snapshot!(ended.out);
}

#[test]
fn exit_codes_tell_met_broken_and_undecided_apart() {
    let bench = Bench::new();
    for (limit, code, verdict) in
        [("<= 20 %", 0, "met"), ("<= 2 %", 1, "broken"), ("<= 8.3 %", 3, "undecided")]
    {
        let budget = format!("[function.spectrum_power]\nself_share = \"{limit}\"\n");
        let (got, report) = check(&bench, &budget);
        assert_eq!((got, report["verdict"].as_str().unwrap()), (code, verdict), "{limit}");
    }
    // A broken budget outweighs an undecided one.
    let both = "[function.spectrum_power]\nself_share = '<= 8.3 %'\n[sleep]\nshare = '>= 99 %'\n";
    let (code, report) = check(&bench, both);
    assert_eq!((code, report["budgets"][0]["verdict"].as_str()), (1, Some("broken")));
}

#[test]
fn undecided_says_how_much_longer_to_measure() {
    let bench = Bench::new();
    let (code, report) = check(&bench, "[recording]\nsamples = '>= 70240'\n");
    let judgement = &report["budgets"][0];
    assert_eq!((code, judgement["verdict"].as_str()), (3, Some("undecided")));
    let longer = judgement["measure_longer_ns"].as_f64().unwrap() / 3e9;
    assert!((longer - 1.0).abs() < 0.01, "twice as many samples: once more as long, not {longer}");
    let over = "[sleep]\nshare = { limit = '>= 10 %', over = '>= 100000 samples' }\n";
    let (code, report) = check(&bench, over);
    assert_eq!(code, 3);
    assert!(report["budgets"][0]["evidence"].as_str().unwrap().contains("fewer than the 100000"));
}

#[test]
fn the_longer_recording_that_it_asks_for_decides() {
    let bench = Bench::new();
    let budget = "[function.filter_precise]\nself_share = '<= 1.3 %'\n";
    let (code, report) = check(&bench, budget);
    assert_eq!(code, 3);
    let more = report["budgets"][0]["measure_longer_ns"].as_f64().unwrap() / 1e9;
    let setup = Setup::default();
    bench.write("buoy/swo.bin", recorded(setup, TraceSetup::default(), 3.0 + more));
    let (code, _) = check(&bench, budget);
    assert!(code != 3, "still undecided after {more:.1} s more");
}

#[test]
fn missing_samples_count_against_met() {
    let bench = Bench::new();
    let budget = "[sleep]\nshare = '>= 70 %'\n";
    assert_eq!(check(&bench, budget).0, 0);
    let narrow = Setup { link_bit_rate: 900_000, link_buffer: 32, ..Setup::default() };
    bench.write("buoy/swo.bin", recorded(narrow, TraceSetup::default(), 3.0));
    let (code, report) = check(&bench, budget);
    assert_eq!(code, 3, "{report}");
    // Without timestamps nothing bounds what is missing: no verdict on a share at all.
    let blind = TraceSetup { timestamps: None, ..TraceSetup::default() };
    let narrower = Setup { link_bit_rate: 500_000, ..narrow };
    bench.write("buoy/swo.bin", recorded(narrower, blind, 3.0));
    let (code, report) = check(&bench, budget);
    assert_eq!(code, 3, "{report}");
    assert!(report["budgets"][0]["evidence"].as_str().unwrap().contains("nothing says how many"));
}

#[test]
fn the_wrong_image_decides_nothing() {
    let bench = Bench::new();
    let program = include_bytes!("../../../weltblick-standin/tests/isa/isa.elf");
    bench.write("buoy/wave-buoy.elf", program);
    let (code, report) = check(&bench, "[sleep]\nshare = '>= 10 %'\n");
    assert_eq!(code, 3);
    assert!(report["budgets"][0]["evidence"].as_str().unwrap().contains("outside the image"));
}

#[test]
fn faults_point_into_the_file() {
    let bench = Bench::new();
    for (text, line, part) in [
        ("[function.wave_filtr]\nself_share = '<= 5 %'", 1, "did you mean `wave_filter`?"),
        ("[function.wave_filter]\nself_shar = '<= 5 %'", 2, "did you mean `self_share`?"),
        ("[function.wave_filter]\nself_share = '<= 5 ms'", 2, "`ms` is not a unit expected here"),
        ("[function.wave_filter]\nself_share = '<= 5'", 2, "has no unit; write %"),
        ("[function.wave_filter]\nself_share = '5 %'", 2, "a limit starts with"),
        ("[function.wave_filter]\nself_share = 5", 2, "must be a text in quotes"),
        ("[functon.wave_filter]\nself_share = '<= 5 %'", 1, "did you mean `function`?"),
        ("[sleep]\nshare = { limit = '>= 1 %', ovr = '>= 1 samples' }", 2, "did you mean `over`?"),
        ("[sleep]\nshare = ", 2, "mine.toml"),
        ("# nothing", 1, "no budget"),
        ("[function.\"src/dsp.c#wave_filter\"]\nself_share = '<= 5 %'", 1, "in src/dsp.c"),
    ] {
        bench.write("mine.toml", text);
        let error = bench.error("check buoy mine.toml");
        assert!(error.contains(&format!("mine.toml:{line}:")), "{text}\n{error}");
        assert!(error.contains(part), "{text}\n{error}");
    }
}

#[test]
fn csv_and_schema() {
    let bench = Bench::new();
    let csv = bench.run("check buoy budgets.toml --format csv").out;
    assert_eq!(csv.lines().count(), 8);
    assert!(csv.starts_with("budget,line,verdict,limit,unit,observed"));
    assert!(bench.out("check --schema").contains("measure_longer_ns"));
}
