//! What captures do to a target, held against the stand-in on the other side of its debug stub.

use super::buffer::Buffer;
use super::mtb::Mtb;
use super::readout::ReadOut;
use super::registers::{DEMCR, NO_PC, PC_SAMPLE, TRACE_ENABLE};
use super::setup::{self, Wanted, hold, refused};
use crate::sources::stub::Client;
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::{self, JoinHandle, sleep};
use std::time::Duration;
use weltblick_core::capture::What;
use weltblick_core::image::Image;
use weltblick_core::plan::Write;
use weltblick_standin::machine::Setup;
use weltblick_standin::serve::{Options, serve};
use weltblick_standin::{Machine, Program};

const FIRMWARE: &[u8] = include_bytes!("../../../../../demo/buoy/wave-buoy.elf");
const OTHER: &[u8] = include_bytes!("../../../tests/firmware/hot.elf");
/// Registers of the stand-in's buffers, and RAM that its firmware does not use.
const MTB: Mtb = Mtb { base: 0xe004_3000 };
const ETB: Buffer = Buffer::etb(0xe004_2000);
const ROOM: u32 = 0x1_0000;

/// A served target, and a debugger's end of its stub.
struct Target {
    client: Client,
    stop: Arc<AtomicBool>,
    served: Option<JoinHandle<()>>,
}

impl Target {
    fn start() -> Self {
        let listen = || TcpListener::bind("127.0.0.1:0").unwrap();
        let (trace, stub, stop) = (listen(), listen(), Arc::new(AtomicBool::new(false)));
        let address = stub.local_addr().unwrap().to_string();
        let stopped = Arc::clone(&stop);
        let served = thread::spawn(move || {
            let program = Program::parse(FIRMWARE).unwrap();
            let mut machine = Machine::new(&program, Setup::default()).unwrap();
            let core_clock = Setup::default().core_clock;
            let options =
                Options { core_clock, bit_rate: None, fault: None, real_time: true, runs: true };
            serve(&mut machine, options, &trace, &stub, &stopped).unwrap();
        });
        Self { client: Client::connect(&address).unwrap(), stop, served: Some(served) }
    }

    /// Lets it run for a while; it stands afterwards.
    fn run_for(&mut self, time: Duration) {
        self.client.go_on().unwrap();
        sleep(time);
        hold(&mut self.client).unwrap();
    }
}

impl Drop for Target {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(served) = self.served.take() {
            let _ = served.join();
        }
    }
}

fn write(name: &str, address: u32, value: u32) -> Write {
    Write { name: name.into(), address, value, mask: u32::MAX }
}

#[test]
fn a_target_that_runs_is_held_and_goes_on() {
    let mut target = Target::start();
    hold(&mut target.client).unwrap();
    assert!(target.client.non_stop);
    assert_eq!(target.client.word(PC_SAMPLE).unwrap(), NO_PC, "it stands");
    target.client.go_on().unwrap();
    let pc = target.client.word(PC_SAMPLE).unwrap();
    assert_eq!(pc >> 16, 0x0800, "{pc:#010x}");
    hold(&mut target.client).unwrap();
    hold(&mut target.client).unwrap();
    assert_eq!(target.client.word(PC_SAMPLE).unwrap(), NO_PC);
}

#[test]
fn what_is_written_is_journaled_and_looked_at_again() {
    let mut target = Target::start();
    let image = Image::parse(FIRMWARE).unwrap();
    let power = Write { mask: TRACE_ENABLE, ..write("DEMCR", DEMCR as u32, TRACE_ENABLE) };
    // Its trace privilege register has four bits.
    let writes = [power, write("ITM_TPR", 0xe000_0e40, 0xff), write("ITM_LAR", 0xe000_0fb0, 7)];
    let wanted = Wanted { image: Some(&image), reset: true, ..Wanted::default() };
    let mut done = setup::stop(&mut target.client, &wanted).unwrap();
    done.extend(setup::write(&mut target.client, &writes).unwrap());
    let words: Vec<What> = done.iter().map(|(what, _)| *what).collect();
    let written = What::RegisterWritten;
    assert_eq!(words, [What::Connected, What::Reset, written, written, written]);
    assert_eq!(refused(&done), ["ITM_TPR = 0x000000ff, reads back 0x0000000f"]);
    assert_eq!(target.client.word(DEMCR).unwrap() & TRACE_ENABLE, TRACE_ENABLE);
    // It stands at the reset vector, before the first instruction.
    let vector = target.client.word(0x0800_0004).unwrap() & !1;
    assert_eq!(target.client.program_counter().unwrap() & !1, u64::from(vector));
}

#[test]
fn a_plan_for_another_core_is_refused() {
    let mut target = Target::start();
    let wanted = |core: &str| Wanted { core: Some(core.parse().unwrap()), ..Wanted::default() };
    setup::stop(&mut target.client, &wanted("cortex-m3")).unwrap();
    let error = setup::stop(&mut target.client, &wanted("cortex-m33")).unwrap_err().to_string();
    assert!(error.starts_with("the target is a cortex-m3 (CPUID 0x412fc231), the plan"), "{error}");
}

#[test]
fn another_build_is_told_by_its_first_byte() {
    let mut target = Target::start();
    let image = Image::parse(OTHER).unwrap();
    let wanted = Wanted { image: Some(&image), ..Wanted::default() };
    let error = setup::stop(&mut target.client, &wanted).unwrap_err().to_string();
    assert!(error.starts_with("the target runs another build: at 0x0800"), "{error}");
}

#[test]
fn a_micro_trace_buffer_is_emptied_read_and_goes_on() {
    let mut target = Target::start();
    hold(&mut target.client).unwrap();
    let error = MTB.start(&mut target.client).unwrap_err().to_string();
    assert!(error.contains("its size is not set up"), "{error}");
    // 64 KiB: 8192 branches.
    let writes =
        [write("MTB_MASTER", 0xe004_3004, 12), write("MTB_POSITION", 0xe004_3000, ROOM | 0x48)];
    setup::write(&mut target.client, &writes).unwrap();
    MTB.start(&mut target.client).unwrap();
    for _ in 0..200 {
        target.client.step().unwrap();
    }
    let read = MTB.read_out(&mut target.client).unwrap();
    assert!(!read.wrapped && !read.bytes.is_empty() && read.bytes.len().is_multiple_of(8));
    assert_eq!(read.bytes[4] & 1, 1, "the first one since it was started");
    // It is empty again, and takes branches until it is full.
    target.run_for(Duration::from_millis(400));
    let full = MTB.read_out(&mut target.client).unwrap();
    assert!(full.wrapped && full.bytes.len() == 0x1_0000, "{}", full.bytes.len());
    assert!(MTB.read_out(&mut target.client).unwrap().bytes.is_empty(), "nothing ran meanwhile");
}

#[test]
fn a_trace_buffer_is_read_out_in_whole_frames() {
    let mut target = Target::start();
    let writes = [
        write("DEMCR", DEMCR as u32, TRACE_ENABLE),
        write("ITM_TCR", 0xe000_0e80, 0x0001_000f),
        write("DWT_CTRL", 0xe000_1000, 0x0001_1607),
    ];
    setup::stop(&mut target.client, &Wanted { reset: true, ..Wanted::default() }).unwrap();
    setup::write(&mut target.client, &writes).unwrap();
    let read_out = ReadOut::Chip(ETB);
    read_out.start(&mut target.client).unwrap();
    target.run_for(Duration::from_millis(5));
    let (read, what) = read_out.take(&mut target.client).unwrap();
    assert_eq!(what, What::ReadOut);
    assert!(read.bytes.len() >= 16 && read.bytes.len().is_multiple_of(16), "{}", read.bytes.len());
    read_out.go_on(&mut target.client).unwrap();
    target.run_for(Duration::from_millis(300));
    let (read, _) = read_out.take(&mut target.client).unwrap();
    assert!(read.wrapped && read.bytes.len() == 4096, "{}", read.bytes.len());
}
