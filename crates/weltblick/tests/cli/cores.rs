//! Event traces of two cores under one kernel, written here by hand, with a truth that is written beside them.

use super::support::Bench;
use insta::assert_snapshot;
use serde_json::Value;

/// Ticks in a second.
const HERTZ: u64 = 32_000_000;
/// Where the tracer's clock stood when the recording began.
const START: u64 = 5_000_000_000;
/// Rounds of the story, and ticks of one.
const ROUNDS: u64 = 50;
const ROUND: u64 = 3_200_000;

const METADATA: &str = r#"/* CTF 1.8 */
typealias integer { size = 8; align = 8; } := u8;
typealias integer { size = 32; align = 8; } := u32;
typealias integer { size = 64; align = 8; } := u64;
trace { major = 1; minor = 8; byte_order = le; packet.header := struct { u32 magic; }; };
clock { name = ticks; freq = 32000000; offset_s = 1700000000; };
typealias integer { size = 64; align = 8; map = clock.ticks.value; } := ticks_t;
stream {
    packet.context := struct {
        ticks_t timestamp_begin; ticks_t timestamp_end; u64 content_size; u64 packet_size;
        u32 events_discarded; u8 cpu_id;
    };
    event.header := struct { u8 id; ticks_t timestamp; };
};
event { name = thread_new; id = 0; fields := struct { u8 thread; string label; }; };
event { name = thread_ready; id = 1; fields := struct { u8 thread; }; };
event { name = thread_in; id = 2; fields := struct { u8 thread; }; };
event { name = thread_out; id = 3; fields := struct {
    u8 thread; enum : u8 { waits, sleeps, preempted } why; };
};
event { name = irq_new; id = 4; fields := struct { u8 line; string label; }; };
event { name = irq_in; id = 5; fields := struct { u8 line; }; };
event { name = irq_out; id = 6; fields := struct { u8 line; }; };
event { name = log; id = 7; fields := struct { string line; }; };
event { name = queue_wait; id = 8; fields := struct { u8 thread; string queue; }; };
"#;

const MANIFEST: &str = r#"format = 1
[target]
name = "wave-buoy"
core_clock = "32 MHz"
[[stream]]
folder = "events"
protocol = "ctf"
"#;

/// What the kinds of events mean, one table each.
const MEANINGS: [&str; 11] = [
    "event = \"thread_new\"\nmeans = \"task created\"\ntask = \"thread\"\nname = \"label\"",
    "event = \"thread_ready\"\nmeans = \"task ready\"\ntask = \"thread\"",
    "event = \"thread_in\"\nmeans = \"task runs\"\ntask = \"thread\"",
    "event = \"thread_out\"\nmeans = \"task pre-empted\"\ntask = \"thread\"\nwhere = \"why\"\nis = \"preempted\"",
    "event = \"thread_out\"\nmeans = \"task waits\"\ntask = \"thread\"\nwhere = { why = [\"waits\", 17] }",
    "event = \"thread_out\"\nmeans = \"task sleeps\"\ntask = \"thread\"\nwhere = { why = \"sleeps\", thread = [3, 4] }",
    "event = \"irq_new\"\nmeans = \"interrupt named\"\nexception = \"line\"\nname = \"label\"",
    "event = \"irq_in\"\nmeans = \"interrupt entered\"\nexception = \"line\"",
    "event = \"irq_out\"\nmeans = \"interrupt left\"\nexception = \"line\"",
    "event = \"log\"\nmeans = \"text\"\ntext = \"line\"",
    "event = \"queue_wait\"\nmeans = \"task will wait\"\ntask = \"thread\"\nobject = \"queue\"",
];

const SAMPLER: u8 = 1;
const URGENT: u8 = 3;
const RADIO: u8 = 4;
const IDLE: [u8; 2] = [8, 9];
const TICK: u8 = 15;
const ANEMOMETER: u8 = 20;

/// One event: on which core, when, its kind and its fields.
type Told = (usize, u64, u8, Vec<u8>);

/// A number, and a text.
fn named(number: u8, name: &str) -> Vec<u8> {
    [&[number], name.as_bytes(), &[0]].concat()
}

/// Two cores. Core 0's tick wakes the sampler, which wakes the radio on core 1; there an interrupt comes in between, and
/// in each fifth round a more urgent task.
fn story() -> Vec<Told> {
    let mut told: Vec<Told> = Vec::new();
    let mut tell = |core: usize, at: u64, kind: u8, fields: &[u8]| {
        told.push((core, START + at, kind, fields.to_vec()));
    };
    let tasks = [(SAMPLER, "sampler"), (URGENT, "urgent"), (RADIO, "radio_link")];
    for (number, name) in tasks.into_iter().chain([(IDLE[0], "idle0"), (IDLE[1], "idle1")]) {
        tell(0, 0, 0, &named(number, name));
    }
    tell(0, 0, 4, &named(TICK, "tick"));
    tell(0, 0, 4, &named(ANEMOMETER, "anemometer"));
    for (core, idle) in IDLE.into_iter().enumerate() {
        tell(core, 5, 2, &[idle]);
    }
    for round in 0..ROUNDS {
        let mut tell = |core, at: u64, kind, fields: &[u8]| {
            tell(core, 1000 + round * ROUND + at, kind, fields);
        };
        let (waits, sleeps, preempted) = (0, 1, 2);
        tell(0, 0, 5, &[TICK]);
        tell(0, 300, 1, &[SAMPLER]);
        tell(0, 500, 6, &[TICK]);
        tell(0, 520, 3, &[IDLE[0], preempted]);
        tell(0, 530, 2, &[SAMPLER]);
        tell(0, 700, 7, format!("wave {round} ist überschritten\0").as_bytes());
        tell(0, 900, 1, &[RADIO]);
        tell(0, 1520, 8, &named(SAMPLER, "samples"));
        tell(0, 1530 + round % 7 * 10, 3, &[SAMPLER, waits]);
        tell(0, 1620, 2, &[IDLE[0]]);
        tell(1, 950, 3, &[IDLE[1], preempted]);
        tell(1, 960, 2, &[RADIO]);
        tell(1, 1100, 5, &[ANEMOMETER]);
        tell(1, 1200, 6, &[ANEMOMETER]);
        if round.is_multiple_of(5) {
            tell(1, 1300, 1, &[URGENT]);
            tell(1, 1310, 3, &[RADIO, preempted]);
            tell(1, 1320, 2, &[URGENT]);
            tell(1, 1400, 3, &[URGENT, sleeps]);
            tell(1, 1410, 2, &[RADIO]);
        }
        tell(1, 1800, 7, format!("report {round}\0").as_bytes());
        tell(1, 2000 + round, 3, &[RADIO, sleeps]);
        tell(1, 2100, 2, &[IDLE[1]]);
        tell(1, 50_000, 5, &[TICK]);
        tell(1, 50_300, 6, &[TICK]);
    }
    told.sort_by_key(|told| (told.1, told.0));
    told
}

/// The file of a core: packets of 40 events; those of the packets in `lost` were dropped.
fn file(story: &[Told], core: usize, lost: &[usize]) -> Vec<u8> {
    let mine: Vec<&Told> = story.iter().filter(|told| told.0 == core).collect();
    let (mut bytes, mut discarded) = (Vec::new(), 0_u32);
    for (number, events) in mine.chunks(40).enumerate() {
        if lost.contains(&number) {
            discarded += events.len() as u32;
            continue;
        }
        let body: Vec<u8> = events
            .iter()
            .flat_map(|(_, at, kind, fields)| [&[*kind][..], &at.to_le_bytes(), fields].concat())
            .collect();
        let (begin, end) = (events[0].1, events[events.len() - 1].1);
        let bits = (4 + 4 * 8 + 4 + 1 + body.len() as u64) * 8;
        bytes.extend(0xc1fc_1fc1_u32.to_le_bytes());
        [begin, end, bits, bits].iter().for_each(|field| bytes.extend(field.to_le_bytes()));
        bytes.extend(discarded.to_le_bytes());
        bytes.push(core as u8);
        bytes.extend(body);
    }
    bytes
}

/// A bench with a capture `two`: these are the packets that core 1 lost.
fn bench(lost: &[usize]) -> Bench {
    let bench = Bench::alone();
    let story = story();
    bench.write("two/events/metadata", METADATA);
    for core in 0..2 {
        let lost = if core == 1 { lost } else { &[] };
        bench.write(&format!("two/events/core{core}"), file(&story, core, lost));
    }
    let meanings = MEANINGS.map(|text| format!("[[stream.meaning]]\n{text}\n"));
    bench.write("two/capture.toml", format!("{MANIFEST}{}", meanings.concat()));
    bench
}

/// The row of a task, or an interrupt.
fn row<'a>(report: &'a Value, list: &str, name: &str, core: u64) -> &'a Value {
    let rows = report[list].as_array().unwrap();
    let is_it = |row: &&Value| {
        let mine = row["core"].as_u64().or(row["cores"][0].as_u64());
        row["name"] == name && mine == Some(core)
    };
    rows.iter().find(is_it).unwrap_or_else(|| panic!("{name} on {core}: {report:#}"))
}

/// How often, and the extremes in ticks, of a figure that is exact.
fn ticks(statistic: &Value) -> (u64, u64, u64) {
    let at = |key: &str| {
        let ns = statistic[key]["ns"].as_f64().unwrap_or_else(|| panic!("{statistic:#}"));
        (ns * HERTZ as f64 / 1e9).round() as u64
    };
    (statistic["count"].as_u64().unwrap(), at("min"), at("max"))
}

#[test]
fn each_core_has_its_handlers_and_one_kernel_its_tasks() {
    let bench = bench(&[]);
    let tasks = bench.json("tasks two");
    let sampler = row(&tasks, "tasks", "sampler", 0);
    assert_eq!(ticks(&sampler["pending"]), (ROUNDS, 230, 230));
    assert_eq!(ticks(&sampler["response"]), (ROUNDS, 1230, 1290));
    assert_eq!(ticks(&sampler["own"]), (ROUNDS, 1000, 1060));
    // It was said before for what it would wait.
    let waits = sampler["waits"].as_array().unwrap();
    assert_eq!((waits.len(), waits[0]["object"].as_str()), (1, Some("samples")), "{waits:?}");
    // It is woken by the other core. What pre-empts it is no end of it, and not its own time, nor is a handler.
    let radio = row(&tasks, "tasks", "radio_link", 1);
    assert_eq!(ticks(&radio["pending"]), (ROUNDS, 60, 60));
    assert_eq!(ticks(&radio["response"]), (ROUNDS, 1100, 1149));
    assert_eq!(ticks(&radio["elapsed"]), (ROUNDS, 1040, 1089));
    assert_eq!(radio["preempted"], 10);
    let own = |round: u64| 940 + round - if round.is_multiple_of(5) { 100 } else { 0 };
    let owns = || (0..ROUNDS).map(own);
    assert_eq!(ticks(&radio["own"]), (ROUNDS, owns().min().unwrap(), owns().max().unwrap()));
    for (core, name) in ["idle0", "idle1"].into_iter().enumerate() {
        assert_eq!(row(&tasks, "tasks", name, core as u64)["idle"], true);
    }
    let interrupts = bench.json("interrupts two");
    let elapsed = |name, core| ticks(&row(&interrupts, "interrupts", name, core)["elapsed"]);
    assert_eq!(elapsed("tick", 0), (ROUNDS, 500, 500));
    assert_eq!(elapsed("tick", 1), (ROUNDS, 300, 300));
    assert_eq!(elapsed("anemometer", 1), (ROUNDS, 100, 100));
}

#[test]
fn times_are_those_since_the_recording_began() {
    let bench = bench(&[]);
    let first = bench.out("inspect two --packets --top 1");
    assert!(first.contains("  0.000 us "), "{first}");
    let report = bench.json("tasks two --within 0s..1s");
    // Ten rounds a second.
    assert_eq!(row(&report, "tasks", "sampler", 0)["count"], 10);
    assert_snapshot!("timeline", bench.out("timeline two --within 0s..0.0001s"));
}

#[test]
fn the_figures_of_two_cores() {
    let bench = bench(&[]);
    assert_snapshot!("tasks", bench.out("tasks two"));
    assert_snapshot!("interrupts", bench.out("interrupts two"));
}

#[test]
fn what_one_core_lost_is_not_missing_on_the_other() {
    let (whole, lossy) = (bench(&[]), bench(&[3, 7]));
    let [before, after] = [&whole, &lossy].map(|bench| bench.json("tasks two"));
    for key in ["own", "response", "elapsed", "pending"] {
        let of = |report| row(report, "tasks", "sampler", 0)[key].clone();
        let (before, after) = (of(&before), of(&after));
        assert_eq!(before["count"], after["count"], "{key}");
        let seen = after["max"].get("seen_ns_high").unwrap_or(&after["max"]["ns_high"]);
        assert_eq!(*seen, before["max"]["ns_high"], "{key}: {after:#}");
        // It may have run on the other core, unseen.
        if key != "pending" {
            assert!(after["max"]["ns_high"].as_f64() > seen.as_f64(), "{after:#}");
        }
    }
    let radio = row(&after, "tasks", "radio_link", 1);
    assert!(radio["response"]["count"].as_u64().unwrap() < ROUNDS, "{radio:#}");
    let losses = after["evidence"]["losses"].as_array().unwrap();
    assert_eq!(losses.len(), 1, "{losses:?}");
    assert_eq!(losses[0]["count"], 2, "each counts once");
    let inspect = lossy.json("inspect two");
    let found = inspect["findings"].as_array().unwrap();
    assert_eq!((found.len(), found[0]["code"].as_str()), (1, Some("dropped")), "{found:#?}");
    assert!(found[0]["finding"].as_str().unwrap().contains("80 dropped events, in 2 places"));
    // Texts are whole, on both cores.
    let text = lossy.out("console two");
    assert_eq!(text.matches("ist überschritten").count() as u64, ROUNDS, "{text}");
    // What one core wrote before it lost something is whole, too.
    let reports: Vec<&str> = text.lines().filter(|line| line.contains("report")).collect();
    assert!(reports.len() > 40, "{text}");
    assert!(reports.iter().all(|line| line.contains("  0  report ")), "{text}");
}

#[test]
fn a_file_that_was_cut_silences_its_own_core() {
    let (whole, cut) = (bench(&[]), bench(&[]));
    let mut bytes = cut.read("two/events/core1");
    bytes.truncate(bytes.len() / 2 + 3);
    cut.write("two/events/core1", bytes);
    let [before, after] = [&whole, &cut].map(|bench| bench.json("tasks two"));
    let count = |report| row(report, "tasks", "sampler", 0)["response"]["count"].clone();
    assert_eq!((count(&before), count(&after)), (ROUNDS.into(), ROUNDS.into()));
    let found = cut.json("inspect two")["findings"].clone();
    let codes: Vec<&str> =
        found.as_array().unwrap().iter().map(|found| found["code"].as_str().unwrap()).collect();
    assert_eq!(codes, ["cut_off"], "{found:#}");
    assert_eq!(whole.json("inspect two")["findings"], serde_json::json!([]));
}

/// Nothing in a file says that its rest is missing, if it ends where a packet does.
#[test]
fn a_core_whose_file_ends_early_meets_nothing() {
    let bench = bench(&[]);
    let mut bytes = bench.read("two/events/core1");
    let magic = 0xc1fc_1fc1_u32.to_le_bytes();
    let packets: Vec<usize> =
        (0..bytes.len() - 4).filter(|&at| bytes[at..at + 4] == magic).collect();
    bytes.truncate(packets[packets.len() / 2]);
    bench.write("two/events/core1", bytes);
    let budgets = "[interrupt.anemometer]\nelapsed.max = \"<= 5 us\"\ncount = \"<= 60\"\n\
                   [task.radio_link]\nresponse.max = \"<= 40 us\"\n\
                   [interrupt.tick]\nelapsed.max = \"<= 16 us\"\n";
    bench.write("budgets.toml", budgets);
    let report = bench.json("check two budgets.toml");
    for budget in report["budgets"].as_array().unwrap() {
        // What core 0 took is known all the while.
        let expected = if budget["core"] == 0 { "met" } else { "undecided" };
        assert_eq!(budget["verdict"], expected, "{budget:#}");
    }
    assert_eq!(report["budgets"].as_array().unwrap().len(), 5);
    let found = bench.json("inspect two")["findings"].clone();
    assert_eq!(found[0]["code"], "core_silent", "{found:#}");
}

#[test]
fn export_writes_a_file_for_each_core_and_the_same_comes_back() {
    for lost in [&[][..], &[3, 7]] {
        let bench = bench(lost);
        bench.out("export two --out again");
        for command in ["tasks", "interrupts", "console"] {
            let [one, other] = ["two", "again"]
                .map(|name| bench.run(&format!("{command} {name} --format json")).out);
            assert_eq!(one, other, "{command}");
        }
        // The clock keeps its offset: seconds since 1970, and ticks.
        let metadata = String::from_utf8(bench.read("again/events/metadata")).unwrap();
        let seconds = 1_700_000_000 + START / HERTZ;
        assert!(metadata.contains(&format!("offset_s = {seconds};")), "{metadata}");
        assert!(metadata.contains(&format!("offset = {};", START % HERTZ)), "{metadata}");
        assert!(bench.read("again/events/core1").len() > 1000);
    }
}

#[test]
fn budgets_need_no_image_where_none_is_of_code() {
    let bench = bench(&[]);
    bench.write(
        "budgets.toml",
        "[interrupt.tick]\nelapsed.max = \"<= 12 us\"\n[task.radio_link]\nresponse.max = \"<= 40 us\"\n",
    );
    // 15.6 us on core 0, and 9.4 us on core 1: a verdict for each.
    let report = bench.json("check two budgets.toml");
    let verdicts: Vec<(&str, &str)> = report["budgets"]
        .as_array()
        .unwrap()
        .iter()
        .map(|b| (b["budget"].as_str().unwrap(), b["verdict"].as_str().unwrap()))
        .collect();
    assert_eq!(verdicts.len(), 3, "{report:#}");
    let of_core = |b: &Value| b["core"].as_u64();
    let cores: Vec<_> = report["budgets"].as_array().unwrap().iter().map(of_core).collect();
    assert_eq!(cores, [Some(0), None, Some(1)]);
    assert_eq!(verdicts.iter().filter(|(_, verdict)| *verdict == "broken").count(), 1);
    let text = bench.run("check two budgets.toml").out;
    assert!(text.contains("evidence: of core 0: 50 of them, none missing"), "{text}");
    bench.write("budgets.toml", "[function.main]\nself_share = \"<= 1 %\"\n");
    assert!(bench.error("check two budgets.toml").contains("no image is named"));
    bench.write("budgets.toml", "[interrupt.nobody]\ncount = \">= 1\"\n");
    let why = bench.error("check two budgets.toml");
    assert!(why.contains("no interrupt is called `nobody`; there are tick, anemometer"), "{why}");
}

#[test]
fn samples_of_two_cores_are_no_profile() {
    let bench = bench(&[]);
    let manifest = String::from_utf8(bench.read("two/capture.toml")).unwrap();
    let sample = "[[stream.meaning]]\nevent = \"irq_in\"\nmeans = \"asleep\"\n";
    bench.write("two/capture.toml", format!("{manifest}{sample}"));
    bench.write("budgets.toml", "[sleep]\nshare = \">= 10 %\"\n");
    let why = bench.error("check two budgets.toml");
    assert!(why.contains("these are samples of 2 cores, and a profile is of one"), "{why}");
    // The tasks are what they were.
    assert_eq!(row(&bench.json("tasks two"), "tasks", "sampler", 0)["count"], ROUNDS);
    let one = format!("{manifest}{sample}where = {{ cpu_id = 0 }}\n");
    bench.write("two/capture.toml", one);
    assert!(!bench.run("check two budgets.toml").out.is_empty());
}

/// The description of these files in fragments of JSON.
fn fragments() -> String {
    let number = |bits: u32, more: &str| {
        format!(
            r#"{{"type": "fixed-length-unsigned-integer", "length": {bits}, "alignment": 8, "byte-order": "little-endian"{more}}}"#
        )
    };
    let role = |bits, role: &str| number(bits, &format!(r#", "roles": ["{role}"]"#));
    let structure = |members: &[(&str, String)]| {
        let member = |(name, class): &(&str, String)| {
            format!(r#"{{"name": "{name}", "field-class": {class}}}"#)
        };
        let members: Vec<String> = members.iter().map(member).collect();
        format!(r#"{{"type": "structure", "member-classes": [{}]}}"#, members.join(", "))
    };
    let text = || r#"{"type": "null-terminated-string"}"#.to_owned();
    let why = r#", "mappings": {"waits": [[0, 0]], "sleeps": [[1, 1]], "preempted": [[2, 2]]}"#;
    let when = "default-clock-timestamp";
    let mut all = vec![
        r#"{"type": "preamble", "version": 2}"#.to_owned(),
        format!(
            r#"{{"type": "trace-class", "packet-header-field-class": {}}}"#,
            structure(&[("magic", role(32, "packet-magic-number"))])
        ),
        r#"{"type": "clock-class", "id": "ticks", "frequency": 32000000,
            "offset-from-origin": {"seconds": 1700000000}}"#
            .to_owned(),
        format!(
            r#"{{"type": "data-stream-class", "default-clock-class-id": "ticks",
            "packet-context-field-class": {}, "event-record-header-field-class": {}}}"#,
            structure(&[
                ("from", role(64, when)),
                ("to", role(64, "packet-end-default-clock-timestamp")),
                ("used", role(64, "packet-content-length")),
                ("whole", role(64, "packet-total-length")),
                ("dropped", role(32, "discarded-event-record-counter-snapshot")),
                ("cpu_id", number(8, "")),
            ]),
            structure(&[("id", role(8, "event-record-class-id")), ("time", role(64, when))]),
        ),
    ];
    let (thread, line) = (|| ("thread", number(8, "")), || ("line", number(8, "")));
    for (id, name, fields) in [
        (0, "thread_new", vec![thread(), ("label", text())]),
        (1, "thread_ready", vec![thread()]),
        (2, "thread_in", vec![thread()]),
        (3, "thread_out", vec![thread(), ("why", number(8, why))]),
        (4, "irq_new", vec![line(), ("label", text())]),
        (5, "irq_in", vec![line()]),
        (6, "irq_out", vec![line()]),
        (7, "log", vec![("line", text())]),
        (8, "queue_wait", vec![thread(), ("queue", text())]),
    ] {
        all.push(format!(
            r#"{{"type": "event-record-class", "id": {id}, "name": "{name}", "payload-field-class": {}}}"#,
            structure(&fields)
        ));
    }
    all.iter().map(|fragment| format!("\u{1e}{fragment}\n")).collect()
}

#[test]
fn a_description_of_version_2_says_the_same() {
    let bench = bench(&[3, 7]);
    let commands = ["tasks", "interrupts", "console", "inspect"];
    let all = || commands.map(|command| bench.out(&format!("{command} two --format json")));
    let before = all();
    bench.write("two/events/metadata", fragments());
    assert_eq!(all(), before);
    bench.write("two/events/metadata", fragments().replace("null-terminated", "endless"));
    let why = bench.error("tasks two");
    assert!(why.contains("no field class has the type `endless-string`"), "{why}");
}

#[test]
fn conditions_that_say_too_much_or_nothing_are_refused() {
    let bench = bench(&[]);
    let manifest = String::from_utf8(bench.read("two/capture.toml")).unwrap();
    let with = |from: &str, to: &str| {
        bench.write("two/capture.toml", manifest.replace(from, to));
        bench.error("tasks two")
    };
    let why = with("where = { why = [\"waits\", 17] }", "where = { why = \"wait\" }");
    assert!(why.contains("the enumeration `why` has no label `wait`"), "{why}");
    let why = with("where = { why = [\"waits\", 17] }", "where = { why = 1.5 }");
    assert!(why.contains("`why` must be a text in quotes, a whole number, or a list"), "{why}");
    let why =
        with("where = { why = [\"waits\", 17] }", "where = { why = \"waits\" }\nis = \"waits\"");
    assert!(why.contains("`where` has the values already"), "{why}");
    let why =
        with("protocol = \"ctf\"", "protocol = \"ctf\"\n[stream.settings]\ncore_field = \"hart\"");
    assert!(why.contains("no event of the trace has a field `hart`"), "{why}");
}
