//! What the bytes of variables mean, from debug information: numbers, arrays, structures.

use super::debug::{Entry, Reference, Unit, Units, Value, constant};
use super::fields::Bits;
use gimli::DwAte;
use std::collections::HashMap;
use std::sync::Arc;

/// Types within types are read so far.
const DEEPEST: usize = 48;

/// Names and qualifiers of a type are followed so far: a crafted file may chain them in a circle.
const MOST_NAMES: usize = 64;

/// What the bytes of a value are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Element {
    /// Bytes of one.
    pub size: u64,
    /// How to read it.
    pub kind: Kind,
}

/// How to read a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A whole number that is not negative; pointers, flags and enumerations too.
    Unsigned,
    /// A whole number.
    Signed,
    /// A number of IEEE 754.
    Float,
    /// A structure, or nothing that is known.
    Other,
}

/// Names of the values of an enumeration.
pub type Labels = Arc<[(i64, String)]>;

/// One of [`Shapes`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct ShapeId(usize);

/// What some bytes are.
#[derive(Debug, Clone)]
pub(super) enum Shape {
    Number { element: Element, labels: Labels },
    Array { of: ShapeId, dimensions: Vec<u64> },
    Structure { size: u64, members: Vec<Member> },
    Unknown { size: u64 },
}

/// A part of a structure or union; without a name where it is only a frame for others.
#[derive(Debug, Clone)]
pub(super) struct Member {
    pub(super) name: Option<String>,
    pub(super) shape: ShapeId,
    pub(super) place: Place,
}

/// Where in its structure a member lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Place {
    /// So many bytes from the structure's start.
    Bytes(u64),
    /// Some bits of the number of the member's size that lies so many bytes from the structure's start.
    Bits { offset: u64, bits: Bits },
    /// Only the running target knows, or the bits do not lie in one number.
    Unknown,
}

/// The shapes of an image's variables.
#[derive(Debug, Clone)]
pub(super) struct Shapes {
    all: Vec<Shape>,
}

impl Default for Shapes {
    fn default() -> Self {
        Self { all: vec![Shape::Unknown { size: 0 }] }
    }
}

impl Shapes {
    /// Of what nothing is known.
    pub(super) const UNKNOWN: ShapeId = ShapeId(0);

    pub(super) fn get(&self, id: ShapeId) -> &Shape {
        self.all.get(id.0).unwrap_or(&self.all[0])
    }

    /// Adds whole bytes of a symbol that no debug information tells of.
    pub(super) fn plain(&mut self, size: u64) -> ShapeId {
        let element = Element { size, kind: Kind::Unsigned };
        self.add(Shape::Number { element, labels: Arc::from([]) })
    }

    fn add(&mut self, shape: Shape) -> ShapeId {
        self.all.push(shape);
        ShapeId(self.all.len() - 1)
    }

    /// How many bytes it takes.
    pub(super) fn size(&self, id: ShapeId) -> u64 {
        match self.get(id) {
            Shape::Number { element, .. } => element.size,
            Shape::Structure { size, .. } | Shape::Unknown { size } => *size,
            Shape::Array { of, dimensions } => {
                dimensions.iter().fold(self.size(*of), |size, &length| size.saturating_mul(length))
            }
        }
    }

    /// Its innermost elements: of an array's, else of itself.
    pub(super) fn element(&self, id: ShapeId) -> Element {
        match self.get(id) {
            Shape::Number { element, .. } => *element,
            Shape::Array { of, .. } => self.element(*of),
            Shape::Structure { size, .. } | Shape::Unknown { size } => {
                Element { size: *size, kind: Kind::Other }
            }
        }
    }
}

/// Reads types, each once.
pub(super) struct Reader<'a> {
    pub(super) units: &'a mut Units,
    pub(super) shapes: &'a mut Shapes,
    pub(super) known: HashMap<Reference, ShapeId>,
    pub(super) is_little_endian: bool,
}

impl Reader<'_> {
    /// The shape of what an entry declares, or the entry that it completes or is a copy of.
    pub(super) fn of(&mut self, unit: &Arc<Unit>, entry: &Entry) -> ShapeId {
        self.typed(unit, entry, 0)
    }

    fn typed(&mut self, unit: &Arc<Unit>, entry: &Entry, depth: usize) -> ShapeId {
        let at = self.units.attribute(unit, entry, gimli::DW_AT_type);
        let at = at.and_then(|(unit, value)| self.units.referred(unit.id, &value));
        at.map_or(Shapes::UNKNOWN, |at| self.at(at, depth))
    }

    fn at(&mut self, at: Reference, depth: usize) -> ShapeId {
        let Some((at, unit, found)) = self.named(at) else { return Shapes::UNKNOWN };
        if let Some(&known) = self.known.get(&at) {
            return known;
        }
        if depth >= DEEPEST {
            return Shapes::UNKNOWN;
        }
        // Whatever leads back here leads nowhere.
        self.known.insert(at, Shapes::UNKNOWN);
        let size = number(&found, gimli::DW_AT_byte_size);
        let id = match found.tag() {
            gimli::DW_TAG_base_type => {
                let kind = match found.attr_value(gimli::DW_AT_encoding) {
                    Some(Value::Encoding(encoding)) => kind_of(encoding),
                    _ => Kind::Other,
                };
                self.number(size.unwrap_or(0), kind, Vec::new())
            }
            gimli::DW_TAG_pointer_type
            | gimli::DW_TAG_reference_type
            | gimli::DW_TAG_rvalue_reference_type => {
                let size = size.unwrap_or_else(|| u64::from(unit.unit.encoding().address_size));
                self.number(size, Kind::Unsigned, Vec::new())
            }
            gimli::DW_TAG_enumeration_type => self.enumeration(&unit, &found, size, depth),
            gimli::DW_TAG_array_type => {
                let of = self.typed(&unit, &found, depth + 1);
                let dimensions = self.dimensions(&unit, &found);
                self.shapes.add(Shape::Array { of, dimensions })
            }
            gimli::DW_TAG_structure_type | gimli::DW_TAG_union_type | gimli::DW_TAG_class_type => {
                let members = self.members(&unit, &found, depth);
                self.shapes.add(Shape::Structure { size: size.unwrap_or(0), members })
            }
            _ => self.shapes.add(Shape::Unknown { size: size.unwrap_or(0) }),
        };
        self.known.insert(at, id);
        id
    }

    /// The type itself, past its other names and qualifiers, and past what only says where it is declared.
    fn named(&mut self, mut at: Reference) -> Option<(Reference, Arc<Unit>, Entry)> {
        for _ in 0..MOST_NAMES {
            let (unit, entry) = self.units.entry(at)?;
            let next = match entry.tag() {
                gimli::DW_TAG_typedef
                | gimli::DW_TAG_const_type
                | gimli::DW_TAG_volatile_type
                | gimli::DW_TAG_atomic_type
                | gimli::DW_TAG_restrict_type
                | gimli::DW_TAG_packed_type
                | gimli::DW_TAG_immutable_type
                | gimli::DW_TAG_subrange_type => entry.attr_value(gimli::DW_AT_type),
                _ => entry.attr_value(gimli::DW_AT_signature),
            };
            match next.and_then(|next| self.units.referred(unit.id, &next)) {
                Some(next) => at = next,
                None => return Some((at, unit, entry)),
            }
        }
        None
    }

    fn number(&mut self, size: u64, kind: Kind, labels: Vec<(i64, String)>) -> ShapeId {
        let element = Element { size, kind };
        self.shapes.add(Shape::Number { element, labels: Arc::from(labels) })
    }

    fn enumeration(
        &mut self,
        unit: &Arc<Unit>,
        entry: &Entry,
        size: Option<u64>,
        depth: usize,
    ) -> ShapeId {
        let of = self.typed(unit, entry, depth + 1);
        let under = self.shapes.element(of);
        let mut labels = Vec::new();
        self.each_child(unit, entry, |reader, child| {
            let value = match child.attr_value(gimli::DW_AT_const_value) {
                Some(Value::Sdata(value)) => Some(value),
                Some(value) => value.udata_value().map(|value| value as i64),
                None => None,
            };
            labels.extend(value.zip(reader.units.name(unit, child)));
        });
        let negative = labels.iter().any(|(value, _)| *value < 0);
        let signed = under.kind == Kind::Signed || negative;
        let kind = if signed { Kind::Signed } else { Kind::Unsigned };
        self.number(size.unwrap_or(under.size), kind, labels)
    }

    /// The lengths of an array's dimensions, outermost first; 0 where one is unknown.
    fn dimensions(&mut self, unit: &Arc<Unit>, entry: &Entry) -> Vec<u64> {
        let mut lengths = Vec::new();
        self.each_child(unit, entry, |_, child| {
            let bound = || Some(number(child, gimli::DW_AT_upper_bound)?.saturating_add(1));
            lengths.push(number(child, gimli::DW_AT_count).or_else(bound).unwrap_or(0));
        });
        lengths
    }

    fn members(&mut self, unit: &Arc<Unit>, entry: &Entry, depth: usize) -> Vec<Member> {
        let mut members = Vec::new();
        self.each_child(unit, entry, |reader, child| {
            let is_base = child.tag() == gimli::DW_TAG_inheritance;
            let is_static = child.attr(gimli::DW_AT_declaration).is_some();
            if !(is_base || child.tag() == gimli::DW_TAG_member) || is_static {
                return;
            }
            let shape = reader.typed(unit, child, depth + 1);
            let name = if is_base { None } else { reader.units.name(unit, child) };
            let place = reader.place(unit, child, reader.shapes.size(shape));
            members.push(Member { name, shape, place });
        });
        members
    }

    /// Where a member of `size` bytes lies.
    fn place(&self, unit: &Unit, entry: &Entry, size: u64) -> Place {
        let start = match entry.attr_value(gimli::DW_AT_data_member_location) {
            None => Some(0),
            // DWARF 2 and 3 give an expression that starts from the structure's address.
            Some(Value::Exprloc(expression)) => constant(self.units, unit, expression, Some(0)),
            Some(Value::Block(bytes)) => {
                constant(self.units, unit, gimli::Expression(bytes), Some(0))
            }
            Some(value) => value.udata_value(),
        };
        let Some(start) = start else { return Place::Unknown };
        if entry.attr(gimli::DW_AT_bit_size).is_none() {
            return Place::Bytes(start);
        }
        let bits = self.bits(entry, start, size);
        bits.map_or(Place::Unknown, |(offset, bits)| Place::Bits { offset, bits })
    }

    /// The number that holds a bit-field, in bytes from the structure's start, and which of its bits: as DWARF 4 and
    /// later say it, who count from the structure's start, or as those before do, who count from the top of a storage
    /// unit (DWARF 4, 5.5.6).
    fn bits(&self, entry: &Entry, start: u64, size: u64) -> Option<(u64, Bits)> {
        let count = number(entry, gimli::DW_AT_bit_size).filter(|n| (1..=64).contains(n))?;
        let unit = size.checked_mul(8).filter(|&unit| (8..=64).contains(&unit))?;
        // From the lowest address, in the order in which the bits of a byte are numbered in this byte order.
        let at = match number(entry, gimli::DW_AT_data_bit_offset) {
            Some(bits) => start.checked_mul(8)?.checked_add(bits)?,
            None => {
                let from_top = number(entry, gimli::DW_AT_bit_offset)?;
                let storage =
                    number(entry, gimli::DW_AT_byte_size).unwrap_or(size).checked_mul(8)?;
                let within = match self.is_little_endian {
                    true => storage.checked_sub(from_top)?.checked_sub(count)?,
                    false => from_top,
                };
                start.checked_mul(8)?.checked_add(within)?
            }
        };
        let within = at % unit;
        let above = unit.checked_sub(within)?.checked_sub(count)?;
        let from = if self.is_little_endian { within } else { above };
        Some((at / unit * (unit / 8), Bits { from: from as u8, count: count as u8 }))
    }

    fn each_child(
        &mut self,
        unit: &Arc<Unit>,
        entry: &Entry,
        mut visit: impl FnMut(&mut Self, &Entry),
    ) {
        let tree = self.units.tree(unit);
        let Some(node) = tree.at(entry.offset()) else { return };
        for child in tree.children(node) {
            if let Ok(child) = unit.unit.entry(tree.offset(child)) {
                visit(self, &child);
            }
        }
    }
}

fn number(entry: &Entry, name: gimli::DwAt) -> Option<u64> {
    entry.attr_value(name).and_then(|value| value.udata_value())
}

const fn kind_of(encoding: DwAte) -> Kind {
    match encoding {
        gimli::DW_ATE_signed | gimli::DW_ATE_signed_char => Kind::Signed,
        gimli::DW_ATE_float => Kind::Float,
        _ => Kind::Unsigned,
    }
}
