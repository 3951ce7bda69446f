//! The built `stand-in` in the background, and what `capture` and `inspect` make of it.

use super::support::Bench;
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Stdio};
use weltblick_standin::Program;

/// A running `stand-in`.
pub(crate) struct Running {
    child: Child,
    pub(crate) trace: String,
    pub(crate) stub: String,
}

impl Running {
    /// Starts it on free ports and waits until it listens.
    pub(crate) fn start(bench: &Bench, options: &str) -> Self {
        let command = format!("stand-in --trace 127.0.0.1:0 --stub 127.0.0.1:0 {options}");
        let mut child = bench.command(&command).stdout(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let mut next = |prefix: &str| {
            let line = lines.next().unwrap().unwrap();
            line.strip_prefix(prefix).unwrap_or_else(|| panic!("{line}")).to_owned()
        };
        let (trace, stub) = (next("trace on "), next("debug stub on "));
        Self { child, trace, stub }
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A bench with the demo's target description, and its plan.
pub(crate) fn planned() -> Bench {
    let bench = Bench::alone();
    bench.write("target.toml", include_str!("../../../../demo/target.toml"));
    bench.out("plan target.toml --out plan.toml");
    bench
}

const IMAGE: &str = "--image buoy/wave-buoy.elf";

#[test]
fn plan_capture_inspect_profile_agree_with_the_truth() {
    let bench = planned();
    let target = Running::start(&bench, "--hurry");
    let (trace, stub) = (&target.trace, &target.stub);
    let ended = bench.run(&format!(
        "capture {trace} {stub} --plan plan.toml {IMAGE} --reset --bytes 480kB --out run --quiet"
    ));
    ended.succeeded();
    assert!(ended.out.contains("480 000 bytes"), "{}", ended.out);
    // Raw bytes are those that the target sent: the same firmware, the same registers.
    let setup = weltblick_standin::machine::Setup::default();
    let program = Program::parse(super::support::FIRMWARE).unwrap();
    let mut machine = weltblick_standin::Machine::new(&program, setup).unwrap();
    machine.reset();
    let plan = String::from_utf8(bench.read("plan.toml")).unwrap();
    let plan = weltblick_core::plan::Applied::parse("plan.toml", &plan).unwrap();
    for write in &plan.writes {
        machine.poke(write.address, 4, write.value).unwrap();
    }
    machine.run(3 * setup.core_clock);
    let truth = machine.take_trace();
    assert!(bench.read("run/trace.000000.bin") == truth[..480_000]);
    // And so are the figures.
    let report = bench.json("profile run");
    for row in report["rows"].as_array().unwrap().iter().take(8) {
        let Some(name) = row["function"].as_str() else { continue };
        let (start, size) = program.symbol(name).unwrap();
        let share =
            machine.truth().cycles_in(start, start + size) as f64 / machine.truth().total as f64;
        let bound = |key: &str| row[key].as_f64().unwrap();
        assert!(
            bound("share_low") - 0.002 <= share && share <= bound("share_high") + 0.002,
            "{name}: {share} {row}"
        );
    }
    let journal = String::from_utf8(bench.read("run/journal.jsonl")).unwrap();
    let at = |what: &str| journal.find(&format!("\"{what}\"")).unwrap_or_else(|| panic!("{what}"));
    assert!(at("reset") < at("register_written") && at("register_written") < at("armed"));
    assert!(at("armed") < at("released") && at("released") < at("ended"));
}

#[test]
fn nothing_comes_until_the_registers_are_written() {
    let bench = planned();
    let target = Running::start(&bench, "--run");
    let trace = &target.trace;
    let ended = bench.run(&format!("capture {trace} --for 400ms --out silent --quiet"));
    assert_eq!(ended.code, 2, "{}", ended.err);
    assert!(ended.err.contains("the capture is empty"), "{}", ended.err);
    assert!(
        ended.err.contains("not one byte arrived") && ended.err.contains("TRCENA"),
        "{}",
        ended.err
    );
    assert!(ended.out.contains("0 bytes"), "{}", ended.out);
}

/// The commands of README's table, line by line, in the folder that `demo` makes.
#[test]
fn each_command_of_the_readme_works_as_it_stands() {
    let bench = Bench::alone();
    bench.out("demo");
    let target = Running::start(&bench, "");
    let readme = include_str!("../../../../README.md");
    let commands = readme.lines().filter(|line| line.starts_with('|')).filter_map(|line| {
        let command = line.split_once("`weltblick ")?.1;
        Some(command.split_once('`')?.0)
    });
    let mut ran = 0;
    for command in commands {
        let there = command
            .replace("tcp:localhost:5001", &target.trace)
            .replace("stub:localhost:5002", &target.stub);
        let words = there.split_whitespace().map(|word| word.trim_matches('\''));
        let output = std::process::Command::new(env!("CARGO_BIN_EXE_weltblick"))
            .args(words)
            .current_dir(bench.path("weltblick-demo"))
            .stdin(Stdio::null())
            .output()
            .unwrap();
        let ended = super::support::ended(output);
        // The demo breaks a budget.
        let expected = i32::from(command.starts_with("check buoy "));
        assert_eq!(ended.code, expected, "weltblick {command}\n{}{}", ended.out, ended.err);
        ran += 1;
    }
    assert!(ran > 15, "{ran} commands");
}

#[cfg(unix)]
#[test]
fn the_demo_s_script_does_it_all() {
    let bench = Bench::alone();
    bench.out("demo");
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_weltblick")).parent().unwrap().display();
    let path = std::env::var("PATH").unwrap();
    let output = std::process::Command::new("bash")
        .arg(bench.path("weltblick-demo/capture.sh"))
        .arg("try")
        .current_dir(bench.path(""))
        .env("PATH", format!("{program}:{path}"))
        .env("SECONDS_TO_MEASURE", "0.8")
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let ended = super::support::ended(output);
    assert_eq!(ended.code, 0, "{}{}", ended.out, ended.err);
    for part in ["= it fits", "next: weltblick inspect live", "sampl", "spectrum_power"] {
        assert!(ended.out.contains(part), "{part} is missing in\n{}", ended.out);
    }
}

#[test]
fn a_watched_variable_is_traced_write_by_write() {
    let bench = planned();
    bench.out("plan target.toml --watch ticks=100Hz --out watch.toml");
    let target = Running::start(&bench, "--hurry");
    let ended = bench.run(&format!(
        "capture {} {} --plan watch.toml {IMAGE} --reset --bytes 30kB --out run --quiet",
        target.trace, target.stub
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    let packets = bench.run("inspect run --packets --format json").out;
    let values: Vec<u64> = packets
        .lines()
        .filter(|line| line.contains("watch 1, wrote"))
        .map(|line| {
            let meaning =
                serde_json::from_str::<serde_json::Value>(line).unwrap()["meaning"].to_string();
            let digits = meaning.rsplit("0x").next().unwrap().trim_end_matches('"').to_owned();
            u64::from_str_radix(&digits, 16).unwrap()
        })
        .collect();
    assert!(values.len() > 50, "{} writes", values.len());
    // Each write counts one up; one that is missing was dropped by the link, which says so.
    assert!(values.windows(2).all(|pair| pair[1] > pair[0]), "{values:?}");
    let missing = values[values.len() - 1] + 1 - values.len() as u64;
    assert!(missing as usize <= packets.matches("\"overflow\"").count(), "{values:?}");
}
