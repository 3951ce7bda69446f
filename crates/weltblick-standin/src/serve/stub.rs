//! The debug stub: commands of the GDB Remote Serial Protocol (*Debugging with GDB*, appendix E)
//! on the stand-in.
//!
//! In all-stop mode nothing but an interrupt is served while the target runs; in non-stop mode
//! memory can be read and written all the time.

use super::packet::{Framer, Received, hex, packet, unhex};
use crate::core::Registers;
use crate::machine::Machine;

/// The longest packet that is taken, and half of what is sent.
const PACKET_SIZE: usize = 4096;
/// `SIGINT` and `SIGTRAP`, as the protocol numbers them.
const STOPPED_BY_INTERRUPT: u8 = 2;
const STOPPED_BY_TRAP: u8 = 5;

const TARGET_XML: &str = r#"<?xml version="1.0"?>
<!DOCTYPE target SYSTEM "gdb-target.dtd">
<target version="1.0"><architecture>arm</architecture>
<feature name="org.gnu.gdb.arm.m-profile">
<reg name="r0" bitsize="32"/><reg name="r1" bitsize="32"/><reg name="r2" bitsize="32"/>
<reg name="r3" bitsize="32"/><reg name="r4" bitsize="32"/><reg name="r5" bitsize="32"/>
<reg name="r6" bitsize="32"/><reg name="r7" bitsize="32"/><reg name="r8" bitsize="32"/>
<reg name="r9" bitsize="32"/><reg name="r10" bitsize="32"/><reg name="r11" bitsize="32"/>
<reg name="r12" bitsize="32"/><reg name="sp" bitsize="32" type="data_ptr"/>
<reg name="lr" bitsize="32"/><reg name="pc" bitsize="32" type="code_ptr"/>
<reg name="xpsr" bitsize="32" regnum="25"/>
</feature></target>"#;

const MEMORY_MAP: &str = r#"<?xml version="1.0"?>
<!DOCTYPE memory-map SYSTEM "gdb-memory-map.dtd">
<memory-map>
<memory type="flash" start="0x08000000" length="0x80000"><property name="blocksize">0x800</property></memory>
<memory type="ram" start="0x20000000" length="0x20000"/>
</memory-map>"#;

/// What the target does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Running {
    /// It stands.
    Halted,
    /// It runs.
    Free,
}

/// One debugger's session.
#[derive(Debug)]
pub(super) struct Stub {
    framer: Framer,
    acknowledges: bool,
    non_stop: bool,
    /// The debugger waits for the target to stop.
    waits: bool,
    last: Vec<u8>,
    out: Vec<u8>,
    signal: u8,
}

impl Stub {
    pub(super) fn new() -> Self {
        Self {
            framer: Framer::default(),
            acknowledges: true,
            non_stop: false,
            waits: false,
            last: Vec::new(),
            out: Vec::new(),
            signal: STOPPED_BY_TRAP,
        }
    }

    /// What is to be sent.
    pub(super) fn take_out(&mut self) -> Vec<u8> {
        std::mem::take(&mut self.out)
    }

    /// Reads what the debugger sent, and does it.
    pub(super) fn hear(&mut self, bytes: &[u8], machine: &mut Machine, running: &mut Running) {
        for &byte in bytes {
            match self.framer.push(byte) {
                None => {}
                Some(Received::Interrupt) if *running == Running::Free => {
                    *running = Running::Halted;
                    self.stopped(STOPPED_BY_INTERRUPT);
                }
                Some(Received::Interrupt) => {}
                Some(Received::Again) => {
                    let last = self.last.clone();
                    self.out.extend(last);
                }
                Some(Received::Damaged) if self.acknowledges => self.out.push(b'-'),
                Some(Received::Damaged) => {}
                Some(Received::Packet(payload)) => {
                    if self.acknowledges {
                        self.out.push(b'+');
                    }
                    self.serve(&payload, machine, running);
                }
            }
        }
    }

    /// The target stopped by itself.
    pub(super) fn target_stopped(&mut self) {
        self.stopped(STOPPED_BY_TRAP);
    }

    fn stopped(&mut self, signal: u8) {
        self.signal = signal;
        if self.non_stop {
            let notice = format!("Stop:T{signal:02x}thread:1;");
            self.out.extend(packet(b'%', notice.as_bytes()));
        } else if std::mem::take(&mut self.waits) {
            self.answer(format!("T{signal:02x}thread:1;").as_bytes());
        }
    }

    fn answer(&mut self, payload: &[u8]) {
        self.last = packet(b'$', payload);
        self.out.extend(self.last.iter());
    }

    fn serve(&mut self, payload: &[u8], machine: &mut Machine, running: &mut Running) {
        if *running == Running::Free && !self.non_stop {
            return; // all-stop: nobody listens while the target runs
        }
        machine.hold(*running == Running::Halted);
        if let Some(reply) = self.run_control(payload, machine, running) {
            if let Some(reply) = reply {
                self.answer(reply.as_bytes());
            }
            return;
        }
        if let Some(rest) = payload.strip_prefix(b"x") {
            let reply = read(rest, machine)
                .map_or_else(|| b"E01".to_vec(), |bytes| [b"b".as_slice(), &bytes].concat());
            return self.answer(&reply);
        }
        let reply = self.plain(payload, machine);
        self.answer(reply.as_bytes());
        if payload == b"QStartNoAckMode" {
            self.acknowledges = false;
        }
    }

    /// Commands that run or stop the target. `Some(None)`: no answer until it stops.
    fn run_control(
        &mut self,
        payload: &[u8],
        machine: &mut Machine,
        running: &mut Running,
    ) -> Option<Option<String>> {
        let text = std::str::from_utf8(payload).ok()?;
        let action = text.strip_prefix("vCont;").map(|rest| rest.split([':', ';']).next());
        let (goes, steps, halts) = match action {
            Some(Some(action)) => {
                (action.starts_with(['c', 'C']), action.starts_with(['s', 'S']), action == "t")
            }
            _ => (text == "c" || text.starts_with('C'), text == "s", false),
        };
        if goes {
            // A breakpoint under the core does not stop it again at once.
            let _ = machine.step();
            *running = Running::Free;
            self.waits = true;
            return Some(self.non_stop.then(|| "OK".into()));
        }
        if steps {
            let _ = machine.step();
            self.signal = STOPPED_BY_TRAP;
            if self.non_stop {
                self.answer(b"OK");
                self.stopped(STOPPED_BY_TRAP);
                return Some(None);
            }
            return Some(Some(format!("T{STOPPED_BY_TRAP:02x}thread:1;")));
        }
        if halts {
            let ran = *running == Running::Free;
            *running = Running::Halted;
            self.answer(b"OK");
            if ran {
                self.stopped(0);
            }
            return Some(None);
        }
        None
    }

    fn plain(&mut self, payload: &[u8], machine: &mut Machine) -> String {
        let (Some(&kind), rest) = (payload.first(), payload.get(1..).unwrap_or_default()) else {
            return String::new();
        };
        let done = |done: Option<()>| done.map_or("E01", |()| "OK").to_owned();
        match kind {
            b'?' => format!("T{:02x}thread:1;", self.signal),
            b'g' => hex(&all_registers(&machine.regs)),
            b'p' => number(rest)
                .and_then(|number| register(&machine.regs, number))
                .map_or_else(|| "E01".into(), |value| hex(&value.to_le_bytes())),
            b'P' => done(write_register(rest, &mut machine.regs)),
            b'm' => read(rest, machine).map_or_else(|| "E01".into(), |bytes| hex(&bytes)),
            b'M' => done(write(rest, machine, unhex)),
            b'X' => done(write(rest, machine, |data| Some(data.to_vec()))),
            b'Z' | b'z' => self.breakpoint(rest, machine, kind == b'Z'),
            b'H' | b'D' | b'T' => "OK".into(),
            b'q' | b'Q' | b'v' => self.query(payload, machine),
            _ => String::new(),
        }
    }

    fn breakpoint(&self, rest: &[u8], machine: &mut Machine, on: bool) -> String {
        let Some((b'0' | b'1', rest)) = rest.split_first() else { return String::new() };
        let address =
            rest.get(1..).and_then(|rest| number(rest.split(|&byte| byte == b',').next()?));
        let Some(address) = address else { return "E01".into() };
        machine.set_break(address & !1, on);
        "OK".into()
    }

    fn query(&mut self, payload: &[u8], machine: &mut Machine) -> String {
        let text = String::from_utf8_lossy(payload);
        let name = text.split([':', ',', ';']).next().unwrap_or_default();
        match name {
            "qSupported" => format!(
                "PacketSize={PACKET_SIZE:x};QStartNoAckMode+;QNonStop+;qXfer:features:read+;qXfer:memory-map:read+;vContSupported+;binary-upload+"
            ),
            "QStartNoAckMode" => "OK".into(),
            "QNonStop" => {
                self.non_stop = text.ends_with('1');
                "OK".into()
            }
            "vCont?" => "vCont;c;C;s;S;t".into(),
            "vStopped" => "OK".into(),
            "qAttached" => "1".into(),
            "qC" => "QC1".into(),
            "qfThreadInfo" => "m1".into(),
            "qsThreadInfo" => "l".into(),
            "qRcmd" => {
                let command = unhex(text.split(',').nth(1).unwrap_or_default().as_bytes());
                if command.is_some_and(|command| command.starts_with(b"reset")) {
                    machine.reset();
                    "OK".into()
                } else {
                    String::new()
                }
            }
            "qXfer" => transfer(&text),
            _ => String::new(),
        }
    }
}

/// `qXfer:OBJECT:read:ANNEX:OFFSET,LENGTH`.
fn transfer(text: &str) -> String {
    let parts: Vec<&str> = text.split(':').collect();
    let document = match parts.as_slice() {
        [_, "features", "read", "target.xml", _] => TARGET_XML,
        [_, "memory-map", "read", "", _] => MEMORY_MAP,
        _ => return String::new(),
    };
    let range = parts[4].split_once(',').and_then(|(offset, length)| {
        Some((number(offset.as_bytes())? as usize, number(length.as_bytes())? as usize))
    });
    let Some((offset, length)) = range else { return "E01".into() };
    let rest = document.get(offset.min(document.len())..).unwrap_or_default();
    let part = &rest[..rest.len().min(length)];
    let more = if part.len() == rest.len() { 'l' } else { 'm' };
    format!("{more}{part}")
}

fn number(digits: &[u8]) -> Option<u32> {
    u32::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()
}

fn all_registers(regs: &Registers) -> Vec<u8> {
    (0..16).filter_map(|number| register(regs, number)).flat_map(u32::to_le_bytes).collect()
}

fn register(regs: &Registers, number: u32) -> Option<u32> {
    match number {
        0..=14 => Some(regs.r[number as usize]),
        15 => Some(regs.pc),
        25 => Some(regs.xpsr()),
        _ => None,
    }
}

/// `NUMBER=VALUE`.
fn write_register(rest: &[u8], regs: &mut Registers) -> Option<()> {
    let at = rest.iter().position(|&byte| byte == b'=')?;
    let bytes = unhex(&rest[at + 1..])?;
    let value = u32::from_le_bytes(bytes.get(..4)?.try_into().ok()?);
    match number(&rest[..at])? {
        which @ 0..=14 => regs.r[which as usize] = value,
        15 => regs.pc = value & !1,
        25 => regs.set_xpsr(value),
        _ => return None,
    }
    Some(())
}

/// `ADDRESS,LENGTH`.
fn read(rest: &[u8], machine: &mut Machine) -> Option<Vec<u8>> {
    let comma = rest.iter().position(|&byte| byte == b',')?;
    let (address, length) = (number(&rest[..comma])?, number(&rest[comma + 1..])?);
    let length = length.min(PACKET_SIZE as u32 / 2);
    // Whole words where they are aligned: registers answer nothing else.
    if address.is_multiple_of(4) && length.is_multiple_of(4) {
        let words =
            (0..length / 4).map(|word| machine.peek(address.checked_add(4 * word)?, 4).ok());
        let words: Option<Vec<u32>> = words.collect();
        return Some(words?.into_iter().flat_map(u32::to_le_bytes).collect());
    }
    (0..length).map(|byte| Some(machine.peek(address.checked_add(byte)?, 1).ok()? as u8)).collect()
}

/// `ADDRESS,LENGTH:DATA`.
fn write(
    rest: &[u8],
    machine: &mut Machine,
    decode: impl FnOnce(&[u8]) -> Option<Vec<u8>>,
) -> Option<()> {
    let colon = rest.iter().position(|&byte| byte == b':')?;
    let comma = rest[..colon].iter().position(|&byte| byte == b',')?;
    let (address, length) = (number(&rest[..comma])?, number(&rest[comma + 1..colon])?);
    let data = decode(&rest[colon + 1..])?;
    if data.len() != length as usize {
        return None;
    }
    if address.is_multiple_of(4) && data.len().is_multiple_of(4) {
        for (word, bytes) in (0..).zip(data.chunks_exact(4)) {
            let value = u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]);
            machine.poke(address.checked_add(4 * word)?, 4, value).ok()?;
        }
        return Some(());
    }
    for (offset, &byte) in (0..).zip(&data) {
        machine.poke(address.checked_add(offset)?, 1, u32::from(byte)).ok()?;
    }
    Some(())
}
