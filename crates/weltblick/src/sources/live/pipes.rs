//! Sources that deliver raw bytes: files, FIFOs, standard input, TCP, serial ports.

use super::{Address, Message, Outbox};
use anyhow::{Context as _, Result};
use std::fs::File;
use std::io::{self, ErrorKind, Read};
use std::net::{TcpStream, ToSocketAddrs as _};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::{self, sleep};
use std::time::{Duration, Instant};
use weltblick_core::capture::What;

/// Bytes read at once.
const CHUNK: usize = 256 * 1024;
/// A read that left room in the buffer is followed by a rest, so that small pieces come together.
const REST: Duration = Duration::from_millis(2);
/// How long a read waits before it looks whether it is still wanted.
const GLANCE: Duration = Duration::from_millis(50);
/// A connection is tried for so long.
const PATIENCE: Duration = Duration::from_secs(5);

/// An open source of raw bytes.
pub(crate) struct Reader {
    address: Address,
    from: Box<dyn Read + Send>,
    bit_rate: u32,
    /// How long a connection that broke is tried again.
    reconnect: Duration,
}

impl Reader {
    /// Opens a source; `None` if it is none of raw bytes.
    pub(crate) fn open(
        address: &Address,
        bit_rate: u32,
        reconnect: Duration,
    ) -> Result<Option<Self>> {
        let Some(from) = open(address, bit_rate)? else { return Ok(None) };
        Ok(Some(Self { address: address.clone(), from, bit_rate, reconnect }))
    }

    /// Reads on a thread of its own until the end, or until `stop`.
    pub(crate) fn start(mut self, stream: usize, outbox: Outbox, stop: Arc<AtomicBool>) {
        thread::spawn(move || {
            let _ = outbox.send(Message::Happened {
                stream: Some(stream),
                what: What::Connected,
                detail: None,
            });
            let error = self.read(stream, &outbox, &stop);
            let _ = outbox.send(Message::Ended { error });
        });
    }

    /// Reads to the end. What it says is why it ended too early.
    fn read(&mut self, stream: usize, outbox: &Outbox, stop: &AtomicBool) -> Option<String> {
        let mut buffer = vec![0; CHUNK];
        while !stop.load(Ordering::Relaxed) {
            let broke = match self.from.read(&mut buffer) {
                Ok(0) if self.can_reconnect() => "the other side closed the connection".to_owned(),
                Ok(0) => return None,
                Ok(count) => {
                    let bytes = buffer[..count].to_vec();
                    if outbox.send(Message::Bytes { stream, bytes }).is_err() {
                        return None;
                    }
                    if count < CHUNK / 2 {
                        sleep(REST);
                    }
                    continue;
                }
                Err(error) if is_pause(&error) => continue,
                Err(error) if self.can_reconnect() => error.to_string(),
                Err(error) => return Some(error.to_string()),
            };
            let happened = |what, detail| Message::Happened { stream: Some(stream), what, detail };
            let _ = outbox.send(happened(What::Disconnected, Some(broke.clone())));
            if !self.open_again(stop) {
                // Whoever is told to stop misses nothing that is wanted.
                return (!stop.load(Ordering::Relaxed)).then_some(broke);
            }
            let _ = outbox.send(happened(What::Reconnected, None));
        }
        None
    }

    const fn can_reconnect(&self) -> bool {
        matches!(self.address, Address::Tcp(_) | Address::Serial(_))
    }

    fn open_again(&mut self, stop: &AtomicBool) -> bool {
        let until = Instant::now() + self.reconnect;
        while Instant::now() < until && !stop.load(Ordering::Relaxed) {
            if let Ok(Some(from)) = open_now(&self.address, self.bit_rate) {
                self.from = from;
                return true;
            }
            sleep(Duration::from_millis(20));
        }
        false
    }
}

fn is_pause(error: &io::Error) -> bool {
    matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut | ErrorKind::Interrupted)
}

type Opened = Option<Box<dyn Read + Send>>;

fn open(address: &Address, bit_rate: u32) -> Result<Opened> {
    open_now(address, bit_rate).with_context(|| match address {
        Address::Tcp(host) => {
            format!("tcp:{host}: nothing listens there; start the probe's trace server first")
        }
        Address::Serial(path) => format!("serial:{path}"),
        Address::File(path) => path.display().to_string(),
        _ => "the source".to_owned(),
    })
}

fn open_now(address: &Address, bit_rate: u32) -> io::Result<Opened> {
    Ok(Some(match address {
        Address::StandardInput => Box::new(io::stdin()),
        Address::File(path) => Box::new(File::open(path)?),
        Address::Tcp(host) => {
            let mut last = io::Error::new(ErrorKind::NotFound, "the name has no address");
            for candidate in host.to_socket_addrs()? {
                match TcpStream::connect_timeout(&candidate, PATIENCE) {
                    Ok(stream) => {
                        stream.set_read_timeout(Some(GLANCE))?;
                        return Ok(Some(Box::new(stream)));
                    }
                    Err(error) => last = error,
                }
            }
            return Err(last);
        }
        Address::Serial(path) => {
            let port = serialport::new(path, bit_rate).timeout(GLANCE).open()?;
            Box::new(port)
        }
        Address::Stub(_) | Address::StandIn(_) => return Ok(None),
    }))
}
