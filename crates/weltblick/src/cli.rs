//! What the command lines of all commands share.

use clap::{Args, ValueEnum};
use std::path::PathBuf;
use std::time::Duration;
use weltblick_core::time::{Frequency, QuantityError};

/// Which capture, and what to correct in it.
#[derive(Debug, Args)]
pub(crate) struct CaptureArgs {
    /// A capture folder, a raw trace file, or `-` for standard input
    #[arg(value_name = "CAPTURE", index = 1, required_unless_present = "schema", help_heading = None::<&str>)]
    pub(crate) capture: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) setup: SetupArgs,
}

/// How a raw file was recorded, or what a manifest got wrong.
#[derive(Debug, Args, Default)]
#[command(next_help_heading = "How it was recorded (corrects the manifest)")]
pub(crate) struct SetupArgs {
    /// The firmware's ELF file
    #[arg(long, value_name = "ELF")]
    pub(crate) image: Option<PathBuf>,
    /// The folder of the ELF file's debug information, where that is in files of its own (.dwo, .dwp)
    #[arg(long, value_name = "FOLDER")]
    pub(crate) debug_info: Option<PathBuf>,
    /// The core clock, for example `48MHz`
    #[arg(long, value_name = "FREQUENCY")]
    pub(crate) core_clock: Option<Frequency>,
    /// What global timestamps count: needed where an instruction trace has no cycle counts
    #[arg(long, value_name = "FREQUENCY")]
    pub(crate) global_clock: Option<Frequency>,
    /// Core cycles between PC samples
    #[arg(long, value_name = "CYCLES", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) pc_sample_period: Option<u64>,
    /// Cycles per timestamp tick: 1, 4, 16 or 64
    #[arg(long, value_name = "CYCLES", value_parser = prescaler)]
    pub(crate) timestamp_prescaler: Option<u32>,
    /// The timestamp clock, where it is not the core clock
    #[arg(long, value_name = "FREQUENCY")]
    pub(crate) timestamp_clock: Option<Frequency>,
    /// Packets that share a synchronous timestamp fell into the same tick (see `inspect`)
    #[arg(long)]
    pub(crate) timestamp_dates_group: bool,
    /// The stimulus port of firmware marks; their arguments come on the next
    #[arg(long, value_name = "PORT", value_parser = clap::value_parser!(u32).range(..8191))]
    pub(crate) marks_port: Option<u32>,
    /// The variable that a comparator watches, such as `0=drift_ppb`
    #[arg(long, value_name = "COMPARATOR=VARIABLE", value_parser = watch)]
    pub(crate) watch: Vec<(u8, String)>,
    /// The known period of the SysTick interrupt, to check the clock against
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub(crate) tick_period: Option<Duration>,
    /// Only the instruction trace, where something else tells of exceptions too: events are told by what ran
    #[arg(long, help_heading = "Options")]
    pub(crate) flow_only: bool,
    /// What the packets of a raw file are, or of a capture's first source [default: itm]
    #[arg(long, value_name = "PROTOCOL")]
    pub(crate) protocol: Option<ProtocolArg>,
    /// A register of the trace macrocell as it was written or read, such as `trcconfigr=0x1811`
    #[arg(long, value_name = "NAME=VALUE", value_delimiter = ',', value_parser = register)]
    pub(crate) register: Vec<(String, u32)>,
    /// What lies between the bytes and the protocol
    #[arg(long, value_name = "FRAMING")]
    pub(crate) framing: Option<FramingArg>,
    /// The trace ID of the source in a framed stream [default: 1]
    #[arg(long, value_name = "ID", value_parser = clap::value_parser!(u8).range(1..=0x6f))]
    pub(crate) trace_id: Option<u8>,
    /// A source in a framed stream, by its trace ID, such as `1=itm`; several are all there are
    #[arg(
        long,
        value_name = "ID=PROTOCOL",
        value_delimiter = ',',
        value_parser = source,
        conflicts_with_all = ["protocol", "trace_id"]
    )]
    pub(crate) stream_source: Vec<(u8, ProtocolArg)>,
}

/// `--protocol`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ProtocolArg {
    /// Instrumentation and data trace (ITM and DWT)
    Itm,
    /// Instruction trace of ETM version 3
    Etmv3,
    /// Instruction trace of ETM version 4
    Etmv4,
    /// A micro trace buffer
    Mtb,
}

/// `--framing`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum FramingArg {
    /// Plain packets
    None,
    /// Formatter frames of 16 bytes, found by their synchronisation
    Tpiu,
    /// Formatter frames from the first byte on, as an on-chip buffer holds them
    TpiuBuffer,
}

/// How results are written.
#[derive(Debug, Args)]
#[command(next_help_heading = "The result")]
pub(crate) struct OutputArgs {
    /// How to write the result
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    /// Print the JSON schema of this command's result and stop
    #[arg(long)]
    pub(crate) schema: bool,
    /// When to use colour
    #[arg(long, value_enum, default_value_t = Color::Auto)]
    pub(crate) color: Color,
}

/// `--format`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    Text,
    /// For programs
    Json,
    /// For spreadsheets
    Csv,
}

/// `--color`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// A stretch of time on the command line.
pub(crate) fn duration(text: &str) -> Result<Duration, QuantityError> {
    weltblick_core::time::parse_duration(text)
}

fn watch(text: &str) -> Result<(u8, String), String> {
    let (number, variable) =
        text.split_once('=').ok_or("write COMPARATOR=VARIABLE, such as 0=drift_ppb")?;
    let number = number.trim().parse().ok().filter(|&number| number < 16);
    let number =
        number.ok_or_else(|| format!("`{text}`: comparators have numbers from 0 to 15"))?;
    Ok((number, variable.trim().to_owned()))
}

fn source(text: &str) -> Result<(u8, ProtocolArg), String> {
    let usage = || {
        format!(
            "`{text}` is no source; write a trace ID from 1 to 111 and its protocol, such as `2=etmv4`"
        )
    };
    let (id, protocol) = text.split_once('=').ok_or_else(usage)?;
    let id = id.trim().parse().ok().filter(|id| (1..=0x6f).contains(id)).ok_or_else(usage)?;
    let protocol = ProtocolArg::from_str(protocol.trim(), true).map_err(|_| usage())?;
    if protocol == ProtocolArg::Mtb {
        return Err("a micro trace buffer writes into memory; there are no frames around it".into());
    }
    Ok((id, protocol))
}

fn register(text: &str) -> Result<(String, u32), String> {
    let (name, value) =
        text.split_once('=').ok_or("write NAME=VALUE, such as trcconfigr=0x1811")?;
    let value = value.trim();
    let number = match value.strip_prefix("0x") {
        Some(digits) => u32::from_str_radix(digits, 16),
        None => value.parse(),
    };
    let number = number.map_err(|_| format!("`{value}` is no number of 32 bits"))?;
    Ok((name.trim().to_lowercase(), number))
}

fn prescaler(text: &str) -> Result<u32, String> {
    match text.parse() {
        Ok(value @ (1 | 4 | 16 | 64)) => Ok(value),
        _ => Err("the hardware offers 1, 4, 16 or 64".to_owned()),
    }
}
