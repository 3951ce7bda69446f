//! A folder with the demo's data, and ways to run the program in it.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::{PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};
use tempfile::TempDir;
use weltblick_standin::Program;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::{TraceSetup, record};

pub(crate) const FIRMWARE: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");
pub(crate) const TRACE: &[u8] = include_bytes!("../../../../demo/buoy/swo.bin");
const MANIFEST: &str = include_str!("../../../../demo/buoy/capture.toml");
const BUDGETS: &str = include_str!("../../../../demo/budgets.toml");

/// The capture with an instruction trace, and a piece of the firmware's source.
pub(crate) const INSTRUCTIONS: &[u8] = include_bytes!("../../../../demo/buoy-flow/etm.bin");
pub(crate) const FLOW_MANIFEST: &str = include_str!("../../../../demo/buoy-flow/capture.toml");
const ATOMS: &[u8] = include_bytes!("../../../../demo/buoy-etmv3/etm.bin");
const ATOMS_MANIFEST: &str = include_str!("../../../../demo/buoy-etmv3/capture.toml");
pub(crate) const BRANCHES: &[u8] = include_bytes!("../../../../demo/buoy-mtb/mtb.bin");
const BRANCHES_MANIFEST: &str = include_str!("../../../../demo/buoy-mtb/capture.toml");
const PORT: &[u8] = include_bytes!("../../../../demo/buoy-port/port.bin");
const PORT_MANIFEST: &str = include_str!("../../../../demo/buoy-port/capture.toml");
const FILTER: &str = include_str!("../../../../demo/firmware/src/dsp/filter.c");

/// A temporary folder, current for every command.
pub(crate) struct Bench {
    folder: TempDir,
    _turn: Turn,
}

/// Tests in real time run alone: beside others they would measure the machine.
static TURNS: RwLock<()> = RwLock::new(());

thread_local! {
    /// This thread has its turn already: a second bench needs none.
    static HAS_TURN: Cell<bool> = const { Cell::new(false) };
}

/// Until it is dropped.
enum Turn {
    Shared { _guard: RwLockReadGuard<'static, ()> },
    Alone { _guard: RwLockWriteGuard<'static, ()> },
    Inner,
}

impl Turn {
    fn take(alone: bool) -> Self {
        if HAS_TURN.replace(true) {
            return Self::Inner;
        }
        // Another test that failed says nothing of this one.
        if alone {
            Self::Alone { _guard: TURNS.write().unwrap_or_else(PoisonError::into_inner) }
        } else {
            Self::Shared { _guard: TURNS.read().unwrap_or_else(PoisonError::into_inner) }
        }
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        if matches!(self, Self::Shared { .. } | Self::Alone { .. }) {
            HAS_TURN.set(false);
        }
    }
}

/// How a command ended.
#[derive(Debug)]
pub(crate) struct Ended {
    pub(crate) code: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Ended {
    /// A live capture went well. On a machine that is busy with other things the first bytes may
    /// come late, and the program may say so.
    pub(crate) fn succeeded(&self) {
        let late = |line: &str| {
            line.starts_with("! The recording is empty") || line.starts_with("  -> Check that")
        };
        let other: Vec<&str> = self.err.lines().filter(|line| !late(line)).collect();
        assert_eq!((self.code, other), (0, Vec::new()), "{}\n{}", self.out, self.err);
    }
}

impl Bench {
    /// With the capture `buoy/` and `budgets.toml`.
    pub(crate) fn new() -> Self {
        Self::with(Turn::take(false))
    }

    /// The same, with no other test beside.
    pub(crate) fn alone() -> Self {
        Self::with(Turn::take(true))
    }

    fn with(turn: Turn) -> Self {
        let bench = Self { folder: TempDir::new().unwrap(), _turn: turn };
        bench.write("buoy/wave-buoy.elf", FIRMWARE);
        bench.write("buoy/swo.bin", TRACE);
        bench.write("buoy/capture.toml", MANIFEST);
        bench.write("budgets.toml", BUDGETS);
        bench
    }

    /// With the captures of other trace units, too.
    pub(crate) fn with_all_flows() -> Self {
        let bench = Self::with_flow();
        for (folder, file, bytes, manifest) in [
            ("buoy-etmv3", "etm.bin", ATOMS, ATOMS_MANIFEST),
            ("buoy-mtb", "mtb.bin", BRANCHES, BRANCHES_MANIFEST),
            ("buoy-port", "port.bin", PORT, PORT_MANIFEST),
        ] {
            bench.write(&format!("{folder}/wave-buoy.elf"), FIRMWARE);
            bench.write(&format!("{folder}/{file}"), bytes);
            bench.write(&format!("{folder}/capture.toml"), manifest);
        }
        bench
    }

    /// With the capture `buoy-flow/`, too, and some source in `firmware/`.
    pub(crate) fn with_flow() -> Self {
        let bench = Self::new();
        bench.write("buoy-flow/wave-buoy.elf", FIRMWARE);
        bench.write("buoy-flow/etm.bin", INSTRUCTIONS);
        bench.write("buoy-flow/capture.toml", FLOW_MANIFEST);
        bench.write("firmware/src/dsp/filter.c", FILTER);
        bench
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, bytes: impl AsRef<[u8]>) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    /// Holds the numbers of `COMMAND buoy --each` within a window of time against those of the whole recording.
    pub(crate) fn each_has_the_number_of_the_recording(&self, command: &str, subject: &str) {
        let ends = |within: &str| -> BTreeMap<(String, u64), String> {
            let rows = self.json(&format!("{command} buoy --each {within}"));
            let row = |row: &serde_json::Value| {
                let name = row[subject].as_str().unwrap().to_owned();
                ((name, row["number"].as_u64().unwrap()), row["ended_ns"].to_string())
            };
            rows.as_array().unwrap().iter().map(row).collect()
        };
        let (all, some) = (ends(""), ends("--within 1.2s..1.7s"));
        assert!(some.len() > 20 && some.len() < all.len() / 2, "{}", some.len());
        for (run, ended) in &some {
            assert_eq!(all.get(run), Some(ended), "{run:?}");
        }
        let report = self.json(&format!("{command} buoy --worst 2 --within 1.2s..1.7s"));
        let cases = report[command][0]["worst"].as_array().unwrap().clone();
        assert!(!cases.is_empty());
        let name = report[command][0]["name"].as_str().unwrap();
        for case in cases {
            let run = (name.to_owned(), case["number"].as_u64().unwrap());
            assert_eq!(all.get(&run), Some(&case["ended_ns"].to_string()), "{run:?}");
        }
    }

    pub(crate) fn read(&self, name: &str) -> Vec<u8> {
        fs::read(self.path(name)).unwrap()
    }

    /// Changes the manifest by replacing a piece that must be there.
    pub(crate) fn edit_manifest(&self, from: &str, to: &str) {
        assert!(MANIFEST.contains(from), "{from}");
        self.write("buoy/capture.toml", MANIFEST.replace(from, to));
    }

    /// The program with a fixed environment.
    pub(crate) fn command(&self, arguments: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_weltblick"));
        command.args(arguments.split_whitespace()).current_dir(self.folder.path());
        command.env_clear().env("LC_ALL", "C.UTF-8").stdin(Stdio::null());
        command
    }

    /// Runs the program to its end.
    pub(crate) fn run(&self, arguments: &str) -> Ended {
        ended(self.command(arguments).output().unwrap())
    }

    /// Runs it, and expects success and silence on standard error.
    pub(crate) fn out(&self, arguments: &str) -> String {
        let ended = self.run(arguments);
        assert_eq!((ended.code, ended.err.as_str()), (0, ""), "{arguments}\n{}", ended.out);
        ended.out
    }

    /// The same with a cache folder, `cache/`.
    pub(crate) fn out_cached(&self, arguments: &str) -> String {
        let mut command = self.command(arguments);
        let ended = ended(command.env("XDG_CACHE_HOME", self.path("cache")).output().unwrap());
        assert_eq!((ended.code, ended.err.as_str()), (0, ""), "{arguments}\n{}", ended.out);
        ended.out
    }

    /// Runs it, and expects one clear error.
    pub(crate) fn error(&self, arguments: &str) -> String {
        let ended = self.run(arguments);
        assert_eq!((ended.code, ended.out.as_str()), (2, ""), "{arguments}\n{}", ended.err);
        assert!(!ended.err.contains("panicked") && !ended.err.contains('\u{1b}'), "{}", ended.err);
        ended.err
    }

    /// Runs it with `--format json`.
    pub(crate) fn json(&self, arguments: &str) -> serde_json::Value {
        serde_json::from_str(&self.run(&format!("{arguments} --format json")).out).unwrap()
    }
}

pub(crate) fn ended(output: Output) -> Ended {
    Ended {
        code: output.status.code().expect("no signal ends it"),
        out: String::from_utf8(output.stdout).unwrap(),
        err: String::from_utf8(output.stderr).unwrap(),
    }
}

/// A recording of the demo firmware with another set-up.
pub(crate) fn recorded(setup: Setup, trace: TraceSetup, seconds: f64) -> Vec<u8> {
    let program = Program::parse(FIRMWARE).unwrap();
    let cycles = (seconds * setup.core_clock as f64) as u64;
    record(&program, setup, trace, cycles).unwrap().1
}

/// Writes a file of `size` bytes that repeats `bytes`, without holding it in memory.
pub(crate) fn write_repeated(path: &Path, bytes: &[u8], size: usize) {
    use std::io::Write as _;
    let mut file = std::io::BufWriter::new(fs::File::create(path).unwrap());
    let mut left = size;
    while left > 0 {
        let now = left.min(bytes.len());
        file.write_all(&bytes[..now]).unwrap();
        left -= now;
    }
}
