//! One walk over a tree and the bits that it describes.

use super::Damage;
use super::bits::{Bits, Order, Stop};
use super::bound::{Length, NodeId, Number, Role, What};
use super::decoder::{MOST_CLOCKS, Raw};
use super::schema::Schema;

/// What the format's own fields said.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Facts {
    pub(super) magic: Option<u64>,
    pub(super) stream: Option<u64>,
    /// Bits.
    pub(super) content: Option<u64>,
    /// Bits.
    pub(super) packet: Option<u64>,
    /// The counter, and how many bits it has.
    pub(super) discarded: Option<(u64, u32)>,
    /// The same.
    pub(super) sequence: Option<(u64, u32)>,
    pub(super) event: Option<u64>,
    /// When the packet ends, and how many bits say so.
    pub(super) end: Option<(u64, u32)>,
}

/// A walk, and what it leaves behind.
pub(super) struct Walk<'a> {
    pub(super) schema: &'a Schema,
    pub(super) wanted: &'a [bool],
    pub(super) slots: &'a mut [u64],
    pub(super) clocks: &'a mut [Option<u64>; MOST_CLOCKS],
    pub(super) facts: &'a mut Facts,
    pub(super) values: &'a mut Vec<(u32, Raw)>,
}

impl Walk<'_> {
    /// Reads what a node describes. `bytes` are those that `bits` reads.
    pub(super) fn read(
        &mut self,
        node: NodeId,
        bytes: &[u8],
        bits: &mut Bits<'_>,
    ) -> Result<(), Stop> {
        let schema = self.schema;
        let node = &schema.nodes[node as usize];
        bits.align(node.align)?;
        match &node.what {
            What::Number(number) => self.number(number, node.field, bits),
            What::Float { exponent, size, order } => {
                match float(*exponent, *size, *order, bits)? {
                    Some(value) => self.keep(node.field, Raw::Float(value)),
                    None => bits.skip(u64::from(*size))?,
                }
                Ok(())
            }
            What::Text => {
                let at = bits.text()?;
                self.keep(node.field, Raw::Text(at.start, at.end));
                Ok(())
            }
            What::Struct(members) => {
                members.iter().try_for_each(|(_, member)| self.read(*member, bytes, bits))
            }
            What::Variant { tag, signed, choices } => {
                let tag = self.slots[usize::from(*tag)];
                let tag = if *signed { i128::from(tag as i64) } else { i128::from(tag) };
                let fits = |(low, high, _): &&(i128, i128, NodeId)| (*low..=*high).contains(&tag);
                let chosen = choices.iter().find(fits).ok_or(Stop::Bad(Damage::NoChoice))?;
                self.read(chosen.2, bytes, bits)
            }
            What::Array { of, len, is_text, is_uuid } => {
                let is_fixed = matches!(len, Length::Fixed(_));
                let len = match *len {
                    Length::Fixed(len) => len,
                    Length::In(slot) => self.slots[usize::from(slot)],
                };
                if *is_uuid {
                    let at = bits.take(len)?;
                    let foreign = schema.uuid.is_some_and(|uuid| bytes[at] != uuid);
                    return if foreign { Err(Stop::Bad(Damage::Foreign)) } else { Ok(()) };
                }
                if *is_text {
                    let at = bits.take(len)?;
                    // An array of characters ends with its first zero, as in C; a sequence says
                    // how long it is.
                    let text = &bytes[at.clone()];
                    let zero = text.iter().position(|byte| *byte == 0);
                    let end = zero.filter(|_| is_fixed).unwrap_or(text.len());
                    self.keep(node.field, Raw::Text(at.start, at.start + end));
                    return Ok(());
                }
                self.elements(*of, len, bytes, bits)
            }
        }
    }

    /// The elements of an array, one by one.
    fn elements(
        &mut self,
        of: NodeId,
        len: u64,
        bytes: &[u8],
        bits: &mut Bits<'_>,
    ) -> Result<(), Stop> {
        for _ in 0..len {
            let before = bits.at();
            self.read(of, bytes, bits)?;
            if bits.at() == before {
                // An element without bits: the others have none either.
                break;
            }
        }
        Ok(())
    }

    #[inline]
    fn number(&mut self, number: &Number, field: u32, bits: &mut Bits<'_>) -> Result<(), Stop> {
        let Number { size, signed, order, unit, slot, clock, role, is_variable, .. } = *number;
        if let Some(unit) = unit
            && bits.at() % u64::from(unit) + u64::from(size) > u64::from(unit)
        {
            // A bit-field does not cross its unit.
            bits.skip(u64::from(unit) - bits.at() % u64::from(unit))?;
        }
        if size > 64 {
            return bits.skip(u64::from(size));
        }
        let (value, size) = match is_variable {
            true => variable(signed, bits)?,
            false => (bits.number(size, order)?, size),
        };
        let extended = (value << (64 - size)) as i64 >> (64 - size);
        if let Some(slot) = slot {
            self.slots[usize::from(slot)] = if signed { extended as u64 } else { value };
        }
        if let Some(clock) = clock {
            advance(&mut self.clocks[usize::from(clock)], value, size);
        }
        match role {
            Role::None | Role::Begin => {}
            Role::End => self.facts.end = Some((value, size)),
            Role::Magic => self.facts.magic = Some(value),
            Role::StreamId => self.facts.stream = Some(value),
            Role::ContentSize => self.facts.content = Some(value),
            Role::PacketSize => self.facts.packet = Some(value),
            Role::Discarded => self.facts.discarded = Some((value, size)),
            Role::Sequence => self.facts.sequence = Some((value, size)),
            Role::EventId => self.facts.event = Some(value),
        }
        self.keep(field, if signed { Raw::Signed(extended) } else { Raw::Unsigned(value) });
        Ok(())
    }

    fn keep(&mut self, field: u32, value: Raw) {
        if self.wanted[field as usize] {
            self.values.push((field, value));
        }
    }
}

/// A number whose bytes say how many there are, and how many bits these have (LEB128): one of more than 64 is none.
#[cold]
fn variable(signed: bool, bits: &mut Bits<'_>) -> Result<(u64, u32), Stop> {
    let (mut value, mut size) = (0_u64, 0_u32);
    loop {
        let byte = bits.number(8, Order::Little)?;
        let part = byte & 0x7f;
        // The tenth byte has one bit more; what lies beyond only repeats the sign.
        let fits = if signed { matches!(part, 0 | 0x7f) } else { part <= 1 };
        if size > 63 || size == 63 && !fits {
            return Err(Stop::Bad(Damage::EventSize));
        }
        value |= part << size;
        size += 7;
        if byte & 0x80 == 0 {
            return Ok((value, size.min(64)));
        }
    }
}

/// Moves a clock to the next time whose low bits are these (section 8).
fn advance(clock: &mut Option<u64>, value: u64, size: u32) {
    let before = clock.unwrap_or(0);
    let now = if size >= 64 {
        value
    } else {
        let period = 1_u64 << size;
        let now = before & !(period - 1) | value;
        // Smaller than before: the low bits have wrapped once.
        if now < before { now.saturating_add(period) } else { now }
    };
    *clock = Some(now);
}

/// A number of IEEE 754; `None`, and nothing is read, if it is of another width.
fn float(exponent: u32, size: u32, order: Order, bits: &mut Bits<'_>) -> Result<Option<f64>, Stop> {
    Ok(match (exponent, size) {
        (5, 16) => Some(half(bits.number(16, order)? as u16)),
        (8, 32) => Some(f64::from(f32::from_bits(bits.number(32, order)? as u32))),
        (11, 64) => Some(f64::from_bits(bits.number(64, order)?)),
        _ => None,
    })
}

/// A number of half precision: a sign, 5 bits of exponent and 10 of fraction.
fn half(bits: u16) -> f64 {
    let sign = if bits >> 15 == 1 { -1.0 } else { 1.0 };
    let (exponent, fraction) = (i32::from(bits >> 10 & 0x1f), f64::from(bits & 0x3ff));
    sign * match exponent {
        0 => fraction * 2_f64.powi(-24),
        0x1f if fraction == 0.0 => f64::INFINITY,
        0x1f => f64::NAN,
        _ => (1.0 + fraction / 1024.0) * 2_f64.powi(exponent - 15),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn halves_are_what_the_standard_says() {
        for (bits, value) in [
            (0x3c00, 1.0),
            (0xc000, -2.0),
            (0x7bff, 65504.0),
            (0x0001, 2_f64.powi(-24)),
            (0x0400, 2_f64.powi(-14)),
            (0x7c00, f64::INFINITY),
        ] {
            assert_eq!(half(bits), value, "{bits:#x}");
        }
        assert!(half(0x7e00).is_nan());
    }

    #[test]
    fn clocks_wrap_once() {
        let mut clock = None;
        for (value, size, now) in
            [(250, 8, 250), (3, 8, 259), (3, 8, 259), (0, 16, 65536), (7, 64, 7)]
        {
            advance(&mut clock, value, size);
            assert_eq!(clock, Some(now));
        }
    }
}
