//! The live view, on a pseudo-terminal.

use super::stand_in::{Running, planned};
use super::support::Bench;
use serialport::{SerialPort as _, TTYPort};
use std::fs::File;
use std::io::{Read as _, Write as _};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A capture from the stand-in whose terminal is ours.
struct Watched {
    child: Child,
    terminal: TTYPort,
    seen: String,
    _target: Running,
}

impl Watched {
    fn start(bench: &Bench, options: &str) -> Self {
        let target = Running::start(bench, "");
        let (mut terminal, slave) = TTYPort::pair().unwrap();
        terminal.set_timeout(Duration::from_millis(20)).unwrap();
        let open = || {
            let path = slave.name().unwrap();
            Stdio::from(File::options().read(true).write(true).open(path).unwrap())
        };
        let sized = Command::new("stty").args(["rows", "30", "cols", "100"]).stdin(open()).status();
        assert!(sized.unwrap().success());
        let mut command = bench.command(&format!(
            "capture {} {} --plan plan.toml --image buoy/wave-buoy.elf --reset --out run {options}",
            target.trace, target.stub
        ));
        command.env("TERM", "xterm-256color");
        let child = command.stdin(open()).stdout(open()).stderr(open()).spawn().unwrap();
        Self { child, terminal, seen: String::new(), _target: target }
    }

    /// Reads what is drawn until `part` is there. What is drawn comes in pieces between controls.
    fn wait_for(&mut self, part: &str) {
        let until = Instant::now() + Duration::from_secs(20);
        let mut buffer = [0; 4096];
        while !self.seen.contains(part) {
            assert!(Instant::now() < until, "{part} never came");
            if let Ok(count) = self.terminal.read(&mut buffer) {
                self.seen += &String::from_utf8_lossy(&buffer[..count]);
            }
        }
    }

    fn press(&mut self, key: &str) {
        self.terminal.write_all(key.as_bytes()).unwrap();
    }

    /// Presses a key again and again until `part` is drawn.
    fn press_until(&mut self, key: &str, part: &str) {
        let until = Instant::now() + Duration::from_secs(20);
        let (mut buffer, mut pressed) = ([0; 4096], Instant::now() - Duration::from_secs(1));
        while !self.seen.contains(part) {
            assert!(Instant::now() < until, "{part} never came");
            if pressed.elapsed() >= Duration::from_millis(500) {
                self.press(key);
                pressed = Instant::now();
            }
            if let Ok(count) = self.terminal.read(&mut buffer) {
                self.seen += &String::from_utf8_lossy(&buffer[..count]);
            }
        }
    }

    /// Waits for the end; the terminal is read meanwhile.
    fn ended(&mut self) -> Option<i32> {
        let until = Instant::now() + Duration::from_secs(20);
        let mut buffer = [0; 4096];
        while Instant::now() < until {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.code();
            }
            let _ = self.terminal.read(&mut buffer);
        }
        let _ = self.child.kill();
        panic!("it did not end");
    }
}

#[test]
fn keys_sort_freeze_mark_and_end() {
    let bench = planned();
    let mut watched = Watched::start(&bench, "--for 60s");
    watched.wait_for("spectrum_power");
    watched.press("s");
    // Only the letters that change are drawn: of "least certain first" over "by share" its end.
    watched.wait_for("rtain first");
    watched.press("f");
    watched.wait_for("frozen at");
    watched.press("p");
    watched.wait_for("adc_ready");
    watched.press("p");
    watched.wait_for("housekeeping");
    watched.press("p");
    // Which value comes next depends on which there are by then.
    watched.press_until("n", "battery_mv");
    watched.press("m");
    watched.wait_for("mark 1");
    watched.press("q");
    assert_eq!(watched.ended(), Some(0));
    let journal = String::from_utf8(bench.read("run/journal.jsonl")).unwrap();
    assert!(journal.contains("\"mark\""), "{journal}");
    assert!(bench.json("profile run")["recording"]["samples"].as_u64().unwrap() > 500);
}

#[test]
fn a_terminal_that_goes_away_takes_no_capture_with_it() {
    let bench = planned();
    let mut watched = Watched::start(&bench, "--for 3s");
    watched.wait_for("spectrum_power");
    let Watched { mut child, terminal, seen: _, _target } = watched;
    drop(terminal);
    let until = Instant::now() + Duration::from_secs(20);
    while child.try_wait().unwrap().is_none() {
        assert!(Instant::now() < until, "it did not end");
        std::thread::sleep(Duration::from_millis(20));
    }
    // It went on to its end, and was not ended with the terminal.
    let journal = String::from_utf8(bench.read("run/journal.jsonl")).unwrap();
    assert!(journal.contains("the time is over"), "{journal}");
    assert!(bench.json("profile run")["recording"]["samples"].as_u64().unwrap() > 500);
}
