//! What the bytes of variables mean, from debug information: numbers, arrays, structures.

use gimli::{AttributeValue, DwAte, EndianArcSlice, Reader as _, RunTimeEndian, UnitOffset};
use std::collections::HashMap;
use std::sync::Arc;

pub(super) type Slice = EndianArcSlice<RunTimeEndian>;
pub(super) type Unit = gimli::Unit<Slice>;

/// Types are followed so far: a crafted file may chain them in a circle.
const DEEPEST: usize = 24;

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
    /// Bytes from the structure's start.
    pub(super) offset: u64,
    pub(super) shape: ShapeId,
    /// For a bit-field: bits from the structure's start, and how many.
    pub(super) bits: Option<(u64, u8)>,
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

/// Reads the types of one unit, each once.
pub(super) struct Reader<'a> {
    pub(super) dwarf: &'a gimli::Dwarf<Slice>,
    pub(super) unit: &'a Unit,
    pub(super) shapes: &'a mut Shapes,
    pub(super) known: HashMap<UnitOffset, ShapeId>,
}

type Entry = gimli::DebuggingInformationEntry<Slice>;

impl Reader<'_> {
    /// The shape of what `entry` declares.
    pub(super) fn of(&mut self, entry: &Entry) -> ShapeId {
        self.typed(entry, 0)
    }

    fn typed(&mut self, entry: &Entry, depth: usize) -> ShapeId {
        match entry.attr_value(gimli::DW_AT_type) {
            Some(AttributeValue::UnitRef(offset)) => self.at(offset, depth),
            _ => Shapes::UNKNOWN,
        }
    }

    fn at(&mut self, offset: UnitOffset, depth: usize) -> ShapeId {
        if let Some(&known) = self.known.get(&offset) {
            return known;
        }
        let Some(found) = (depth < DEEPEST).then(|| self.unit.entry(offset).ok()).flatten() else {
            return Shapes::UNKNOWN;
        };
        // Whatever leads back here leads nowhere.
        self.known.insert(offset, Shapes::UNKNOWN);
        let size = number(&found, gimli::DW_AT_byte_size);
        let id = match found.tag() {
            gimli::DW_TAG_base_type => {
                let kind = match found.attr_value(gimli::DW_AT_encoding) {
                    Some(AttributeValue::Encoding(encoding)) => kind_of(encoding),
                    _ => Kind::Other,
                };
                self.number(size.unwrap_or(0), kind, Vec::new())
            }
            gimli::DW_TAG_pointer_type => {
                let size = size.unwrap_or_else(|| u64::from(self.unit.encoding().address_size));
                self.number(size, Kind::Unsigned, Vec::new())
            }
            gimli::DW_TAG_enumeration_type => self.enumeration(&found, offset, size, depth),
            gimli::DW_TAG_array_type => {
                let of = self.typed(&found, depth + 1);
                let dimensions = self.dimensions(offset);
                self.shapes.add(Shape::Array { of, dimensions })
            }
            gimli::DW_TAG_structure_type | gimli::DW_TAG_union_type | gimli::DW_TAG_class_type => {
                let members = self.members(offset, depth);
                self.shapes.add(Shape::Structure { size: size.unwrap_or(0), members })
            }
            // Another name for a type, or a type with a qualifier.
            _ if found.attr(gimli::DW_AT_type).is_some() => self.typed(&found, depth + 1),
            _ => self.shapes.add(Shape::Unknown { size: size.unwrap_or(0) }),
        };
        self.known.insert(offset, id);
        id
    }

    fn number(&mut self, size: u64, kind: Kind, labels: Vec<(i64, String)>) -> ShapeId {
        let element = Element { size, kind };
        self.shapes.add(Shape::Number { element, labels: Arc::from(labels) })
    }

    fn enumeration(
        &mut self,
        entry: &Entry,
        offset: UnitOffset,
        size: Option<u64>,
        depth: usize,
    ) -> ShapeId {
        let of = self.typed(entry, depth + 1);
        let under = self.shapes.element(of);
        let mut labels = Vec::new();
        self.each_child(offset, |reader, child| {
            let value = match child.attr_value(gimli::DW_AT_const_value) {
                Some(AttributeValue::Sdata(value)) => Some(value),
                Some(value) => value.udata_value().map(|value| value as i64),
                None => None,
            };
            labels.extend(value.zip(reader.name(child)));
        });
        let negative = labels.iter().any(|(value, _)| *value < 0);
        let signed = under.kind == Kind::Signed || negative;
        let kind = if signed { Kind::Signed } else { Kind::Unsigned };
        self.number(size.unwrap_or(under.size), kind, labels)
    }

    /// The lengths of an array's dimensions, outermost first; nothing where one is unknown.
    fn dimensions(&self, offset: UnitOffset) -> Vec<u64> {
        let mut lengths = Vec::new();
        let Ok(mut tree) = self.unit.entries_tree(Some(offset)) else { return vec![0] };
        let Ok(root) = tree.root() else { return vec![0] };
        let mut children = root.children();
        while let Ok(Some(child)) = children.next() {
            let entry = child.entry();
            let bound = || Some(number(entry, gimli::DW_AT_upper_bound)?.saturating_add(1));
            lengths.push(number(entry, gimli::DW_AT_count).or_else(bound).unwrap_or(0));
        }
        lengths
    }

    fn members(&mut self, offset: UnitOffset, depth: usize) -> Vec<Member> {
        let mut members = Vec::new();
        self.each_child(offset, |reader, child| {
            if child.tag() != gimli::DW_TAG_member {
                return;
            }
            let shape = reader.typed(child, depth + 1);
            let start = number(child, gimli::DW_AT_data_member_location).unwrap_or(0);
            let bits = reader.bits(child, start, reader.shapes.size(shape));
            members.push(Member { name: reader.name(child), offset: start, shape, bits });
        });
        members
    }

    /// Where a bit-field lies, from the structure's start: as DWARF 4 and later say it, or as those
    /// before do, who count from the top of a storage unit (DWARF 4, 5.5.6; little-endian).
    fn bits(&self, entry: &Entry, start: u64, size: u64) -> Option<(u64, u8)> {
        let count =
            number(entry, gimli::DW_AT_bit_size).filter(|count| (1..=64).contains(count))?;
        let at = match number(entry, gimli::DW_AT_data_bit_offset) {
            Some(bits) => bits,
            None => {
                let from_top = number(entry, gimli::DW_AT_bit_offset)?;
                let unit = number(entry, gimli::DW_AT_byte_size).unwrap_or(size).checked_mul(8)?;
                let low = unit.checked_sub(from_top)?.checked_sub(count)?;
                start.checked_mul(8)?.checked_add(low)?
            }
        };
        Some((at, count as u8))
    }

    /// Children are read before they are followed: following reads others.
    fn each_child(&mut self, offset: UnitOffset, mut visit: impl FnMut(&mut Self, &Entry)) {
        let mut offsets = Vec::new();
        if let Ok(mut tree) = self.unit.entries_tree(Some(offset))
            && let Ok(root) = tree.root()
        {
            let mut children = root.children();
            while let Ok(Some(child)) = children.next() {
                offsets.push(child.entry().offset());
            }
        }
        for offset in offsets {
            if let Ok(child) = self.unit.entry(offset) {
                visit(self, &child);
            }
        }
    }

    fn name(&self, entry: &Entry) -> Option<String> {
        let name = entry.attr_value(gimli::DW_AT_name)?;
        text(&self.dwarf.attr_string(self.unit, name).ok()?)
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

pub(super) fn text(slice: &Slice) -> Option<String> {
    Some(slice.to_string_lossy().ok()?.into_owned())
}
