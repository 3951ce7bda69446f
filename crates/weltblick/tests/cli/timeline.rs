//! `timeline`: goldens on the demo data, points, searches, faces, and bad input.

use super::support::Bench;

#[test]
fn a_stretch_by_time() {
    insta::assert_snapshot!(Bench::new().out("timeline buoy --within 0.98s..1.02s"));
}

#[test]
fn around_a_point_spaced_by_events() {
    let command =
        "timeline buoy --at irq:radio_slot[80] --width 1ms --spacing events --columns 120";
    insta::assert_snapshot!(Bench::new().out(command));
}

#[test]
fn moment_by_moment() {
    let bench = Bench::new();
    let command = "timeline buoy --at task:telemetry[20] --to task:telemetry[20].end --list";
    insta::assert_snapshot!(bench.out(command));
    let rows = bench.json(command);
    let csv = bench.out(&format!("{command} --format csv"));
    assert_eq!(csv.lines().count(), rows.as_array().unwrap().len() + 1);
}

#[test]
fn points_say_where_they_are_and_how_far_apart() {
    let bench = Bench::new();
    let out = bench.out("timeline buoy --at task:housekeeping[3] --to task:housekeeping[3].end");
    assert!(out.contains("v task:housekeeping[3] at 0."), "{out}");
    assert!(out.contains("w task:housekeeping[3].end at 0.") && out.contains(" after v"), "{out}");
    // The same run as `--each` lists.
    let each = bench.json("interrupts buoy adc_ready --each");
    let begins = each[4000]["began_ns"].as_f64().unwrap();
    let out = bench.json("timeline buoy --around irq:adc_ready[4000] --width 2us");
    let middle = f64::midpoint(out["from_ns"].as_f64().unwrap(), out["until_ns"].as_f64().unwrap());
    assert!((middle - begins).abs() < 50.0, "{middle} {begins}");
}

#[test]
fn a_search_lands_somewhere_and_says_where() {
    let bench = Bench::new();
    let next = bench.out("timeline buoy --at 1s --next task:telemetry --width 3ms");
    assert!(next.contains("w telemetry runs at 1.0"), "{next}");
    assert!(next.contains(" after v"), "{next}");
    let before = bench.out("timeline buoy --at 1s --previous text:report --width 3ms");
    assert!(before.contains("w texts report 62 of 111 bytes, kept at 0.99"), "{before}");
    let lost = bench.out("timeline buoy --next lost");
    assert!(lost.contains("v [recording] something is missing"), "{lost}");
    let value = bench.out("timeline buoy --at 1s --next value:temperature");
    assert!(value.contains("w temperature"), "{value}");
}

#[test]
fn other_commands_take_the_same_points() {
    let bench = Bench::new();
    let turns = bench.json("tasks buoy --order --within task:telemetry[5]..task:telemetry[6]");
    assert_eq!(turns[0]["task"], "telemetry");
    let out = bench.out("console buoy --within irq:gnss_pulse[3]..irq:gnss_pulse[6]");
    assert!(out.contains("report"), "{out}");
}

#[test]
fn lanes_are_chosen_and_pictures_drawn() {
    let bench = Bench::new();
    bench.out("timeline buoy --within 1s..1.02s --lanes tasks,adc* --picture some.svg");
    let svg = String::from_utf8(bench.read("some.svg")).unwrap();
    assert!(svg.contains("housekeeping") && svg.contains("adc_ready"), "{svg}");
    assert!(!svg.contains("SysTick"), "only these lanes");
    let json = bench.json("timeline buoy --within 1s..1.02s --lanes tasks");
    let lanes = json["lanes"].as_array().unwrap();
    assert!(lanes.iter().all(|lane| lane["kind"] == "task"), "{lanes:?}");
    let csv = bench.out("timeline buoy --within 1s..1.02s --lanes tasks --format csv");
    assert!(csv.starts_with("from_ns,kind,lane,runs,preempted,wants,waits,marks\n"), "{csv}");
}

#[test]
fn every_width_fits() {
    let bench = Bench::new();
    for columns in [80, 81, 100, 133, 200] {
        for spacing in ["time", "events"] {
            let out = bench.out(&format!(
                "timeline buoy --within 1s..1.05s --columns {columns} --spacing {spacing}"
            ));
            let lanes = out.lines().skip_while(|line| !line.is_empty());
            let longest = lanes.map(|line| line.chars().count()).max().unwrap();
            assert!(longest <= columns.max(90), "{columns}: {longest}\n{out}");
        }
    }
}

#[test]
fn what_is_wrong_is_said() {
    let bench = Bench::new();
    for (command, why) in [
        ("--at irq:adc_ready[999999]", "is not there: 11"),
        ("--at irq:adc_redy[1]", "the image's vector table has no `adc_redy`"),
        ("--at task:nobody[1]", "nothing in this recording is called `nobody`"),
        ("--at wave_filter", "a place in the code"),
        ("--at swp@4", "there is no stream `swp`; there are swo"),
        ("--next tusk:x", "`tusk` cannot be searched; write irq"),
        ("--at 1s --next task:nobody", "there is no such thing after this point"),
        ("--lanes nobody", "there is no lane `nobody` here; there are PendSV"),
        ("--within 2s..1s", "ends before it starts"),
        ("--columns 20", "80..=1000"),
    ] {
        let error = bench.error(&format!("timeline buoy {command}"));
        assert!(error.contains(why), "{command}: {error}");
    }
}
