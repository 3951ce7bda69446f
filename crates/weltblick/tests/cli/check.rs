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

/// What a draft has as a budget is met by the recording that it came from; what it has as a comment says why.
#[test]
fn a_draft_is_met_by_its_own_recording() {
    let bench = Bench::with_all_flows();
    for capture in ["buoy", "buoy-flow", "buoy-etmv3", "buoy-mtb"] {
        for headroom in ["20%", "0%"] {
            let draft = bench.run(&format!("check --draft {capture} --headroom {headroom}"));
            assert_eq!((draft.code, draft.err.as_str()), (0, ""), "{capture}");
            bench.write("drafted.toml", &draft.out);
            let ended = bench.run(&format!("check {capture} drafted.toml"));
            assert_eq!((ended.code, ended.err.as_str()), (0, ""), "{capture}: {}", ended.out);
            if (capture, headroom) == ("buoy", "20%") {
                assert_snapshot!(draft.out);
            }
        }
    }
    let ended = bench.run("check --draft buoy --format json");
    assert!(ended.err.contains("a draft is a budget file"), "{}", ended.err);
    let ended = bench.run("check buoy budgets.toml --headroom 5%");
    assert!(ended.err.contains("--headroom is for --draft"), "{}", ended.err);
}

/// A window is a recording of its own: what happened outside, and what was wrong there, says nothing about it.
#[test]
fn a_window_of_time_is_judged_by_itself() {
    let bench = Bench::new();
    let ended = bench.run("check buoy budgets.toml --within 1s..2s");
    assert_eq!((ended.code, ended.err.as_str()), (1, ""));
    assert_snapshot!(ended.out);
    // Damage behind it changes nothing.
    let mut bytes = bench.read("buoy/swo.bin");
    let length = bytes.len();
    bytes[length * 9 / 10..length * 9 / 10 + 500].fill(0xff);
    bench.write("buoy/swo.bin", &bytes);
    assert_eq!(bench.run("check buoy budgets.toml --within 1s..2s").out, ended.out);
    assert_ne!(bench.run("check buoy budgets.toml").out, ended.out);
    let ended = bench.run("check buoy budgets.toml --within 100s..200s");
    assert_eq!((ended.code, ended.out.as_str()), (2, ""));
    assert!(
        ended.err.contains("nothing that was recorded has a time in 100s..200s"),
        "{}",
        ended.err
    );
}

/// What stands before the first synchronisation may hold anything; judged from the first timestamp on it is outside.
#[test]
fn a_recording_that_was_begun_in_the_middle_says_how_to_judge_it() {
    let bench = Bench::new();
    let bytes = bench.read("buoy/swo.bin");
    bench.write("buoy/swo.bin", &bytes[5003..]);
    let budget = "[function.filter_precise]\nself_share = '<= 20 %'\n";
    let (code, report) = check(&bench, budget);
    let judgement = &report["budgets"][0];
    assert_eq!((code, judgement["objections"][0]["code"].as_str()), (3, Some("head")));
    let advice = judgement["advice"].as_str().unwrap();
    assert!(advice.contains("(`--within 0s..`)"), "{advice}");
    assert_eq!(bench.run("check buoy mine.toml --within 0s..").code, 0);
    // A longer recording would not help, so nobody says so, however near the limit is.
    let (_, report) = check(&bench, &budget.replace("20", "1"));
    assert_eq!(report["budgets"][0]["advice"].as_str().unwrap(), advice);
}

/// The advice holds for a trace without a clock and without times, too.
#[test]
fn code_is_judged_from_the_first_synchronisation_on_without_any_clock() {
    let bench = Bench::with_flow();
    let manifest = String::from_utf8(bench.read("buoy-flow/capture.toml")).unwrap();
    let without: Vec<&str> = manifest.lines().filter(|line| !line.contains("_clock")).collect();
    bench.write("buoy-flow/capture.toml", without.join("\n"));
    let bytes = bench.read("buoy-flow/etm.bin");
    bench.write("buoy-flow/etm.bin", &bytes[100..]);
    bench.write("mine.toml", "[function.kernel_start]\ncalls = '<= 3'\n");
    let ended = bench.run("check buoy-flow mine.toml");
    assert_eq!((ended.code, ended.err.as_str()), (3, ""));
    assert!(ended.out.contains("at the beginning could not be read"), "{}", ended.out);
    let ended = bench.run("check buoy-flow mine.toml --within 0s..");
    assert_eq!((ended.code, ended.err.as_str()), (0, ""), "{}", ended.out);
}

/// The last two interrupts of this instruction trace came after its last synchronisation.
#[test]
fn interrupts_that_no_synchronisation_confirms_meet_nothing() {
    let bench = Bench::with_flow();
    let judged = |limit: &str| {
        bench.write("mine.toml", format!("[interrupt.adc_ready]\ncount = '{limit}'\n"));
        let report = bench.run("check buoy-flow mine.toml --format json").out;
        let report: serde_json::Value = serde_json::from_str(&report).unwrap();
        let judgement = &report["budgets"][0];
        let code = judgement["objections"][0]["code"].as_str().unwrap_or_default().to_owned();
        (judgement["verdict"].as_str().unwrap().to_owned(), code)
    };
    assert_eq!(judged(">= 1995").0, "met");
    assert_eq!(judged(">= 1996"), ("undecided".into(), "unconfirmed".into()));
    assert_eq!(judged("<= 1996"), ("undecided".into(), "unconfirmed".into()));
    assert_eq!(judged("<= 1997").0, "met");
    assert_eq!(judged("<= 1994").0, "broken");
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
    assert_eq!(csv.lines().count(), 20);
    assert!(csv.starts_with("budget,line,verdict,limit,unit,observed"));
    assert!(bench.out("check --schema").contains("measure_longer_ns"));
}

/// Half a second on a link that loses nothing.
fn lossless() -> Bench {
    let bench = Bench::new();
    let wide = Setup { link_bit_rate: 40_000_000, link_buffer: 4096, ..Setup::default() };
    bench.write("buoy/swo.bin", recorded(wide, TraceSetup::default(), 0.5));
    bench
}

/// The verdict, and the whole judgement, of one budget.
fn judged(bench: &Bench, budget: &str) -> (String, serde_json::Value) {
    bench.write("one.toml", budget);
    let report = bench.json("check buoy one.toml");
    let judgement = report["budgets"][0].clone();
    (judgement["verdict"].as_str().unwrap().to_owned(), judgement)
}

#[test]
fn times_of_interrupts_and_tasks_are_judged() {
    let bench = lossless();
    for (budget, verdict) in [
        ("[interrupt.adc_ready]\nown.max = '<= 100 us'", "met"),
        ("[interrupt.adc_ready]\nown.max = '<= 1 us'", "broken"),
        ("[interrupt.16]\nelapsed.p99 = '<= 10 us'", "met"),
        ("[interrupt.adc_ready]\nperiod.each = '250 us +- 60 %'", "met"),
        ("[interrupt.adc_ready]\nperiod.each = '250 us +- 2 %'", "broken"),
        ("[interrupt.adc_ready]\nrate = '4 kHz +- 2 %'", "met"),
        ("[interrupt.adc_ready]\ncount = '>= 1000'", "met"),
        ("[interrupt.adc_ready]\nload = '<= 1 %'", "met"),
        // Lateness against a grid breaks a budget, and meets only one that is content with it.
        ("[interrupt.adc_ready]\npending.max = '<= 20 us'", "broken"),
        ("[interrupt.adc_ready]\npending.max = '<= 1 ms'", "undecided"),
        ("[interrupt.adc_ready]\npending.max = { limit = '<= 1 ms', by = 'grid' }", "met"),
        ("[interrupt.gnss_pulse]\nresponse.max = '<= 5 us'", "met"),
        ("[interrupt.modem_sent]\npending.max = '<= 1 s'", "undecided"),
        ("[interrupt.NMI]\nown.max = '<= 1 s'", "undecided"),
        (
            "[interrupt.adc_ready]\nown.max = { limit = '<= 10 us', over = '>= 1000000 entries' }",
            "undecided",
        ),
        ("[task.wave_estimator]\nresponse.max = '<= 4 ms'", "met"),
        ("[task.wave_estimator]\nload.max = { limit = '<= 25 %', window = '50 ms' }", "met"),
        ("[task.wave_estimator]\nload.max = { limit = '<= 5 %', window = '50 ms' }", "broken"),
        ("[task.wave_estimator]\npending.p50 = '<= 1 ms'", "met"),
        ("[task.3]\npending.max = '<= 2 ms'", "broken"),
        ("[task.spectre]\nown.max = '<= 2 ms'", "undecided"),
        ("[task.wave_estimator]\nperiod.mean = '16 ms +- 1 %'", "met"),
    ] {
        let (found, judgement) = judged(&bench, budget);
        assert_eq!(found, verdict, "{budget}: {judgement}");
        let told = found != "undecided" || judgement["advice"].is_string();
        assert!(told, "undecided says what would decide it: {judgement}");
    }
}

#[test]
fn what_is_missing_keeps_a_maximum_from_being_met_unless_it_is_too_short() {
    let bench = Bench::new();
    let (verdict, judgement) = judged(&bench, "[interrupt.SysTick]\nown.max = '<= 20 us'");
    assert_eq!(verdict, "undecided");
    let high = judgement["observed_high"].as_f64().unwrap();
    assert!((50e3..100e3).contains(&high), "the longest gap: {judgement}");
    assert_eq!(judged(&bench, "[interrupt.SysTick]\nown.max = '<= 100 us'").0, "met");
    assert_eq!(judged(&bench, "[span.block]\nelapsed.max = '<= 1 s'").0, "met");
    // Nobody knows what a variable was meanwhile.
    assert_eq!(judged(&bench, "[signal.temperature]\nvalue.max = '<= 1000'").0, "undecided");
    // A percentile bears a few that are missing.
    assert_eq!(judged(&bench, "[interrupt.adc_ready]\nown.p99 = '<= 10 us'").0, "undecided");
    // As many short ones as fit may hide, unless the design guarantees a rate.
    let guaranteed = "[interrupt.adc_ready]\nat_most = '4 kHz'\nown.p99 = '<= 10 us'";
    let (verdict, judgement) = judged(&bench, guaranteed);
    assert_eq!(verdict, "met", "{judgement}");
    assert!(judgement["evidence"].as_str().unwrap().contains("relying on at most 4000 Hz"));
    let (verdict, _) = judged(&bench, "[task.housekeeping]\npending.max = '<= 2 ms'");
    assert_eq!(verdict, "broken", "what was seen was too long");

    // A debugger that stood in between: nothing is met, what is broken stays so.
    let bench = lossless();
    bench.edit_manifest("format = 1", "format = 1\nintrusive = true");
    assert_eq!(judged(&bench, "[interrupt.adc_ready]\nown.max = '<= 100 us'").0, "undecided");
    assert_eq!(judged(&bench, "[interrupt.adc_ready]\nown.max = '<= 1 us'").0, "broken");
}

#[test]
fn budgets_on_times_are_read_strictly() {
    let bench = Bench::new();
    for (budget, part) in [
        ("[interrupt.adc_ready]\nown = '<= 1 us'", "1"),
        ("[interrupt.adc_redy]\nown.max = '<= 1 us'", "the vector table has no `adc_redy`"),
        ("[interrupt.adc_ready]\nown.maximum = '<= 1 us'", "has no key `maximum`; known: min"),
        ("[interrupt.adc_ready]\nown.max = '<= 1 MHz'", "own.max"),
        ("[interrupt.adc_ready]\nstack_peak = '<= 1 %'", "stack_peak"),
        (
            "[task.telemetry]\nload.max = { limit = '<= 1 %', window = 'long' }",
            "`window` is a time",
        ),
        ("[interrupt.adc_ready]\npending.max = { limit = '<= 1 us', by = 'luck' }", "`by` is"),
    ] {
        bench.write("bad.toml", budget);
        let error = bench.error("check buoy bad.toml");
        assert!(error.contains(part) && error.contains("bad.toml:"), "{budget}: {error}");
    }
}

#[test]
fn where_bytes_were_lost_no_rate_and_no_load_is_known() {
    let bench = Bench::new();
    let mut bytes = bench.read("buoy/swo.bin");
    let at = bytes.len() / 3;
    bytes[at..at + 12].fill(0x80);
    bench.write("buoy/swo.bin", bytes);
    for budget in [
        "[interrupt.adc_ready]\nrate = '4 kHz +- 90 %'",
        "[interrupt.adc_ready]\nrate = '<= 1 Hz'",
        "[interrupt.adc_ready]\nload = '<= 99 %'",
        "[task.wave_estimator]\nrate = '>= 1 Hz'",
    ] {
        assert_eq!(judged(&bench, budget).0, "undecided", "{budget}");
    }
    // What was seen was seen.
    assert_eq!(judged(&bench, "[interrupt.adc_ready]\ncount = '>= 1000'").0, "met");
    assert_eq!(judged(&bench, "[interrupt.adc_ready]\nown.max = '<= 1 us'").0, "broken");
}

#[test]
fn values_and_stated_spans_are_judged() {
    let bench = Bench::new();
    let judged = |text: &str| {
        bench.write("own.toml", text);
        let report = bench.json("check buoy own.toml");
        let first = &report["budgets"][0];
        (first["verdict"].as_str().unwrap().to_owned(), first["evidence"].to_string())
    };
    for (budget, verdict, evidence) in [
        ("[signal.temperature]\nvalue.max = '<= 11'", "broken", "75 values"),
        ("[signal.temperature]\nvalue.min = '>= 1'", "broken", "75 values"),
        // Nothing that was seen breaks it, but something is missing.
        ("[signal.temperature]\nvalue.max = '<= 60'", "undecided", "missing in 3 places"),
        ("[signal.temperature]\ninterval.p95 = '<= 50 ms'", "undecided", "73 of them"),
        (
            "[signal.temperature]\nat_most = '50 Hz'\ninterval.p95 = '<= 50 ms'",
            "met",
            "relying on at most 50 Hz",
        ),
        ("[signal.temperature]\ninterval.max = '<= 50 ms'", "undecided", "missing in 3 places"),
        ("[signal.temperature]\naccess = 'read'\ncount = '>= 1'", "undecided", "nothing is known"),
        ("[signal.drift_ppb]\nvalue.max = '<= 1000'", "broken", "29 values"),
        ("[signal.nobody]\nvalue.max = '<= 1000'", "undecided", "nothing is known of this signal"),
        ("[span.block]\nelapsed.p95 = '<= 4 ms'", "met", "187 of them"),
        ("[span.block]\nelapsed.max = '<= 1 ms'", "broken", "187 of them"),
        ("[span.blok]\nelapsed.max = '<= 1 ms'", "undecided", "no such span"),
    ] {
        let (told, why) = judged(budget);
        assert_eq!(told, verdict, "{budget}: {why}");
        assert!(why.contains(evidence), "{budget}: {why}");
    }
    for (budget, why) in [
        ("[signal.x]\nvalue.max = '<= 4 mV'", "`mV` is not a unit expected here; write none"),
        ("[signal.x]\nvalue.p95 = '<= 4'", "no key `p95`"),
        ("[signal.x]\naccess = 'wrote'\ncount = '>= 1'", "`access` is \"read\" or \"write\""),
        ("[span.x]\nown.max = '<= 4 ms'", "no key `own`"),
    ] {
        bench.write("own.toml", budget);
        let error = bench.error("check buoy own.toml");
        assert!(error.contains(why), "{budget}: {error}");
    }
}

#[test]
fn relations_hold_for_all_that_both_figures_may_be_or_are_undecided() {
    let bench = lossless();
    let verdict = |holds: &str| {
        bench.write("mine.toml", format!("[relation.it]\nholds = '{holds}'\n"));
        let report = bench.json("check buoy mine.toml");
        let judged = &report["budgets"][0];
        assert_eq!(judged["budget"], "relation.it");
        (judged["verdict"].as_str().unwrap().to_owned(), judged.clone())
    };
    for (holds, expected) in [
        ("interrupt.adc_ready.count = 64 * task.wave_estimator.count +- 5 %", "met"),
        ("interrupt.adc_ready.count = 60 * task.wave_estimator.count +- 1 %", "broken"),
        ("interrupt.SysTick.rate = interrupt.adc_ready.rate +- 1 %", "broken"),
        ("task.telemetry.own.mean <= task.wave_estimator.own.mean", "met"),
        ("task.telemetry.own.mean > task.wave_estimator.own.mean", "broken"),
        ("function.copy_bytes.self_share < sleep.share", "met"),
        ("sleep.share < function.copy_bytes.self_share", "broken"),
        // Both intervals hold it: nobody knows.
        ("sleep.share < sleep.share", "undecided"),
        ("task.nobody.count = task.telemetry.count", "undecided"),
    ] {
        let (found, judged) = verdict(holds);
        assert_eq!(found, expected, "{holds}\n{judged}");
    }
    let (_, judged) = verdict("task.telemetry.own.max < task.wave_estimator.own.max");
    let tasks = bench.json("tasks buoy");
    let longest = |name: &str| {
        let tasks = tasks["tasks"].as_array().unwrap().clone();
        let row = tasks.into_iter().find(|row| row["name"] == name).unwrap();
        row["own"]["max"]["ns_low"].as_f64().unwrap()
    };
    let close = |a: &serde_json::Value, b: f64| (a.as_f64().unwrap() - b).abs() < 1.0;
    assert!(close(&judged["observed"], longest("telemetry")), "{judged}");
    assert!(close(&judged["compared"], longest("wave_estimator")), "{judged}");
    bench.write("mine.toml", "[relation.it]\nholds = 'task.a.count = task.b.own.max'\n");
    let error = bench.error("check buoy mine.toml");
    assert!(error.contains("mine.toml:2:9:") && error.contains("held against a time"), "{error}");
    bench
        .write("mine.toml", "[relation.it]\nholds = 'function.nothing.self_share < sleep.share'\n");
    assert!(bench.error("check buoy mine.toml").contains("mine.toml:2"));
}
