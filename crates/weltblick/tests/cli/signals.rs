//! `signals`: goldens on the demo data, faces that agree, pictures, and bad input.

use super::support::Bench;

#[test]
fn all_of_them() {
    insta::assert_snapshot!(Bench::new().out("signals buoy"));
}

#[test]
fn one_in_detail() {
    insta::assert_snapshot!(Bench::new().out("signals buoy temperature --threshold 10"));
}

#[test]
fn faces_agree() {
    let bench = Bench::new();
    let json = bench.json("signals buoy");
    let csv = bench.out("signals buoy --format csv");
    let rows = json["signals"].as_array().unwrap();
    assert_eq!(csv.lines().count(), rows.len() + 1);
    let each = bench.json("signals buoy temperature --each");
    let each = each.as_array().unwrap();
    let whole = bench.json("signals buoy temperature");
    let row = &whole["signals"][0];
    assert_eq!(each.len() as u64, row["count"]);
    let values = each.iter().map(|row| row["value"].as_f64().unwrap());
    assert_eq!(values.fold(f64::MIN, f64::max), row["value"]["max"]["value"]);
    assert_eq!(each[5]["place"]["function"], "housekeeping_task");
    let csv = bench.out("signals buoy temperature --each --format csv");
    assert_eq!(csv.lines().count(), each.len() + 1);
}

#[test]
fn a_window_keeps_names_and_counts_less() {
    let bench = Bench::new();
    let part = bench.json("signals buoy battery_mv --within 1s..2s");
    let count = part["signals"][0]["count"].as_u64().unwrap();
    assert!((20..=25).contains(&count), "{count}");
    let up_to = bench.json("signals buoy battery_mv --at 1s");
    let last = up_to["signals"][0]["value"]["last"]["time_ns"].as_f64().unwrap();
    assert!(last < 1e9 && last > 0.9e9, "{last}");
}

#[test]
fn numbers_in_texts_are_signals_too() {
    let bench = Bench::new();
    let json = bench.json("signals buoy size --from-text report*of{size}");
    let row = &json["signals"][0];
    assert_eq!(
        (row["source"].as_str(), &row["value"]["min"]["value"]),
        (Some("text"), &102.0.into())
    );
    // What follows is no number, so the line does not fit.
    let error = bench.error("signals buoy sent --from-text bytes,{sent}");
    assert!(error.contains("there is no signal `sent`"), "{error}");
}

#[test]
fn pictures_are_what_their_names_say() {
    let bench = Bench::new();
    bench.out("signals buoy battery_mv drift_ppb --right drift_ppb --picture both.svg");
    let svg = String::from_utf8(bench.read("both.svg")).unwrap();
    for part in ["<svg", "battery_mv (mV)", "drift_ppb (ppb) (right)", "1.00 s", "</svg>"] {
        assert!(svg.contains(part), "{part}");
    }
    bench.out("interrupts buoy adc_ready --picture spread.png");
    assert!(bench.read("spread.png").starts_with(b"\x89PNG\r\n"));
    bench.out("tasks buoy --picture tasks.png");
    for (command, why) in [
        ("signals buoy --picture both.gif", "ends in .svg or .png"),
        ("signals buoy --picture nowhere/both.svg", "nowhere/both.svg"),
        ("signals buoy battery_mv --right drift_ppb --picture a.svg", "no signal `drift_ppb`"),
    ] {
        let error = bench.error(command);
        assert!(error.contains(why), "{command}: {error}");
    }
}

#[test]
fn what_is_wrong_is_said() {
    let bench = Bench::new();
    for (command, why) in [
        ("signals buoy batery_mv", "there is no signal `batery_mv` in this recording; there are"),
        ("signals buoy --from-text battery", "takes no number out of a line"),
        ("signals buoy --threshold high", "write LEVEL or SIGNAL=LEVEL"),
        ("signals buoy --at wave_filter", "this is cut by times"),
        ("signals buoy --watch 16=ticks", "numbers from 0 to 15"),
        ("signals buoy --watch 0=tickz", "signal `tickz`: the image has no variable `tickz`"),
        ("signals buoy --within 0.0001s..0.00011s", "in this window of time"),
    ] {
        let error = bench.error(command);
        assert!(error.contains(why), "{command}: {error}");
    }
}
