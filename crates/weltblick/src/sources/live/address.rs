//! How a source is written on the command line.

use std::path::PathBuf;
use std::str::FromStr;

/// Where a target's bytes come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Address {
    /// `-`
    StandardInput,
    /// A file or a FIFO.
    File(PathBuf),
    /// `tcp:HOST:PORT`: raw trace bytes.
    Tcp(String),
    /// `serial:PATH`: raw trace bytes.
    Serial(String),
    /// `stub:HOST:PORT`: a debug stub that speaks the GDB Remote Serial Protocol.
    Stub(String),
    /// `stand-in:FIRMWARE.elf`: the stand-in microcontroller, in this process.
    StandIn(PathBuf),
}

impl FromStr for Address {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let host = |rest: &str| match rest.rsplit_once(':') {
            Some((host, port)) if !host.is_empty() && port.parse::<u16>().is_ok() => {
                Ok(rest.to_owned())
            }
            _ => Err(format!(
                "`{text}` needs a host and a port, such as {}:localhost:5555",
                scheme(text)
            )),
        };
        let path = |rest: &str| match rest {
            "" => Err(format!("`{text}` needs a path after the colon")),
            path => Ok(path.to_owned()),
        };
        match text.split_once(':') {
            _ if text == "-" => Ok(Self::StandardInput),
            Some(("tcp", rest)) => host(rest).map(Self::Tcp),
            Some(("stub", rest)) => host(rest).map(Self::Stub),
            Some(("serial", rest)) => path(rest).map(Self::Serial),
            Some(("stand-in", rest)) => path(rest).map(|path| Self::StandIn(path.into())),
            _ if text.is_empty() => Err("a source is missing".into()),
            _ => Ok(Self::File(text.into())),
        }
    }
}

fn scheme(text: &str) -> &str {
    text.split(':').next().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_every_form() {
        for (text, address) in [
            ("-", Address::StandardInput),
            ("swo.bin", Address::File("swo.bin".into())),
            ("/dev/fifo:odd", Address::File("/dev/fifo:odd".into())),
            ("tcp:localhost:5001", Address::Tcp("localhost:5001".into())),
            ("stub:[::1]:3333", Address::Stub("[::1]:3333".into())),
            ("serial:/dev/ttyUSB0", Address::Serial("/dev/ttyUSB0".into())),
            ("stand-in:a.elf", Address::StandIn("a.elf".into())),
        ] {
            assert_eq!(text.parse(), Ok(address), "{text}");
        }
        for text in ["", "tcp:localhost", "tcp::1", "stub:host:99999", "serial:"] {
            assert!(text.parse::<Address>().is_err(), "{text}");
        }
    }
}
