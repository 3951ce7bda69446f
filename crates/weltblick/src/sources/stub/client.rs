//! A debugger's end of the GDB Remote Serial Protocol: one request, one answer, in bounded time.

use super::error::{PATIENCE, Result, StubError};
use super::packet::{Damage, Framer, Received, hex, packet, unhex};
use std::collections::VecDeque;
use std::io::{self, ErrorKind, Read as _, Write as _};
use std::net::{TcpStream, ToSocketAddrs};
use std::thread::sleep;
use std::time::{Duration, Instant};

/// Shorter times than this the system does not keep by itself.
const COARSE: Duration = Duration::from_millis(10);
/// Looked at so often instead.
const NAP: Duration = Duration::from_micros(100);
/// A damaged packet is asked for again so often.
const MOST_TRIES: u32 = 3;
/// Bytes of memory in one packet, unless the stub says that it takes less.
const MOST_AT_ONCE: usize = 2048;
/// Notices that are kept until somebody asks.
const MOST_NOTICES: usize = 64;

/// A connection to a stub.
#[derive(Debug)]
pub(crate) struct Client {
    stream: TcpStream,
    framer: Framer,
    received: VecDeque<std::result::Result<Received, Damage>>,
    notices: VecDeque<Vec<u8>>,
    acknowledges: bool,
    /// Bytes of memory in one packet.
    at_once: usize,
    features: String,
    /// Memory can be read as bytes (`x`) instead of digits.
    binary: bool,
    /// The stub serves requests while the target runs.
    pub(crate) non_stop: bool,
    /// The number of the program counter among the registers.
    pc_number: u32,
    /// Where the target has memory, if the stub says so.
    pub(crate) memory: Vec<std::ops::Range<u64>>,
}

impl Client {
    /// Connects and agrees on what both sides can do.
    pub(crate) fn connect(address: &str) -> Result<Self> {
        let stream = connect(address)?;
        stream.set_nodelay(true)?;
        stream.set_write_timeout(Some(PATIENCE))?;
        let mut client = Self {
            stream,
            framer: Framer::default(),
            received: VecDeque::new(),
            notices: VecDeque::new(),
            acknowledges: true,
            at_once: MOST_AT_ONCE,
            features: String::new(),
            binary: false,
            non_stop: false,
            pc_number: 15,
            memory: Vec::new(),
        };
        client.agree()?;
        Ok(client)
    }

    fn agree(&mut self) -> Result<()> {
        let features = self.introduce()?;
        for feature in features.split(';') {
            if let Some(size) = feature.strip_prefix("PacketSize=")
                && let Ok(size) = usize::from_str_radix(size, 16)
            {
                // Two digits a byte, and room for the request around them.
                self.at_once = (size / 2).saturating_sub(32).clamp(16, MOST_AT_ONCE);
            }
        }
        self.features = features;
        if self.offers("QStartNoAckMode+") && self.ask_text("QStartNoAckMode")? == "OK" {
            self.acknowledges = false;
        }
        self.binary = self.offers("binary-upload+");
        if self.offers("qXfer:features:read+") {
            let found = super::description::pc_number(|annex| self.transfer("features", annex));
            self.pc_number = found?.unwrap_or(self.pc_number);
        }
        if self.offers("qXfer:memory-map:read+") {
            let map = self.transfer("memory-map", "")?;
            self.memory = super::description::memory_map(&map);
        }
        Ok(())
    }

    /// The first request. A stub that keeps silent may serve a target that runs: it is stopped.
    fn introduce(&mut self) -> Result<String> {
        const REQUEST: &str = "qSupported:xmlRegisters=arm;vContSupported+";
        self.send(REQUEST.as_bytes())?;
        let soon = Instant::now() + Duration::from_secs(1);
        let answer = match self.answer(REQUEST.as_bytes(), soon)? {
            Some(answer) if !is_stop(&answer) => answer,
            _ => {
                self.stream.write_all(&[0x03])?;
                self.drain(Duration::from_millis(200))?;
                self.ask(REQUEST.as_bytes())?
            }
        };
        Ok(String::from_utf8_lossy(&answer).into_owned())
    }

    fn offers(&self, feature: &str) -> bool {
        self.features.split(';').any(|offered| offered == feature)
    }

    /// A document in pieces (`qXfer`).
    fn transfer(&mut self, object: &str, annex: &str) -> Result<String> {
        const LARGEST: usize = 256 * 1024;
        let mut document = Vec::new();
        loop {
            let request = format!("qXfer:{object}:read:{annex}:{:x},{:x}", document.len(), 1024);
            let answer = self.ask(request.as_bytes())?;
            match answer.split_first() {
                Some((b'm', part)) if !part.is_empty() && document.len() < LARGEST => {
                    document.extend_from_slice(part);
                }
                Some((b'l', part)) => {
                    document.extend_from_slice(part);
                    return Ok(String::from_utf8_lossy(&document).into_owned());
                }
                _ => return Err(nonsense(&request, &answer)),
            }
        }
    }

    /// One request, one answer.
    pub(crate) fn ask(&mut self, request: &[u8]) -> Result<Vec<u8>> {
        self.send(request)?;
        let deadline = Instant::now() + PATIENCE;
        let silent = || StubError::Silent(shorten(request));
        self.answer(request, deadline)?.ok_or_else(silent)
    }

    fn ask_text(&mut self, request: &str) -> Result<String> {
        let answer = self.ask(request.as_bytes())?;
        Ok(String::from_utf8_lossy(&answer).into_owned())
    }

    fn send(&mut self, request: &[u8]) -> Result<()> {
        self.stream.write_all(&packet(request)).map_err(Into::into)
    }

    /// The next answer, if it comes in time. Damaged ones are asked for again.
    fn answer(&mut self, request: &[u8], deadline: Instant) -> Result<Option<Vec<u8>>> {
        let mut tries = 0;
        while let Some(received) = self.receive(deadline)? {
            match received {
                Ok(Received::Packet(payload)) => {
                    if self.acknowledges {
                        self.stream.write_all(b"+")?;
                    }
                    return Ok(Some(payload));
                }
                Ok(Received::Notice(payload)) => self.note(payload),
                Ok(Received::Acknowledged) => {}
                Ok(Received::Refused) => {
                    tries += 1;
                    if tries > MOST_TRIES {
                        return Err(StubError::Damaged(Damage::Checksum));
                    }
                    self.send(request)?;
                }
                Err(damage) => {
                    tries += 1;
                    if tries > MOST_TRIES || !self.acknowledges || damage == Damage::TooLong {
                        return Err(StubError::Damaged(damage));
                    }
                    self.stream.write_all(b"-")?;
                }
            }
        }
        Ok(None)
    }

    fn note(&mut self, payload: Vec<u8>) {
        if self.notices.len() < MOST_NOTICES {
            self.notices.push_back(payload);
        }
    }

    /// Whatever comes next before the deadline.
    fn receive(
        &mut self,
        deadline: Instant,
    ) -> Result<Option<std::result::Result<Received, Damage>>> {
        let mut bytes = [0; 4096];
        loop {
            if let Some(received) = self.received.pop_front() {
                return Ok(Some(received));
            }
            let left = deadline.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(None);
            }
            match self.read_within(&mut bytes, left) {
                Ok(0) => return Err(StubError::Closed),
                Ok(count) => {
                    let found = bytes[..count].iter().filter_map(|&byte| self.framer.push(byte));
                    self.received.extend(found);
                }
                Err(error) if is_pause(&error) => {}
                Err(error) => return Err(error.into()),
            }
        }
    }

    /// Reads what comes; nothing, as an error, if nothing comes within that time, or a little sooner.
    fn read_within(&self, bytes: &mut [u8], left: Duration) -> io::Result<usize> {
        let mut stream = &self.stream;
        if left > COARSE {
            stream.set_read_timeout(Some(left - COARSE / 2))?;
            return stream.read(bytes);
        }
        // Timeouts of connections are rounded up to several milliseconds, which a sample that is due
        // cannot wait for: the last bit of the way is gone in short naps.
        stream.set_nonblocking(true)?;
        let read = stream.read(bytes);
        stream.set_nonblocking(false)?;
        if read.as_ref().is_err_and(is_pause) {
            sleep(left.min(NAP));
        }
        read
    }

    /// Lets the stub serve requests while the target runs, if it can.
    pub(crate) fn use_non_stop(&mut self) -> Result<bool> {
        if self.offers("QNonStop+") && self.ask_text("QNonStop:1")? == "OK" {
            self.non_stop = true;
        }
        Ok(self.non_stop)
    }

    /// Lets the target run.
    pub(crate) fn go_on(&mut self) -> Result<()> {
        if self.non_stop {
            let answer = self.ask_text("vCont;c")?;
            return if answer == "OK" {
                Ok(())
            } else {
                Err(nonsense("vCont;c", answer.as_bytes()))
            };
        }
        self.send(if self.offers("vContSupported+") { b"vCont;c" } else { b"c" })
    }

    /// Executes one instruction of a target that stands.
    pub(crate) fn step(&mut self) -> Result<()> {
        let answer = self.ask(b"vCont;s")?;
        let answer = if answer.is_empty() { self.ask(b"s")? } else { answer };
        if self.non_stop {
            self.wait_until_stopped(PATIENCE)?;
            return Ok(());
        }
        if is_stop(&answer) { Ok(()) } else { Err(nonsense("vCont;s", &answer)) }
    }

    /// Whether the target stops within that time.
    pub(crate) fn wait_until_stopped(&mut self, patience: Duration) -> Result<bool> {
        let deadline = Instant::now() + patience;
        loop {
            if let Some(at) = self.notices.iter().position(|notice| is_stop_notice(notice)) {
                self.notices.remove(at);
                // One notice is the whole queue: there is one core.
                let _ = self.ask(b"vStopped")?;
                return Ok(true);
            }
            match self.receive(deadline)? {
                None => return Ok(false),
                Some(Ok(Received::Packet(payload))) => {
                    if self.acknowledges {
                        self.stream.write_all(b"+")?;
                    }
                    if is_stop(&payload) {
                        return Ok(true);
                    }
                }
                Some(Ok(Received::Notice(payload))) => self.note(payload),
                Some(Ok(_)) => {}
                Some(Err(damage)) => return Err(StubError::Damaged(damage)),
            }
        }
    }

    /// Stops the target.
    pub(crate) fn stop(&mut self) -> Result<()> {
        if self.non_stop {
            let answer = self.ask_text("vCont;t")?;
            if answer != "OK" {
                return Err(StubError::Unsupported("stop the target (`vCont;t`)"));
            }
        } else {
            self.stream.write_all(&[0x03])?;
        }
        if self.wait_until_stopped(PATIENCE)? {
            return Ok(());
        }
        Err(StubError::Silent("stop".into()))
    }

    /// Whether memory can be read while the target runs; it runs already. A stub that stops the
    /// target for it is let run again.
    pub(crate) fn reads_while_running(&mut self, address: u64) -> Result<bool> {
        if self.non_stop {
            return Ok(true);
        }
        let request = format!("m{address:x},4");
        self.send(request.as_bytes())?;
        let deadline = Instant::now() + Duration::from_millis(300);
        match self.answer(request.as_bytes(), deadline)? {
            Some(answer) if is_stop(&answer) => {
                self.go_on()?;
                Ok(false)
            }
            Some(answer) => Ok(answer.len() == 8 && unhex(&answer).is_some()),
            None => {
                // It may have kept the request for later: its answer must not be taken for another's.
                self.stop()?;
                self.drain(Duration::from_millis(200))?;
                self.go_on()?;
                Ok(false)
            }
        }
    }

    /// Throws away what comes within that time.
    fn drain(&mut self, patience: Duration) -> Result<()> {
        let deadline = Instant::now() + patience;
        while self.receive(deadline)?.is_some() {}
        Ok(())
    }

    /// Reads memory.
    pub(crate) fn read(&mut self, address: u64, length: usize) -> Result<Vec<u8>> {
        let mut bytes = Vec::with_capacity(length.min(1 << 20));
        while bytes.len() < length {
            let count = (length - bytes.len()).min(self.at_once);
            let part = self.read_part(address + bytes.len() as u64, count)?;
            bytes.extend_from_slice(&part);
        }
        Ok(bytes)
    }

    fn read_part(&mut self, address: u64, count: usize) -> Result<Vec<u8>> {
        let letter = if self.binary { 'x' } else { 'm' };
        let request = format!("{letter}{address:x},{count:x}");
        let answer = self.ask(request.as_bytes())?;
        let what = || format!("to read {count} bytes at {address:#010x}");
        check_error(&answer, what)?;
        let bytes = if self.binary {
            answer.strip_prefix(b"b").map(<[u8]>::to_vec)
        } else {
            unhex(&answer)
        };
        // Fewer bytes than asked for are allowed, but none, or more, are not.
        match bytes {
            Some(bytes) if !bytes.is_empty() && bytes.len() <= count => Ok(bytes),
            _ => Err(nonsense(&request, &answer)),
        }
    }

    /// Reads a word.
    pub(crate) fn word(&mut self, address: u64) -> Result<u32> {
        let bytes = self.read(address, 4)?;
        Ok(u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]))
    }

    /// Writes a word.
    pub(crate) fn write_word(&mut self, address: u64, value: u32) -> Result<()> {
        let request = format!("M{address:x},4:{}", hex(&value.to_le_bytes()));
        let answer = self.ask(request.as_bytes())?;
        check_error(&answer, || format!("to write {address:#010x}"))?;
        if answer.is_empty() {
            return self.write_binary(address, value);
        }
        if answer == b"OK" { Ok(()) } else { Err(nonsense(&request, &answer)) }
    }

    /// Some stubs take bytes only.
    fn write_binary(&mut self, address: u64, value: u32) -> Result<()> {
        let mut request = format!("X{address:x},4:").into_bytes();
        request.extend(value.to_le_bytes());
        let answer = self.ask(&request)?;
        check_error(&answer, || format!("to write {address:#010x}"))?;
        if answer == b"OK" { Ok(()) } else { Err(StubError::Unsupported("write memory")) }
    }

    /// The program counter of a target that stands.
    pub(crate) fn program_counter(&mut self) -> Result<u64> {
        let request = format!("p{:x}", self.pc_number);
        let answer = self.ask(request.as_bytes())?;
        let bytes = if answer.is_empty() {
            // Without `p` there is `g`: all registers in one row.
            let all = unhex(&self.ask(b"g")?).unwrap_or_default();
            let at = self.pc_number as usize * 4;
            all.get(at..at + 4).map(<[u8]>::to_vec)
        } else {
            check_error(&answer, || "to tell the program counter".to_owned())?;
            unhex(&answer)
        };
        let bytes = bytes.filter(|bytes| matches!(bytes.len(), 4 | 8));
        let bytes = bytes.ok_or_else(|| nonsense(&request, &answer))?;
        Ok(bytes.iter().rev().fold(0, |value, &byte| value << 8 | u64::from(byte)))
    }

    /// Sets or takes away a breakpoint, in hardware if that can be.
    pub(crate) fn set_break(&mut self, address: u64, on: bool) -> Result<()> {
        let letter = if on { 'Z' } else { 'z' };
        for kind in [1, 0] {
            let answer = self.ask(format!("{letter}{kind},{address:x},2").as_bytes())?;
            if answer == b"OK" {
                return Ok(());
            }
        }
        Err(StubError::Unsupported("set breakpoints"))
    }

    /// A command of the stub's own (`qRcmd`).
    pub(crate) fn command(&mut self, command: &str) -> Result<()> {
        let request = format!("qRcmd,{}", hex(command.as_bytes()));
        self.send(request.as_bytes())?;
        let deadline = Instant::now() + PATIENCE;
        loop {
            match self.answer(request.as_bytes(), deadline)? {
                None => return Err(StubError::Silent(format!("monitor {command}"))),
                Some(answer) if answer == b"OK" => return Ok(()),
                // Text that it prints meanwhile.
                Some(answer) if answer.starts_with(b"O") => {}
                Some(answer) if answer.is_empty() => {
                    return Err(StubError::Unsupported("take commands of its own (`qRcmd`)"));
                }
                Some(answer) => {
                    check_error(&answer, || format!("its command `{command}`"))?;
                    return Ok(());
                }
            }
        }
    }

    /// Takes leave; the target stays as it is.
    pub(crate) fn leave(&mut self) {
        if self.send(b"D").is_ok() {
            let _ = self.answer(b"D", Instant::now() + Duration::from_millis(300));
        }
    }
}

/// Connects to the first address that answers.
fn connect(address: &str) -> Result<TcpStream> {
    let mut last = io::Error::new(ErrorKind::NotFound, "the name has no address");
    for candidate in address.to_socket_addrs()? {
        match TcpStream::connect_timeout(&candidate, PATIENCE) {
            Ok(stream) => return Ok(stream),
            Err(error) => last = error,
        }
    }
    Err(last.into())
}

fn is_pause(error: &io::Error) -> bool {
    matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut | ErrorKind::Interrupted)
}

fn is_stop(answer: &[u8]) -> bool {
    matches!(answer.first(), Some(b'T' | b'S' | b'W' | b'X'))
}

fn is_stop_notice(notice: &[u8]) -> bool {
    notice.strip_prefix(b"Stop:").is_some_and(is_stop)
}

/// `E01`: an error; `E.text` too.
fn check_error(answer: &[u8], what: impl FnOnce() -> String) -> Result<()> {
    let is_error = match answer {
        [b'E', b'.', ..] => true,
        [b'E', a, b] => a.is_ascii_hexdigit() && b.is_ascii_hexdigit(),
        _ => false,
    };
    if is_error {
        return Err(StubError::Refused { what: what(), code: shorten(&answer[1..]) });
    }
    Ok(())
}

fn nonsense(request: &str, answer: &[u8]) -> StubError {
    StubError::Nonsense { request: shorten(request.as_bytes()), answer: shorten(answer) }
}

/// The beginning of something, as plain text.
fn shorten(bytes: &[u8]) -> String {
    const LONGEST: usize = 40;
    let mut text: String =
        bytes.iter().take(LONGEST).flat_map(|byte| byte.escape_ascii()).map(char::from).collect();
    if bytes.len() > LONGEST {
        text.push_str("...");
    }
    text
}
