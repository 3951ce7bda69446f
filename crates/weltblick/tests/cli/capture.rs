//! `capture` from plain sources: what is kept, when it ends, and what is left after a crash.

use super::support::{Bench, TRACE, ended};
use std::io::Write as _;
use std::net::{TcpListener, TcpStream};
use std::process::Stdio;
use std::thread;
use std::time::{Duration, Instant};

const SETUP: &str = "--image buoy/wave-buoy.elf --core-clock 47.972352MHz --pc-sample-period 4096 --tick-period 1ms";

/// Serves each connection with one of `serve`, in turn.
fn server<F: FnOnce(TcpStream) + Send + 'static>(serve: Vec<F>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    thread::spawn(move || {
        for serve in serve {
            let Ok((stream, _)) = listener.accept() else { return };
            serve(stream);
        }
    });
    format!("tcp:{address}")
}

fn send(bytes: &'static [u8]) -> impl FnOnce(TcpStream) + Send + 'static {
    move |mut stream| {
        let _ = stream.write_all(bytes);
    }
}

#[test]
fn a_file_standard_input_and_tcp_give_the_same_bytes() {
    let bench = Bench::alone();
    let tcp = server(vec![send(TRACE)]);
    for (source, out) in [("buoy/swo.bin", "a"), ("-", "b"), (tcp.as_str(), "c")] {
        let mut command = bench
            .command(&format!("capture {source} {SETUP} --out {out} --quiet --reconnect 50ms"));
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut stdin = child.stdin.take().unwrap();
        if source == "-" {
            stdin.write_all(TRACE).unwrap();
        }
        drop(stdin);
        let ended = ended(child.wait_with_output().unwrap());
        let broke = source != "-" && source.starts_with("tcp:");
        assert_eq!(ended.code, if broke { 2 } else { 0 }, "{source}: {}", ended.err);
        assert!(bench.read(&format!("{out}/trace.000000.bin")) == TRACE, "{source}");
        assert_eq!(
            bench.out(&format!("profile {out} --format csv")),
            bench.out("profile buoy --format csv"),
            "{source}"
        );
    }
}

#[cfg(unix)]
#[test]
fn a_fifo_and_a_serial_port() {
    use serialport::{SerialPort as _, TTYPort};
    let bench = Bench::alone();
    let fifo = bench.path("fifo");
    assert!(std::process::Command::new("mkfifo").arg(&fifo).status().unwrap().success());
    let writer = thread::spawn(move || std::fs::write(fifo, TRACE).unwrap());
    bench.out(&format!("capture fifo {SETUP} --out a --quiet"));
    writer.join().unwrap();
    assert!(bench.read("a/trace.000000.bin") == TRACE);

    let (mut master, slave) = TTYPort::pair().unwrap();
    let name = slave.name().unwrap();
    let writer = thread::spawn(move || {
        thread::sleep(Duration::from_millis(300));
        master.write_all(&TRACE[..100_000]).unwrap();
        master.flush().unwrap();
        thread::sleep(Duration::from_millis(300));
        master
    });
    let ended = bench
        .run(&format!("capture serial:{name} {SETUP} --bytes 100kB --for 20s --out b --quiet"));
    assert_eq!(ended.code, 0, "{}", ended.err);
    assert!(bench.read("b/trace.000000.bin") == TRACE[..100_000]);
    drop((writer.join(), slave));
}

#[test]
fn folders_are_refused_replaced_or_numbered() {
    let bench = Bench::alone();
    let capture = format!("capture buoy/swo.bin {SETUP} --quiet --out");
    bench.out(&format!("{capture} run"));
    assert!(bench.error(&format!("{capture} run")).contains("--series"));
    bench.out(&format!("{capture} run --replace"));
    bench.out(&format!("{capture} night --series"));
    bench.out(&format!("{capture} night --series"));
    assert!(
        bench.path("night-001/capture.toml").exists()
            && bench.path("night-002/capture.toml").exists()
    );
}

#[test]
fn the_first_or_the_last_bytes_are_kept() {
    let bench = Bench::alone();
    let first = bench
        .out(&format!("capture buoy/swo.bin {SETUP} --keep first --size 50kB --out first --quiet"));
    assert!(first.contains("50 000 bytes"), "{first}");
    assert!(bench.read("first/trace.000000.bin") == TRACE[..50_000]);
    bench.out(&format!("capture buoy/swo.bin {SETUP} --keep last --size 100kB --out last --quiet"));
    let mut kept: Vec<_> = std::fs::read_dir(bench.path("last"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| name.starts_with("trace."))
        .collect();
    kept.sort();
    let bytes: Vec<u8> = kept.iter().flat_map(|name| bench.read(&format!("last/{name}"))).collect();
    assert!(TRACE.ends_with(&bytes), "{kept:?}");
    assert!((80_000..=220_000).contains(&bytes.len()), "{} in {kept:?}", bytes.len());
    assert!(bytes.starts_with(&[0, 0, 0, 0, 0, 0x80]), "it starts with a synchronisation");
    let report = bench.json("inspect last");
    assert_eq!(report["bytes"], bytes.len());
    let losses = report["losses"].as_array().unwrap();
    let overflows = losses.iter().all(|loss| loss["reason"].as_str().unwrap().contains("overflow"));
    assert!(overflows, "overflows only: {report}");
}

#[test]
fn a_connection_that_breaks_is_a_loss_and_not_the_end() {
    let bench = Bench::alone();
    let tcp = server(vec![send(&TRACE[..120_000]), send(&TRACE[200_000..])]);
    let ended = bench
        .run(&format!("capture {tcp} {SETUP} --bytes {}B --out run --quiet", TRACE.len() - 80_000));
    assert_eq!(ended.code, 0, "{}", ended.err);
    let expected = [&TRACE[..120_000], &TRACE[200_000..]].concat();
    assert!(bench.read("run/trace.000000.bin") == expected);
    let report = bench.json("inspect run");
    let codes: Vec<&str> = report["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| f["code"].as_str().unwrap())
        .collect();
    assert!(codes.contains(&"disconnected"), "{codes:?}");
    let profile = bench.json("profile run");
    assert!(profile["evidence"]["samples_missing_at_most"].is_null(), "nothing bounds it");
    let check = bench.run("check run budgets.toml");
    assert!(check.out.contains("nothing says how many"), "{}", check.out);
}

/// Sends the trace again and again, a little at a time.
fn trickle(mut stream: TcpStream) {
    for piece in TRACE.chunks(2_000).cycle() {
        if stream.write_all(piece).is_err() {
            return;
        }
        thread::sleep(Duration::from_millis(4));
    }
}

#[test]
fn windows_of_time_are_kept_and_the_rest_is_unwatched_not_lost() {
    let bench = Bench::alone();
    let tcp = server(vec![trickle]);
    let ended = bench.run(&format!(
        "capture {tcp} {SETUP} --window 100ms..300ms --window 500ms..700ms --out run --quiet"
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    let journal = String::from_utf8(bench.read("run/journal.jsonl")).unwrap();
    let count = |what: &str| journal.matches(&format!("\"what\":\"{what}\"")).count();
    assert_eq!((count("watched"), count("unwatched")), (2, 1), "{journal}");
    let size = bench.read("run/trace.000000.bin").len();
    assert!((20_000..260_000).contains(&size), "{size}");
    let report = bench.json("inspect run");
    let codes = report["findings"].to_string();
    assert!(!codes.contains("disconnected"), "{codes}");
}

#[cfg(unix)]
#[test]
fn however_it_ends_the_folder_reads() {
    let bench = Bench::alone();
    for (signal, out) in [("INT", "int"), ("TERM", "term"), ("KILL", "kill")] {
        let tcp = server(vec![trickle]);
        let mut command = bench.command(&format!("capture {tcp} {SETUP} --out {out} --quiet"));
        let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let segment = format!("{out}/trace.000000.bin");
        let started = Instant::now();
        while !bench.path(&segment).exists() || bench.read(&segment).len() < 60_000 {
            assert!(started.elapsed() < Duration::from_secs(20), "nothing arrives");
            thread::sleep(Duration::from_millis(10));
        }
        let before = bench.read(&segment).len();
        let kill = std::process::Command::new("kill")
            .args([format!("-{signal}"), child.id().to_string()])
            .status();
        assert!(kill.unwrap().success());
        let output = child.wait_with_output().unwrap();
        let after = bench.read(&segment);
        assert!(after.len() >= before && TRACE.starts_with(&after[..after.len().min(TRACE.len())]));
        if signal != "KILL" {
            assert_eq!(output.status.code(), Some(0));
            let out = String::from_utf8(output.stdout).unwrap();
            assert!(out.contains("interrupted"), "{out}");
        }
        let report = bench.json(&format!("inspect {out}"));
        assert_eq!(report["bytes"], after.len(), "{signal}");
        assert_eq!(bench.run(&format!("profile {out}")).code, 0, "{signal}");
    }
}

#[test]
fn mistakes_are_told_before_anything_is_made() {
    let bench = Bench::alone();
    for (arguments, part) in [
        ("capture tcp:127.0.0.1:1 --out x", "nothing listens there"),
        ("capture tcp:nowhere --out x", "needs a host and a port"),
        ("capture buoy/swo.bin --out x --sample", "needs a debug stub"),
        ("capture buoy/swo.bin --out x --window 2s..1s", "ends before it starts"),
        ("capture buoy/swo.bin --out x --until wave_filter", "needs a debug stub"),
        ("capture buoy/swo.bin --out x --until enough", "needs --budgets"),
        ("capture buoy/swo.bin --out x --keep last", "--size"),
        ("capture buoy/swo.bin buoy/swo.bin --out x", "not several"),
        ("capture no-such-file --out x", "no-such-file"),
    ] {
        let error = bench.error(arguments);
        assert!(error.contains(part), "{arguments}: {error}");
        assert!(!bench.path("x").exists(), "{arguments}");
    }
}

#[test]
fn it_says_when_there_is_enough() {
    let bench = Bench::alone();
    bench.write("b.toml", "[function.spectrum_power]\nself_share = '<= 20 %'\n");
    let tcp = server(vec![trickle]);
    let ended = bench.run(&format!(
        "capture {tcp} {SETUP} --budgets b.toml --until enough --for 20s --out run --no-view"
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    assert!(ended.err.contains("= you have enough"), "{}", ended.err);
    assert!(ended.out.contains("every budget is decided"), "{}", ended.out);
}

/// Times are judged while it runs, too, by the same judge: `check` of the folder says the same.
#[test]
fn enough_of_times_is_what_check_says() {
    let bench = Bench::alone();
    let often = "{ limit = '<= 5 us', over = '>= 1500 entries' }";
    bench.write("b.toml", format!("[interrupt.adc_ready]\nown.min = {often}\n"));
    let tcp = server(vec![trickle]);
    let ended = bench.run(&format!(
        "capture {tcp} {SETUP} --budgets b.toml --until enough --for 20s --out run --no-view"
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    assert!(ended.out.contains("every budget is decided"), "{}", ended.out);
    let checked = bench.run("check run b.toml");
    assert_eq!(checked.code, 0, "{}", checked.out);
    let runs = &bench.json("interrupts run adc_ready")["interrupts"][0]["count"];
    assert!((1500..6000).contains(&runs.as_u64().unwrap()), "{runs}");
}

#[test]
fn it_ends_at_an_event() {
    let bench = Bench::alone();
    // An interrupt has the names that it has everywhere.
    for name in ["SysTick", "adc_ready", "adc_ready_handler", "16"] {
        let tcp = server(vec![trickle]);
        let ended = bench.run(&format!(
            "capture {tcp} {SETUP} --until irq:{name}[50] --for 20s --out run --replace --quiet"
        ));
        assert_eq!(ended.code, 0, "{}", ended.err);
        assert!(ended.out.contains("the event that was asked for is here"), "{}", ended.out);
    }
    let error = bench
        .error(&format!("capture buoy/swo.bin {SETUP} --until irq:adc_redy[5] --out no --quiet"));
    assert!(error.contains("has no `adc_redy`; it has adc_ready"), "{error}");
}

#[test]
fn the_stand_in_in_this_process() {
    let bench = Bench::alone();
    bench.write("target.toml", include_str!("../../../../demo/target.toml"));
    bench.out("plan target.toml --out plan.toml");
    let ended = bench
        .run("capture stand-in:buoy/wave-buoy.elf --plan plan.toml --for 600ms --out run --quiet");
    assert_eq!((ended.code, ended.err.as_str()), (0, ""), "{}", ended.out);
    let report = bench.json("profile run");
    assert!(report["recording"]["samples"].as_u64().unwrap() > 500, "{report}");
}

#[test]
fn instructions_of_the_stand_in() {
    let bench = Bench::alone();
    // Each trace unit alone, and one beside the ITM.
    for (core, protocol, beside) in [
        ("cortex-m33", "etmv4", ""),
        ("cortex-m3", "etmv3", ""),
        (
            "cortex-m33",
            "etmv4",
            "timestamps = true\n[[observe.interrupt]]\nname = 'SysTick'\nrate = '1 kHz'\n",
        ),
    ] {
        let target = format!(
            "format = 1\nname = 'buoy'\ncore = '{core}'\ncore_clock = '47.972352 MHz'\n\
             [link]\nkind = 'port'\nwidth = 4\nport_clock = '48 MHz'\n\
             [observe]\n{beside}[observe.instructions]\ncycle_counts = true\n"
        );
        bench.write("target.toml", target);
        bench.out("plan target.toml --out plan.toml --replace");
        let capture = "capture stand-in:buoy/wave-buoy.elf --plan plan.toml --image \
                       buoy/wave-buoy.elf --for 400ms --out run --replace --quiet";
        let ended = bench.run(capture);
        assert_eq!((ended.code, ended.err.as_str()), (0, ""), "{}", ended.out);
        let manifest = String::from_utf8(bench.read("run/capture.toml")).unwrap();
        assert!(manifest.contains(protocol), "{manifest}");
        assert_eq!(manifest.contains("itm"), !beside.is_empty(), "{manifest}");
        let profile = bench.json("profile run");
        assert_eq!(profile["schema"], "weltblick/exact-profile/3");
        // How many depends on how busy the host is.
        assert!(profile["instructions"].as_u64().unwrap() > 30_000, "{profile}");
        let interrupts = bench.json("interrupts run");
        let rows = interrupts["interrupts"].as_array().unwrap();
        let ticks = rows.iter().find(|row| row["name"] == "SysTick").unwrap();
        assert!(ticks["count"].as_u64().unwrap() > 5, "{interrupts}");
        // It stops when time is up, be that inside of a packet.
        let inspected = bench.json("inspect run");
        let list = |key: &str| inspected[key].as_array().unwrap().clone();
        let cut = list("losses").into_iter().map(|loss| loss["reason"].clone());
        let is_end =
            |why: serde_json::Value| why.as_str().unwrap().starts_with("stream ends inside");
        assert!(cut.into_iter().all(is_end), "{core}: {inspected}");
        assert_eq!(list("findings"), Vec::<serde_json::Value>::new());
    }
}

/// A limit on the size of files stands for a disk that is full: writing fails alike.
#[cfg(unix)]
#[test]
fn a_full_disk_ends_it_with_an_error_and_a_folder_that_reads() {
    let bench = Bench::alone();
    let program = env!("CARGO_BIN_EXE_weltblick");
    let script = format!(
        "trap '' XFSZ; ulimit -f 200; exec {program} capture buoy/swo.bin {SETUP} --out full --quiet"
    );
    let output = std::process::Command::new("bash")
        .args(["-c", &script])
        .current_dir(bench.path(""))
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let ended = ended(output);
    assert_eq!(ended.code, 2, "{}", ended.out);
    assert!(
        ended.err.contains("what was received is in full")
            && ended.err.contains("trace.000000.bin"),
        "{}",
        ended.err
    );
    let kept = bench.read("full/trace.000000.bin");
    assert!(!kept.is_empty() && TRACE.starts_with(&kept));
    assert_eq!(bench.json("inspect full")["bytes"], kept.len());
}
