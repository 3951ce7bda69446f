//! Memory does not grow with the recording.

use super::support::{Bench, INSTRUCTIONS, TRACE, write_repeated};
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
    let bench = Bench::alone();
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

#[cfg(target_os = "linux")]
#[test]
fn event_traces_take_no_more_memory_either() {
    const LIMIT: u64 = 100_000_000;
    let bench = Bench::alone();
    write_repeated(&bench.path("buoy/swo.bin"), TRACE, 12 << 20);
    for arguments in ["export buoy --out events", "interrupts events", "tasks events --order"] {
        let peak = peak_of(&bench, arguments, None);
        assert!(peak < LIMIT, "{arguments}: {peak} bytes");
    }
}

/// Memory of a running process in kB, once it is the program and no copy of this one any more.
#[cfg(target_os = "linux")]
fn resident(process: u32) -> Option<u64> {
    let program = std::fs::read_link(format!("/proc/{process}/exe")).ok()?;
    if program.file_name() != std::path::Path::new(env!("CARGO_BIN_EXE_weltblick")).file_name() {
        return None;
    }
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    let line = status.lines().find(|line| line.starts_with("VmRSS:"))?;
    line.split_whitespace().nth(1)?.parse().ok()
}

/// Of each protocol: what was sent is kept byte for byte, and is what a file of it would be. CAPTURE_SECONDS says how
/// long each is sent.
#[cfg(target_os = "linux")]
#[test]
fn a_capture_of_20_mb_a_second_loses_nothing_and_does_not_grow() {
    let itm = "--core-clock 47.972352MHz";
    let etmv3 = "--protocol etmv3 --register etmcr=0x1000,etmidr=0x4114f250,etmccer=0x18541800";
    let port = "--stream-source 1=itm,2=etmv4 --register trcconfigr=0x1811";
    let bench = Bench::with_all_flows();
    for (sent, options) in [
        (TRACE, itm),
        (INSTRUCTIONS, "--protocol etmv4 --register trcconfigr=0x1811"),
        (bench.read("buoy-etmv3/etm.bin").as_slice(), etmv3),
        (bench.read("buoy-port/port.bin").as_slice(), port),
    ] {
        captured_fast(sent, options);
    }
}

#[cfg(target_os = "linux")]
fn captured_fast(piece: &[u8], options: &str) {
    use std::io::Write as _;
    use std::time::{Duration, Instant};
    const RATE: u64 = 20_000_000;
    let seconds = std::env::var("CAPTURE_SECONDS").ok().and_then(|text| text.parse().ok());
    let all = RATE * seconds.unwrap_or(2);
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let whole = piece.to_vec();
    let sender = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let (started, mut sent) = (Instant::now(), 0);
        while sent < all {
            let due = (started.elapsed().as_secs_f64() * RATE as f64) as u64;
            while sent < due.min(all) {
                stream.write_all(&whole).unwrap();
                sent += whole.len() as u64;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        sent
    });
    let bench = Bench::alone();
    let image = "--image buoy/wave-buoy.elf";
    let command =
        format!("capture tcp:{address} {image} {options} --out run --quiet --reconnect 1ms");
    let mut command = bench.command(&command);
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let mut seen = Vec::new();
    while child.try_wait().unwrap().is_none() {
        seen.extend(resident(child.id()));
        std::thread::sleep(Duration::from_millis(100));
    }
    let sent = sender.join().unwrap();
    let kept = bench.read("run/trace.000000.bin");
    assert_eq!(kept.len() as u64, sent, "{options}");
    assert!(kept.chunks(piece.len()).all(|kept| kept == piece), "{options}");
    let file = format!("run/trace.000000.bin {image} {options}");
    let kinds = |capture: &str| bench.json(&format!("inspect {capture}"))["kinds"].clone();
    assert_eq!(kinds("run"), kinds(&file), "{options}");
    // Both figures once it has warmed up.
    let (early, late) = (seen[seen.len() / 3], *seen.iter().max().unwrap());
    assert!(late < early + 20_000 && late < 100_000, "{options}: {seen:?} kB");
}
