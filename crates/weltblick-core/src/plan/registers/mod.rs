//! Which value goes into which register, and what its fields mean.

mod buffer;
mod dwt;
mod etm;
mod itm;
mod port;

pub(super) use etm::BASE as ETM_BASE;
pub use port::{Divisor, DivisorError, divide};

use super::core::InstructionTrace;
use super::description::Description;
use super::link::Link;
use super::mtb::MtbPlace;
use super::narrow::{Left, Narrow, Placed, TraceUnit};
use super::watch::Watch;
use schemars::JsonSchema;
use serde::Serialize;

/// The key that unlocks CoreSight registers (IHI 0029, lock access register).
const UNLOCK: u32 = 0xc5ac_ce55;

/// The trace ID of the ITM in a framed stream.
pub const ITM_TRACE_ID: u8 = 1;
/// The trace ID of instruction trace in a framed stream.
pub const ETM_TRACE_ID: u8 = 2;

/// One register to be written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Register {
    /// The standard's name.
    pub name: String,
    /// Where it is.
    pub address: u64,
    /// What goes there.
    pub value: u32,
    /// Bits that are written; the others keep what they are. All ones: the whole register.
    pub mask: u32,
    /// What the value means.
    pub fields: Vec<Field>,
}

/// A field of a register.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Field {
    /// The standard's name; empty: all of a register that the target description names.
    pub name: String,
    /// Its highest bit.
    pub high: u8,
    /// Its lowest bit.
    pub low: u8,
    /// Its value.
    pub value: u32,
    /// What that means.
    pub meaning: String,
}

impl Register {
    fn new(name: impl Into<String>, address: u64) -> Self {
        Self { name: name.into(), address, value: 0, mask: u32::MAX, fields: Vec::new() }
    }

    /// One of the chip: what it is for, the description says.
    pub(in crate::plan) fn of_chip(
        name: String,
        address: u64,
        (value, mask): (u32, u32),
        purpose: String,
    ) -> Self {
        let whole = Field { name: String::new(), high: 31, low: 0, value, meaning: purpose };
        Self { name, address, value, mask, fields: vec![whole] }
    }

    /// Adds a field of `bits` bits from bit `low` on.
    fn field(
        mut self,
        name: &str,
        low: u8,
        bits: u8,
        value: u32,
        meaning: impl Into<String>,
    ) -> Self {
        self.value |= value << low;
        let meaning = meaning.into();
        self.fields.push(Field { name: name.into(), high: low + bits - 1, low, value, meaning });
        self
    }

    /// Adds a field that is set or not; one that is not set is not worth a word.
    fn flag(self, name: &str, bit: u8, set: bool, meaning: &str) -> Self {
        if set { self.field(name, bit, 1, 1, meaning) } else { self }
    }

    /// Leaves the bits alone that no field names.
    fn keeping_the_rest(mut self) -> Self {
        let bits = |field: &Field| (u32::MAX >> (31 - (field.high - field.low))) << field.low;
        self.mask = self.fields.iter().map(bits).fold(0, |mask, bits| mask | bits);
        self
    }

    /// Writes the whole register again.
    fn keeping_nothing(mut self) -> Self {
        self.mask = u32::MAX;
        self
    }

    fn unlock(unit: &str, base: u64) -> Self {
        Self::new(format!("{unit}_LAR"), base + 0xfb0).field("KEY", 0, 32, UNLOCK, "unlock writing")
    }
}

/// Everything that the registers are made from, resolved.
#[derive(Debug)]
pub(super) struct Request<'a> {
    pub(super) plan: &'a Description,
    pub(super) core: super::core::Core,
    pub(super) link: Link,
    /// The ITM's sources are on.
    pub(super) itm: bool,
    pub(super) formatter: bool,
    pub(super) divisor: Option<Divisor>,
    pub(super) watches: &'a [Watch],
    /// The unit that traces instructions, if it is on.
    pub(super) unit: Option<TraceUnit>,
    /// What comparators narrow it to.
    pub(super) placed: &'a Placed,
    /// Where a micro trace buffer writes.
    pub(super) mtb: Option<MtbPlace>,
}

/// The writes, in their order. The switches that start the trace come last.
pub(super) fn registers(request: &Request<'_>) -> Vec<Register> {
    let instructions = request.plan.observe.instructions.as_ref();
    let mtb = request.unit.is_some_and(|unit| unit.kind == InstructionTrace::Mtb);
    let mut writes = vec![
        Register::new("DEMCR", 0xe000_edfc)
            .field("TRCENA", 24, 1, 1, "DWT, ITM and trace port are powered")
            .keeping_the_rest(),
    ];
    if !mtb {
        writes.extend(port::registers(request));
    }
    if request.itm {
        writes.extend(itm::before(request));
    }
    writes.extend(dwt::comparators(request));
    if let (Some(instructions), Some(unit)) = (instructions, request.unit) {
        writes.extend(match unit.kind {
            InstructionTrace::Etm4 => etm::version_4(request, instructions),
            InstructionTrace::Etm3 => etm::version_3(request, instructions),
            InstructionTrace::Mtb => buffer::mtb(request),
        });
    }
    if request.itm {
        writes.push(itm::control(request));
        writes.extend([dwt::counter(), dwt::control(request)]);
    } else if !mtb && port::follows_the_counter(request) {
        writes.extend([dwt::counter(), dwt::pace_frames(request)]);
    }
    writes
}

/// The writes that narrow a trace unit that is set up already, and what they cannot do.
#[must_use]
pub fn narrowing(unit: &TraceUnit, narrow: &Narrow) -> (Vec<Register>, Left) {
    let placed = unit.place(narrow);
    let does_something = placed.starts | placed.stops | placed.ranges != 0;
    if !does_something {
        return (Vec::new(), placed.left);
    }
    let (off, narrowed, on) = match unit.kind {
        InstructionTrace::Etm4 => {
            (etm::enable_4(false), etm::narrow_4(&placed), Some(etm::enable_4(true)))
        }
        InstructionTrace::Etm3 => {
            (etm::enable_3(false), etm::narrow_3(&placed), Some(etm::enable_3(true)))
        }
        InstructionTrace::Mtb => {
            (buffer::enable_mtb(unit.base, false), buffer::narrow_mtb(unit.base, &placed), None)
        }
    };
    let comparators = dwt::code_comparators(unit.architecture, &placed);
    let writes = std::iter::once(off).chain(comparators).chain(narrowed).chain(on);
    (writes.collect(), placed.left)
}
