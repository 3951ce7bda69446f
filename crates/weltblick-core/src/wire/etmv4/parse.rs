//! One packet from its bytes.

use super::history::History;
use super::packet::{
    Address, Atoms, Conditional, Context, DataSync, Exception, InstructionSet, Packet, Returns,
    TraceInfo,
};
use super::settings::Settings;
use crate::wire::Malformed;
use crate::wire::alignment::Stop;
use crate::wire::fields::Fields;
use std::ops::RangeInclusive;

const RESERVED: Stop = Stop::Bad(Malformed::ReservedHeader);

/// Headers from here on are atoms.
pub(super) const FIRST_ATOMS: u8 = 0xc0;

/// Headers of cycle counts.
const CYCLE_COUNTS: RangeInclusive<u8> = 0x0c..=0x1f;

/// The atoms of every such header.
pub(super) const ATOMS: [Atoms; 64] = {
    let mut table = [Atoms { bits: 0, count: 0 }; 64];
    let mut header = 0;
    while header < 64 {
        table[header] = atoms_of(header as u8 | FIRST_ATOMS);
        header += 1;
    }
    table
};

/// Formats 1 to 6. Patterns of formats 4 and 5 are written with the oldest atom on the right.
const fn atoms_of(header: u8) -> Atoms {
    let low = header as u32;
    match header {
        0xf6..=0xf7 => Atoms { bits: low & 1, count: 1 },
        0xd8..=0xdb => Atoms { bits: low & 0b11, count: 2 },
        0xf8..=0xff => Atoms { bits: low & 0b111, count: 3 },
        0xdc => Atoms { bits: 0b1110, count: 4 },
        0xdd => Atoms { bits: 0b0000, count: 4 },
        0xde => Atoms { bits: 0b1010, count: 4 },
        0xdf => Atoms { bits: 0b0101, count: 4 },
        0xf5 => Atoms { bits: 0b11110, count: 5 },
        0xd5 => Atoms { bits: 0b00000, count: 5 },
        0xd6 => Atoms { bits: 0b01010, count: 5 },
        0xd7 => Atoms { bits: 0b10101, count: 5 },
        // Three E atoms and as many more as the low bits say; then an E, or an N if bit 5 is set.
        _ => {
            let taken = (low & 0x1f) + 3;
            let last = if low & 0x20 == 0 { 1 << taken } else { 0 };
            Atoms { bits: (1 << taken) - 1 | last, count: taken as u8 + 1 }
        }
    }
}

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
        FIRST_ATOMS.. => Packet::Atoms(ATOMS[usize::from(header - FIRST_ATOMS)]),
        0x80..0xc0 => address_family(header, &mut fields, settings, history)?,
        0x70 => Packet::Ignore,
        0x71..=0x7f => Packet::Event(header & 0xf),
        0x40..0x70 => Packet::Conditional(conditional(header, &mut fields)?),
        0x20..0x40 => speculation(header, &mut fields)?,
        header if CYCLE_COUNTS.contains(&header) => {
            cycle_count(header, &mut fields, settings, history)?
        }
        _ => general(header, &mut fields, history)?,
    };
    Ok((fields.at, packet))
}

/// Headers below 0x0c.
fn general(header: u8, fields: &mut Fields<'_>, history: &mut History) -> Result<Packet, Stop> {
    Ok(match header {
        0x00 => match fields.byte()? {
            0x00 => return Err(Stop::Zeros),
            0x03 => Packet::Discard,
            0x05 => Packet::Overflow,
            _ => return Err(RESERVED),
        },
        0x01 => {
            let info = trace_info(fields)?;
            history.begin(&info);
            Packet::TraceInfo(info)
        }
        0x02 | 0x03 => {
            let value = fields.timestamp(history.timestamp, 64)?;
            let cycles = if header & 1 == 1 { Some(fields.continued(3, 20)?) } else { None };
            history.timestamp = value;
            Packet::Timestamp { value, cycles }
        }
        0x04 => Packet::TraceOn,
        0x05 => Packet::FunctionReturn,
        0x06 => Packet::Exception(exception(fields)?),
        0x07 => Packet::ExceptionReturn,
        _ => return Err(RESERVED),
    })
}

/// Sections that the first byte announces, each as long as its continuation bits say.
fn trace_info(fields: &mut Fields<'_>) -> Result<TraceInfo, Stop> {
    let sections = fields.continued(4, 28)?;
    let mut info = TraceInfo::default();
    if sections & 1 != 0 {
        let bits = fields.continued(4, 28)?;
        info.cycle_counts = bits & 1 != 0;
        info.conditional = (bits >> 1 & 0b111) as u8;
        info.loads = bits >> 4 & 1 != 0;
        info.stores = bits >> 5 & 1 != 0;
    }
    if sections & 2 != 0 {
        info.key = fields.continued(5, 32)?;
    }
    if sections & 4 != 0 {
        info.speculation = fields.continued(5, 32)?;
    }
    if sections & 8 != 0 {
        info.threshold = fields.continued(2, 14)?;
    }
    // Sections of a later version have a length that nobody here knows.
    if sections >> 4 != 0 { Err(Stop::Bad(Malformed::ReservedPayload)) } else { Ok(info) }
}

fn exception(fields: &mut Fields<'_>) -> Result<Exception, Stop> {
    let first = fields.byte()?;
    let second = if first & 0x80 != 0 { fields.byte()? } else { 0 };
    let returns = match first >> 5 & 0b10 | first & 1 {
        0b01 => Returns::After,
        0b10 => Returns::AtTarget,
        _ => return Err(Stop::Bad(Malformed::ReservedPayload)),
    };
    let kind = u16::from(first >> 1 & 0x1f) | u16::from(second & 0x1f) << 5;
    Ok(Exception { kind, returns, fault_pending: second & 0x20 != 0 })
}

/// A cycle count of one or two bytes, where counts do not commit: which bits of header and next byte it is.
#[derive(Clone, Copy)]
struct ShortCount {
    /// 0: it is none.
    length: u8,
    in_header: u8,
    in_next: u8,
    /// This bit of the next byte says that the count is longer.
    goes_on: u8,
}

const SHORT_COUNTS: [ShortCount; 32] = {
    let none = ShortCount { length: 0, in_header: 0, in_next: 0, goes_on: 0 };
    let mut table = [none; 32];
    table[0x0c] = ShortCount { length: 2, in_next: 0x0f, ..none };
    table[0x0d] = table[0x0c];
    table[0x0e] = ShortCount { length: 2, in_next: 0x7f, goes_on: 0x80, ..none };
    let mut format_3 = 0x10;
    while format_3 < 0x20 {
        table[format_3] = ShortCount { length: 1, in_header: 0b11, ..none };
        format_3 += 1;
    }
    table
};

/// The length and the value of a short cycle count, where counts do not commit; `next` is the byte behind the
/// header. Which format it is decides no branch: nothing could foresee it.
#[inline(always)]
pub(super) fn short_cycle_count(header: u8, next: u8) -> Option<(usize, u32)> {
    let form = SHORT_COUNTS.get(usize::from(header))?;
    let short = form.length > 0 && next & form.goes_on == 0;
    let count = header & form.in_header | next & form.in_next;
    short.then_some((usize::from(form.length), u32::from(count)))
}

/// Formats 1, 2 and 3.
fn cycle_count(
    header: u8,
    fields: &mut Fields<'_>,
    settings: &Settings,
    history: &History,
) -> Result<Packet, Stop> {
    let commits = settings.counts_commit();
    let (commit, count) = match header {
        0x0e | 0x0f => {
            let commit = if commits { fields.continued(5, 32)? } else { 0 };
            let known = header & 1 == 0;
            (commit, if known { Some(fields.continued(3, 20)?) } else { None })
        }
        0x0c | 0x0d => {
            let byte = u32::from(fields.byte()?);
            let nibble = byte >> 4;
            // With F set the field counts from the other end.
            let deep = (settings.speculation().saturating_add(nibble)).saturating_sub(15);
            (if header & 1 == 0 { nibble + 1 } else { deep }, Some(byte & 0xf))
        }
        _ => (u32::from(header >> 2 & 0b11) + 1, Some(u32::from(header & 0b11))),
    };
    let commit = if commits { commit } else { 0 };
    let cycles = count.map(|count| count.saturating_add(history.threshold));
    Ok(Packet::CycleCount { commit, cycles })
}

/// Data synchronisation markers, commits, cancels and mispredictions.
fn speculation(header: u8, fields: &mut Fields<'_>) -> Result<Packet, Stop> {
    // Two bits: nothing, E, E E, or N.
    let few = |bits: u8| match bits & 0b11 {
        0 => Atoms { bits: 0, count: 0 },
        1 => Atoms { bits: 0b1, count: 1 },
        2 => Atoms { bits: 0b11, count: 2 },
        _ => Atoms { bits: 0, count: 1 },
    };
    Ok(match header {
        0x20..=0x27 => Packet::DataSync(DataSync::Numbered(header & 0b111)),
        0x28..=0x2c => Packet::DataSync(DataSync::Unnumbered(header & 0b111)),
        0x2d => Packet::Commit(fields.continued(5, 32)?),
        0x2e | 0x2f => {
            let elements = fields.continued(5, 32)?;
            Packet::Cancel { atoms: few(0), elements, mispredict: header & 1 == 1 }
        }
        0x30..=0x33 => Packet::Mispredict { atoms: few(header) },
        0x34..=0x37 => Packet::Cancel { atoms: few(header), elements: 1, mispredict: true },
        _ => {
            let elements = u32::from(header >> 1 & 0b11) + 2;
            Packet::Cancel { atoms: few(header & 1), elements, mispredict: true }
        }
    })
}

fn conditional(header: u8, fields: &mut Fields<'_>) -> Result<Conditional, Stop> {
    let low = u32::from(header);
    let instruction = |format, bits| Ok(Conditional::Instruction { format, bits });
    let result = |format, bits| Ok(Conditional::Result { format, bits });
    match header {
        0x40..=0x42 => instruction(2, low & 0b11),
        0x43 => Ok(Conditional::Flush),
        0x44..=0x46 => result(4, [low & 0b11, 0]),
        0x48..=0x4a | 0x4c..=0x4e => result(2, [low & 0b111, 0]),
        0x50..=0x5f => result(3, [u32::from(fields.byte()?) | (low & 0xf) << 8, 0]),
        0x68..=0x6b => result(1, [fields.continued(5, 32)?, fields.continued(5, 32)?]),
        0x6e | 0x6f => result(1, [fields.continued(5, 32)?, 0]),
        0x6c => instruction(1, fields.continued(5, 32)?),
        0x6d => instruction(3, u32::from(fields.byte()?)),
        _ => Err(RESERVED),
    }
}

/// Addresses, contexts and Q: headers 0x80 to 0xbf.
fn address_family(
    header: u8,
    fields: &mut Fields<'_>,
    settings: &Settings,
    history: &mut History,
) -> Result<Packet, Stop> {
    match header {
        0x80 => return Ok(Packet::Context(history.context)),
        0x81 => {
            let context = fields.context(settings, history)?;
            history.context = context;
            return Ok(Packet::Context(context));
        }
        0xa0..=0xaf => return q(header, fields, history),
        _ => {}
    }
    let (form, has_context) = match header {
        0x90..=0x92 => (Form::Exact(header & 0b11), false),
        0x95 => (Form::Short(InstructionSet::Is0), false),
        0x96 => (Form::Short(InstructionSet::Is1), false),
        0x82 | 0x9a => (Form::Long(InstructionSet::Is0), header < 0x90),
        0x83 | 0x9b => (Form::Long(InstructionSet::Is1), header < 0x90),
        0x85 | 0x9d => (Form::Whole(InstructionSet::Is0), header < 0x90),
        0x86 | 0x9e => (Form::Whole(InstructionSet::Is1), header < 0x90),
        _ => return Err(RESERVED),
    };
    let (value, set) = fields.address(form, history)?;
    let context = if has_context { Some(fields.context(settings, history)?) } else { None };
    let address = Address { value, set, context };
    history.note(&address);
    Ok(Packet::Address(address))
}

/// Q, with a count, an address and a count, or nothing.
fn q(header: u8, fields: &mut Fields<'_>, history: &mut History) -> Result<Packet, Stop> {
    let form = match header & 0xf {
        entry @ 0..=2 => Some(Form::Exact(entry)),
        0x5 => Some(Form::Short(InstructionSet::Is0)),
        0x6 => Some(Form::Short(InstructionSet::Is1)),
        0xa => Some(Form::Long(InstructionSet::Is0)),
        0xb => Some(Form::Long(InstructionSet::Is1)),
        0xc => None,
        0xf => return Ok(Packet::Q { count: None, address: None }),
        _ => return Err(RESERVED),
    };
    let address = match form {
        Some(form) => Some(fields.address(form, history)?),
        None => None,
    };
    let count = Some(fields.continued(5, 32)?);
    let address = address.map(|(value, set)| Address { value, set, context: None });
    if let Some(address) = &address {
        history.note(address);
    }
    Ok(Packet::Q { count, address })
}

/// How an address is written.
#[derive(Debug, Clone, Copy)]
enum Form {
    /// One of the last three.
    Exact(u8),
    /// One or two bytes.
    Short(InstructionSet),
    /// 32 bits.
    Long(InstructionSet),
    /// 64 bits.
    Whole(InstructionSet),
}

impl Fields<'_> {
    /// An address: how many low bits are missing depends on the instruction set.
    fn address(&mut self, form: Form, history: &History) -> Result<(u64, InstructionSet), Stop> {
        let (set, bytes) = match form {
            Form::Exact(entry) => return Ok(history.address(entry)),
            Form::Short(set) => (set, 2),
            Form::Long(set) => (set, 4),
            Form::Whole(set) => (set, 8),
        };
        let shift = if set == InstructionSet::Is0 { 2 } else { 1 };
        let before = history.newest();
        let first = self.byte()?;
        let mut value = u64::from(first & 0x7f) << shift;
        let mut width = shift + 7;
        match form {
            Form::Short(_) => {
                if first & 0x80 != 0 {
                    value |= u64::from(self.byte()?) << width;
                    width += 8;
                }
            }
            _ => {
                // The second byte fills up to bit 16, whatever the first one started with.
                let second = self.byte()?;
                value |= u64::from(second) << width & 0xffff;
                width = 16;
                for _ in 2..bytes {
                    value |= u64::from(self.byte()?) << width;
                    width += 8;
                }
            }
        }
        let kept = if width >= 64 { 0 } else { !0 << width };
        Ok((before & kept | value, set))
    }

    /// What a context payload says; what it leaves out is as it was.
    fn context(&mut self, settings: &Settings, history: &History) -> Result<Context, Stop> {
        let info = self.byte()?;
        let mut context = Context {
            level: info & 0b11,
            wide: info & 0x10 != 0,
            non_secure: info & 0x20 != 0,
            ..history.context
        };
        if info & 0x40 != 0 {
            context.vmid = self.word(settings.vmid_bytes())?;
        }
        if info & 0x80 != 0 {
            context.id = self.word(settings.context_bytes())?;
        }
        Ok(context)
    }
}
