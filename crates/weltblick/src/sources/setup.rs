//! What options say of how something was recorded: all of it for a raw file, corrections of a manifest.

use crate::cli::{FramingArg, ProtocolArg, SetupArgs};
use anyhow::{Context as _, Result, bail};
use weltblick_core::capture::{Framing, ItmSettings, Manifest, Protocol, SignalSpec, StreamSpec};
use weltblick_core::document::At;
use weltblick_core::wire::tpiu::Start;
use weltblick_core::wire::{etmv3, etmv4, mtb};

/// The stream that a raw file is, as options say.
pub(crate) fn setup_of_raw(setup: &SetupArgs, files: Vec<At<String>>) -> Result<StreamSpec> {
    let mut stream = StreamSpec::itm(files, ItmSettings::default());
    correct_protocol(&mut stream, setup)?;
    let source = stream.sources.first_mut().context("a stream has a source")?;
    let in_frames = matches!(setup.framing, Some(FramingArg::Tpiu | FramingArg::TpiuBuffer));
    if matches!(source.protocol, Protocol::Mtb(_)) && in_frames {
        bail!("--framing: a micro trace buffer writes into memory; there are no frames around it");
    }
    correct_framing(&mut stream, setup);
    Ok(stream)
}

/// What the packets of the first source are, as options say. Settings of the same protocol stay.
fn correct_protocol(stream: &mut StreamSpec, setup: &SetupArgs) -> Result<()> {
    let (Some(named), Some(source)) = (setup.protocol, stream.sources.first_mut()) else {
        return Ok(());
    };
    if matches!(source.protocol, Protocol::Poll(_) | Protocol::Ctf(_)) {
        bail!(
            "--protocol: the first stream of this capture has no packets: it is polled, or an event trace"
        );
    }
    let is_named = matches!(
        (named, &source.protocol),
        (ProtocolArg::Itm, Protocol::Itm(_))
            | (ProtocolArg::Etmv3, Protocol::Etmv3(_))
            | (ProtocolArg::Etmv4, Protocol::Etmv4(_))
            | (ProtocolArg::Mtb, Protocol::Mtb(_))
    );
    if !is_named {
        source.protocol = match named {
            ProtocolArg::Itm => Protocol::Itm(ItmSettings::default()),
            ProtocolArg::Etmv3 => Protocol::Etmv3(etmv3::Settings::default()),
            ProtocolArg::Etmv4 => Protocol::Etmv4(etmv4::Settings::default()),
            ProtocolArg::Mtb => Protocol::Mtb(mtb::Settings::default()),
        };
    }
    Ok(())
}

/// Registers of a macrocell, as options say: of the first source that has one of this name.
fn correct_registers(manifest: &mut Manifest, setup: &SetupArgs) -> Result<()> {
    for (name, value) in &setup.register {
        let sources = manifest.streams.iter_mut().flat_map(|stream| &mut stream.sources);
        let mut registers =
            sources.flat_map(|source| source.protocol.registers_mut()).collect::<Vec<_>>();
        let known: Vec<&str> = registers.iter().map(|(known, _)| *known).collect();
        if known.is_empty() {
            bail!(
                "--register {name}: no packets here are read by registers; say --protocol etmv4, etmv3 or mtb"
            );
        }
        let Some((_, register)) = registers.iter_mut().find(|(known, _)| known == name) else {
            bail!("--register {name}: how packets are read is decided by {}", known.join(", "));
        };
        **register = *value;
    }
    Ok(())
}

/// What lies between the bytes and the protocol, as options say.
fn correct_framing(stream: &mut StreamSpec, setup: &SetupArgs) {
    match setup.framing {
        None => {}
        Some(FramingArg::None) => stream.framing = Framing::None,
        Some(FramingArg::Tpiu) => stream.framing = Framing::Tpiu(Start::Anywhere),
        Some(FramingArg::TpiuBuffer) => stream.framing = Framing::Tpiu(Start::AtFrame),
    }
    let Some(first) = stream.sources.first_mut() else { return };
    if stream.framing == Framing::None {
        // Without framing there is one source, and it has no ID.
        first.trace_id = None;
        stream.sources.truncate(1);
    } else {
        first.trace_id = setup.trace_id.or(first.trace_id).or(Some(1));
    }
}

/// What options say instead of the manifest.
///
/// # Errors
///
/// A register that no source has.
pub(crate) fn correct(manifest: &mut Manifest, setup: &SetupArgs) -> Result<()> {
    if let Some(stream) = manifest.streams.first_mut() {
        correct_protocol(stream, setup)?;
    }
    correct_registers(manifest, setup)?;
    if setup.core_clock.is_some() {
        manifest.target.core_clock = setup.core_clock;
    }
    if setup.global_clock.is_some() {
        manifest.target.global_clock = setup.global_clock;
    }
    if setup.tick_period.is_some() {
        manifest.target.tick_period = setup.tick_period;
    }
    if let Some(stream) = manifest.streams.first_mut() {
        correct_framing(stream, setup);
    }
    for (comparator, variable) in &setup.watch {
        manifest.signals.retain(|signal| signal.comparator != Some(*comparator));
        manifest.signals.push(SignalSpec::watched(*comparator, variable));
    }
    let Some(itm) = manifest.itm_mut() else { return Ok(()) };
    if setup.pc_sample_period.is_some() {
        itm.pc_sample_period = setup.pc_sample_period;
    }
    if let Some(prescaler) = setup.timestamp_prescaler {
        itm.timestamp_prescaler = prescaler;
    }
    if setup.timestamp_clock.is_some() {
        itm.timestamp_clock = setup.timestamp_clock;
    }
    itm.timestamp_dates_group |= setup.timestamp_dates_group;
    if setup.marks_port.is_some() {
        itm.marks_port = setup.marks_port;
    }
    Ok(())
}
