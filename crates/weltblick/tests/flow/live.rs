//! Captures of instruction trace over TCP, set up through the debug stub, held against what the served target executed.

use crate::executed::{Executed, FIRMWARE, image};
use crate::recording::{ETM, Told};
use std::net::TcpListener;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use weltblick_core::plan::{Applied, ETM_TRACE_ID};
use weltblick_core::wire::tpiu::{Damage, Deframer, Sink, Start, TraceId};
use weltblick_standin::machine::Setup;
use weltblick_standin::serve::{Options, serve};
use weltblick_standin::{Machine, Model, Program};

const PLAN: &str = "--core-clock 47.972352MHz --image wave-buoy.elf --instructions --out plan.toml";

/// So many of the last instructions before an overflow may not have been sent.
const OPEN: usize = 64;

/// The instruction trace's bytes of a framed stream.
#[derive(Default)]
struct Deframed {
    bytes: Vec<u8>,
    losses: Vec<Damage>,
}

impl Sink for Deframed {
    fn data(&mut self, id: TraceId, bytes: &[u8], _: u64) {
        if id == ETM_TRACE_ID {
            self.bytes.extend_from_slice(bytes);
        }
    }
    fn loss(&mut self, _: std::ops::Range<u64>, why: Damage) {
        self.losses.push(why);
    }
    fn synchronised(&mut self, _: std::ops::Range<u64>) {}
}

/// Runs the program in a folder. A plan may say that it would not fit if the core never slept.
fn weltblick(folder: &Path, options: &str) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_weltblick"));
    let output = command.args(options.split_whitespace()).current_dir(folder).output().unwrap();
    let text = String::from_utf8_lossy(&output.stderr);
    let ended = output.status.code().unwrap();
    assert!(ended <= 1 && text.is_empty(), "weltblick {options}: {ended} {text}");
}

/// Plans, captures and returns the plan, what arrived, and the machine that ran.
fn capture(model: Model, link: &str, narrow: &str) -> (Applied, Deframed, Machine) {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("wave-buoy.elf"), FIRMWARE).unwrap();
    weltblick(folder.path(), &format!("plan --core {model} {link} {narrow} {PLAN}"));
    let listen = || TcpListener::bind("127.0.0.1:0").unwrap();
    let (trace, stub, stop) = (listen(), listen(), Arc::new(AtomicBool::new(false)));
    let addresses = [&trace, &stub].map(|listener| listener.local_addr().unwrap());
    let stopped = Arc::clone(&stop);
    let served = thread::spawn(move || {
        let setup = Setup { model, ..Setup::default() };
        let mut machine = Machine::new(&Program::parse(FIRMWARE).unwrap(), setup).unwrap();
        machine.keep_addresses();
        let core_clock = setup.core_clock;
        let bit_rate = Some(setup.core_clock as f64);
        let options = Options { core_clock, bit_rate, fault: None, real_time: false, runs: false };
        serve(&mut machine, options, &trace, &stub, &stopped).unwrap();
        machine
    });
    let [trace, stub] = addresses;
    let options = format!(
        "capture tcp:{trace} stub:{stub} --reset --plan plan.toml --image wave-buoy.elf --bytes 40kB --out run --quiet"
    );
    weltblick(folder.path(), &options);
    stop.store(true, Ordering::Relaxed);
    let machine = served.join().unwrap();
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    let plan = String::from_utf8(read("plan.toml")).unwrap();
    let mut deframed = Deframed::default();
    let mut deframer = Deframer::new(Start::Anywhere);
    deframer.push(&read("run/trace.000000.bin"), &mut deframed);
    deframer.finish(&mut deframed);
    (Applied::parse("plan.toml", &plan).unwrap(), deframed, machine)
}

/// Every instruction that was read is the one that ran, from the first one that was traced on.
fn compare(model: Model, link: &str, narrow: &str) {
    let (plan, deframed, machine) = capture(model, link, narrow);
    // Frames go on being sent after the last byte that was taken.
    let cut = deframed.losses.iter().all(|why| *why == Damage::CutOff);
    assert!(cut, "{model}: {:?}", deframed.losses);
    let written = |offset: u32| {
        let write = plan.writes.iter().rev().find(|write| write.address == ETM + offset);
        write.unwrap().value
    };
    let is_v3 = matches!(model, Model::CortexM3 | Model::CortexM4);
    let told = if is_v3 { Told::etmv3(written(0)) } else { Told::Etmv4(written(0x010)) };
    let image = image();
    let mut executed = Executed::new(&image);
    told.follow(&image, &[], (&deframed.bytes, 0), &mut executed);
    let truth = machine.truth().addresses.as_ref().unwrap();
    let traced = machine.trace().etm().segments();
    let few = &executed.gaps[..executed.gaps.len().min(3)];
    assert!(executed.segments.len() <= traced.len(), "{model}: {few:?}");
    let mut count = 0;
    for (number, (found, traced)) in executed.segments.iter().zip(traced).enumerate() {
        let first = traced.first as usize;
        let there = &truth[first..first + traced.told as usize];
        let is_last = number + 1 == executed.segments.len();
        let is_whole = is_last || there.len() <= found.len() + OPEN;
        assert!(
            there.starts_with(found) && is_whole,
            "{model} {link} {narrow}: segment {number}; {few:?}"
        );
        count += found.len();
    }
    assert!(count > 10_000, "{model} {link} {narrow}: {count} instructions");
}

const PORT: &str = "--link port --port-width 4 --port-clock 24MHz";

#[test]
fn each_core_s_trace_through_a_port_is_what_ran() {
    for model in Model::ALL {
        compare(model, PORT, "");
    }
}

#[test]
fn comparators_of_each_core_choose_what_is_traced() {
    for model in Model::ALL {
        compare(model, PORT, "--inside wave_filter");
        compare(model, PORT, "--window adc_ready_handler..sampler.c:29");
    }
}

#[test]
fn instructions_beside_the_itm_go_through_a_port_and_a_serial_wire() {
    for model in [Model::CortexM3, Model::CortexM33] {
        let beside = "--interrupt SysTick=1kHz --pc-sample-period 16384";
        compare(model, PORT, beside);
        compare(
            model,
            "--link uart --bit-rate 47972352bit/s",
            &format!("{beside} --inside wave_filter"),
        );
    }
}
