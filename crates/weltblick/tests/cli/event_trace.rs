//! Event traces in the Common Trace Format, written by `export` and read like any other capture; and
//! some that nobody exported.

use super::support::Bench;
use insta::assert_snapshot;

/// A bench with `events/`: the buoy as an event trace.
fn exported() -> Bench {
    let bench = Bench::new();
    bench.out("export buoy --out events");
    bench
}

/// Without what names the capture, and what is said of its losses: an event trace counts gaps, not reasons, and several
/// close to each other once. So a bound may be another.
fn figures(text: &str) -> String {
    let kept = text.lines().filter(|line| {
        !line.starts_with(['!', '?']) && !line.contains("hides there") && !line.contains("->")
    });
    let words = |line: &str| line.replace('~', "").split_whitespace().collect::<Vec<_>>().join(" ");
    kept.map(words).collect::<Vec<_>>().join("\n").replace("events", "buoy")
}

#[test]
fn what_was_exported_says_what_the_capture_said() {
    let bench = exported();
    for command in ["interrupts {}", "interrupts {} adc_ready --each --format csv", "signals {}"] {
        let [capture, trace] =
            ["buoy", "events"].map(|name| bench.run(&command.replace("{}", name)).out);
        assert_eq!(figures(&trace), figures(&capture), "{command}");
    }
    let [capture, trace] = ["buoy", "events"].map(|name| bench.json(&format!("tasks {name}")));
    for key in ["tasks", "totals", "switches"] {
        for (a, b) in leaves(&capture[key]).into_iter().zip(leaves(&trace[key])) {
            // A gap that the trace tells at a slightly other place moves what is unknown.
            assert!((a - b).abs() <= 1e-3 * a.abs().max(1.0), "{key}: {a} {b}");
        }
    }
    let verdicts = |name: &str| {
        let report = bench.json(&format!("check {name} budgets.toml"));
        let budgets = report["budgets"].as_array().unwrap().clone();
        budgets.into_iter().map(|b| (b["budget"].clone(), b["verdict"].clone())).collect::<Vec<_>>()
    };
    assert_eq!(verdicts("events"), verdicts("buoy"));
}

/// All numbers of a value, in order; of a figure with bounds those that were seen.
fn leaves(value: &serde_json::Value) -> Vec<f64> {
    match value {
        serde_json::Value::Number(number) => number.as_f64().into_iter().collect(),
        serde_json::Value::Array(list) => list.iter().flat_map(leaves).collect(),
        serde_json::Value::Object(map) => {
            let is_known = |key: &str| {
                let is_bound = key.ends_with("_low") || key.ends_with("_high");
                !is_bound && !matches!(key, "ns" | "cycles" | "rate")
            };
            let end = |key: &str| map.get(&format!("seen_{key}")).or_else(|| map.get(key));
            let ends = [end("ns_low"), end("ns_high")].into_iter().flatten();
            let plain = map.iter().filter(|(key, _)| is_known(key)).map(|(_, value)| value);
            ends.chain(plain).flat_map(leaves).collect()
        }
        _ => Vec::new(),
    }
}

#[test]
fn its_inspection_and_its_first_events() {
    let bench = exported();
    assert_snapshot!("inspection", bench.out("inspect events"));
    assert_snapshot!("events", bench.out("inspect events --packets --top 12"));
    let later = bench.out("inspect events --packets --within 2.88s..2.8801s");
    assert!(
        later.lines().count() > 1 && later.lines().skip(1).all(|l| l.contains(" 288")),
        "{later}"
    );
}

#[test]
fn windows_and_profiles_survive_too() {
    let bench = exported();
    assert_eq!(
        bench.out("profile events --format csv"),
        bench.out("profile buoy --format csv"),
        "samples are samples"
    );
    bench.out("export buoy --within 1s..1.5s --out part");
    let part = bench.json("inspect part");
    let ns = part["duration"]["ns_low"].as_f64().unwrap();
    assert!((4.9e8..=5.0e8).contains(&ns), "{ns}");
    assert!(bench.error("export buoy --out part").contains("--replace"));
}

const METADATA: &str = "\
/* CTF 1.8 */
clock { name = c; freq = 1000000; };
typealias integer { size = 8; align = 8; } := u8;
typealias integer { size = 32; align = 8; map = clock.c.value; } := t;
trace { major = 1; minor = 8; byte_order = le; };
stream { event.header := struct { u8 id; t timestamp; }; };
event { name = thread_runs; id = 0; fields := struct { u8 thread; string label; }; };
event { name = irq_in; id = 1; fields := struct { u8 line; }; };
event { name = irq_out; id = 2; fields := struct { u8 line; }; };
";

/// Two threads take turns, and an interrupt comes now and then.
fn packets() -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut event = |id: u8, at: u32, fields: &[u8]| {
        bytes.push(id);
        bytes.extend(at.to_le_bytes());
        bytes.extend(fields);
    };
    for turn in 0..50_u32 {
        let at = turn * 1000;
        event(0, at, if turn % 2 == 0 { b"\x01pump\0" } else { b"\x02idle\0" });
        event(1, at + 100, &[3]);
        event(2, at + 100 + turn, &[3]);
    }
    bytes
}

#[test]
fn a_trace_of_somebody_else_is_imported_and_given_a_meaning() {
    let bench = Bench::new();
    bench.write("foreign/metadata", METADATA);
    bench.write("foreign/channel0", packets());
    assert!(bench.error("inspect foreign").contains("weltblick import"));
    let said = bench.out("import foreign --out run");
    assert!(said.contains("next: weltblick inspect run"), "{said}");
    let bare = bench.out("inspect run");
    assert!(bare.contains("[[stream.meaning]]") && bare.contains("thread, label"), "{bare}");
    assert_snapshot!("without_a_meaning", bare);
    let manifest = String::from_utf8(bench.read("run/capture.toml")).unwrap();
    let meaning = "
[[stream.meaning]]
event = 'thread_runs'
means = 'task runs'
task = 'thread'
name = 'label'
[[stream.meaning]]
event = 'irq_in'
means = 'interrupt entered'
interrupt = 'line'
[[stream.meaning]]
event = 'irq_out'
means = 'interrupt left'
interrupt = 'line'
";
    bench.write("run/capture.toml", format!("{manifest}{meaning}"));
    let tasks = bench.json("tasks run");
    let names: Vec<&str> =
        tasks["tasks"].as_array().unwrap().iter().map(|t| t["name"].as_str().unwrap()).collect();
    assert!(names.contains(&"pump") && names.contains(&"idle"), "{names:?}");
    let interrupts = bench.json("interrupts run");
    let row = &interrupts["interrupts"][0];
    assert_eq!((row["exception"].as_u64(), row["count"].as_u64()), (Some(19), Some(50)));
    // A clock of 1 MHz: each edge lies anywhere within a tick.
    let longest = ["ns_low", "ns_high"].map(|bound| row["own"]["max"][bound].as_f64().unwrap());
    assert_eq!(longest, [48_000.0, 50_000.0]);
    for (from, to, part) in [
        (
            "'thread_runs'",
            "'thread_run'",
            "the trace has no event `thread_run`; did you mean `thread_runs`?",
        ),
        ("'label'", "'lable'", "event `thread_runs` has no field `lable`; did you mean `label`?"),
        ("'task runs'", "'task run'", "did you mean"),
    ] {
        let wrong = format!("{manifest}{}", meaning.replace(from, to));
        bench.write("run/capture.toml", wrong);
        let error = bench.error("tasks run");
        assert!(error.contains(part) && error.contains("capture.toml:"), "{error}");
    }
}

#[test]
fn hostile_metadata_is_one_clear_error() {
    let bench = Bench::new();
    bench.write("foreign/channel0", [0; 64]);
    let deep = "struct { ".repeat(100_000);
    for (text, part) in [
        (format!("event {{ name = e; fields := {deep}"), "nested more than 32 deep"),
        ("struct a { struct a x; };".to_owned(), "no type `struct a` is declared before this"),
        ("typealias integer { size = 70000; } := x;".to_owned(), "between 1 and 65536"),
        (METADATA.replace("u8 line;", "u8 line[4294967296];"), "more than 2^32 elements"),
        ("\u{1b}[31m".to_owned(), "has no place in metadata"),
        (String::new(), "no kind of event is described here"),
    ] {
        bench.write("foreign/metadata", &text);
        let error = bench.error("import foreign --out run");
        assert!(error.contains(part), "{part}\n{error}");
        assert!(error.len() < 2000, "{}", error.len());
        assert!(!bench.path("run").exists());
    }
    bench.write("foreign/metadata", vec![b' '; (8 << 20) + 1]);
    assert!(bench.error("import foreign --out run").contains("MB"));
}

#[test]
fn a_link_among_the_files_is_not_followed() {
    let bench = Bench::new();
    bench.write("foreign/metadata", METADATA);
    bench.write("foreign/channel0", packets());
    bench.write("secret", "nobody asked for this");
    std::os::unix::fs::symlink(bench.path("secret"), bench.path("foreign/channel1")).unwrap();
    bench.out("import foreign --out run");
    assert!(!bench.path("run/foreign/channel1").exists());
}
