//! `capture` through debug stubs: our own, an emulator's, and hostile ones.

use super::stand_in::Running;
use super::support::Bench;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

pub(crate) const HOT: &[u8] = include_bytes!("../firmware/hot.elf");

fn bench() -> Bench {
    let bench = Bench::alone();
    bench.write("hot.elf", HOT);
    bench
}

/// The functions of a profile, largest share first, and its basis.
fn functions(bench: &Bench, capture: &str) -> (Vec<String>, String) {
    let report = bench.json(&format!("profile {capture}"));
    let rows = report["rows"].as_array().unwrap();
    let names = rows.iter().map(|row| row["function"].as_str().unwrap_or("-").to_owned());
    (names.collect(), report["evidence"]["basis"].as_str().unwrap().to_owned())
}

#[test]
fn samples_and_values_of_a_target_that_runs_on() {
    let bench = bench();
    let target = Running::start(&bench, "hot.elf");
    let stub = &target.stub;
    let ended = bench.run(&format!(
        "capture {stub} --image hot.elf --core-clock 47.972352MHz --sample=2ms --read rounds --read-every 50ms --for 1s --out run --quiet"
    ));
    ended.succeeded();
    let (names, basis) = functions(&bench, "run");
    assert_eq!((names[0].as_str(), basis.as_str()), ("smooth_spectrum", "polled_pc"));
    let poll = String::from_utf8(bench.read("run/poll.000000.bin")).unwrap();
    let values: Vec<&str> = poll.lines().filter(|line| line.starts_with("v ")).collect();
    assert!(values.len() >= 10 && values[0] != values[values.len() - 1], "{values:?}");
    // The same stub again: it stops a target that runs.
    let again = bench.run(&format!(
        "capture {stub} --image hot.elf --until hot.c:95 --sample=5ms --for 5s --out two --quiet"
    ));
    assert!(
        again.out.contains("the point that was asked for is reached"),
        "{} {}",
        again.out,
        again.err
    );
}

#[test]
fn laps_are_timed_by_the_cycle_counter() {
    let bench = bench();
    let target = Running::start(&bench, "hot.elf");
    let stub = &target.stub;
    let ended = bench.run(&format!(
        "capture {stub} --image hot.elf --laps smooth_spectrum,track_tide,churn --for 400ms --out laps --quiet"
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    let poll = String::from_utf8(bench.read("laps/poll.000000.bin")).unwrap();
    let laps: Vec<(u32, u32)> = poll
        .lines()
        .filter_map(|line| line.strip_prefix("l "))
        .map(|line| {
            let fields: Vec<u32> = line.split(' ').map(|field| field.parse().unwrap()).collect();
            (fields[2], fields[3])
        })
        .collect();
    assert!(laps.len() > 4, "{poll}");
    let between = |from: u32| {
        let pair = laps.windows(2).find(|pair| pair[0].0 == from).unwrap();
        pair[1].1.wrapping_sub(pair[0].1)
    };
    // 8000 rounds against 1000: by the target's own cycles, whatever the host did meanwhile.
    let ratio = f64::from(between(0)) / f64::from(between(1));
    assert!((7.0..9.0).contains(&ratio), "{ratio}");
    assert_eq!(laps.windows(2).filter(|pair| (pair[0].0 + 1) % 3 != pair[1].0).count(), 0);
}

#[test]
fn another_build_on_the_target_is_refused() {
    let bench = bench();
    let target = Running::start(&bench, "hot.elf");
    let stub = &target.stub;
    let error = bench.error(&format!("capture {stub} --image buoy/wave-buoy.elf --sample --out x"));
    assert!(error.contains("the target runs another build: at 0x0800"), "{error}");
    assert!(!bench.path("x").exists());
}

/// An emulated board; `None`, loudly, where there is no emulator.
struct Emulator {
    child: Child,
    address: String,
}

impl Emulator {
    fn start(bench: &Bench) -> Option<Self> {
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let child = Command::new("qemu-system-arm")
            .args(["-M", "netduino2", "-nographic", "-monitor", "none", "-serial", "none", "-S"])
            .args(["-gdb", &format!("tcp:127.0.0.1:{port}"), "-kernel"])
            .arg(bench.path("hot.elf"))
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        let Ok(child) = child else {
            eprintln!(
                "\n*** LEFT OUT: qemu-system-arm is not installed, capture was not held against its debug stub ***\n"
            );
            return None;
        };
        let address = format!("127.0.0.1:{port}");
        let started = Instant::now();
        while TcpStream::connect(&address).is_err() {
            assert!(started.elapsed() < Duration::from_secs(20), "the emulator does not answer");
            thread::sleep(Duration::from_millis(50));
        }
        Some(Self { child, address })
    }
}

impl Drop for Emulator {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn the_hot_function_of_an_emulated_board_comes_out_on_top() {
    let bench = bench();
    let Some(emulator) = Emulator::start(&bench) else { return };
    let ended = bench.run(&format!(
        "capture stub:{} --image hot.elf --sample=3ms --read rounds --for 2s --out run --quiet",
        emulator.address
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    assert!(ended.err.contains("intrusive"), "{}", ended.err);
    let (names, basis) = functions(&bench, "run");
    assert_eq!((names[0].as_str(), basis.as_str()), ("smooth_spectrum", "stopped_core"));
    // What was measured by stopping the core meets no budget.
    bench.write("b.toml", "[function.smooth_spectrum]\nself_share = '>= 1 %'\n");
    let check = bench.run("check run b.toml");
    assert!(check.code == 3 && check.out.contains("intrusive"), "{}", check.out);
}

/// A stub that answers everything with `answer`; it ends when the client does.
fn hostile(answer: impl Fn(usize, &mut TcpStream) + Send + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    thread::spawn(move || {
        let Ok((mut stream, _)) = listener.accept() else { return };
        let mut bytes = [0; 4096];
        for number in 0.. {
            match stream.read(&mut bytes) {
                Ok(0) | Err(_) => return,
                Ok(_) => answer(number, &mut stream),
            }
        }
    });
    address
}

#[test]
fn hostile_stubs_get_a_clear_error_in_bounded_time() {
    let say = |text: &'static [u8]| {
        move |_: usize, stream: &mut TcpStream| {
            let _ = stream.write_all(text);
        }
    };
    let endless = |_: usize, stream: &mut TcpStream| {
        let _ = stream.write_all(b"+$");
        while stream.write_all(&[b'a'; 65_536]).is_ok() {}
    };
    let drip = |_: usize, stream: &mut TcpStream| {
        let _ = stream.write_all(b"+$");
        while stream.write_all(b"a").is_ok() {
            thread::sleep(Duration::from_millis(20));
        }
    };
    let acknowledgements = |_: usize, stream: &mut TcpStream| {
        while stream.write_all(&[b'+'; 65_536]).is_ok() {}
    };
    let cases: Vec<(&str, String, &str)> = vec![
        ("wrong checksums", hostile(say(b"+$OK#00")), "wrong checksums"),
        ("endless packet", hostile(endless), "packet without an end"),
        ("slow packet", hostile(drip), "did not answer"),
        ("endless acknowledgements", hostile(acknowledgements), "did not answer"),
        ("escape at the end", hostile(say(b"+$ab}#40")), "no debug stub, or a broken one"),
        (
            "absurd length",
            hostile(say(b"+$PacketSize=ffffffffffffffff;qXfer:features:read+#29")),
            "",
        ),
        ("silence", hostile(|_, _| {}), "did not answer"),
        (
            "hanging up",
            hostile(|_, stream| {
                let _ = stream.shutdown(std::net::Shutdown::Both);
            }),
            "closed the connection",
        ),
        ("web server", hostile(say(b"HTTP/1.1 400 Bad Request\r\n\r\n")), "did not answer"),
        ("refusals", hostile(say(b"+-----")), "wrong checksums"),
    ];
    let bench = bench();
    let handles = cases.into_iter().map(|(case, address, part)| {
        let mut command = bench
            .command(&format!("capture stub:{address} --sample --out {}", case.replace(' ', "-")));
        let started = Instant::now();
        let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        thread::spawn(move || {
            let ended = super::support::ended(child.wait_with_output().unwrap());
            (case, part, ended, started.elapsed())
        })
    });
    for handle in handles.collect::<Vec<_>>() {
        let (case, part, ended, time) = handle.join().unwrap();
        assert_eq!(ended.code, 2, "{case}: {}", ended.out);
        assert!(ended.err.starts_with("error: stub:127.0.0.1:"), "{case}: {}", ended.err);
        assert!(ended.err.contains(part), "{case}: {}", ended.err);
        assert!(time < Duration::from_secs(12), "{case}: {time:?}");
    }
}

#[test]
fn a_buffer_on_the_chip_is_read_out_again_and_again() {
    let bench = Bench::alone();
    bench.write("target.toml", include_str!("../../../../demo/target.toml"));
    // Eight times slower than usual: it holds some 160 ms, however busy the machine is.
    let options = "--link buffer --buffer-size 4KiB --core-clock 6MHz";
    bench.out(&format!("plan target.toml {options} --out plan.toml"));
    let capture = |every: &str, lasting: &str, out: &str| {
        let target = Running::start(&bench, "--core-clock 6MHz");
        let ended = bench.run(&format!(
            "capture {} --plan plan.toml --image buoy/wave-buoy.elf --reset --read-out etb:0xe0042000 \
             --read-out-every {every} --for {lasting} --out {out} --quiet",
            target.stub
        ));
        assert_eq!(ended.code, 0, "{}", ended.err);
        let findings = bench.json(&format!("inspect {out}"))["findings"].to_string();
        let journal = String::from_utf8(bench.read(&format!("{out}/journal.jsonl"))).unwrap();
        (findings, journal.matches("read_out").count(), journal.matches("overwritten").count())
    };
    let (findings, times, wrapped) = capture("20ms", "4s", "often");
    assert!(times > 2 && bench.path("often/buffer.000002.bin").exists(), "{times}");
    assert!(!findings.contains("\"fault\""), "{findings}");
    // On a busy machine one may come too late.
    assert!(2 * wrapped <= times, "{wrapped} of {times}: {findings}");
    let profile = bench.json("profile often");
    assert!(profile["recording"]["samples"].as_u64().unwrap() > 100, "{profile}");
    assert_eq!(profile["rows"][0]["kind"], "asleep");
    let (findings, ..) = capture("700ms", "1500ms", "seldom");
    assert!(findings.contains("had wrapped before"), "{findings}");
}

/// A target with a micro trace buffer, in RAM that the demo's firmware does not use.
pub(crate) const MICRO: &str = "format = 1\ncore = 'cortex-m3'\ncore_clock = '47.972352 MHz'\n\
    mtb_base = 0xe0043000\nmtb_buffer = '0x20010000'\n[link]\nkind = 'buffer'\nsize = '8 KiB'\n\
    [observe.instructions]\n";

#[test]
fn a_micro_trace_buffer_is_read_out_of_ram() {
    let bench = Bench::alone();
    bench.write("micro.toml", MICRO);
    bench.out("plan micro.toml --out plan.toml");
    let target = Running::start(&bench, "");
    let ended = bench.run(&format!(
        "capture {} --plan plan.toml --image buoy/wave-buoy.elf --reset --read-out mtb:0xe0043000 \
         --read-out-every 50ms --for 500ms --out run --quiet",
        target.stub
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    assert!(ended.err.contains("wraps between two read-outs every 50.0 ms"), "{}", ended.err);
    let report = bench.json("inspect run");
    assert_eq!(report["kinds"][0]["kind"], "branch", "{report}");
    // Every branch goes to an instruction of the image, and every loss is one of a full buffer.
    let agreement = &report["image"]["agreement"];
    assert!(agreement["at_instruction"].as_u64().unwrap() > 1000, "{agreement}");
    for other in ["inside_instruction", "in_literal", "outside"] {
        assert_eq!(agreement[other], 0, "{agreement}");
    }
    let findings = report["findings"].as_array().unwrap();
    assert!(findings.iter().all(|finding| finding["code"] == "overwritten"), "{findings:?}");
    let listed = bench.out("inspect run --packets --top 3");
    assert_eq!(listed.matches("buffer@").count(), 3, "{listed}");
    // With the image, branches are every instruction between them.
    let profile = bench.out("profile run");
    assert!(profile.contains("instructions, exact; this trace has no times"), "{profile}");
    let error = bench.error("profile run --samples");
    assert!(error.contains("no program-counter samples"), "{error}");
    // Another image: branches lead to where it has no instructions.
    bench.write("hot.elf", HOT);
    let other = bench.json("inspect run --image hot.elf")["findings"].to_string();
    assert!(other.contains("of the branches lie"), "{other}");
    let error = bench.run(&format!(
        "capture {} --read-out mtb:0xe0045000 --for 100ms --out wrong --quiet",
        target.stub
    ));
    assert!(error.err.contains("error: "), "{}", error.err);
}

/// What a capture's ring said, line by line.
fn said(bench: &Bench, capture: &str) -> Vec<u32> {
    // The ring's bytes are stimulus packets of one character each, and overflows.
    let bytes = bench.read(&format!("{capture}/ring.000000.bin"));
    let mut text = String::new();
    let mut bytes = bytes.iter();
    while let Some(&header) = bytes.next() {
        if header == 0x70 {
            break; // the machine stood still for so long that the ring was full: it says so
        }
        assert_eq!(header, 0x01, "{text}");
        text.push(char::from(*bytes.next().unwrap()));
    }
    text.split_inclusive('\n')
        .filter_map(|line| line.strip_suffix('\n'))
        .map(|line| line.parse().unwrap())
        .collect()
}

#[test]
fn a_ring_in_memory_is_drained_without_a_gap() {
    let bench = bench();
    let target = Running::start(&bench, "hot.elf");
    let mut captures = vec![("stand-in", target.stub.clone())];
    let emulator = Emulator::start(&bench);
    captures.extend(emulator.as_ref().map(|e| ("emulator", format!("stub:{}", e.address))));
    for (out, stub) in captures {
        let ended = bench.run(&format!(
            "capture {stub} --image hot.elf --read-out ring:mark_ring --read-out-every 10ms --for 1s --out {out} --quiet"
        ));
        assert_eq!(ended.code, 0, "{out}: {}", ended.err);
        if out == "emulator" {
            continue; // it runs faster than its ring can be drained by stopping it
        }
        let rounds = said(&bench, out);
        assert!(rounds.len() > 10, "{out}: {}", rounds.len());
        assert!(rounds.iter().zip(0..).all(|(&round, expected)| round == expected), "{rounds:?}");
        let report = bench.json(&format!("inspect {out}"));
        assert!(report["losses"].as_array().unwrap().len() <= 1, "overflows only: {report}");
        let journal = String::from_utf8(bench.read(&format!("{out}/journal.jsonl"))).unwrap();
        assert!(journal.matches("drained").count() > 3, "{journal}");
    }
    let error = bench
        .error(&format!("capture {} --image hot.elf --read-out ring:sums --out x", target.stub));
    assert!(error.contains("WBRG") || error.contains("answer"), "{error}");
}

/// Passes on what goes to a stub and comes back; the first connection breaks after `time`.
fn breaking_link(stub: &str, time: Duration) -> String {
    let stub = stub.strip_prefix("stub:").unwrap().to_owned();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    thread::spawn(move || {
        for (number, near) in listener.incoming().enumerate() {
            let (Ok(near), Ok(far)) = (near, TcpStream::connect(&stub)) else { return };
            let pass = |mut from: TcpStream, mut to: TcpStream| {
                to.set_nodelay(true).unwrap();
                thread::spawn(move || {
                    let _ = std::io::copy(&mut from, &mut to);
                    let _ = to.shutdown(std::net::Shutdown::Both);
                });
            };
            pass(near.try_clone().unwrap(), far.try_clone().unwrap());
            pass(far, near.try_clone().unwrap());
            if number == 0 {
                thread::sleep(time);
                let _ = near.shutdown(std::net::Shutdown::Both);
            }
        }
    });
    format!("stub:{address}")
}

#[test]
fn a_connection_that_breaks_leaves_no_target_standing() {
    let bench = bench();
    let target = Running::start(&bench, "hot.elf");
    let link = breaking_link(&target.stub, Duration::from_millis(700));
    // Laps: at almost every moment the target stands, or is about to.
    let ended = bench.run(&format!(
        "capture {link} --image hot.elf --core-clock 47.972352MHz --laps smooth_spectrum,track_tide \
         --for 2s --out run --quiet"
    ));
    assert_eq!(ended.code, 0, "{} {}", ended.out, ended.err);
    let journal = String::from_utf8(bench.read("run/journal.jsonl")).unwrap();
    assert!(
        journal.contains("\"disconnected\"") && journal.contains("\"reconnected\""),
        "{journal}"
    );
    let span = bench.json("span run");
    assert!(span["total"]["elapsed"]["count"].as_u64().unwrap() > 2, "{span}");
    // Over the gap there is no duration: a round takes as long as ever.
    let max = span["total"]["elapsed"]["max"]["cycles"].as_u64().unwrap();
    assert!(max < 80_000, "{span}");
    let codes = bench.json("inspect run")["findings"].to_string();
    assert!(codes.contains("disconnected"), "{codes}");
    // It runs on, as another capture sees.
    let ended = bench.run(&format!(
        "capture {} --image hot.elf --sample=2ms --for 500ms --out after --quiet",
        target.stub
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    assert!(functions(&bench, "after").0.contains(&"smooth_spectrum".to_owned()));
}

#[test]
fn a_stub_that_stays_away_ends_the_capture_with_what_there_was() {
    let bench = bench();
    let target = Running::start(&bench, "hot.elf");
    let command = format!(
        "capture {} --image hot.elf --sample=2ms --reconnect 300ms --for 20s --out run --quiet",
        target.stub
    );
    let child = bench.command(&command).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn();
    let began = Instant::now();
    let polls =
        || std::fs::metadata(bench.path("run/poll.000000.bin")).map_or(0, |file| file.len());
    while polls() < 1000 && began.elapsed() < Duration::from_secs(10) {
        thread::sleep(Duration::from_millis(20));
    }
    drop(target);
    let ended = super::support::ended(child.unwrap().wait_with_output().unwrap());
    assert_eq!(ended.code, 2, "{} {}", ended.out, ended.err);
    assert!(ended.err.contains("what was received is in run"), "{}", ended.err);
    assert!(bench.json("inspect run")["samples"].as_u64().unwrap() > 10);
}

#[test]
fn a_capture_that_is_refused_leaves_the_target_running() {
    let bench = super::stand_in::planned();
    bench.write("hot.elf", HOT);
    let target = Running::start(&bench, "");
    let (trace, stub) = (&target.trace, &target.stub);
    let image = "--image buoy/wave-buoy.elf";
    let ended = bench.run(&format!(
        "capture {trace} {stub} --plan plan.toml {image} --reset --for 300ms --out first --quiet"
    ));
    assert_eq!(ended.code, 0, "{}", ended.err);
    let cases = [
        ("--image hot.elf --sample", "another build"),
        ("--image buoy/wave-buoy.elf", "nothing is recorded"),
        ("--image buoy/wave-buoy.elf --read-out ring:ticks", "ring"),
        ("--image buoy/wave-buoy.elf --read-out mtb:0xe0043000", "not set up"),
        ("--image buoy/wave-buoy.elf --sample --out /proc/nowhere/x", "/proc/nowhere"),
    ];
    for (number, (options, part)) in cases.into_iter().enumerate() {
        let out = if options.contains("--out") { "" } else { "--out refused --replace" };
        let ended = bench.run(&format!("capture {stub} {options} {out} --quiet"));
        assert_eq!(ended.code, 2, "{options}: {}", ended.out);
        assert!(ended.err.contains(part), "{options}: {}", ended.err);
        // Its trace goes on.
        let name = format!("then-{number}");
        let ended = bench.run(&format!("capture {trace} {image} --for 300ms --out {name} --quiet"));
        assert_eq!(ended.code, 0, "{options}: {}", ended.err);
        let bytes = bench.read(&format!("{name}/trace.000000.bin")).len();
        assert!(bytes > 500, "{options}: {bytes} bytes");
    }
}

#[test]
fn priorities_are_noted_when_a_capture_ends() {
    let bench = bench();
    let target = Running::start(&bench, "");
    let ended = bench.run(&format!(
        "capture {} --image buoy/wave-buoy.elf --core-clock 47.972352MHz --sample=2ms --for 500ms --out run --quiet --reset",
        target.stub
    ));
    ended.succeeded();
    let journal = String::from_utf8(bench.read("run/journal.jsonl")).unwrap();
    let noted = journal.lines().find(|line| line.contains("\"priorities\"")).unwrap();
    // board.c: PendSV, SysTick, and the interrupts from 16 on.
    for part in ["14=240", "15=128", "16=64", "17=64", "20=32"] {
        assert!(noted.contains(part), "{noted}");
    }
}

#[test]
fn a_buffer_that_wraps_before_it_can_be_read_is_no_damage() {
    let bench = Bench::alone();
    let plan = |sources: &str| {
        bench.out(&format!(
            "plan --core cortex-m3 --core-clock 47.972352MHz --image buoy/wave-buoy.elf --link buffer \
             --buffer-size 4KiB {sources} --out plan.toml --replace"
        ))
    };
    let planned = plan("--pc-sample-period 4096 --interrupt SysTick=1kHz");
    assert!(planned.contains("once it has wrapped, little of"), "{planned}");
    let capture = |options: &str| {
        let target = Running::start(&bench, "");
        bench.run(&format!(
            "capture {} --plan plan.toml --image buoy/wave-buoy.elf --reset --read-out etb:0xe0042000 \
             --out run --replace --quiet {options}",
            target.stub
        ))
    };
    let codes = || {
        let report = bench.json("inspect run");
        let findings = report["findings"].as_array().unwrap().iter();
        findings.map(|finding| finding["code"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    // The ITM synchronises every 350 ms; four kilobytes last a tenth of that.
    let ended = capture("--read-out-every 200ms --for 500ms");
    assert_eq!(ended.code, 0, "{}", ended.err);
    assert!(ended.err.contains("wraps between two read-outs every 200 ms"), "{}", ended.err);
    assert!(!ended.err.contains("trace pin"), "nothing can have arrived yet: {}", ended.err);
    assert_eq!(codes(), ["overwritten"]);
    let ended = capture("--keep first --size 8KiB --for 1s");
    assert_eq!(ended.code, 2, "{}", ended.out);
    assert!(ended.err.contains("the plan says that it lasts 34"), "{}", ended.err);
    // Slow enough for a host that is busy with other things.
    plan("--pc-sample-period 16384");
    let ended = capture("--keep first --size 8KiB --for 5s --read-out-every 20ms");
    assert_eq!((ended.code, codes()), (0, Vec::new()), "{}", ended.err);
}

#[test]
fn windows_that_are_over_before_reading_begins_are_foreseen_and_found() {
    let bench = super::stand_in::planned();
    let target = Running::start(&bench, "");
    let ended = bench.run(&format!(
        "capture {} {} --plan plan.toml --image buoy/wave-buoy.elf --reset --window 400ms..550ms --out run --quiet",
        target.trace, target.stub
    ));
    assert!(ended.code == 0 && !ended.err.contains("trace pin"), "{}", ended.err);
    assert!(ended.err.contains("the trace synchronises every 350 ms"), "{}", ended.err);
    let report = bench.out("inspect run");
    assert!(report.contains("comes before their first synchronisation"), "{report}");
}
