//! The stand-in as a server: raw trace on one connection, a debug stub on another.
//!
//! One thread, in turns: hear the debugger, let the target run a little, send its trace. Time
//! passes as on the clock on the wall, or as fast as the trace is taken away.

mod fault;
mod packet;
mod receiver;
mod stub;

pub use fault::Fault;

use crate::machine::{Machine, Stop};
use fault::Wire;
use receiver::Receiver;
use std::io::{self, ErrorKind, Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::sleep;
use std::time::{Duration, Instant};
use stub::{Running, Stub};

/// The target runs this long between two looks at the connections.
const TURN: Duration = Duration::from_micros(500);
/// Trace that waits to be sent at most; then the target waits too.
const MOST_WAITING: usize = 1 << 20;
/// A stalled link listens again after so long...
const STALL: Duration = Duration::from_millis(2);
/// ...and stalls again after so long.
const STALL_EVERY: Duration = Duration::from_millis(40);
/// A connection breaks after so much of the target's time.
const DISCONNECT_AFTER: Duration = Duration::from_millis(400);

/// How the server behaves.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Options {
    /// Core cycles per second.
    pub core_clock: u64,
    /// Bits per second that whoever receives the trace expects; absent: whatever is sent.
    pub bit_rate: Option<f64>,
    /// What goes wrong.
    pub fault: Option<Fault>,
    /// As on the clock on the wall; else as fast as the trace is taken away.
    pub real_time: bool,
    /// The target runs at once, and does not wait for a debugger.
    pub runs: bool,
}

/// The server's state between turns.
#[derive(Debug)]
struct Server<'a> {
    machine: &'a mut Machine,
    options: Options,
    running: Running,
    trace: Option<TcpStream>,
    waiting: Vec<u8>,
    debugger: Option<(TcpStream, Stub)>,
    wire: Wire,
    receiver: Option<Receiver>,
    /// Cycles that the target ran, and the moment on the wall at which it began.
    ran: u64,
    since: Option<(Instant, u64)>,
    stalls: u64,
    disconnected: bool,
}

/// Serves until `stop` is set.
///
/// # Errors
///
/// If a listener fails. Connections that break may be made again.
pub fn serve(
    machine: &mut Machine,
    options: Options,
    trace: &TcpListener,
    stub: &TcpListener,
    stop: &AtomicBool,
) -> io::Result<()> {
    trace.set_nonblocking(true)?;
    stub.set_nonblocking(true)?;
    let mut server = Server {
        machine,
        options,
        running: if options.runs { Running::Free } else { Running::Halted },
        trace: None,
        waiting: Vec::new(),
        debugger: None,
        wire: Wire::new(options.fault),
        receiver: options.bit_rate.map(Receiver::new),
        ran: 0,
        since: None,
        stalls: 0,
        disconnected: false,
    };
    while !stop.load(Ordering::Relaxed) {
        if let Some(stream) = accepted(stub)? {
            // As most stubs do: whoever connects finds the target stopped.
            server.running = Running::Halted;
            server.debugger = Some((stream, Stub::new()));
        }
        let heard = server.hear();
        // After the debugger: who listened before a register was written has what follows from that.
        if let Some(stream) = accepted(trace)? {
            server.trace = Some(stream);
            server.waiting.clear();
        }
        let ran = server.run();
        server.send();
        if !heard && !ran {
            sleep(TURN);
        }
    }
    Ok(())
}

fn accepted(listener: &TcpListener) -> io::Result<Option<TcpStream>> {
    match listener.accept() {
        Ok((stream, _)) => {
            stream.set_nonblocking(true)?;
            let _ = stream.set_nodelay(true);
            Ok(Some(stream))
        }
        Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted) => {
            Ok(None)
        }
        Err(error) => Err(error),
    }
}

impl Server<'_> {
    /// Serves the debugger. Whether it said anything.
    fn hear(&mut self) -> bool {
        let Some((stream, stub)) = &mut self.debugger else { return false };
        let mut bytes = [0; 4096];
        let alive = match stream.read(&mut bytes) {
            Ok(0) => false,
            Ok(count) => {
                stub.hear(&bytes[..count], self.machine, &mut self.running);
                let reply = stub.take_out();
                let sent = write_all(stream, &reply).is_ok();
                if self.machine.wants_reset() {
                    self.reset();
                }
                return sent || self.hang_up();
            }
            Err(error) => {
                matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted)
            }
        };
        if !alive {
            self.hang_up();
        }
        false
    }

    /// The debugger went: the target goes on as it was.
    fn hang_up(&mut self) -> bool {
        self.debugger = None;
        false
    }

    /// Lets the target run for a turn. Whether it did.
    fn run(&mut self) -> bool {
        if self.running == Running::Halted || self.waiting.len() > MOST_WAITING {
            self.since = None;
            return false;
        }
        let clock = self.options.core_clock as f64;
        let turn = (TURN.as_secs_f64() * clock) as u64;
        let (began, before) = *self.since.get_or_insert((Instant::now(), self.machine.cycle()));
        if self.options.real_time {
            let due = before + (began.elapsed().as_secs_f64() * clock) as u64;
            if self.machine.cycle() >= due {
                return false;
            }
        }
        let start = self.machine.cycle();
        let stop = self.machine.run(start + turn);
        self.ran += self.machine.cycle() - start;
        match stop {
            Stop::Limit => {}
            Stop::Reset => self.reset(),
            _ => self.halt(),
        }
        self.stall();
        true
    }

    /// A reset goes on running, unless the debug registers ask for a stop (`DEMCR.VC_CORERESET`).
    fn reset(&mut self) {
        self.machine.reset();
        if self.machine.peek(0xe000_edfc, 4).is_ok_and(|demcr| demcr & 1 == 1) {
            self.halt();
        }
    }

    fn halt(&mut self) {
        self.running = Running::Halted;
        if let Some((stream, stub)) = &mut self.debugger {
            stub.target_stopped();
            let notice = stub.take_out();
            let _ = write_all(stream, &notice);
        }
    }

    /// Makes the link deaf for a while, again and again.
    fn stall(&mut self) {
        if self.options.fault != Some(Fault::Stall) {
            return;
        }
        let cycles = |time: Duration| (time.as_secs_f64() * self.options.core_clock as f64) as u64;
        let (every, lasts) = (cycles(STALL_EVERY), cycles(STALL));
        if self.ran / every > self.stalls {
            self.stalls = self.ran / every;
            let now = self.machine.cycle();
            self.machine.trace_mut().stall(now, lasts);
        }
    }

    /// Sends the trace, as it arrives at the other end.
    fn send(&mut self) {
        let mut bytes = self.machine.trace_mut().take();
        // A target on another clock divides that one.
        let scale = if self.options.fault == Some(Fault::Clock) { 0.75 } else { 1.0 };
        if let (Some(receiver), Some(sent)) = (&mut self.receiver, self.machine.trace().bit_rate())
        {
            bytes = receiver.hear(bytes, scale * sent as f64);
        }
        bytes = self.wire.carry(bytes);
        let Some(stream) = &mut self.trace else { return };
        self.waiting.extend(bytes);
        match stream.write(&self.waiting) {
            Ok(count) => {
                self.waiting.drain(..count);
            }
            Err(error)
                if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted) => {}
            Err(_) => self.trace = None,
        }
        let after = (DISCONNECT_AFTER.as_secs_f64() * self.options.core_clock as f64) as u64;
        if self.options.fault == Some(Fault::Disconnect) && !self.disconnected && self.ran > after {
            self.disconnected = true;
            self.trace = None;
        }
    }
}

/// Writes everything to a connection that does not block, for as long as a reply may take.
fn write_all(stream: &mut TcpStream, mut bytes: &[u8]) -> io::Result<()> {
    let patience = Instant::now();
    while !bytes.is_empty() {
        match stream.write(bytes) {
            Ok(0) => return Err(ErrorKind::WriteZero.into()),
            Ok(count) => bytes = &bytes[count..],
            Err(error) if error.kind() == ErrorKind::WouldBlock => {
                if patience.elapsed() > Duration::from_secs(2) {
                    return Err(error);
                }
                sleep(Duration::from_micros(100));
            }
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}
