use super::support::Bench;
use insta::assert_snapshot;

#[test]
fn the_demo_capture() {
    assert_snapshot!(Bench::new().out("inspect buoy"));
}

#[test]
fn its_first_packets() {
    assert_snapshot!(Bench::new().out("inspect buoy --packets --top 40"));
}

#[test]
fn packets_of_an_instruction_trace_within_times() {
    let bench = Bench::with_all_flows();
    // From the count before it to the count after it: what these tell lies around that time.
    let listed = |window: &str| -> Vec<u64> {
        let out =
            bench.out(&format!("inspect buoy-flow --packets --format json --within {window}"));
        let packet = |line: &str| serde_json::from_str::<serde_json::Value>(line).unwrap();
        out.lines().map(|line| packet(line)["byte"].as_u64().unwrap()).collect()
    };
    let at = |time: &str| -> u64 {
        let report = bench.json(&format!("flow buoy-flow --around {time} -n 1 --back 0"));
        report["lines"].as_array().unwrap().iter().find_map(|line| line["byte"].as_u64()).unwrap()
    };
    let packets = listed("10ms..10.05ms");
    let (first, last) = (packets[0], *packets.last().unwrap());
    let [from, until] = ["10ms", "10.05ms"].map(at);
    assert!(first <= from && from <= until && until <= last, "{first} {from} {last} {until}");
    assert!((10..40).contains(&packets.len()), "{}", packets.len());
    let error = bench.error("inspect buoy-mtb --packets --within 1ms..2ms");
    assert!(error.contains("packets of this instruction trace have no time"), "{error}");
}

#[test]
fn packets_within_bytes_and_times() {
    let bench = Bench::new();
    assert_snapshot!(bench.out("inspect buoy --packets --within swo@4096..swo@4140"));
    let times = bench.out("inspect buoy --packets --within 1s..1.001s");
    assert!(
        times.lines().count() > 20 && times.lines().skip(1).all(|line| line.contains(" us")),
        "{times}"
    );
    let error = bench.error("inspect buoy --packets --within port@1..port@2");
    assert!(error.contains("this capture has swo"), "{error}");
}

#[test]
fn every_byte_stands_in_exactly_one_line() {
    let bench = Bench::new();
    let out = bench.out("inspect buoy --packets --format csv");
    let mut next = 0;
    for record in csv::Reader::from_reader(out.as_bytes()).records() {
        let record = record.unwrap();
        let (at, bytes): (u64, u64) = (record[1].parse().unwrap(), record[2].parse().unwrap());
        assert_eq!(at, next, "{record:?}");
        next = at + bytes;
    }
    assert_eq!(next, bench.read("buoy/swo.bin").len() as u64);
}

#[test]
fn json_is_one_object_a_line_for_packets() {
    let out = Bench::new().out("inspect buoy --packets --top 5 --format json");
    for line in out.lines() {
        let packet: serde_json::Value = serde_json::from_str(line).unwrap();
        assert!(packet["byte"].is_u64() && packet["packet"].is_string());
    }
    assert_eq!(out.lines().count(), 5);
}

#[test]
fn json_and_schema_agree_on_the_version() {
    let bench = Bench::new();
    let report = bench.json("inspect buoy");
    assert_eq!(report["schema"], "weltblick/inspect/2");
    assert_eq!(report["image"]["agreement"]["outside"], 0);
    assert!(bench.out("inspect buoy --schema").contains("sampling_period_measured"));
}
