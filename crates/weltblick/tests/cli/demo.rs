use super::support::{Bench, FIRMWARE, TRACE, recorded};
use weltblick_core::image::Variables;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{TraceSetup, Watch};

#[test]
fn walks_the_whole_path_and_leaves_the_data() {
    let bench = Bench::new();
    let out = bench.out("demo --out tour");
    for part in ["$ weltblick inspect tour/buoy", "$ weltblick profile tour/buoy", "# Try next"] {
        assert!(out.contains(part), "{part}\n{out}");
    }
    assert_eq!(bench.read("tour/buoy/swo.bin"), TRACE);
    assert_eq!(bench.read("tour/buoy/wave-buoy.elf"), FIRMWARE);
    assert!(bench.path("tour/firmware/src/dsp/filter.c").exists());
    // Again on the unchanged folder is fine; a changed one is the user's.
    assert_eq!(bench.out("demo --out tour"), out);
    bench.write("tour/budgets.toml", "# mine");
    assert!(bench.error("demo --out tour").contains("--replace"));
    assert_eq!(bench.out("demo --out tour --replace"), out);
}

#[test]
fn the_whole_output() {
    insta::assert_snapshot!(Bench::new().out("demo --out tour"));
}

#[test]
fn every_command_that_it_proposes_runs() {
    let bench = Bench::new();
    let out = bench.out("demo --out tour");
    let proposed: Vec<&str> =
        out.lines().filter_map(|line| line.strip_prefix("$ weltblick ")).collect();
    assert!(proposed.len() >= 7);
    for command in proposed {
        let ended = bench.run(command);
        assert!(ended.code != 2 && !ended.out.is_empty(), "{command}: {}", ended.err);
    }
}

#[test]
fn the_committed_trace_is_what_the_stand_in_emits() {
    let mut trace = TraceSetup::default();
    let temperature = Variables::parse(FIRMWARE).unwrap();
    let temperature = temperature.field("latest_health.temperature_dc").unwrap();
    trace.watches[0] = Watch::writes(temperature.address as u32, 4);
    assert!(
        recorded(Setup::default(), trace, 3.0) == TRACE,
        "demo/buoy/swo.bin is stale: run crates/weltblick-standin/record-demo.sh"
    );
}

#[test]
fn it_never_replaces_what_is_no_demo() {
    let bench = Bench::new();
    assert!(bench.error("demo --out buoy --replace").contains("no budgets.toml"));
}
