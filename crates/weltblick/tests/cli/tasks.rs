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

#[test]
fn faces_agree() {
    let bench = Bench::new();
    let json = bench.json("tasks buoy --sort name");
    let csv = bench.out("tasks buoy --sort name --format csv");
    let rows = json["tasks"].as_array().unwrap();
    assert_eq!(csv.lines().count(), rows.len() + 1);
    let heading: Vec<&str> = csv.lines().next().unwrap().split(',').collect();
    let at = heading.iter().position(|name| *name == "response_max_ns").unwrap();
    for (line, row) in csv.lines().skip(1).zip(rows) {
        let cells: Vec<&str> = line.split(',').collect();
        assert_eq!(cells[1], row["name"]);
        let ns = row["response"]["max"]["ns"].as_f64();
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
    assert!(out.contains("? Exceptions were not traced"), "{out}");
    let json = bench.json("tasks marks.bin --core-clock 48MHz --marks-port 16 --sort name");
    assert_eq!(json["tasks"][0]["stack"]["overflowed"], true);
    assert_eq!(json["tasks"][0]["pending"]["max"]["cycles"], 100);
    assert_eq!(json["tasks"][0]["own"]["max"]["cycles"], 200);
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
