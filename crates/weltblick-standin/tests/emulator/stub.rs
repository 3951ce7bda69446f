//! A small client of the GDB Remote Serial Protocol (*Debugging with GDB*, appendix E): as much as
//! stepping and comparing needs.

use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

/// An emulated Cortex-M3 board, halted.
pub(crate) struct Emulator {
    child: Child,
    stream: UnixStream,
    socket: PathBuf,
}

static NUMBER: AtomicU32 = AtomicU32::new(0);

impl Emulator {
    /// Starts the emulator with `elf` in its memory; `None` if it is not installed.
    pub(crate) fn start(elf: &str) -> Option<Self> {
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        let name = format!("weltblick-stub-{}-{number}", std::process::id());
        let socket = std::env::temp_dir().join(name);
        let _ = std::fs::remove_file(&socket);
        let device = format!("socket,path={},server=on,wait=off,id=gdb", socket.display());
        let child = Command::new("qemu-system-arm")
            .args(["-M", "mps2-an385", "-nographic", "-monitor", "none", "-serial", "none", "-S"])
            .args(["-chardev", &device, "-gdb", "chardev:gdb", "-kernel", elf])
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .ok()?;
        let stream = connect(&socket);
        let mut emulator = Self { child, stream, socket };
        // Asking for the target description switches old coprocessor registers off and writing on.
        emulator.ask("qSupported:xmlRegisters=arm");
        assert!(emulator.ask("qXfer:features:read:target.xml:0,ffb").contains("target"));
        Some(emulator)
    }

    /// R0 to R15 and the status register.
    pub(crate) fn registers(&mut self) -> [u32; 17] {
        let reply = self.ask("g");
        std::array::from_fn(|number| hex_word(&reply[8 * number..8 * number + 8]))
    }

    /// Sets all registers.
    pub(crate) fn set(&mut self, low: &[u32; 13], sp: u32, lr: u32, pc: u32, status: u32) {
        for (number, &value) in low.iter().chain(&[sp, lr, pc]).enumerate() {
            self.set_register(number, value);
        }
        self.set_register(25, status);
    }

    fn set_register(&mut self, number: usize, value: u32) {
        let reply = self.ask(&format!("P{number:x}={:08x}", value.swap_bytes()));
        assert_eq!(reply, "OK", "register {number}");
    }

    /// One word of memory.
    pub(crate) fn word(&mut self, address: u32) -> u32 {
        hex_word(&self.ask(&format!("m{address:x},4")))
    }

    /// Writes two halfwords of code.
    pub(crate) fn write_code(&mut self, address: u32, first: u16, second: u16) {
        let bytes = [first.to_le_bytes(), second.to_le_bytes()].concat();
        let hex: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(self.ask(&format!("M{address:x},4:{hex}")), "OK");
    }

    /// Executes one instruction.
    pub(crate) fn step(&mut self) {
        let reply = self.ask("s");
        assert!(reply.starts_with('T') || reply.starts_with('S'), "stopped with {reply}");
    }

    fn ask(&mut self, request: &str) -> String {
        let sum = request.bytes().fold(0_u8, u8::wrapping_add);
        write!(self.stream, "${request}#{sum:02x}").unwrap();
        let mut reply = Vec::new();
        let mut byte = [0];
        // The acknowledgement of the request stands before the packet.
        while byte[0] != b'$' {
            self.stream.read_exact(&mut byte).unwrap();
        }
        loop {
            self.stream.read_exact(&mut byte).unwrap();
            if byte[0] == b'#' {
                break;
            }
            reply.push(byte[0]);
        }
        self.stream.read_exact(&mut [0; 2]).unwrap();
        self.stream.write_all(b"+").unwrap();
        expand(&String::from_utf8_lossy(&reply))
    }
}

/// Run-length encoding: `*` and a character that says how often the one before it repeats.
fn expand(text: &str) -> String {
    let mut whole = String::new();
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        if c == '*' {
            let count = chars.next().unwrap() as u32 - 29;
            let last = whole.chars().last().unwrap();
            whole.extend((0..count).map(|_| last));
        } else {
            whole.push(c);
        }
    }
    whole
}

fn hex_word(hex: &str) -> u32 {
    u32::from_str_radix(hex, 16).unwrap().swap_bytes()
}

fn connect(socket: &PathBuf) -> UnixStream {
    let started = Instant::now();
    loop {
        match UnixStream::connect(socket) {
            Ok(stream) => return stream,
            Err(error) if started.elapsed() > Duration::from_secs(20) => {
                panic!("the emulator does not answer: {error}")
            }
            Err(_) => std::thread::sleep(Duration::from_millis(20)),
        }
    }
}

impl Drop for Emulator {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = std::fs::remove_file(&self.socket);
    }
}
