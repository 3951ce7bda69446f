use super::support::{Bench, recorded};
use insta::assert_snapshot;
use std::io::Write as _;
use std::process::Stdio;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;

#[test]
fn by_function() {
    assert_snapshot!(Bench::new().out("profile buoy --top 12"));
}

#[test]
fn by_function_with_inlined_ones_apart() {
    assert_snapshot!(Bench::new().out("profile buoy --top 10 --inline"));
}

#[test]
fn by_file() {
    assert_snapshot!(Bench::new().out("profile buoy --by file --top 8"));
}

#[test]
fn by_line() {
    assert_snapshot!(Bench::new().out("profile buoy --by line --top 8"));
}

#[test]
fn by_address() {
    assert_snapshot!(Bench::new().out("profile buoy --by address --top 8"));
}

#[test]
fn sorted_by_name() {
    let out = Bench::new().out("profile buoy --sort name --top 5");
    let names: Vec<&str> = out.lines().skip(6).take(4).collect();
    assert!(names.windows(2).all(|pair| pair[0] != pair[1]), "{out}");
    assert!(out.contains("__aeabi_uldivmod"), "{out}");
}

#[test]
fn a_window_of_time() {
    assert_snapshot!(Bench::new().out("profile buoy --within 1s..1.2s --top 5"));
}

#[test]
fn windows_add_up_to_the_whole() {
    let bench = Bench::new();
    let whole = bench.json("profile buoy");
    let windows = bench.json("profile buoy --every 250ms");
    let windows = windows.as_array().unwrap();
    assert!((12..=13).contains(&windows.len()), "the last event may stand just past 3 s");
    let samples = |report: &serde_json::Value| report["recording"]["samples"].as_u64().unwrap();
    let cut = |report: &serde_json::Value| report["evidence"]["samples_cut"].as_u64().unwrap();
    let all = windows.iter().map(|window| samples(window) + cut(window)).sum::<u64>();
    assert_eq!(all, samples(&whole));
    assert!(bench.error("profile buoy --every 1us").contains("1000 windows"));
}

#[test]
fn json_is_as_its_schema_says() {
    let bench = Bench::new();
    let report = bench.json("profile buoy");
    let schema: serde_json::Value = serde_json::from_str(&bench.out("profile --schema")).unwrap();
    assert_eq!(report["schema"], "weltblick/profile/3");
    let row = &report["rows"][1];
    assert_eq!(row["function"], "spectrum_power");
    let described = &schema["$defs"]["ReportRow"]["properties"];
    for field in row.as_object().unwrap().keys() {
        assert!(described.get(field).is_some(), "{field} is not in the schema");
    }
    let shares: f64 =
        report["rows"].as_array().unwrap().iter().map(|row| row["share"].as_f64().unwrap()).sum();
    assert!((shares - 1.0).abs() < 1e-9);
}

#[test]
fn csv_has_one_line_per_row() {
    let out = Bench::new().out("profile buoy --format csv");
    let mut lines = out.lines();
    assert!(lines.next().unwrap().starts_with("from_ns,until_ns,kind,function,file"));
    assert_eq!(lines.next().unwrap().split(',').count(), 18);
    assert!(out.contains(",code,spectrum_power,src/dsp/spectrum.c,"));
}

#[test]
fn reads_standard_input_and_raw_files_alike() {
    let bench = Bench::new();
    let setup =
        "--image buoy/wave-buoy.elf --core-clock 47.972352MHz --pc-sample-period 4096 --format csv";
    let file = bench.out(&format!("profile buoy/swo.bin {setup}"));
    let mut child = bench
        .command(&format!("profile - {setup}"))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(&bench.read("buoy/swo.bin")).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(String::from_utf8(output.stdout).unwrap(), file);
    assert_eq!(file, bench.out("profile buoy --format csv"));
}

#[test]
fn a_closed_pipe_is_a_quiet_end() {
    let bench = Bench::new();
    let mut child = bench
        .command("profile buoy --by address --top 0")
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), output.stderr.as_slice()), (Some(0), &b""[..]));
}

#[test]
fn colour_only_when_asked_for() {
    let bench = Bench::new();
    assert!(!bench.out("profile buoy").contains('\u{1b}'));
    assert!(bench.out("profile buoy --color always").contains("\u{1b}["));
}

#[test]
fn without_timestamps_there_is_order_but_no_window() {
    let bench = Bench::new();
    let trace = TraceSetup { timestamps: None, ..TraceSetup::default() };
    bench.write("buoy/swo.bin", recorded(Setup::default(), trace, 0.3));
    let report = bench.json("profile buoy");
    // 0.3 s, from the number of samples alone.
    let ns = report["recording"]["duration"]["ns_low"].as_f64().unwrap();
    assert!((ns / 3e8 - 1.0).abs() < 0.01, "{ns}");
    assert!(bench.error("profile buoy --within 0s..1s").contains("no timestamps"));
    assert!(bench.error("profile buoy --every 10ms").contains("no timestamps"));
}

#[test]
fn frames_of_a_trace_port_read_like_the_plain_stream() {
    let bench = Bench::new();
    let plain = bench.out("profile buoy --format csv");
    let mut formatter = weltblick_standin::trace::tpiu::Formatter::new();
    for chunk in bench.read("buoy/swo.bin").chunks(500) {
        formatter.synchronise();
        formatter.write(3, chunk);
        formatter.write(9, b"another source");
    }
    formatter.complete();
    bench.write("buoy/port.bin", formatter.take());
    bench.write(
        "buoy/capture.toml",
        "format = 1\nimage = 'wave-buoy.elf'\n[target]\ncore_clock = '47.972352 MHz'\n\
         [[stream]]\nfile = 'port.bin'\nframing = 'tpiu'\n\
         [[stream.source]]\ntrace_id = 3\nprotocol = 'itm'\n\
         [stream.source.settings]\npc_sample_period = 4096\n",
    );
    assert_eq!(bench.out("profile buoy --format csv"), plain);
}

#[test]
fn several_sources_are_not_added_up() {
    let bench = Bench::new();
    bench.out("import buoy/swo.bin --out two --image buoy/wave-buoy.elf");
    bench.write("other.bin", bench.read("buoy/swo.bin"));
    bench.out("import other.bin --amend --out two");
    let error = bench.error("profile two");
    assert!(error.contains("2 sources of samples (swo, other)"), "{error}");
    assert!(bench.out("inspect two").contains("1 047 880 bytes"));
}

#[test]
fn a_window_after_damage_says_that_its_times_are_at_least() {
    let bench = Bench::new();
    let mut bytes = bench.read("buoy/swo.bin");
    let at = bytes.len() / 4;
    bytes[at..at + 12].fill(0x80);
    bench.write("buoy/swo.bin", bytes);
    assert!(!bench.out("profile buoy --within 0s..0.5s").contains("at least"));
    assert!(bench.out("profile buoy --within 1.5s..2s").contains("over at least"));
    let windows = bench.json("profile buoy --every 500ms");
    let open = |window: &serde_json::Value| window["recording"]["duration"]["ns_high"].is_null();
    let windows = windows.as_array().unwrap();
    assert!(!open(&windows[0]) && open(&windows[3]));
}

#[test]
fn options_correct_the_framing_of_a_folder_too() {
    let bench = Bench::new();
    let plain = bench.out("profile buoy --format csv");
    let mut formatter = weltblick_standin::trace::tpiu::Formatter::new();
    for chunk in bench.read("buoy/swo.bin").chunks(500) {
        formatter.synchronise();
        formatter.write(4, chunk);
    }
    formatter.complete();
    bench.write("buoy/swo.bin", formatter.take());
    let corrected = "--framing tpiu --trace-id 4";
    assert_eq!(bench.out(&format!("profile buoy --format csv {corrected}")), plain);
    bench.out(&format!("import --amend --out buoy {corrected}"));
    assert_eq!(bench.out("profile buoy --format csv"), plain);
    let wrong = bench.json("inspect buoy --framing none");
    assert_eq!(wrong["findings"][0]["code"], "framed");
}

#[test]
fn by_task_and_by_interrupt() {
    let bench = Bench::new();
    insta::assert_snapshot!(bench.out("profile buoy --by task"));
    // What samples estimate, statements and exception trace know.
    let samples = bench.json("profile buoy --by task --top 0");
    let tasks = bench.json("tasks buoy");
    for task in ["wave_estimator", "telemetry", "housekeeping"] {
        let row = |rows: &serde_json::Value, key: &str| -> serde_json::Value {
            rows.as_array().unwrap().iter().find(|row| row[key] == task).unwrap().clone()
        };
        let sampled = row(&samples["rows"], "task");
        let known = row(&tasks["tasks"], "name")["load"]["share"].as_f64().unwrap();
        let (low, high) = (sampled["share_low"].as_f64(), sampled["share_high"].as_f64());
        // The interval holds at 95 %; a little more bears chance.
        let slack = (high.unwrap() - low.unwrap()) / 2.0;
        assert!(low.unwrap() - slack < known && known < high.unwrap() + slack, "{task}: {known}");
    }
    let interrupts = bench.json("profile buoy --by interrupt --top 0");
    let names = interrupts["rows"].as_array().unwrap();
    assert!(names.iter().any(|row| row["interrupt"] == "adc_ready"), "{names:?}");
    assert!(names.iter().any(|row| row["kind"] == "thread"), "{names:?}");
    let all: f64 = names.iter().map(|row| row["share"].as_f64().unwrap()).sum();
    assert!((all - 1.0).abs() < 1e-9, "{all}");
}

/// Code is chosen of samples as of instructions; shares stay shares of all of them.
#[test]
fn samples_in_some_code() {
    let bench = Bench::new();
    let share = |report: &serde_json::Value| report["rows"][0]["share"].as_f64().unwrap();
    let all = bench.json("profile buoy");
    let chosen = bench.json("profile buoy --inside wave_filter");
    let rows = all["rows"].as_array().unwrap();
    let filter = rows.iter().find(|row| row["function"] == "wave_filter").unwrap();
    assert_eq!((&chosen["rows"][0], chosen["rows"].as_array().unwrap().len()), (filter, 1));
    assert_eq!(chosen["recording"], all["recording"]);
    let text = bench.out("profile buoy --inside filter.c --exclude wave_filter");
    assert!(text.contains("filter_precise") && !text.contains("[asleep]"), "{text}");
    assert!(text.contains("of all samples together; other rows are not asked for"), "{text}");
    // By range, by line, and a window at a time.
    let start =
        bench.json("profile buoy --by address --inside wave_filter")["rows"][0]["address"].clone();
    let range = format!("{}..0x20000000", start.as_str().unwrap());
    assert!(share(&bench.json(&format!("profile buoy --by address --inside {range}"))) > 0.0);
    let windows = bench.json("profile buoy --every 1s --by line --inside dsp/*");
    assert!(windows.as_array().unwrap().iter().all(|window| share(window) > 0.0));
    assert!(bench.error("profile buoy --inside nobody").contains("no sample is in code"));
    assert!(
        bench.error("profile buoy --by task --inside x").contains("choose functions and files")
    );
}
