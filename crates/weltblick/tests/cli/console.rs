//! `console`: lines with times, port by port, also while a capture grows.

use super::support::{Bench, TRACE};
use std::io::{BufRead as _, BufReader, Write as _};
use std::process::Stdio;

#[test]
fn lines_and_the_time_between_them() {
    let bench = Bench::new();
    let out = bench.out("console buoy --deltas");
    let first: Vec<&str> = out.lines().take(12).collect();
    insta::assert_snapshot!(first.join("\n"));
    let part = bench.out("console buoy --within 1s..1.1s");
    assert!(part.lines().count() < 20 && part.contains("report"), "{part}");
    let json = bench.out("console buoy --port marks --format json");
    let rows: Vec<serde_json::Value> =
        json.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(rows.len() > 50 && rows[1]["text"].as_str().unwrap().starts_with("report "));
    assert!(rows[1]["port"].is_null() && rows[1]["time_ns"].is_number());
    let csv = bench.out("console buoy --port 0 --format csv");
    assert!(csv.starts_with("time_ns,port,text,incomplete,after_loss\n"), "{csv}");
    assert_eq!(
        csv.lines().count(),
        bench.out("console buoy --port 0 --format json").lines().count() + 1
    );
    assert_eq!(bench.json("console --schema")["title"], "LineRow");
}

#[test]
fn what_would_steer_the_terminal_is_written_out() {
    let bench = Bench::new();
    let mut stream = vec![0, 0, 0, 0, 0, 0x80];
    for byte in "caf\u{e9} \u{1b}[31mred\u{202e}\n=cmd()\n".bytes() {
        stream.extend([0x01, byte]);
    }
    stream.extend([0x01, 0xff, 0x01, b'\n', 0x70, 0x01, b'x']);
    bench.write("text.bin", stream);
    let out = bench.out("console text.bin");
    assert!(out.contains("caf\u{e9} \\u{1b}[31mred\\u{202e}"), "{out}");
    assert!(out.contains('\u{fffd}'), "what is no UTF-8 is replaced: {out}");
    assert!(out.contains("! something is missing here") && out.contains("x ? [the recording ends"));
    let csv = bench.out("console text.bin --format csv");
    assert!(!csv.lines().any(|line| line.contains(",=cmd")), "{csv}");
}

#[test]
fn follows_a_capture_that_grows() {
    let bench = Bench::new();
    bench.write("grow.bin", &TRACE[..4000]);
    let mut child = bench
        .command("console grow.bin --follow --port 0 --core-clock 48MHz")
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let first = lines.next().unwrap().unwrap();
    assert!(first.contains("buoy awa"), "{first}");
    let mut file = std::fs::OpenOptions::new().append(true).open(bench.path("grow.bin")).unwrap();
    file.write_all(&TRACE[4000..]).unwrap();
    let second = lines.by_ref().map(Result::unwrap).find(|line| line.ends_with("report")).unwrap();
    assert!(second.contains("s     0  report"), "{second}");
    child.kill().unwrap();
    child.wait().unwrap();
}

#[test]
fn silence_is_told() {
    let bench = Bench::new();
    assert!(bench.error("console buoy --port 9").contains("printed nothing on these ports"));
    assert!(bench.error("console buoy --port nine").contains("a port is a number, or `marks`"));
}
