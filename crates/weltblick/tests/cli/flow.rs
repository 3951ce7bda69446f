//! Commands on an instruction trace.

use super::support::{Bench, FLOW_MANIFEST, INSTRUCTIONS, ended, write_repeated};
use insta::assert_snapshot;
use weltblick_standin::machine::Setup;
use weltblick_standin::{Machine, Model, Program};

#[test]
fn profile_is_exact() {
    assert_snapshot!(Bench::with_flow().out("profile buoy-flow --top 14"));
}

#[test]
fn other_trace_units_tell_the_same() {
    let bench = Bench::with_all_flows();
    assert_snapshot!("etmv3_profile", bench.out("profile buoy-etmv3 --top 8"));
    assert_snapshot!("etmv3_inspect", bench.out("inspect buoy-etmv3"));
    assert_snapshot!(
        "etmv3_packets",
        bench.out("inspect buoy-etmv3 --packets --within etm@10430..etm@10506")
    );
    assert_snapshot!(
        "etmv3_conditions",
        bench.out("coverage buoy-etmv3 --inside kernel_choose --top 4")
    );
    assert_snapshot!("etmv3_flow", bench.out("flow buoy-etmv3 --around first -n 30"));
    assert_snapshot!("mtb_profile", bench.out("profile buoy-mtb --top 4"));
    // The same program ran the same way: counts of what both saw are equal.
    let instructions_a_call = |capture: &str| {
        let report = bench.json(&format!("profile {capture}"));
        let rows = report["rows"].as_array().unwrap();
        let sine = rows.iter().find(|row| row["function"] == "sine").unwrap();
        let calls = sine["calls"].as_u64().unwrap();
        assert!(calls > 200);
        sine["instructions_per_call"]["max"].as_f64()
    };
    assert_eq!(instructions_a_call("buoy-etmv3"), instructions_a_call("buoy-mtb"));
}

/// Memory dumped as it lies there begins anywhere in time: with its write position it is the buffer as it was read out.
#[test]
fn a_dump_of_a_micro_trace_buffer_begins_at_its_write_position() {
    let bench = Bench::with_all_flows();
    let others = "--protocol mtb --core-clock 47.972352MHz --image buoy/wave-buoy.elf";
    let (whole, inspected) = (bench.json("profile buoy-mtb"), bench.json("inspect buoy-mtb"));
    let mut memory = bench.read("buoy-mtb/mtb.bin");
    memory.rotate_right(0x1238);
    bench.write("ram.bin", &memory);
    // Read in the order of its bytes it jumps where the oldest branch follows the newest.
    assert_ne!(bench.json(&format!("profile ram.bin {others}")), whole);
    let position = "--register mtb_position=0x2000123c";
    assert_eq!(bench.json(&format!("profile ram.bin {others} {position}")), whole);
    bench.out(&format!("import ram.bin {others} {position} --out dumped"));
    assert_eq!(bench.json("profile dumped"), whole);
    assert_eq!(bench.json("inspect dumped"), inspected);
    let shown = bench.out("flow dumped --around first -n 20").replace("ram@", "mtb@");
    assert_eq!(
        shown.replace("dumped", "buoy-mtb"),
        bench.out("flow buoy-mtb --around first -n 20")
    );
    // One that has not wrapped ends where the next branch would have gone.
    let part = bench.json(&format!("inspect ram.bin {others} --register mtb_position=0x20000800"));
    assert_eq!(part["bytes"], 0x800);
    bench.write("short.bin", &memory[..0x1230]);
    let error = bench.error(&format!("profile short.bin {others} {position}"));
    assert!(error.contains("0x2000123c lies behind the dump, which has 4656 bytes"), "{error}");
}

/// Each command that is suggested works as it stands, also where the capture was read with options.
/// Windows of time are parts of the recording, each as `--within` has it, and together all of it.
#[test]
fn a_profile_for_each_window_of_time() {
    let bench = Bench::with_all_flows();
    for (capture, every) in [("buoy-flow", 125), ("buoy-etmv3", 20)] {
        let of = |options: &str| bench.json(&format!("profile {capture} {options}"));
        let windows = of(&format!("--every {every}ms"));
        let windows = windows.as_array().unwrap();
        assert!(windows.len() > 2, "{}", windows.len());
        let ran = |report: &serde_json::Value| report["instructions"].as_u64().unwrap();
        assert_eq!(windows.iter().map(ran).sum::<u64>(), ran(&of("")));
        for (number, window) in (0..).zip(windows) {
            let [from, until] = [number * every, (number + 1) * every];
            assert_eq!(window["from_ns"], f64::from(from) * 1e6);
            let part = of(&format!("--within {from}ms..{until}ms"));
            let rows = |report: &serde_json::Value| -> Vec<[serde_json::Value; 4]> {
                let keys = ["function", "instructions", "self_share", "calls"];
                let rows = report["rows"].as_array().unwrap().iter();
                rows.map(|row| keys.map(|key| row[key].clone())).collect()
            };
            assert_eq!((ran(window), rows(window)), (ran(&part), rows(&part)));
        }
    }
    // The core slept all the time.
    let error = bench.error("profile buoy-flow --within 4.8ms..4.9ms");
    assert!(error.contains("nothing ran in this part"), "{error}");
    let asleep = &bench.json("profile buoy-etmv3 --every 100us")[48];
    assert_eq!((&asleep["from_ns"], &asleep["instructions"]), (&4.8e6.into(), &0.into()));
    let error = bench.error("profile buoy-flow --every 100us");
    assert!(error.contains("longer than 1000 windows"), "{error}");
    let error = bench.error("profile buoy-flow --every 1ms --tree");
    assert!(error.contains("--every makes tables"), "{error}");
}

/// Where bytes are missing nobody knows for how long: windows behind it say so, and no cycles are told across it.
#[test]
fn a_gap_moves_the_windows_behind_it() {
    let bench = Bench::with_all_flows();
    let mut bytes = bench.read("buoy-flow/etm.bin");
    bytes.drain(500_000..503_000);
    bench.write("buoy-flow/etm.bin", &bytes);
    let windows = bench.json("profile buoy-flow --every 50ms");
    let slipped = |window: &serde_json::Value| {
        let doubts = window["evidence"]["doubts"].as_array().unwrap();
        doubts.iter().any(|doubt| doubt.as_str().unwrap().contains("lies later than"))
    };
    let slipped: Vec<bool> = windows.as_array().unwrap().iter().map(slipped).collect();
    assert!(!slipped[0] && slipped[slipped.len() - 1] && slipped.is_sorted(), "{slipped:?}");
    let around = bench.json("flow buoy-flow --around etm@500000 -n 4000 --back 3000");
    let lines = around["lines"].as_array().unwrap();
    let gap = lines.iter().position(|line| line["kind"] == "gap").unwrap();
    let before =
        lines[..gap].iter().rev().take_while(|line| line["since_ns"] == lines[gap]["since_ns"]);
    assert!(before.into_iter().all(|line| line["cycles"].is_null()), "{:?}", &lines[gap - 4..=gap]);
    assert!(lines.iter().filter(|line| line["cycles"].is_u64()).count() > 50);
}

/// An instruction trace knows how much the core slept at least; samples know it from both sides, and without an image.
#[test]
fn sleep_is_judged_by_what_waited() {
    let bench = Bench::with_all_flows();
    let judged = |capture: &str, limit: &str| -> (String, String) {
        bench.write("sleep.toml", format!("[sleep]\nshare = '{limit}'\n"));
        let judgement = bench.json(&format!("check {capture} sleep.toml"))["budgets"][0].clone();
        let text = |key: &str| judgement[key].as_str().unwrap().to_owned();
        (text("verdict"), text("evidence"))
    };
    assert_eq!(judged("buoy-flow", ">= 70 %").0, "met");
    let (verdict, evidence) = judged("buoy-flow", ">= 99 %");
    assert!(verdict == "undecided" && evidence.contains("may stand still"), "{evidence}");
    assert_eq!(judged("buoy-flow", "<= 70 %").0, "broken");
    let (verdict, evidence) = judged("buoy-port", ">= 99 %");
    assert!(verdict == "broken" && evidence.contains("585 samples"), "{evidence}");
    let manifest = String::from_utf8(bench.read("buoy-port/capture.toml")).unwrap();
    bench.write("buoy-port/capture.toml", manifest.replace("image  =", "# image ="));
    assert!(judged("buoy-port", ">= 99 %").1.contains("585 samples"));
}

/// Source is found beside the capture without being asked for, and is held against the image's lines.
#[test]
fn source_text_is_found_beside_the_capture() {
    let bench = Bench::with_all_flows();
    let filter = include_str!("../../../../demo/firmware/src/dsp/filter.c");
    let beside = "firmware/src/dsp/filter.c";
    let part = &bench.json("source buoy-flow wave_filter")["parts"][0];
    assert_eq!((&part["has_text"], &part["text_from"]), (&true.into(), &beside.into()));
    // From each line's text to the cycles that its instructions took.
    assert_snapshot!(
        "flow_with_source",
        bench.out("flow buoy-etmv3 --around wave_filter --back 0 -n 14")
    );
    let short: String = filter.lines().take(31).map(|line| format!("{line}\n")).collect();
    bench.write(beside, short);
    let text = bench.out("source buoy-flow wave_filter");
    assert!(text.contains("ends before line 32: it is another version"), "{text}");
    // Two names alone are not enough of a path.
    bench.write("filter.c", filter);
    std::fs::remove_file(bench.path(beside)).unwrap();
    assert!(bench.out("source buoy-flow wave_filter").contains("its text was not found beside"));
    let error = bench.error("flow buoy-flow --around 5ms --next 2");
    assert!(error.contains("--next: 5ms comes once"), "{error}");
}

/// Where a recording ends inside a packet nothing is missing, and what ran before is known: with each further byte
/// no less than with the one before.
#[test]
fn a_recording_that_ends_inside_a_packet_lacks_nothing() {
    let bench = Bench::with_all_flows();
    for folder in ["buoy-etmv3", "buoy-flow"] {
        let whole = bench.read(&format!("{folder}/etm.bin"));
        // Around a synchronisation, where packets of several bytes stand.
        let middle = whole.len() / 2;
        let is_end_of_zeros = |bytes: &[u8]| bytes == [0, 0, 0, 0, 0, 0x80];
        let found = middle + whole[middle..].windows(6).position(is_end_of_zeros).unwrap();
        let (mut before, mut cut) = (0, 0);
        for end in found - 8..found + 24 {
            bench.write(&format!("{folder}/etm.bin"), &whole[..end]);
            let inspected = bench.json(&format!("inspect {folder}"));
            let codes = inspected["findings"].as_array().unwrap().iter().map(|one| &one["code"]);
            assert!(codes.into_iter().all(|code| code != "flow_gaps"), "{end}: {inspected}");
            for loss in inspected["losses"].as_array().unwrap() {
                assert_eq!(loss["reason"], "stream ends inside a packet", "{end}");
                cut += 1;
            }
            let ran = bench.json(&format!("profile {folder}"))["instructions"].as_u64().unwrap();
            // Half a packet may be one that cancels the last instruction.
            assert!(ran + 1 >= before, "{folder} up to byte {end}: {ran} after {before}");
            before = ran;
        }
        assert!(cut > 3, "{folder}: {cut}");
        bench.write(&format!("{folder}/etm.bin"), &whole);
    }
}

#[test]
fn suggested_commands_carry_the_options_that_were_given() {
    let bench = Bench::with_all_flows();
    let raw = "buoy-flow/etm.bin --protocol etmv4 --register trcconfigr=0x1811 --core-clock 47.972352MHz --image buoy/wave-buoy.elf";
    for command in [
        format!("interrupts {raw} adc_ready"),
        format!("timeline {raw} --within 1ms..3ms"),
        format!("flow {raw} --around wave_filter -n 5"),
        format!("span {raw} wave_filter wave_filter"),
        format!("profile {raw} --of wave_filter"),
        "interrupts buoy-port --flow-only".to_owned(),
        "flow buoy-port --flow-only --around first -n 5".to_owned(),
    ] {
        let out = bench.out(&command);
        let suggested = out.lines().filter_map(|line| line.split_once("-> weltblick "));
        let suggested: Vec<&str> = suggested.map(|(_, after)| after).collect();
        assert!(!suggested.is_empty(), "{command}: {out}");
        for line in suggested {
            let next = line.split("   ").next().unwrap().trim().replace('\'', "");
            assert_eq!(next.contains("--flow-only"), command.contains("--flow-only"), "{next}");
            assert_eq!(next.contains("--protocol etmv4"), command.contains("etmv4"), "{next}");
            bench.out(&next);
        }
    }
}

#[test]
fn a_raw_file_is_read_as_options_say() {
    let bench = Bench::with_all_flows();
    let etmv4 = "--protocol etmv4 --register trcconfigr=0x1811";
    let others = "--core-clock 47.972352MHz --image buoy/wave-buoy.elf";
    let whole = bench.json("profile buoy-flow");
    assert_eq!(bench.json(&format!("profile buoy-flow/etm.bin {etmv4} {others}")), whole);
    // Imported, it is the same capture; registers may be corrected later.
    bench.out(&format!("import buoy-flow/etm.bin {etmv4} {others} --out imported"));
    assert_eq!(bench.json("profile imported"), whole);
    bench.out("import --amend --out imported --register trcidr0=0x28000ea1,TRCCONFIGR=0x1811");
    let manifest = String::from_utf8(bench.read("imported/capture.toml")).unwrap();
    assert!(manifest.contains("trcidr0 = 0x28000ea1"), "{manifest}");
    let etmv3 = bench.json("coverage buoy-etmv3");
    let registers = "--protocol etmv3 --register etmcr=0x1000,etmidr=0x4114f250,etmccer=0x18541800";
    let raw = bench.json(&format!("coverage buoy-etmv3/etm.bin {registers} {others}"));
    assert_eq!(raw["total"], etmv3["total"]);
    let raw = bench.json(&format!("profile buoy-mtb/mtb.bin --protocol mtb {others}"));
    assert_eq!(raw["instructions"], bench.json("profile buoy-mtb")["instructions"]);
    for (options, part) in [
        ("--register trcconfigr=1", "no packets here are read by registers; say --protocol"),
        ("--protocol etmv4 --register etmcr=1", "is decided by trcconfigr, trcidr0"),
        ("--protocol etmv4 --register trcconfigr", "write NAME=VALUE"),
        ("--protocol etmv4 --register trcconfigr=0x1ffffffff", "no number of 32 bits"),
        ("--protocol mtb --framing tpiu", "no frames around it"),
    ] {
        let error = bench.error(&format!("profile buoy-flow/etm.bin {options} {others}"));
        assert!(error.contains(part), "{options}: {error}");
    }
}

#[test]
fn beside_an_itm_in_the_frames_of_one_port() {
    let bench = Bench::with_all_flows();
    assert_snapshot!("port_inspect", bench.out("inspect buoy-port"));
    // Packets of the one have times, however many of the other come in between.
    assert_snapshot!(
        "port_packets",
        bench.out("inspect buoy-port --packets --within 16.75ms..16.76ms")
    );
    // All but what was executed after the last branch.
    assert_eq!(bench.json("profile buoy-port")["instructions"], 309_153);
    let longest = bench.out("span buoy-port wave_filter spectrum_power --top 1");
    let command = longest.lines().find_map(|line| line.trim().strip_prefix("-> weltblick "));
    let flow = bench.out(&format!("{} -n 4", command.unwrap()));
    assert!(flow.contains("around port.2@7223") && flow.contains("wave_filter"), "{flow}");
    // The ITM's statements of the kernel go with it.
    assert!(bench.out("tasks buoy-port").contains("wave_estimator"));
}

#[test]
fn profile_by_interrupt_and_line() {
    let bench = Bench::with_flow();
    assert_snapshot!("exact_by_task", bench.out("profile buoy-flow --by task"));
    assert_snapshot!("exact_by_interrupt", bench.out("profile buoy-flow --by interrupt"));
    assert_snapshot!("exact_by_line", bench.out("profile buoy-flow --by line --top 8"));
}

#[test]
fn profile_of_one_function() {
    assert_snapshot!(Bench::with_flow().out("profile buoy-flow --of wave_filter"));
}

#[test]
fn profile_as_a_tree_and_as_files() {
    let bench = Bench::with_flow();
    let command = "profile buoy-flow --tree --top 20 --folded stacks.txt --picture calls.svg";
    assert_snapshot!(bench.out(command));
    let stacks = String::from_utf8(bench.read("stacks.txt")).unwrap();
    let path = "[thread];wave_estimator_task;wave_filter;filter_precise ";
    assert!(stacks.lines().any(|line| line.starts_with(path)), "{stacks}");
    let total: u64 =
        stacks.lines().map(|line| line.rsplit(' ').next().unwrap().parse::<u64>().unwrap()).sum();
    assert!((23_000_000..24_500_000).contains(&total), "half a second of cycles: {total}");
    assert!(String::from_utf8(bench.read("calls.svg")).unwrap().contains("wave_estimator_task"));
}

#[test]
fn profile_as_json_and_csv() {
    let bench = Bench::with_flow();
    let report = bench.json("profile buoy-flow");
    assert_eq!(report["schema"], "weltblick/exact-profile/3");
    let rows = report["rows"].as_array().unwrap();
    let sum = |key: &str| rows.iter().map(|row| row[key].as_u64().unwrap()).sum::<u64>();
    assert_eq!(sum("instructions"), report["instructions"].as_u64().unwrap());
    let filter = rows.iter().find(|row| row["function"] == "wave_filter").unwrap();
    assert_eq!(filter["calls"], 31);
    assert_eq!(filter["callers"][0]["function"], "wave_estimator_task");
    let longest = &filter["elapsed"]["max"];
    assert!(
        longest["ns_low"].as_f64() > Some(600_000.0)
            && longest["ns_high"].as_f64() < Some(660_000.0)
    );
    let csv = bench.out("profile buoy-flow --format csv");
    assert_eq!(csv.lines().count(), rows.len() + 1);
}

#[test]
fn coverage_worst_file_first() {
    assert_snapshot!(Bench::with_flow().out("coverage buoy-flow --exclude /build/* --top 8"));
}

#[test]
fn coverage_of_samples_is_a_lower_bound() {
    let bench = Bench::with_flow();
    assert_snapshot!(bench.out("coverage buoy --exclude /build/* --top 4"));
    // What samples found ran: exact coverage of more of the same says so too.
    let lines = |capture: &str| {
        bench.json(&format!("coverage {capture}"))["total"]["lines"]["covered"].as_u64()
    };
    assert!(lines("buoy") < lines("buoy-flow"));
}

#[test]
fn coverage_adds_captures_up_and_leaves_lines_out() {
    let bench = Bench::with_flow();
    let once = bench.json("coverage buoy-flow --inside wave_filter");
    let twice = bench.json("coverage buoy-flow buoy-flow --inside wave_filter");
    assert_eq!(once["total"], twice["total"]);
    let entries = |report: &serde_json::Value| report["functions"][0]["entries"].as_u64().unwrap();
    assert_eq!((entries(&once), entries(&twice)), (31, 62));
    // A comment takes a line out.
    let text = String::from_utf8(bench.read("firmware/src/dsp/filter.c")).unwrap();
    let text = text.replacen("limited++;", "limited++; // not covered: a test of this", 1);
    bench.write("firmware/src/dsp/filter.c", text);
    let without = bench.json("coverage buoy-flow --inside wave_filter --sources firmware");
    let lines = |report: &serde_json::Value| report["total"]["lines"]["total"].as_u64().unwrap();
    assert_eq!(lines(&without) + 1, lines(&once));
}

/// The demo's firmware with other optimizations and another source folder, for the first milliseconds.
fn write_other_build(bench: &Bench) {
    let firmware = include_bytes!("../firmware/wave-buoy-o1.elf");
    let model = Model::CortexM7;
    let setup = Setup { model, link_bit_rate: 480_000_000, ..Setup::default() };
    let mut machine = Machine::new(&Program::parse(firmware).unwrap(), setup).unwrap();
    let etm = 0xe004_1000;
    for (address, value) in [
        (0xe000_edfc, 1 << 24),
        (etm + 0x010, 0x1811),
        (etm + 0x038, 8),
        (etm + 0x080, 1 | 1 << 9),
        (etm + 0x004, 1),
    ] {
        machine.poke(address, 4, value).unwrap();
    }
    machine.run(500_000);
    bench.write("other/wave-buoy.elf", firmware);
    bench.write("other/etm.bin", machine.take_trace());
    bench.write("other/capture.toml", FLOW_MANIFEST);
}

#[test]
fn coverage_adds_builds_of_one_source_up() {
    let bench = Bench::with_flow();
    write_other_build(&bench);
    let part = "--only ..2ms --inside src/*";
    assert_snapshot!(bench.out(&format!("coverage buoy-flow other buoy-flow {part} --top 4")));
    let covered = |captures: &str| {
        let report = bench.json(&format!("coverage {captures} {part}"));
        report["total"]["lines"]["covered"].as_u64().unwrap()
    };
    let both = covered("buoy-flow other");
    assert!(both > covered("buoy-flow") && both > covered("other"));
    // Other source.
    bench.write("other/wave-buoy.elf", include_bytes!("../firmware/hot.elf"));
    let error = bench.error("coverage buoy-flow other");
    assert!(
        error.contains("other: ") && error.contains("only builds of the same source"),
        "{error}"
    );
}

#[test]
fn coverage_in_open_formats() {
    let bench = Bench::with_flow();
    bench
        .out("coverage buoy-flow --sources firmware --lcov a.info --cobertura a.xml --html a.html");
    let lcov = String::from_utf8(bench.read("a.info")).unwrap();
    let record =
        lcov.split("end_of_record").find(|record| record.contains("dsp/filter.c")).unwrap();
    assert!(record.contains("FNDA:31,wave_filter") && record.contains("BRDA:"), "{record}");
    let of = |key: &str| {
        let line = record.lines().find(|line| line.starts_with(key)).unwrap();
        line[key.len()..].parse::<usize>().unwrap()
    };
    let lines = record.lines().filter(|line| line.starts_with("DA:"));
    assert_eq!(of("LF:"), lines.clone().count());
    assert_eq!(of("LH:"), lines.filter(|line| !line.ends_with(",0")).count());
    let xml = String::from_utf8(bench.read("a.xml")).unwrap();
    assert!(xml.contains("filename=\"src/dsp/filter.c\"") && xml.contains("condition-coverage="));
    let page = String::from_utf8(bench.read("a.html")).unwrap();
    assert!(
        page.contains("never") && page.contains("filter_precise(samples, count)"),
        "the source is in it"
    );
    assert!(!page.contains("<script"));
    assert!(bench.error("coverage buoy-flow --lcov a.info").contains("--replace"));
}

#[test]
fn flow_around_code_a_byte_and_a_time() {
    let bench = Bench::with_flow();
    assert_snapshot!(
        "flow_around_code",
        bench.out("flow buoy-flow --around wave_filter --next 3 -n 30")
    );
    let filter = bench.json("profile buoy-flow --of wave_filter");
    let byte = filter["rows"][0]["longest"]["until_byte"].as_u64().unwrap();
    let lines = bench.json(&format!("flow buoy-flow --around etm@{byte} -n 400 --back 399"));
    let functions: Vec<_> =
        lines["lines"].as_array().unwrap().iter().map(|line| &line["function"]).collect();
    assert!(functions.iter().any(|name| *name == "wave_filter"), "its longest call ends there");
    let first = bench.json("flow buoy-flow -n 10 --back 0");
    assert_eq!(first["lines"][0]["function"], "reset_handler");
    assert_eq!(first["lines"][0]["here"], true);
    let late = bench.json("flow buoy-flow --around 100ms -n 4");
    let here = late["lines"].as_array().unwrap().iter().find(|line| line["here"] == true).unwrap();
    let since = here["since_ns"].as_f64().unwrap();
    assert!((99.5e6..=100e6).contains(&since), "{since}");
    assert!(bench.out("flow buoy-flow --around last -n 5 --format csv").lines().count() >= 5);
}

#[test]
fn flow_of_a_part_and_of_some_code() {
    let bench = Bench::with_flow();
    assert_snapshot!(
        "flow_inside",
        bench.out("flow buoy-flow --around 64.55ms -n 12 --inside src/dsp/* --exclude sine")
    );
    let last = bench.json("flow buoy-flow --only wave_filter..bands_update --around last -n 400");
    let lines = last["lines"].as_array().unwrap();
    let of = |kind: &str| lines.iter().filter(|line| line["kind"] == kind).count();
    assert_eq!((of("left_out") > 0, of("instruction") > 200), (true, true));
    assert!(lines.iter().all(|line| line["function"] != "bands_update"));
    assert_eq!(last["path"], serde_json::json!(["[thread]", "wave_estimator_task"]));
    for (line, part) in [
        ("flow buoy-flow --around sine --exclude sine", "leave out sine"),
        ("flow buoy-flow --inside nowhere", "leave out all code"),
        (
            "flow buoy-flow --around kernel_start --only wave_filter..bands_update",
            "is not reached in what is chosen of it",
        ),
    ] {
        let error = bench.error(line);
        assert!(error.contains(part), "{line}: {error}");
    }
}

#[test]
fn source_with_what_ran_in_its_margin() {
    let bench = Bench::with_flow();
    assert_snapshot!(
        "source_of_a_function",
        bench.out("source buoy-flow wave_filter --sources firmware")
    );
    assert_snapshot!("source_with_instructions", bench.out("source buoy-flow clock_drift_ppb -i"));
    let inside = bench.out("source buoy-flow dsp/filter.c --inside filter_p* --sources firmware");
    assert!(inside.contains("void filter_precise") && !inside.contains("wave_filter("));
    let error = bench.error("source buoy-flow dsp/filter.c --exclude src/dsp/*");
    assert!(error.contains("leave out all of `dsp/filter.c`"), "{error}");
    let file = bench.json("source buoy-flow dsp/filter.c --sources firmware");
    assert_eq!(file["parts"].as_array().unwrap().len(), 1);
}

#[test]
fn budgets_on_what_ran() {
    let bench = Bench::with_flow();
    bench.write(
        "ran.toml",
        "[coverage.\"src/dsp/*\"]\nlines = \">= 95 %\"\nbranches = \">= 99 %\"\n\
         [function.wave_filter]\ncalls = \">= 10\"\ntotal.elapsed.max = \"<= 650 us\"\n\
         total.own.mean = \"<= 400 us\"\nself.own.max = \"<= 430 us\"\n",
    );
    let ended = bench.run("check buoy-flow ran.toml");
    assert_eq!(ended.code, 1, "{}", ended.err);
    assert_snapshot!("budgets_on_what_ran", ended.out);
    // Samples are a lower bound: enough for *met*, never for *broken*.
    bench.write("few.toml", "[coverage.\"*\"]\nfunctions = \">= 40 %\"\nlines = \">= 99 %\"\n");
    let ended = bench.run("check buoy few.toml");
    assert_eq!(ended.code, 3, "{}", ended.out);
    assert!(ended.out.contains("1 undecided, 1 met"), "{}", ended.out);
}

/// What samples estimate is known here, within bounds: no sample is asked for.
#[test]
fn shares_are_judged_by_what_ran() {
    let bench = Bench::with_all_flows();
    let judged = |capture: &str, budget: &str| {
        bench.write("share.toml", budget);
        let ended = bench.run(&format!("check {capture} share.toml --format json"));
        let report: serde_json::Value = serde_json::from_str(&ended.out).unwrap();
        (ended.code, report["budgets"][0].clone())
    };
    let share = |limit: &str| format!("[function.spectrum_power]\nself_share = {limit}\n");
    let profile = bench.json("profile buoy-flow --top 0");
    let rows = profile["rows"].as_array().unwrap();
    let row = rows.iter().find(|row| row["function"] == "spectrum_power").unwrap();
    for capture in ["buoy-flow", "buoy-etmv3"] {
        assert_eq!(judged(capture, &share("'<= 20 %'")).0, 0);
        let (code, judgement) = judged(capture, &share("'<= 2 %'"));
        assert_eq!((code, judgement["verdict"].as_str()), (1, Some("broken")));
    }
    let (_, judgement) = judged("buoy-flow", &share("'<= 20 %'"));
    assert_eq!(judgement["observed"], row["self_share"], "{judgement}");
    // Wider by what came behind the last synchronisation.
    let number = |value: &serde_json::Value| value.as_f64().unwrap();
    let wider = [
        number(&row["self_share_low"]) - number(&judgement["observed_low"]),
        number(&judgement["observed_high"]) - number(&row["self_share_high"]),
    ];
    assert!(wider.iter().all(|by| (0.0..0.001).contains(by)), "{judgement}");
    // Whoever asks for samples gets none.
    let over = share("{ limit = '<= 20 %', over = '>= 10 samples' }");
    let (code, judgement) = judged("buoy-flow", &over);
    assert_eq!(code, 3);
    assert!(judgement["advice"].as_str().unwrap().contains("leave `over` out"), "{judgement}");
    let relation = "[relation.a]\nholds = 'function.spectrum_power.self_share > function.wave_filter.self_share'\n";
    assert_eq!(judged("buoy-flow", relation).0, 0);
    // Of all time, nothing can be said without time, nor where only a part was recorded.
    let undecided = |capture: &str, why: &str| {
        let (code, judgement) = judged(capture, &share("'<= 99 %'"));
        assert_eq!(code, 3);
        assert!(judgement["evidence"].as_str().unwrap().contains(why), "{judgement}");
    };
    undecided("buoy-mtb", "counts no cycles");
    // Nobody knows how long what is missing lasted: neither met nor broken.
    let whole = bench.read("buoy-flow/etm.bin");
    let mut damaged = whole.clone();
    damaged[100_000..100_016].fill(0x08);
    bench.write("buoy-flow/etm.bin", damaged);
    undecided("buoy-flow", "something is missing");
    assert_eq!(judged("buoy-flow", &share("'<= 2 %'")).0, 3);
    let manifest = String::from_utf8(bench.read("buoy-flow/capture.toml")).unwrap();
    let part = manifest.replace("format = 1", "format = 1\nbetween_points = true");
    bench.write("buoy-flow/capture.toml", part);
    undecided("buoy-flow", "only a part of all code was traced");
}

#[test]
fn nothing_is_met_that_the_recording_cannot_show() {
    let bench = Bench::with_flow();
    let budget =
        |function: &str| format!("[function.{function}]\ntotal.elapsed.max = \"<= 1 s\"\n");
    bench.write("filter.toml", budget("wave_filter"));
    assert_eq!(bench.run("check buoy-flow filter.toml").code, 0);
    // A call that had not ended may last for ever.
    bench.write("idle.toml", budget("idle"));
    assert_eq!(bench.run("check buoy-flow idle.toml").code, 3);
    let manifest = String::from_utf8(bench.read("buoy-flow/capture.toml")).unwrap();
    // What was left out by choice may have run: never broken for that, and stopping is no timing.
    bench.write(
        "buoy-flow/capture.toml",
        manifest.replace("format = 1", "format = 1\nbetween_points = true"),
    );
    let coverage = bench.json("coverage buoy-flow");
    assert_eq!(coverage["evidence"]["lower_bound"], true);
    bench.write(
        "buoy-flow/capture.toml",
        manifest.replace("format = 1", "format = 1\nintrusive = true"),
    );
    let ended = bench.run("check buoy-flow filter.toml");
    assert!(ended.code == 3 && ended.out.contains("intrusive"), "{}", ended.out);
    assert!(bench.error("profile buoy-flow --inline").contains("--samples"));
}

#[test]
fn interrupts_and_lanes_from_what_ran() {
    let bench = Bench::with_flow();
    assert_snapshot!("interrupts_from_flow", bench.out("interrupts buoy-flow"));
    assert_snapshot!("timeline_from_flow", bench.out("timeline buoy-flow --within 100ms..110ms"));
    // Calls are drawn by name where there is room, and chosen like other lanes.
    assert_snapshot!(
        "timeline_calls",
        bench.out("timeline buoy-flow --around 18.8ms --width 1ms --columns 120")
    );
    let report = bench.json("timeline buoy-flow --around 18.8ms --width 1ms --lanes calls");
    let lanes = report["lanes"].as_array().unwrap();
    assert!(lanes.len() > 2 && lanes.iter().all(|lane| lane["kind"] == "call"));
    let named = lanes[1]["calls"].as_array().unwrap();
    assert!(named.iter().any(|call| call["function"] == "bands_update"), "{named:?}");
    // Code is a point, too: the first time that it is reached.
    let at_code = bench.out("timeline buoy-flow --at bands_update --width 300us --lanes call");
    assert!(
        at_code.contains("v bands_update at 0.0185") && at_code.contains("[bands_update"),
        "{at_code}"
    );
    let picture = "timeline buoy-flow --around 18.8ms --width 1ms --picture calls.svg";
    bench.out(picture);
    assert!(String::from_utf8(bench.read("calls.svg")).unwrap().contains("bands_update"));
    let report = bench.json("interrupts buoy-flow");
    let runs = |name: &str| {
        let rows = report["interrupts"].as_array().unwrap();
        rows.iter().find(|row| row["name"] == name).unwrap()["count"].as_u64().unwrap()
    };
    assert_eq!((runs("SysTick"), runs("adc_ready")), (499, 1997));
    // Without cycle counts and timestamps there is order, and no time.
    let manifest = String::from_utf8(bench.read("buoy-flow/capture.toml")).unwrap();
    bench.write("buoy-flow/capture.toml", manifest.replace("0x1811", "0x1001"));
    assert!(bench.error("interrupts buoy-flow").contains("counts no cycles"));
}

/// Where timestamps are all that carries time, every command takes it from them, and none is surer than it may be.
#[test]
fn timestamps_alone_are_times_for_every_command() {
    let bench = Bench::with_flow();
    let counted = bench.json("interrupts buoy-flow");
    let manifest = String::from_utf8(bench.read("buoy-flow/capture.toml")).unwrap();
    let unstated = manifest.replace("0x1811", "0x1801");
    bench.write("buoy-flow/capture.toml", &unstated);
    // What timestamps count need not be the core's clock: until it is stated, nothing is met, and nothing is in seconds.
    let error = bench.error("interrupts buoy-flow");
    assert!(error.contains("give --global-clock"), "{error}");
    assert_eq!(bench.json("inspect buoy-flow")["findings"][0]["code"], "no_clock");
    bench.write("long.toml", "[function.wave_filter]\ntotal.elapsed.max = '<= 1 s'\n[interrupt.adc_ready]\nown.p99 = '<= 1 s'\n");
    let ended = bench.run("check buoy-flow long.toml");
    assert!(ended.code == 3 && !ended.out.contains("= met"), "{}", ended.out);
    let longest = |clock: &str| {
        let report = bench.json(&format!("span buoy-flow sine sine --global-clock {clock}"));
        report["total"]["elapsed"]["max"]["ns_high"].as_f64().unwrap()
    };
    let (core, half) = (longest("47.972352MHz"), longest("23.986176MHz"));
    assert!((half / core - 2.0).abs() < 1e-6, "{half} {core}");
    let stated = unstated.replace("core_clock =", "global_clock = \"47.972352 MHz\"\ncore_clock =");
    bench.write("buoy-flow/capture.toml", stated);
    let stamped = bench.json("interrupts buoy-flow");
    let row = |report: &serde_json::Value, name: &str| {
        let rows = report["interrupts"].as_array().unwrap();
        rows.iter().find(|row| row["name"] == name).unwrap().clone()
    };
    for name in ["adc_ready", "radio_slot", "SysTick"] {
        let (counted, stamped) = (row(&counted, name), row(&stamped, name));
        let bounds = |row: &serde_json::Value| {
            let max = &row["elapsed"]["max"];
            (max["ns_low"].as_f64().unwrap(), max["ns_high"].as_f64().unwrap_or(f64::INFINITY))
        };
        let ((low, high), (least, most)) = (bounds(&counted), bounds(&stamped));
        assert!(least <= low && high <= most, "{name}: {low}..{high} in {least}..{most}");
        let [few, many] =
            ["count", "count_high"].map(|key| stamped[key].as_u64().unwrap_or(u64::MAX));
        let count = counted["count"].as_u64().unwrap();
        assert!(few <= count && count <= many, "{name}: {count} in {few}..{many}");
    }
    let duration = |report: &serde_json::Value| report["duration"]["ns_low"].as_f64().unwrap();
    let lasts = duration(&stamped);
    assert!((0.4..1.0).contains(&(lasts / duration(&counted))));
    for (command, part) in [
        ("profile buoy-flow --top 1", "by timestamps"),
        ("profile buoy-flow --only 100ms..200ms --top 1", "by timestamps"),
        ("tasks buoy-flow", "wave_estimator_task"),
        ("timeline buoy-flow --around 100ms", "0.100000s"),
        ("timeline buoy-flow --around irq:adc_ready[400]", "adc_ready"),
        ("flow buoy-flow --around 100ms -n 5", "telemetry_task > copy_bytes"),
        ("flow buoy-flow --around irq:adc_ready[400] -n 5", "adc_ready enters"),
        ("inspect buoy-flow --packets --within 100ms..101ms", "time "),
        ("span buoy-flow irq:adc_ready irq:SysTick", "from one mark to the next"),
    ] {
        let out = bench.out(command);
        assert!(out.contains(part), "{command}: {out}");
    }
    // Nothing short is met by timestamps that come every few milliseconds.
    bench.write(
        "short.toml",
        "[interrupt.adc_ready]\nown.p99 = '<= 5 us'\nperiod.mean = '250 us +- 1 %'\n",
    );
    assert_eq!(bench.run("check buoy-flow short.toml").code, 3);
}

#[test]
fn inspection_of_an_instruction_trace() {
    let bench = Bench::with_flow();
    assert_snapshot!("inspect_instructions", bench.out("inspect buoy-flow"));
    assert_snapshot!("instruction_packets", bench.out("inspect buoy-flow --packets --top 12"));
}

#[test]
fn what_cannot_be_answered_says_why() {
    let bench = Bench::with_all_flows();
    for (command, part) in [
        ("flow buoy", "no stream of this capture is an instruction trace"),
        ("flow buoy-flow --around fault_handler", "is not reached"),
        ("flow buoy-flow --around swo@3", "is called `etm`"),
        ("flow buoy-mtb --around irq:adc_ready[3]", "counts no cycles"),
        ("flow buoy-flow --around irq:adc_reddy[3]", "the image's vector table has no"),
        ("profile buoy --tree", "only an instruction trace tells calls"),
        ("profile buoy-flow --of wave_fliter", "no function called"),
        ("profile buoy-flow --by task --inside main", "--by task"),
        ("profile buoy-mtb --every 10ms", "counts no cycles"),
        ("source buoy-flow wave_fliter", "did you mean `wave_filter`?"),
        ("coverage buoy-flow --inside nothing_like_it", "no function or file"),
    ] {
        let error = bench.error(command);
        assert!(error.contains(part), "{command}: {error}");
    }
    bench.write("buoy-flow/capture.toml", "format = 1\n[[stream]]\nfile = 'etm.bin'\nprotocol = 'etmv4'\n[stream.settings]\ntrcconfgr = 1\n");
    assert!(bench.error("inspect buoy-flow").contains("did you mean `trcconfigr`?"));
}

#[test]
fn span_between_places_in_the_code() {
    let bench = Bench::with_all_flows();
    assert_snapshot!(
        "span_with_laps",
        bench.out("span buoy-flow wave_filter spectrum_power bands_update --top 2")
    );
    assert_snapshot!("span_in_instructions", bench.out("span buoy-mtb sine sine --top 2"));
    assert_snapshot!(
        "span_across_threads",
        bench.out("span buoy-flow adc_ready_handler wave_filter --across --top 1")
    );
    assert_snapshot!(
        "span_inside",
        bench.out("span buoy-flow __udivmoddi4 0x08001796 --inside __aeabi_ldivmod --top 1")
    );
    assert_snapshot!(
        "span_of_a_part",
        bench.out("span buoy-flow copy_bytes copy_bytes --only 100ms..200ms --top 1")
    );
    let report = bench.json("span buoy-etmv3 wave_filter spectrum_power");
    assert_eq!(report["schema"], "weltblick/code-span/3");
    assert_eq!(report["total"]["elapsed"]["count"], 3);
    assert_eq!(report["start_up"]["instructions"], 12_412);
    let csv = bench.out("span buoy-flow wave_filter spectrum_power bands_update --format csv");
    assert_eq!(csv.lines().count(), 5, "{csv}");
}

#[test]
fn span_says_why_there_is_none() {
    let bench = Bench::with_all_flows();
    for (command, part) in [
        ("span buoy-flow", "needs two points in the code"),
        ("span buoy-flow wave_filter", "needs two points in the code"),
        ("span buoy-flow 1ms wave_filter", "is no place in the code"),
        ("span buoy-flow wave_filtre sine", "did you mean `wave_filter`?"),
        ("span buoy-flow adc_ready_handler wave_filter", "--across follows it"),
        ("span buoy-flow sine wave_filter --across --inside idle", "not inside of the calls"),
        ("span buoy-flow sine wave_filter --exclude nowhere", "no function of the image"),
        ("span buoy irq:adc_ready task:wave_estimator --inside main", "not with marks"),
        ("span buoy-flow fault_handler wave_filter", "was gone not once (0 times begun)"),
        ("span buoy-flow sine sine --only swo@1..", "is called `etm`, not `swo`"),
        ("span buoy sine sine --only 1ms..", "this capture has none"),
        ("span buoy-mtb sine sine --only ..1ms", "counts no cycles"),
    ] {
        let error = bench.error(command);
        assert!(error.contains(part), "{command}: {error}");
    }
}

#[test]
fn a_part_of_what_ran() {
    let bench = Bench::with_flow();
    assert_snapshot!(
        "profile_of_a_part",
        bench.out("profile buoy-flow --only wave_filter..spectrum_power --top 5")
    );
    assert_snapshot!("profile_inside", bench.out("profile buoy-flow --inside src/dsp/* --top 4"));
    let covered = |part: &str| {
        let report = bench.json(&format!("coverage buoy-flow {part}"));
        report["total"]["instructions"]["covered"].as_u64().unwrap()
    };
    let part = covered("--only wave_filter..spectrum_power");
    assert!(part > 60 && part < covered(""), "{part}");
    let source = bench.out("source buoy-flow wave_filter --only wave_filter..spectrum_power");
    assert!(source.contains("31"), "{source}");
}

#[test]
fn budgets_on_ways_through_the_code() {
    let bench = Bench::with_flow();
    let budgets = r#"
        [span."wave_filter..spectrum_power"]
        elapsed.max = "<= 650 us"
        own.mean    = "<= 400 us"
        count       = ">= 30"

        [span."adc_ready_handler..wave_filter"]
        elapsed.max = "<= 1 ms"
    "#;
    bench.write("ways.toml", budgets);
    let ended = bench.run("check buoy-flow ways.toml");
    assert_eq!(ended.code, 1, "{}", ended.err);
    assert_snapshot!("budgets_on_ways", ended.out);
    for (name, part) in
        [("wave_filtre..sine", "did you mean"), ("1ms..sine", "no place in the code")]
    {
        bench.write("ways.toml", format!("[span.\"{name}\"]\nelapsed.max = \"<= 1 ms\"\n"));
        let error = bench.error("check buoy-flow ways.toml");
        assert!(error.contains(part) && error.contains("ways.toml:1"), "{error}");
    }
}

#[test]
fn a_long_trace_is_counted_on_several_cores_as_on_one() {
    let bench = Bench::with_flow();
    write_repeated(&bench.path("buoy-flow/etm.bin"), INSTRUCTIONS, 36 << 20);
    let report = |args: &str| {
        let mut report = bench.json(args);
        report.as_object_mut().unwrap().remove("captures");
        report
    };
    let at_once = report("coverage buoy-flow");
    // Several files are one reader's.
    let bytes = bench.read("buoy-flow/etm.bin");
    let (first, second) = bytes.split_at(bytes.len() / 3);
    bench.write("split/etm.bin", first);
    bench.write("split/more.bin", second);
    bench.write("split/wave-buoy.elf", bench.read("buoy-flow/wave-buoy.elf"));
    let files = FLOW_MANIFEST.replace("\"etm.bin\"", "[\"etm.bin\", \"more.bin\"]");
    bench.write("split/capture.toml", files);
    assert_eq!(report("coverage split"), at_once);
}

#[test]
fn interrupts_and_tasks_of_a_part() {
    let bench = Bench::with_flow();
    assert_snapshot!(
        "interrupts_of_a_part",
        bench.out("interrupts buoy-flow --only wave_filter..spectrum_power")
    );
    let lanes =
        "timeline buoy-flow --only wave_filter..spectrum_power --within 30ms..60ms --columns 100";
    assert_snapshot!("timeline_of_a_part", bench.out(lanes));
    // The time that is told is that of the part, and whose it is.
    let part = "--only wave_filter..spectrum_power";
    let profile = bench.json(&format!("profile buoy-flow {part}"));
    let tasks = bench.json(&format!("tasks buoy-flow {part}"));
    let [row] = tasks["tasks"].as_array().unwrap().as_slice() else { panic!("{tasks}") };
    assert_eq!(row["name"], "wave_estimator_task");
    let told =
        tasks["duration"]["ns_low"].as_f64().unwrap() * tasks["totals"]["tasks"].as_f64().unwrap();
    let ran = profile["duration"]["ns_low"].as_f64().unwrap();
    assert!((told - ran).abs() < ran / 50.0, "{told} {ran}");
    // By time a part is the window.
    let [part, window] = ["--only", "--within"].map(|option| {
        let report = bench.json(&format!("interrupts buoy-flow {option} 100ms..200ms"));
        report["interrupts"][0]["count"].as_u64().unwrap()
    });
    assert!(part.abs_diff(window) <= 1, "{part} {window}");
    let error = bench.error("interrupts buoy --only wave_filter..spectrum_power");
    assert!(error.contains("--within takes a stretch of time"), "{error}");
}

#[test]
fn code_is_chosen_by_name_file_and_range() {
    let bench = Bench::with_flow();
    let names = |command: &str, rows: &str, key: &str| -> Vec<String> {
        let report = bench.json(command);
        let rows = report[rows].as_array().unwrap();
        let mut names: Vec<_> =
            rows.iter().map(|row| row[key].as_str().unwrap().to_owned()).collect();
        names.sort();
        names
    };
    let handlers = names("interrupts buoy-flow --inside src/control/*", "interrupts", "name");
    assert_eq!(handlers, ["adc_ready"]);
    let others = names("interrupts buoy-flow --exclude src/control/*", "interrupts", "name");
    assert!(!others.contains(&"adc_ready".to_owned()) && others.len() > 5, "{others:?}");
    let tasks = names("tasks buoy-flow --exclude idle --exclude housekeeping*", "tasks", "name");
    assert_eq!(tasks, ["telemetry_task", "wave_estimator_task"]);
    assert_eq!(names("tasks buoy-flow --inside kernel.c", "tasks", "name"), ["idle"]);
    let range = "--inside 0x080008b0..0x080008b1";
    for (command, rows, key) in
        [("profile", "rows", "function"), ("coverage", "functions", "function")]
    {
        let found = names(&format!("{command} buoy-flow {range}"), rows, key);
        assert_eq!(found.len(), 1, "{command}: {found:?}");
    }
    for (command, part) in [
        ("interrupts buoy-flow --inside nowhere.c", "no handler lies in this code"),
        ("tasks buoy-flow --inside nowhere.c", "no task is called so"),
    ] {
        let error = bench.error(command);
        assert!(error.contains(part), "{command}: {error}");
    }
}

#[test]
fn turns_of_tasks_are_points_where_only_instructions_were_recorded() {
    let bench = Bench::with_flow();
    let here = |command: &str| {
        let report = bench.json(command);
        let lines = report["lines"].as_array().unwrap().clone();
        lines.into_iter().find(|line| line["here"] == true).unwrap()
    };
    let begins = here("flow buoy-flow --around task:telemetry_task[20]");
    let ends = here("flow buoy-flow --around task:telemetry_task[20].end");
    let turns = bench.json("tasks buoy-flow --each");
    let turns = turns.as_array().unwrap().iter();
    let turn = turns.filter(|turn| turn["task"] == "telemetry_task").nth(20).unwrap();
    let [from, until] = [&begins, &ends].map(|line| line["since_ns"].as_f64().unwrap());
    for (line, key) in [(from, "began_ns"), (until, "ended_ns")] {
        assert!((line - turn[key].as_f64().unwrap()).abs() < 1e3, "{key}: {line} {turn}");
    }
    let by_number = here("flow buoy-flow --around task:telemetry_task[last]");
    assert!(by_number["since_ns"].as_f64().unwrap() > until);
    // So is a part from the one to the other.
    let part = "--only task:telemetry_task[20]..task:telemetry_task[20].end";
    let profile = bench.json(&format!("profile buoy-flow {part}"));
    let lasted = profile["duration"]["ns_low"].as_f64().unwrap();
    assert!((lasted - (until - from)).abs() < 2e3, "{lasted} {from} {until}");
    for (point, part) in [
        ("task:nobody[1]", "nothing in this recording is called `nobody`"),
        ("task:telemetry_task[900]", "`task:telemetry_task[900]` is not there: 32 were seen whole"),
    ] {
        let error = bench.error(&format!("flow buoy-flow --around {point}"));
        assert!(error.contains(part), "{point}: {error}");
    }
}

#[test]
fn a_long_trace_is_indexed_once() {
    let bench = Bench::with_flow();
    write_repeated(&bench.path("buoy-flow/etm.bin"), INSTRUCTIONS, 34 << 20);
    let cached = |command: &str| bench.out_cached(command);
    let kept = || std::fs::read_dir(bench.path("cache/weltblick")).unwrap().count();
    for command in [
        "flow buoy-flow --around filter_precise --next 150 -n 20",
        "flow buoy-flow --around sine --next 700000 -n 20",
        "flow buoy-flow --around 12.3456s -n 20",
        "flow buoy-flow --around irq:SysTick[9000] --next 8000 -n 20",
        "flow buoy-flow --around irq:radio_slot[last].end -n 20",
        "timeline buoy-flow --around irq:adc_ready[first] --width 1ms --lanes interrupt --list",
    ] {
        let whole = bench.out(command);
        assert_eq!(cached(command), whole, "{command}");
        assert_eq!(kept(), 1);
    }
    // A timeline is read from near its place, too; a search goes on from there.
    for command in [
        "timeline buoy-flow --around 12.3456s --width 2ms --lanes interrupt --format json",
        "timeline buoy-flow --around 9.01s --previous irq:gnss_pulse --width 2ms --list --lanes interrupt",
    ] {
        assert_eq!(cached(command), bench.out(command), "{command}");
    }
    // What is kept may be damaged, or of another image.
    let file = std::fs::read_dir(bench.path("cache/weltblick")).unwrap().next().unwrap().unwrap();
    // So are the threads of a long trace, and their turns.
    let turn = "flow buoy-flow --around task:telemetry_task[700] -n 20";
    let whole = bench.out(turn);
    assert_eq!([cached(turn), cached(turn)], [whole.clone(), whole]);
    assert_eq!(kept(), 3);
    std::fs::write(file.path(), [0xff; 64]).unwrap();
    cached("flow buoy-flow --around filter_precise --next 150 -n 20");
    assert!(file.metadata().unwrap().len() > 1000);
    let missing = bench.command("flow buoy-flow --around filter_precise --next 100000");
    let missing = { missing }.env("XDG_CACHE_HOME", bench.path("cache")).output().unwrap();
    assert!(ended(missing).err.contains("is not reached so often"));
    // So it is in segments, and what counts reads those on several cores.
    let whole = bench.read("buoy-flow/etm.bin");
    std::fs::create_dir(bench.path("cut")).unwrap();
    bench.write("cut/wave-buoy.elf", bench.read("buoy-flow/wave-buoy.elf"));
    let manifest = FLOW_MANIFEST.replace("file     = \"etm.bin\"", "segments = \"etm\"");
    bench.write("cut/capture.toml", manifest);
    for (number, part) in [&whole[..9_000_001], &whole[9_000_001..9_000_002], &whole[9_000_002..]]
        .into_iter()
        .enumerate()
    {
        bench.write(&format!("cut/etm.{number:06}.bin"), part);
    }
    for command in
        ["flow buoy-flow --around sine --next 700000 -n 20", "coverage buoy-flow --format json"]
    {
        let cut = command.replace("buoy-flow", "cut");
        let same = bench.out(command).replace("buoy-flow", "cut");
        assert_eq!(cached(&cut), same, "{cut}");
    }
}

#[test]
fn a_long_trace_in_frames_is_indexed_too() {
    let bench = Bench::with_all_flows();
    // Whole frames, so that one recording goes on where the one before ended.
    let port = bench.read("buoy-port/port.bin");
    write_repeated(&bench.path("buoy-port/port.bin"), &port[..port.len() / 16 * 16], 40 << 20);
    let cached = |command: &str| bench.out_cached(command);
    for command in [
        "flow buoy-port --flow-only --around wave_filter --next 150 -n 20",
        "flow buoy-port --flow-only --around irq:adc_ready[30000] -n 20",
        "timeline buoy-port --flow-only --around 5.3456s --width 2ms --lanes interrupt --format json",
    ] {
        let whole = bench.out(command);
        assert_eq!(cached(command), whole, "{command}");
    }
    // The clocks of both are held against each other once, too.
    let at_itm = "flow buoy-port --around wave_filter --next 150 -n 20";
    assert_eq!(cached(at_itm), bench.out(at_itm));
    let kept = std::fs::read_dir(bench.path("cache/weltblick")).unwrap();
    let names: Vec<_> = kept.map(|file| file.unwrap().path()).collect();
    assert!(names.iter().any(|name| name.extension().is_some_and(|end| end == "aligned")));
    assert_eq!(cached(at_itm), bench.out(at_itm));
}

#[test]
fn the_instruction_trace_alone_where_an_itm_leads() {
    let bench = Bench::with_all_flows();
    let names = |command: &str, rows: &str| -> Vec<String> {
        let report = bench.json(command);
        let rows = report[rows].as_array().unwrap().iter();
        let mut names: Vec<_> = rows.map(|row| row["name"].as_str().unwrap().to_owned()).collect();
        names.sort();
        names
    };
    let by_itm = names("interrupts buoy-port", "interrupts");
    assert_eq!(names("interrupts buoy-port --flow-only", "interrupts"), by_itm);
    let tasks = names("tasks buoy-port --flow-only", "tasks");
    assert!(tasks.contains(&"idle".into()) && tasks.len() > 2, "{tasks:?}");
    // Both tell of the same work, each by a clock of its own.
    let count = |command: &str| {
        let report = bench.json(command);
        let rows = report["interrupts"].as_array().unwrap().clone();
        rows.iter().map(|row| row["count"].as_f64().unwrap()).sum::<f64>()
    };
    let (itm, flow) = (count("interrupts buoy-port"), count("interrupts buoy-port --flow-only"));
    assert!((itm - flow).abs() <= 4.0, "{itm} {flow}");
    let lanes = bench.out("timeline buoy-port --flow-only --lanes calls --around wave_filter");
    assert!(lanes.contains("[wave_estimator_task"), "{lanes}");
    let error = bench.error("tasks buoy --flow-only");
    assert!(error.contains("no stream of this capture is an instruction trace"), "{error}");
    let manifest = std::fs::read_to_string(bench.path("buoy-port/capture.toml"))
        .unwrap()
        .replace("marks_port          = 16", "");
    bench.write("buoy-port/capture.toml", &manifest);
    assert!(bench.error("tasks buoy-port").contains("--flow-only"));
}

/// Makes an ETMv4 this long with packets that say nothing, before each of its synchronisations.
fn stretch_out(file: &std::path::Path, length: usize) {
    const SYNC: [u8; 12] = [0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x80];
    const IGNORE: u8 = 0x70;
    let bytes = std::fs::read(file).unwrap();
    let places: Vec<usize> =
        (0..bytes.len()).filter(|&at| bytes[at..].starts_with(&SYNC)).collect();
    let silence = vec![IGNORE; length / places.len()];
    let (mut long, mut done) = (Vec::new(), 0);
    for place in places {
        long.extend_from_slice(&bytes[done..place]);
        long.extend_from_slice(&silence);
        done = place;
    }
    long.extend_from_slice(&bytes[done..]);
    std::fs::write(file, long).unwrap();
}

/// What an ITM told of the first seconds, and an instruction trace that begins later, with a clock of its own.
fn beside_an_itm(bench: &Bench, instructions: std::ops::Range<usize>) {
    let manifest = String::from_utf8(bench.read("buoy/capture.toml")).unwrap();
    let (head, streams) = manifest.split_once("[[stream]]").unwrap();
    let flow = String::from_utf8(bench.read("buoy-flow/capture.toml")).unwrap();
    let (_, flow) = flow.split_once("[[stream]]").unwrap();
    std::fs::create_dir_all(bench.path("both")).unwrap();
    for file in ["swo.bin", "wave-buoy.elf"] {
        std::fs::write(bench.path("both").join(file), bench.read(&format!("buoy/{file}"))).unwrap();
    }
    let trace = bench.read("buoy-flow/etm.bin");
    std::fs::write(bench.path("both/etm.bin"), &trace[instructions]).unwrap();
    bench.write("both/capture.toml", format!("{head}[[stream]]{flow}\n[[stream]]{streams}"));
}

#[test]
fn an_itm_and_an_instruction_trace_on_one_axis() {
    let bench = Bench::with_all_flows();
    let cut = 400_000;
    beside_an_itm(&bench, cut..1_000_000);
    // The same run as in the whole trace, whose clock began with the ITM's.
    let at = |capture: &str, point: &str| {
        let report = bench.json(&format!("flow {capture} --around {point} -n 40"));
        let lines = report["lines"].as_array().unwrap().clone();
        let here = lines.into_iter().find(|line| line["here"] == true).unwrap();
        let function = here["function"].as_str().unwrap_or_default().to_owned();
        (function, here["byte"].as_u64().unwrap(), here["since_ns"].as_f64().unwrap())
    };
    for point in ["irq:adc_ready[900]", "irq:radio_slot[17]", "irq:SysTick[230]"] {
        let (both, flow) = (at("both", point), at("buoy-flow", point));
        assert_eq!((both.0, both.1 + cut as u64), (flow.0, flow.1), "{point}");
        assert!((both.2 - flow.2).abs() < 1400.0, "{point}: {} {}", both.2, flow.2);
    }
    for point in ["irq:SysTick[230].end", "230ms"] {
        let (both, flow) = (at("both", point), at("buoy-flow", point));
        assert!((both.1 + cut as u64).abs_diff(flow.1) < 40, "{point}: {both:?} {flow:?}");
        assert!((both.2 - flow.2).abs() < 2800.0, "{point}: {} {}", both.2, flow.2);
    }
    assert_snapshot!(
        "both_timeline",
        bench.out("timeline both --around wave_filter --width 4ms --lanes calls,adc_ready,block")
    );
    // What the ITM says of a part, and what ran in it.
    let part = "--only irq:adc_ready[900]..irq:adc_ready[901]";
    let profile = bench.json(&format!("profile both {part}"));
    assert_eq!(profile["rows"][0]["function"], "spectrum_power");
    assert!((profile["duration"]["ns_low"].as_f64().unwrap() - 250e3).abs() < 2e3, "{profile}");
    for (command, part) in [
        ("flow both --around 1ms", "tells nothing of that time"),
        ("flow both --around irq:adc_ready[3]", "tells nothing of that time"),
        ("flow both --around irq:adc_ready[900000]", "were seen whole"),
        ("interrupts both --only 220ms..", "read with --flow-only"),
    ] {
        let error = bench.error(command);
        assert!(error.contains(part), "{command}: {error}");
    }
    // Too little was traced to know where it lies.
    beside_an_itm(&bench, cut..402_500);
    let timeline = bench.out("timeline both --around 220ms");
    assert!(timeline.contains("where the instruction trace lies is not known"), "{timeline}");
    assert!(bench.error("flow both --around 220ms").contains("--flow-only"));
    assert!(bench.out("flow both --around sine -n 4 --flow-only").contains("sine"));
    // Of a long trace only what lies near is read: who called before that is not on the stack, and all else is.
    beside_an_itm(&bench, cut..1_000_000);
    stretch_out(&bench.path("both/etm.bin"), 34 << 20);
    for at in ["wave_filter", "irq:adc_ready[1800]", "335ms"] {
        let command =
            format!("timeline both --around {at} --width 1ms --lanes calls --format json");
        let begun = |report: String| -> Vec<(String, String)> {
            let report: serde_json::Value = serde_json::from_str(&report).unwrap();
            let from = report["from_ns"].as_f64().unwrap();
            let lanes = report["lanes"].as_array().unwrap().iter();
            let calls = lanes.flat_map(|lane| lane["calls"].as_array().into_iter().flatten());
            let inside = calls.filter(|call| call["from_ns"].as_f64().unwrap() > from);
            // Whoever was called before shows when it is returned to.
            let inside =
                inside.filter(|call| !call["function"].as_str().unwrap().ends_with("_task"));
            let call = |call: &serde_json::Value| {
                (call["function"].to_string(), call["until_ns"].to_string())
            };
            let mut calls: Vec<_> = inside.map(call).collect();
            calls.sort();
            calls
        };
        let whole = begun(bench.out(&command));
        let near = begun(bench.out_cached(&command));
        assert!(near == whole && near.len() > 2, "{at}: {} {}", near.len(), whole.len());
    }
}

#[test]
fn what_ran_when_an_interrupt_came() {
    let bench = Bench::with_flow();
    assert_snapshot!(
        "flow_around_interrupt",
        bench.out("flow buoy-flow --around irq:adc_ready[3] -n 12")
    );
    let next = bench.out("flow buoy-flow --around irq:adc_ready[3] --next 2 -n 12");
    let there = bench.out("flow buoy-flow --around irq:adc_ready[5] -n 12");
    assert_eq!(next.lines().skip(1).collect::<Vec<_>>(), there.lines().skip(1).collect::<Vec<_>>());
    let error = bench.error("flow buoy-flow --around irq:adc_ready[70000]");
    assert!(error.contains("were seen whole"), "{error}");
}

#[test]
fn the_end_of_a_trace_is_its_last_instruction_and_a_page_goes_on_where_the_last_ended() {
    let bench = Bench::with_all_flows();
    for capture in ["buoy-flow", "buoy-etmv3", "buoy-mtb"] {
        let lines = bench.json(&format!("flow {capture} --around last -n 9"))["lines"].clone();
        let lines = lines.as_array().unwrap();
        let ran = lines.iter().filter(|line| line["kind"] == "instruction").count();
        let last = lines.iter().rposition(|line| line["kind"] == "instruction").unwrap();
        assert_eq!(ran, 9, "{capture}");
        assert_eq!(lines.iter().position(|line| line["here"] == true), Some(last), "{capture}");
    }
    let page = bench.out("flow buoy-flow --around wave_filter -n 40");
    let next = page.lines().last().unwrap().trim();
    let next = next.strip_prefix("-> weltblick ").unwrap().strip_suffix("goes on").unwrap();
    let last = page.lines().rev().find(|line| line.contains("0x0800")).unwrap();
    let address = last.split_whitespace().find(|word| word.starts_with("0x0800")).unwrap();
    assert!(bench.out(next).contains(address), "{next} has no {address}");
}

#[test]
fn an_interval_of_time_is_a_part_of_an_exact_profile_too() {
    let bench = Bench::with_flow();
    let within = bench.out("profile buoy-flow --within 0s..2ms");
    assert_eq!(within, bench.out("profile buoy-flow --only 0s..2ms"));
    let error = bench.error("profile buoy-flow --within 0s..2ms --only 0s..1ms");
    assert!(error.contains("exclude each other"), "{error}");
    let bench = Bench::with_all_flows();
    let error = bench.error("profile buoy-mtb --within 0s..2ms");
    assert!(error.contains("--within: this instruction trace counts no cycles"), "{error}");
}
