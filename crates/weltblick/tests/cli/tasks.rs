//! `tasks`: goldens on the demo data, faces that agree, and bad input.

use super::support::{Bench, recorded};
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;

#[test]
fn all_of_them() {
    insta::assert_snapshot!(Bench::new().out("tasks buoy"));
}

#[test]
fn one_in_detail() {
    insta::assert_snapshot!(Bench::new().out("tasks buoy housekeeping --worst 2"));
}

#[test]
fn every_activation_and_the_order_of_turns() {
    let bench = Bench::new();
    insta::assert_snapshot!(bench.out("tasks buoy --each --within 1s..1.1s"));
    insta::assert_snapshot!(bench.out("tasks buoy --order --within 1s..1.05s"));
    let each = bench.json("tasks buoy telemetry --each");
    let whole = bench.json("tasks buoy telemetry");
    assert_eq!(each.as_array().unwrap().len() as u64, whole["tasks"][0]["count"]);
    let csv = bench.out("tasks buoy telemetry --each --format csv");
    assert_eq!(csv.lines().count(), each.as_array().unwrap().len() + 1);
    let order = bench.json("tasks buoy telemetry --order");
    assert!(order.as_array().unwrap().iter().all(|row| row["task"] == "telemetry"));
}

/// The n-th in a window of time is the n-th of the recording: points such as `task:telemetry[3]` lead to it.
#[test]
fn activations_have_the_numbers_of_the_recording() {
    Bench::new().each_has_the_number_of_the_recording("tasks", "task");
}

#[test]
fn faces_agree() {
    let bench = Bench::new();
    let json = bench.json("tasks buoy --sort name");
    let csv = bench.out("tasks buoy --sort name --format csv");
    let rows = json["tasks"].as_array().unwrap();
    assert_eq!(csv.lines().count(), rows.len() + 1);
    let heading: Vec<&str> = csv.lines().next().unwrap().split(',').collect();
    let at = heading.iter().position(|name| *name == "response_max_ns_low").unwrap();
    for (line, row) in csv.lines().skip(1).zip(rows) {
        let cells: Vec<&str> = line.split(',').collect();
        assert_eq!(cells[1], row["name"]);
        let ns = row["response"]["max"]["ns_low"].as_f64();
        let cell = cells[at].parse::<f64>().ok();
        assert_eq!(cell.map(|ns| ns.round()), ns.map(f64::round));
    }
    let totals = &json["totals"];
    let sum: f64 = ["tasks", "idle", "interrupts", "kernel", "unknown"]
        .iter()
        .map(|name| totals[name].as_f64().unwrap())
        .sum();
    assert!((sum - 1.0).abs() < 1e-6, "{totals}");
    assert_eq!(bench.json("tasks --schema")["title"], "TaskReport");
}

#[test]
fn a_stack_that_is_full_and_a_task_that_never_runs_are_shouted() {
    let bench = Bench::new();
    // Task 1 with a stack of 256 bytes of which all were used; task 2 is created and no more.
    let mut stream = vec![0, 0, 0, 0, 0, 0x80];
    let mut mark = |half: u16, arguments: &[u32]| {
        for argument in arguments {
            stream.push(17 << 3 | 3);
            stream.extend(argument.to_le_bytes());
        }
        stream.push(16 << 3 | 2);
        stream.extend(half.to_le_bytes());
        stream.extend([0xc0, 0x64]);
    };
    mark(0xf000, &[1, 3, 0x2000_0000, 256]);
    mark(0xf000, &[2, 1, 0x2000_0100, 256]);
    mark(0x2001, &[]);
    mark(0x1001, &[]);
    mark(0xd001, &[256]);
    mark(0x3001, &[]);
    mark(0x2001, &[]);
    bench.write("marks.bin", stream);
    let out = bench.out("tasks marks.bin --core-clock 48MHz --marks-port 16");
    assert!(out.contains("! task 1 REACHED THE END OF ITS STACK: 256 of 256 bytes"), "{out}");
    assert!(out.contains("! task 2 never ran in this recording"), "{out}");
    assert!(out.contains("): with the handlers that ran meanwhile"), "{out}");
    let json = bench.json("tasks marks.bin --core-clock 48MHz --marks-port 16 --sort name");
    assert_eq!(json["tasks"][0]["stack"]["overflowed"], true);
    assert_eq!(json["tasks"][0]["pending"]["max"]["cycles"], 100);
    // Handlers that ran meanwhile are in it: the true one is not longer.
    let own = &json["tasks"][0]["own"]["max"];
    assert!((own["ns_high"].as_f64().unwrap() * 0.048 - 200.0).abs() < 1e-6, "{own}");
    assert_eq!(own["ns_low"], 0.0);
}

#[test]
fn bad_input_is_told() {
    let bench = Bench::new();
    for (command, part) in [
        ("tasks buoy telemetri", "there is no task `telemetri` in this recording; there are"),
        ("tasks buoy --marks-port 20", "nothing tells of tasks; let the firmware state them"),
        ("tasks buoy --load-window 1ns", "longer than a tick"),
        ("tasks buoy --marks-port 9000", "9000"),
    ] {
        let error = bench.error(command);
        assert!(error.contains(part), "{command}: {error}");
    }
    let undated = TraceSetup { timestamps: None, ..TraceSetup::default() };
    bench.write("buoy/swo.bin", recorded(Setup::default(), undated, 0.1));
    assert!(bench.error("tasks buoy").contains("without timestamps"));
}

#[test]
fn of_an_instruction_trace_alone() {
    let bench = Bench::with_all_flows();
    insta::assert_snapshot!("tasks_of_flow", bench.out("tasks buoy-flow"));
    insta::assert_snapshot!(bench.out("tasks buoy-flow --order --within 30ms..60ms"));
    let report = bench.json("tasks buoy-flow telemetry_task");
    assert_eq!(report["evidence"]["basis"], "turns");
    let row = &report["tasks"][0];
    assert!(row.get("preempted").is_none() && row.get("yielded").is_none(), "{row}");
    // The other kind of trace unit tells the same.
    let etmv3 = bench.json("tasks buoy-etmv3");
    assert_eq!(etmv3["tasks"].as_array().unwrap().len(), 4);
    // Without times there are no turns.
    for (arguments, instead) in [
        ("tasks", "`profile --by task`"),
        ("interrupts", "`profile --by interrupt`"),
        ("timeline", "`profile --tree`"),
        ("flow --around 1ms", "name code or a byte"),
        ("flow --around irq:adc_ready[2]", "name code or a byte"),
    ] {
        let (command, rest) = arguments.split_once(' ').unwrap_or((arguments, ""));
        let error = bench.error(&format!("{command} buoy-mtb {rest}"));
        assert!(error.contains("counts no cycles") && error.contains(instead), "{error}");
    }
    let lanes = bench.out("timeline buoy-flow --within 30ms..60ms --lanes tasks --columns 100");
    insta::assert_snapshot!(lanes);
}

#[test]
fn a_trace_that_begins_in_the_middle_knows_its_tasks() {
    let bench = Bench::with_flow();
    let bytes = bench.read("buoy-flow/etm.bin");
    bench.write("middle.bin", &bytes[bytes.len() / 2..]);
    let setup = "--protocol etmv4 --register trcconfigr=0x1811 --core-clock 47.972352MHz \
                 --image buoy-flow/wave-buoy.elf";
    let report = bench.json(&format!("tasks middle.bin {setup}"));
    let names: Vec<&str> = report["tasks"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["name"].as_str().unwrap())
        .collect();
    for name in ["idle", "wave_estimator_task", "telemetry_task", "housekeeping_task"] {
        assert!(names.contains(&name), "{names:?}");
    }
    assert!(report["totals"]["unknown"].as_f64().unwrap() < 0.01, "{report}");
}

#[test]
fn turns_meet_no_budget_on_activations() {
    let bench = Bench::with_flow();
    bench.write(
        "b.toml",
        "[task.telemetry_task]\nload.max = '<= 8 %'\nown.max = '<= 4 ms'\n\
         period.max = '<= 1 s'\n[task.wave_estimator_task]\nelapsed.max = '<= 2 ms'\n",
    );
    let ended = bench.run("check buoy-flow b.toml --format json");
    assert_eq!(ended.code, 1, "{}", ended.err);
    let report: serde_json::Value = serde_json::from_str(&ended.out).unwrap();
    let verdict = |key: &str| {
        let all = report["budgets"].as_array().unwrap();
        let found = all.iter().find(|one| one["budget"].as_str().unwrap().ends_with(key));
        found.unwrap_or_else(|| panic!("{report}"))["verdict"].as_str().unwrap().to_owned()
    };
    assert_eq!(verdict("load.max"), "met");
    // What was pre-empted would have taken longer.
    assert_eq!(verdict("own.max"), "undecided");
    assert_eq!(verdict("period.max"), "undecided");
    // One turn was too long: so is its activation.
    assert_eq!(verdict("elapsed.max"), "broken");
}

#[test]
fn of_the_kernels_own_variable() {
    let bench = Bench::alone();
    let target = "format = 1\nname = 'buoy'\ncore = 'cortex-m3'\ncore_clock = '47.972352 MHz'\n\
                  [link]\nkind = 'port'\nwidth = 4\nport_clock = '48 MHz'\n\
                  [observe]\ntimestamps = true\n[[observe.interrupt]]\nname = 'SysTick'\n\
                  rate = '1 kHz'\n[[observe.variable]]\nname = 'kernel_current'\n\
                  rate = '500 Hz'\nmeans = 'task runs'\n";
    bench.write("target.toml", target);
    bench.out("plan target.toml --image buoy/wave-buoy.elf --out plan.toml");
    bench.out(
        "capture stand-in:buoy/wave-buoy.elf --plan plan.toml --image buoy/wave-buoy.elf \
         --for 500ms --out run --quiet",
    );
    let manifest = String::from_utf8(bench.read("run/capture.toml")).unwrap();
    assert!(manifest.contains("means = \"task runs\""), "{manifest}");
    let report = bench.json("tasks run");
    assert_eq!(report["evidence"]["basis"], "turns");
    let mut names: Vec<&str> = report["tasks"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["name"].as_str().unwrap())
        .collect();
    names.sort_unstable();
    assert_eq!(names, ["estimator", "housekeeping", "idle_task", "telemetry"]);
    bench.write("target.toml", format!("{target}trace = 'code'\n"));
    let error = bench.error("plan target.toml --image buoy/wave-buoy.elf --out other.toml");
    assert!(error.contains("told by the value"), "{error}");
}
