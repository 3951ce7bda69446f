//! One packet from its bytes.

use super::atoms::ATOMS;
use super::history::History;
use super::packet::{Branch, Data, Exception, InstructionSet, Packet, Reason, Start};
use super::settings::Settings;
use crate::wire::Malformed;
use crate::wire::alignment::Stop;
use crate::wire::fields::Fields;

const RESERVED_HEADER: Stop = Stop::Bad(Malformed::ReservedHeader);
const RESERVED: Stop = Stop::Bad(Malformed::ReservedPayload);

/// Reads the packet that `bytes` start with: its length, and what it says. Changes `history` only
/// if the packet is whole.
pub(super) fn read(
    bytes: &[u8],
    settings: &Settings,
    history: &mut History,
) -> Result<(usize, Packet), Stop> {
    let mut fields = Fields::new(bytes);
    let header = fields.byte()?;
    let packet = match header {
        _ if header & 1 == 1 => {
            let branch = branch(header, &mut fields, settings, history)?;
            (history.address, history.set) = (branch.address, branch.set);
            Packet::Branch(branch)
        }
        0x80.. => {
            let atoms = ATOMS[usize::from(settings.cycle_accurate())][usize::from(header)];
            Packet::Atoms(atoms.ok_or(RESERVED_HEADER)?)
        }
        0x00 => return Err(Stop::Zeros),
        0x04 => Packet::CycleCount(fields.continued(5, 32)?),
        0x08 | 0x70 => {
            let cycles = if header == 0x70 { Some(fields.continued(5, 32)?) } else { None };
            let start = start(&mut fields, cycles, settings)?;
            if let Some(address) = start.address {
                (history.address, history.set) = (address, start.set);
            }
            Packet::Start(start)
        }
        0x0c => Packet::Trigger,
        0x3c => Packet::Vmid(fields.byte()?),
        0x42 | 0x46 => {
            let sent = fields.timestamp(history.timestamp, settings.timestamp_bits())?;
            history.timestamp = sent;
            let value = if settings.gray_timestamps() { from_gray(sent) } else { sent };
            Packet::Timestamp { value, clock_changed: header & 0b100 != 0 }
        }
        0x66 => Packet::Ignore,
        0x6e => Packet::Context(fields.word(settings.context_bytes())?),
        0x76 => Packet::ExceptionReturn,
        0x7e => Packet::ExceptionEntry,
        _ => Packet::Data(data(header, &mut fields)?),
    };
    Ok((fields.at, packet))
}

/// Headers of data trace. `A` says that an address follows, `SS` how many bytes a value has, `TT` is a
/// tag.
fn data(header: u8, fields: &mut Fields<'_>) -> Result<Data, Stop> {
    let tag = header >> 5 & 0b11;
    let late_tag = header >> 2 & 0b11;
    match header {
        0x50 => return Ok(Data::StoreFailed),
        0x62 => return Ok(Data::Suppressed),
        _ => {}
    }
    // 011A1010
    if header & 0b1110_1111 == 0b0110_1010 {
        skip_address(header >> 4 & 1, fields)?;
        return Ok(Data::NotTraced);
    }
    // 00A0SS10
    if header & 0b1101_0011 == 0b0000_0010 {
        skip_address(header >> 5 & 1, fields)?;
        return Ok(Data::Normal(value(header, fields)?));
    }
    // 01A1TT00
    if header & 0b1101_0011 == 0b0101_0000 && late_tag != 0 {
        skip_address(header >> 5 & 1, fields)?;
        return Ok(Data::Placeholder(late_tag));
    }
    // 0TT0SS00
    if header & 0b1001_0011 == 0 && tag != 0 {
        return Ok(Data::OutOfOrder(tag, value(header, fields)?));
    }
    Err(RESERVED_HEADER)
}

/// The value of a data packet, by the size in bits 3:2 of its header.
fn value(header: u8, fields: &mut Fields<'_>) -> Result<u32, Stop> {
    fields.word([0, 1, 2, 4][usize::from(header >> 2 & 0b11)])
}

/// A data address, if there is one: nobody asks for its value.
fn skip_address(present: u8, fields: &mut Fields<'_>) -> Result<(), Stop> {
    if present == 1 {
        fields.continued(5, 35)?;
    }
    Ok(())
}

/// An I-sync packet behind its header and its cycles.
fn start(fields: &mut Fields<'_>, cycles: Option<u32>, settings: &Settings) -> Result<Start, Stop> {
    let context = fields.word(settings.context_bytes())?;
    let info = fields.byte()?;
    if info & 1 == 0 {
        return Err(RESERVED);
    }
    let reason = match info >> 5 & 0b11 {
        0b00 => Reason::Periodic,
        0b01 => Reason::TraceOn,
        0b10 => Reason::Overflow,
        _ => Reason::LeftDebug,
    };
    let mut start = Start {
        reason,
        address: None,
        set: InstructionSet::default(),
        in_progress: None,
        cycles,
        context,
        non_secure: info >> 3 & 1 == 1,
        hypervisor: info >> 1 & 1 == 1,
    };
    if settings.data_only() {
        return Ok(start);
    }
    let word = u64::from(fields.word(4)?);
    start.set = match (info >> 4 & 1, word & 1) {
        (1, _) => InstructionSet::Jazelle,
        (_, 1) => InstructionSet::Thumb,
        _ => InstructionSet::Arm,
    };
    let address = if start.set == InstructionSet::Thumb { word & !1 } else { word };
    start.address = Some(address);
    if info >> 7 == 1 {
        let header = fields.byte()?;
        if header & 1 == 0 {
            return Err(RESERVED);
        }
        let history = History { address, set: start.set, timestamp: 0 };
        let goes_on = branch(header, fields, settings, &history)?;
        start.in_progress = Some(address);
        (start.address, start.set) = (Some(goes_on.address), goes_on.set);
    }
    Ok(start)
}

/// A branch packet: the low bits of an address, and what there is to say about an exception.
fn branch(
    first: u8,
    fields: &mut Fields<'_>,
    settings: &Settings,
    history: &History,
) -> Result<Branch, Stop> {
    let alternative = settings.alternative_branches();
    let mut low = u64::from(first >> 1 & 0x3f);
    let mut known = 6;
    let mut byte = first;
    let mut set = history.set;
    let mut exception = None;
    let mut informs = false;
    while byte & 0x80 != 0 && known < 27 {
        byte = fields.byte()?;
        let ends = byte & 0x80 == 0;
        // The last byte of the alternative encoding gives a bit away.
        let width = if alternative && ends { 6 } else { 7 };
        low |= u64::from(byte & ((1 << width) - 1)) << known;
        known += width;
        informs = alternative && ends && byte & 0x40 != 0;
    }
    if byte & 0x80 != 0 {
        byte = fields.byte()?;
        let (of, width) = match byte >> 3 & 0b111 {
            0b100.. => (InstructionSet::Jazelle, 5),
            0b010.. => (InstructionSet::Thumb, 4),
            0b001 => (InstructionSet::Arm, 3),
            _ => return Err(RESERVED),
        };
        set = of;
        low |= u64::from(byte & ((1 << width) - 1)) << known;
        known += width;
        informs = byte & 0x40 != 0;
        if alternative && byte & 0x80 != 0 {
            return Err(RESERVED);
        }
        // Before ETMv3 an exception was a bit, and nothing followed.
        if !alternative && byte & 0xc0 == 0x40 {
            (exception, informs) = (Some(Exception::default()), false);
        }
        informs |= !alternative && byte & 0x80 != 0;
    }
    let shift = match set {
        InstructionSet::Arm => 2,
        InstructionSet::Thumb => 1,
        InstructionSet::Jazelle => 0,
    };
    let kept = history.address & !0 << (known + shift) & 0xffff_ffff;
    if informs {
        exception = Some(exception_information(fields)?);
    }
    Ok(Branch { address: kept | low << shift, set, exception })
}

fn exception_information(fields: &mut Fields<'_>) -> Result<Exception, Stop> {
    let first = fields.byte()?;
    let mut kind = u16::from(first >> 1 & 0xf);
    let mut exception = Exception {
        kind: None,
        cancels: first >> 5 & 1 == 1,
        resume: 0,
        non_secure: first & 1 == 1,
        hypervisor: false,
    };
    let mut more = first >> 7 == 1;
    if more {
        let mut next = fields.byte()?;
        more = next >> 7 == 1;
        if next & 0x40 == 0 {
            kind |= u16::from(next & 0x1f) << 4;
            exception.hypervisor = next >> 5 & 1 == 1;
            if more {
                next = fields.byte()?;
                more = next >> 7 == 1;
                if next & 0x40 == 0 {
                    return Err(RESERVED);
                }
            }
        }
        if next & 0x40 != 0 {
            exception.resume = next & 0xf;
        }
    }
    if more {
        return Err(Stop::Bad(Malformed::TooLong));
    }
    exception.kind = Some(kind);
    Ok(exception)
}

/// The number that a Gray code stands for.
const fn from_gray(code: u64) -> u64 {
    let mut value = code;
    let mut shift = 1;
    while shift < 64 {
        value ^= value >> shift;
        shift *= 2;
    }
    value
}
