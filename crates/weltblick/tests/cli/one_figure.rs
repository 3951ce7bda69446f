//! Every command states the figure that `check` judges: the same bounds, and the same that speaks against it.

use super::support::Bench;
use serde_json::Value;

/// A figure as a result states it, and as a budget asks for it.
struct Asked {
    /// `interrupt.adc_ready`
    table: String,
    /// `own.max`
    key: String,
    /// What the table says beside the limit.
    by: &'static str,
    low: f64,
    high: Option<f64>,
    /// What speaks against it, where the result says that of each figure.
    against: Option<Vec<String>>,
}

const STATISTICS: [&str; 7] = ["min", "mean", "p50", "p95", "p99", "max", "stddev"];

fn table(kind: &str, name: &Value) -> String {
    format!("{kind}.{}", serde_json::to_string(name).unwrap())
}

/// The statistics of these measures, by the keys of results and of budgets.
fn durations(kind: &str, row: &Value, measures: &[(&str, &str)]) -> Vec<Asked> {
    let mut asked = Vec::new();
    for (key, budget) in measures {
        for statistic in STATISTICS {
            let Some(of) = row[*key].get(statistic) else { continue };
            let waits = matches!(*key, "pending" | "response");
            asked.push(Asked {
                table: table(kind, row.get("name").unwrap_or(&row["function"])),
                key: format!("{budget}.{statistic}"),
                by: if waits && row["basis"] == "grid" { ", by = \"grid\"" } else { "" },
                low: of["ns_low"].as_f64().unwrap(),
                high: of.get("ns_high").and_then(Value::as_f64),
                against: Some(against(row, key, statistic)),
            });
        }
    }
    asked
}

/// A figure that is there once; `at` is the path to its bounds.
fn single(kind: &str, row: &Value, key: &str, [low, high]: [&str; 2]) -> Option<Asked> {
    let at = |path: &str| path.split('.').try_fold(row, |value, key| value.get(key));
    Some(Asked {
        table: table(kind, row.get("name").unwrap_or(&row["function"])),
        key: key.to_owned(),
        by: "",
        low: at(low)?.as_f64()?,
        high: at(high).and_then(Value::as_f64),
        against: None,
    })
}

/// Judges each figure by a budget of its own, and holds what `check` says of it against what the result said.
fn agrees(bench: &Bench, capture: &str, asked: &[Asked]) {
    assert!(!asked.is_empty());
    for Asked { table, key, by, low, high, against } in asked {
        let unit = match key.split('.').next().unwrap() {
            "count" | "calls" | "value" => "",
            "rate" => " Hz",
            "load" | "self_share" => " %",
            _ => " s",
        };
        bench.write("one.toml", format!("[{table}]\n{key} = {{ limit = \"<= 99{unit}\"{by} }}\n"));
        let report = bench.run(&format!("check {capture} one.toml --format json"));
        assert_eq!(report.err, "", "{table}.{key}");
        let report: Value = serde_json::from_str(&report.out).unwrap();
        let judged = &report["budgets"][0];
        let same = |a: Option<f64>, b: Option<f64>| match (a, b) {
            (Some(a), Some(b)) => (a - b).abs() <= 1e-6 * a.abs().max(1e-9),
            (a, b) => a == b,
        };
        let known = [&judged["observed_low"], &judged["observed_high"]].map(Value::as_f64);
        assert!(
            same(known[0], Some(*low)) && same(known[1], *high),
            "{capture} {table}.{key}: {low} to {high:?}, and {judged}"
        );
        if let Some(against) = against {
            let objections = judged["objections"].as_array().cloned().unwrap_or_default();
            let mut codes: Vec<&str> =
                objections.iter().map(|one| one["code"].as_str().unwrap()).collect();
            codes.sort_unstable();
            assert_eq!(codes, *against, "{capture} {table}.{key}");
        }
    }
}

/// What a result says against a figure, by its words for programs.
fn against(row: &Value, kind: &str, statistic: &str) -> Vec<String> {
    let name = format!("{kind}.{statistic}");
    let touches = |objection: &&Value| {
        let figures = objection["figures"].as_array().unwrap();
        figures.iter().any(|figure| figure == kind || *figure == name)
    };
    let objections = row["objections"].as_array().map_or(&[][..], Vec::as_slice);
    let codes = objections.iter().filter(touches).map(|one| one["code"].as_str().unwrap());
    let mut codes: Vec<String> = codes.map(str::to_owned).collect();
    codes.sort_unstable();
    codes
}

#[test]
fn of_interrupts_tasks_spans_and_signals() {
    let bench = Bench::with_flow();
    let mut asked = Vec::new();
    let report = bench.json("interrupts buoy adc_ready gnss_pulse");
    let measures = ["own", "elapsed", "pending", "response", "period", "jitter"];
    let measures = measures.map(|measure| (measure, measure));
    for row in report["interrupts"].as_array().unwrap() {
        asked.extend(durations("interrupt", row, &measures).into_iter().step_by(3));
        asked.extend(single("interrupt", row, "count", ["count", "count_high"]));
        asked.extend(single("interrupt", row, "rate", ["rate_low", "rate_high"]));
        asked.extend(single("interrupt", row, "load", ["load.share_low", "load.share_high"]));
    }
    let report = bench.json("tasks buoy telemetry");
    for row in report["tasks"].as_array().unwrap() {
        asked.extend(durations("task", row, &measures).into_iter().step_by(2));
        let window = ["load.max.share_low", "load.max.share_high"];
        asked.extend(single("task", row, "load.max", window));
    }
    let report = bench.json("span buoy");
    for row in report["spans"].as_array().unwrap() {
        asked.extend(durations("span", row, &measures).into_iter().step_by(2));
    }
    let report = bench.json("signals buoy temperature");
    for row in report["signals"].as_array().unwrap() {
        asked.extend(durations("signal", row, &[("interval", "interval")]));
    }
    agrees(&bench, "buoy", &asked);
    let report = bench.json("interrupts buoy-flow SysTick");
    let row = &report["interrupts"][0];
    let asked: Vec<Asked> = durations("interrupt", row, &measures).into_iter().step_by(4).collect();
    agrees(&bench, "buoy-flow", &asked);
}

#[test]
fn of_functions() {
    let bench = Bench::with_flow();
    let report = bench.json("profile buoy");
    let named =
        |row: &&Value| ["wave_filter", "sine"].contains(&row["function"].as_str().unwrap_or(""));
    let share = |row: &Value| single("function", row, "self_share", ["share_low", "share_high"]);
    let rows = report["rows"].as_array().unwrap();
    let asked: Vec<Asked> = rows.iter().filter(named).filter_map(share).collect();
    agrees(&bench, "buoy", &asked);
    let report = bench.json("profile buoy-flow");
    let mut asked = Vec::new();
    for row in report["rows"].as_array().unwrap().iter().filter(named) {
        let measures =
            [("self_own", "self.own"), ("own", "total.own"), ("elapsed", "total.elapsed")];
        let statistics = durations("function", row, &measures).into_iter();
        asked.extend(statistics.filter(|asked| !asked.key.ends_with("stddev")).step_by(3));
        let share = ["self_share_low", "self_share_high"];
        asked.extend(single("function", row, "self_share", share));
    }
    agrees(&bench, "buoy-flow", &asked);
}
