//! The stand-in as a server, as a debugger and a probe meet it: every packet by hand, from the
//! protocol's manual alone.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::{self, JoinHandle};
use std::time::Duration;
use weltblick_standin::machine::Setup;
use weltblick_standin::serve::{Fault, Options, serve};
use weltblick_standin::{Machine, Program};

const FIRMWARE: &[u8] = include_bytes!("../../../demo/buoy/wave-buoy.elf");
const RUNNING: Options = Options {
    core_clock: 47_972_352,
    bit_rate: Some(2e6),
    fault: None,
    real_time: false,
    runs: false,
};

/// A served machine and both connections to it.
struct Served {
    stub: TcpStream,
    trace: TcpStream,
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Served {
    fn start(options: Options) -> Self {
        let listen = || TcpListener::bind("127.0.0.1:0").unwrap();
        let (trace, stub) = (listen(), listen());
        let addresses = (trace.local_addr().unwrap(), stub.local_addr().unwrap());
        let stop = Arc::new(AtomicBool::new(false));
        let seen = Arc::clone(&stop);
        let thread = thread::spawn(move || {
            let program = Program::parse(FIRMWARE).unwrap();
            let mut machine = Machine::new(&program, Setup::default()).unwrap();
            serve(&mut machine, options, &trace, &stub, &seen).unwrap();
        });
        let connect = |address| {
            let stream = TcpStream::connect(address).unwrap();
            stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
            stream
        };
        let (trace, stub) = (connect(addresses.0), connect(addresses.1));
        Self { stub, trace, stop, thread: Some(thread) }
    }

    fn send(&mut self, payload: &[u8]) {
        let sum = payload.iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
        self.stub.write_all(b"$").unwrap();
        self.stub.write_all(payload).unwrap();
        write!(self.stub, "#{sum:02x}").unwrap();
    }

    /// The payload of the next packet, escapes left as they are; acknowledgements are passed over.
    fn answer(&mut self) -> Vec<u8> {
        let mut byte = [0];
        while !matches!(byte[0], b'$' | b'%') {
            self.stub.read_exact(&mut byte).unwrap();
        }
        let mut payload = Vec::new();
        loop {
            self.stub.read_exact(&mut byte).unwrap();
            if byte[0] == b'#' {
                break;
            }
            payload.push(byte[0]);
        }
        self.stub.read_exact(&mut [0; 2]).unwrap();
        payload
    }

    fn ask(&mut self, payload: &str) -> String {
        self.send(payload.as_bytes());
        String::from_utf8(self.answer()).unwrap()
    }

    fn byte(&mut self) -> u8 {
        let mut byte = [0];
        self.stub.read_exact(&mut byte).unwrap();
        byte[0]
    }

    /// Switches samples on, as a debugger does.
    fn trace_samples(&mut self) {
        for (address, value) in [
            (0xe000_edfc_u32, 0x0100_0000_u32),
            (0xe004_0010, 23),
            (0xe000_0e80, 0x0001_000f),
            (0xe000_1000, 0x0000_1607),
        ] {
            let digits: String = value.to_le_bytes().iter().map(|b| format!("{b:02x}")).collect();
            assert_eq!(self.ask(&format!("M{address:x},4:{digits}")), "OK");
        }
    }

    fn trace_bytes(&mut self, count: usize) -> Vec<u8> {
        let mut bytes = vec![0; count];
        self.trace.read_exact(&mut bytes).unwrap();
        bytes
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

#[test]
fn acknowledges_until_it_is_told_not_to() {
    let mut served = Served::start(RUNNING);
    served.send(b"qC");
    assert_eq!(served.byte(), b'+');
    assert_eq!(served.answer(), b"QC1");
    // A wrong sum is refused, and `-` brings the last answer again.
    served.stub.write_all(b"$qC#00").unwrap();
    assert_eq!(served.byte(), b'-');
    served.stub.write_all(b"-").unwrap();
    assert_eq!(served.answer(), b"QC1");
    assert_eq!(served.ask("QStartNoAckMode"), "OK");
    served.send(b"qC");
    assert_eq!(served.byte(), b'$', "no acknowledgement any more");
}

#[test]
fn reads_and_writes_registers_and_memory() {
    let mut served = Served::start(RUNNING);
    let all = served.ask("g");
    assert_eq!(all.len(), 16 * 8);
    assert_eq!(&all[15 * 8..], &served.ask("pf"), "the program counter is the sixteenth");
    assert_eq!(served.ask("P3=78563412"), "OK");
    assert_eq!(served.ask("p3"), "78563412");
    assert_eq!(served.ask("p63"), "E01");
    assert_eq!(served.ask("M20000010,4:01020304"), "OK");
    assert_eq!(served.ask("m20000010,4"), "01020304");
    assert_eq!(served.ask("m20000011,2"), "0203");
    // Bytes as they are, with `#`, `$`, `}` and `*` escaped both ways.
    served.send(
        &[b"X20000010,4:".as_slice(), &[b'}', 0x03, b'}', 0x04, b'}', 0x5d, b'}', 0x0a]].concat(),
    );
    assert_eq!(served.answer(), b"OK");
    assert_eq!(served.ask("m20000010,4"), "23247d2a");
    served.send(b"x20000010,4");
    assert_eq!(served.answer(), [b'b', b'}', 0x03, b'}', 0x04, b'}', 0x5d, b'}', 0x0a]);
    for (request, answer) in [
        ("m90000000,4", "E01"),
        ("mzz,4", "E01"),
        ("M20000010,8:00", "E01"),
        ("mfffffffc,8", "E01"),
        ("vNoSuchThing", ""),
        ("!", ""),
    ] {
        assert_eq!(served.ask(request), answer, "{request}");
    }
}

#[test]
fn tells_of_itself_in_pieces() {
    let mut served = Served::start(RUNNING);
    assert!(served.ask("qSupported").contains("qXfer:features:read+"));
    let mut document = String::new();
    loop {
        let part = served.ask(&format!("qXfer:features:read:target.xml:{:x},64", document.len()));
        document.push_str(&part[1..]);
        if part.starts_with('l') {
            break;
        }
    }
    assert!(document.ends_with("</target>") && document.contains("m-profile"));
    assert!(served.ask("qXfer:memory-map:read::0,400").contains("0x20000000"));
    assert_eq!(served.ask("qXfer:features:read:target.xml:ffffff,64"), "l");
}

#[test]
fn runs_stops_and_breaks() {
    let mut served = Served::start(RUNNING);
    assert!(served.ask("?").starts_with("T05"));
    let program = Program::parse(FIRMWARE).unwrap();
    let (filter, _) = program.symbol("wave_filter").unwrap();
    assert_eq!(served.ask(&format!("Z1,{filter:x},2")), "OK");
    assert!(served.ask("vCont;c").starts_with("T05"));
    assert_eq!(served.ask("pf"), hex(filter));
    assert!(served.ask("s").starts_with("T05"));
    assert_ne!(served.ask("pf"), hex(filter));
    assert_eq!(served.ask(&format!("z1,{filter:x},2")), "OK");
    served.send(b"c");
    thread::sleep(Duration::from_millis(20));
    served.stub.write_all(&[0x03]).unwrap();
    assert!(served.answer().starts_with(b"T02"));
    // In non-stop mode memory is served while the target runs.
    assert_eq!(served.ask("QNonStop:1"), "OK");
    assert_eq!(served.ask("vCont;c"), "OK");
    let before = served.ask("me000101c,4");
    assert_eq!(before.len(), 8);
    assert_eq!(served.ask("vCont;t"), "OK");
    assert!(served.answer().starts_with(b"Stop:T00"));
}

fn hex(word: u32) -> String {
    word.to_le_bytes().iter().map(|byte| format!("{byte:02x}")).collect()
}

#[test]
fn a_reset_starts_again_at_the_reset_vector() {
    let mut served = Served::start(RUNNING);
    let start = served.ask("pf");
    served.send(b"c");
    thread::sleep(Duration::from_millis(20));
    served.stub.write_all(&[0x03]).unwrap();
    served.answer();
    assert_ne!(served.ask("pf"), start);
    // AIRCR.SYSRESETREQ with its key; without the key nothing happens.
    assert_eq!(served.ask("Me000ed0c,4:04000000"), "OK");
    assert_ne!(served.ask("pf"), start);
    assert_eq!(served.ask("Me000ed0c,4:0400fa05"), "OK");
    assert_eq!(served.ask("pf"), start);
}

#[test]
fn sends_trace_only_when_asked_and_noise_at_the_wrong_rate() {
    let mut served = Served::start(RUNNING);
    served.trace_samples();
    served.send(b"c");
    let sound = served.trace_bytes(20_000);
    assert!(sound.starts_with(&[0, 0, 0, 0, 0, 0x80]), "a synchronisation first");
    let mut wrong = Served::start(Options { fault: Some(Fault::Clock), ..RUNNING });
    wrong.trace_samples();
    wrong.send(b"c");
    let noise = wrong.trace_bytes(20_000);
    let alike = sound.iter().zip(&noise).filter(|(a, b)| a == b).count();
    assert!(alike < 8_000, "{alike} of 20000 alike");
}

#[test]
fn rubbish_from_a_debugger_does_no_harm() {
    let mut served = Served::start(RUNNING);
    let mut state = 7_u64;
    for _ in 0..200 {
        let mut bytes = vec![b'$'];
        for _ in 0..40 {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            bytes.push((state >> 33) as u8);
        }
        served.stub.write_all(&bytes).unwrap();
    }
    served.stub.write_all(b"#00").unwrap();
    // Whatever it took from that, it still answers.
    served.stub.write_all(&[0x03]).unwrap();
    served.stub.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
    let mut sink = [0; 4096];
    while served.stub.read(&mut sink).is_ok_and(|count| count > 0) {}
    served.stub.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    assert_eq!(served.ask("qC"), "QC1");
}
