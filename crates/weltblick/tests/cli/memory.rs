//! Memory does not grow with the recording.

use super::support::{Bench, TRACE, write_repeated};
use std::fs::File;
use std::process::Stdio;

/// The largest memory that a finished child ever had, in bytes.
#[cfg(target_os = "linux")]
fn peak_of(bench: &Bench, arguments: &str, input: Option<&str>) -> u64 {
    // A child's own peak stands in /proc only while it lives: read it again and again.
    let input = input.map_or_else(Stdio::null, |name| File::open(bench.path(name)).unwrap().into());
    let mut child = bench.command(arguments).stdin(input).stdout(Stdio::null()).spawn().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait().unwrap().is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find(|line| line.starts_with("VmHWM:"));
        let kib = line.and_then(|line| line.split_whitespace().nth(1)?.parse::<u64>().ok());
        peak = peak.max(kib.unwrap_or(0) * 1024);
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    assert!(peak > 0, "{arguments}: it ended before its memory could be read");
    peak
}

#[cfg(target_os = "linux")]
#[test]
fn a_long_recording_takes_no_more_memory_than_a_short_one() {
    const LIMIT: u64 = 100_000_000;
    let bench = Bench::new();
    write_repeated(&bench.path("buoy/swo.bin"), TRACE, 64 << 20);
    let setup = "--image buoy/wave-buoy.elf --core-clock 47.972352MHz --pc-sample-period 4096";
    for (arguments, input) in [
        ("profile buoy".to_owned(), None),
        ("inspect buoy".to_owned(), None),
        (format!("profile - {setup}"), Some("buoy/swo.bin")),
    ] {
        let peak = peak_of(&bench, &arguments, input);
        assert!(peak < LIMIT, "{arguments}: {peak} bytes");
    }
}
