//! What options say of how something was recorded: all of it for a raw file, corrections of a manifest.

use crate::cli::{FramingArg, ProtocolArg, SetupArgs};
use anyhow::{Context as _, Result, bail};
use weltblick_core::capture::{
    Framing, ItmSettings, Manifest, Protocol, SignalSpec, SourceSpec, StreamSpec,
};
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
    correct_framing(&mut stream, setup)?;
    Ok(stream)
}

/// Settings of a protocol of which nothing is known yet.
fn unset(protocol: ProtocolArg) -> Protocol {
    match protocol {
        ProtocolArg::Itm => Protocol::Itm(ItmSettings::default()),
        ProtocolArg::Etmv3 => Protocol::Etmv3(etmv3::Settings::default()),
        ProtocolArg::Etmv4 => Protocol::Etmv4(etmv4::Settings::default()),
        ProtocolArg::Mtb => Protocol::Mtb(mtb::Settings::default()),
    }
}

const fn is_of(protocol: &Protocol, named: ProtocolArg) -> bool {
    matches!(
        (named, protocol),
        (ProtocolArg::Itm, Protocol::Itm(_))
            | (ProtocolArg::Etmv3, Protocol::Etmv3(_))
            | (ProtocolArg::Etmv4, Protocol::Etmv4(_))
            | (ProtocolArg::Mtb, Protocol::Mtb(_))
    )
}

/// The sources of a framed stream, as options say. Settings of the same protocol with the same ID stay.
fn correct_sources(stream: &mut StreamSpec, setup: &SetupArgs) -> Result<()> {
    if setup.stream_source.is_empty() {
        return Ok(());
    }
    if let Some(FramingArg::None) = setup.framing {
        bail!(
            "--stream-source: a stream without frames has one source; say what that is with --protocol"
        );
    }
    if stream.framing == Framing::None {
        stream.framing = Framing::Tpiu(Start::Anywhere);
    }
    let before = std::mem::take(&mut stream.sources);
    for &(id, protocol) in &setup.stream_source {
        if stream.sources.iter().any(|source| source.trace_id == Some(id)) {
            bail!("--stream-source {id}: this ID is there twice");
        }
        let known = before.iter().find(|source| {
            // The source of a raw file has no ID yet.
            let has_id = source.trace_id == Some(id) || source.trace_id.is_none();
            has_id && is_of(&source.protocol, protocol)
        });
        let protocol = known.map_or_else(|| unset(protocol), |source| source.protocol.clone());
        stream.sources.push(SourceSpec { trace_id: Some(id), protocol });
    }
    Ok(())
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
    if !is_of(&source.protocol, named) {
        source.protocol = unset(named);
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

/// What lies between the bytes and the protocol, and who sends in it, as options say.
fn correct_framing(stream: &mut StreamSpec, setup: &SetupArgs) -> Result<()> {
    match setup.framing {
        None => {}
        Some(FramingArg::None) => stream.framing = Framing::None,
        Some(FramingArg::Tpiu) => stream.framing = Framing::Tpiu(Start::Anywhere),
        Some(FramingArg::TpiuBuffer) => stream.framing = Framing::Tpiu(Start::AtFrame),
    }
    correct_sources(stream, setup)?;
    let Some(first) = stream.sources.first_mut() else { return Ok(()) };
    if stream.framing == Framing::None {
        // Without framing there is one source, and it has no ID.
        first.trace_id = None;
        stream.sources.truncate(1);
    } else {
        first.trace_id = setup.trace_id.or(first.trace_id).or(Some(1));
    }
    Ok(())
}

/// What options say instead of the manifest.
///
/// # Errors
///
/// A register that no source has, or sources that cannot be.
pub(crate) fn correct(manifest: &mut Manifest, setup: &SetupArgs) -> Result<()> {
    correct_stream(manifest, 0, setup)
}

/// Puts in what options say; those on packets are about the stream with this number.
pub(crate) fn correct_stream(
    manifest: &mut Manifest,
    number: usize,
    setup: &SetupArgs,
) -> Result<()> {
    // Sources first: registers may be those of one that is new.
    if let Some(stream) = manifest.streams.get_mut(number) {
        correct_protocol(stream, setup)?;
        correct_framing(stream, setup)?;
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
