//! Parts of variables by path: `latest_waves.height_mm`, `voltages[3]`, `sampler.c#halves[1][0]`.

use super::shapes::{Element, Kind, Labels, Member, Place, Shape, ShapeId};
use super::variables::{NotFixed, Variables};
use crate::document::nearest;
use std::ops::Range;
use std::sync::Arc;

/// Nameless members are looked through so far.
const DEEPEST: usize = 8;

/// A number at a fixed address, or an array of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// Its path.
    pub name: String,
    /// Where it is.
    pub address: u64,
    /// How many bytes all of it takes.
    pub size: u64,
    /// What one element is.
    pub element: Element,
    /// How many elements it has: 1, unless it is an array.
    pub count: u64,
    /// The bits of the element that are meant; absent: all.
    pub bits: Option<Bits>,
    /// What its values are called, for an enumeration.
    pub labels: Labels,
}

/// A part of a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bits {
    /// The lowest.
    pub from: u8,
    /// How many.
    pub count: u8,
}

impl Field {
    /// Its bytes.
    #[must_use]
    pub const fn range(&self) -> Range<u64> {
        self.address..self.address.saturating_add(self.size)
    }

    /// Plain bytes at an address, of which nothing more is known.
    #[must_use]
    pub fn plain(name: String, address: u64, size: u64) -> Self {
        let element = Element { size, kind: Kind::Unsigned };
        Self { name, address, size, element, count: 1, bits: None, labels: Arc::from([]) }
    }

    /// The number that an element's bits stand for, zero-extended; `None` for what is no number.
    ///
    /// ```
    /// use weltblick_core::image::{Element, Field, Kind};
    /// let mut field = Field::plain("offset".into(), 0x2000_0000, 2);
    /// assert_eq!(field.number(0xfffe), Some(65534.0));
    /// field.element = Element { size: 2, kind: Kind::Signed };
    /// assert_eq!(field.number(0xfffe), Some(-2.0));
    /// ```
    #[must_use]
    pub fn number(&self, raw: u64) -> Option<f64> {
        let bytes = u8::try_from(self.element.size.saturating_mul(8)).unwrap_or(64).min(64);
        let Bits { from, count } = self.bits.unwrap_or(Bits { from: 0, count: bytes });
        if count == 0 || u32::from(from) + u32::from(count) > 64 {
            return None;
        }
        let shifted = raw >> from << (64 - count);
        Some(match self.element.kind {
            Kind::Unsigned => (shifted >> (64 - count)) as f64,
            Kind::Signed => (shifted as i64 >> (64 - count)) as f64,
            Kind::Float if self.element.size == 4 => f64::from(f32::from_bits(raw as u32)),
            Kind::Float if self.element.size == 8 => f64::from_bits(raw),
            Kind::Float | Kind::Other => return None,
        })
    }

    /// What a value is called.
    #[must_use]
    pub fn label(&self, value: f64) -> Option<&str> {
        let found = self.labels.iter().find(|(labelled, _)| *labelled as f64 == value);
        found.map(|(_, name)| name.as_str())
    }
}

impl Variables {
    /// The number, or the array of numbers, that a path leads to.
    ///
    /// # Errors
    ///
    /// Why there is no such number at a fixed address.
    pub fn field(&self, path: &str) -> Result<Field, NotFixed> {
        // A symbol may have a point in its name.
        let whole = self.find(path);
        let names_at = path.find('#').map_or(0, |at| at + 1);
        let end = path[names_at..].find(['.', '[']).map_or(path.len(), |at| names_at + at);
        let (variable, rest) = match whole {
            Ok(variable) => (variable, ""),
            Err(why) if end == path.len() => return Err(why),
            Err(_) => (self.find(&path[..end])?, &path[end..]),
        };
        let start = Walk { address: variable.address, shape: variable.shape, bits: None, taken: 0 };
        let mut found = self.walk(path, start, rest).map_err(|error| match error {
            NotFixed::NoPart { name, .. } if variable.file.is_none() => {
                let why = format!("there is no debug information of it{}", self.missing_hint());
                NotFixed::NoPart { name, why }
            }
            error => error,
        })?;
        let mut count = 1_u64;
        while let Shape::Array { of, dimensions } = self.shapes.get(found.shape) {
            let left = dimensions.get(found.taken..).unwrap_or_default();
            count = left.iter().fold(count, |count, &length| count.saturating_mul(length));
            (found.shape, found.taken) = (*of, 0);
        }
        let Walk { address, shape, bits, .. } = found;
        let (element, labels) = match self.shapes.get(shape) {
            Shape::Number { element, labels } => (*element, labels.clone()),
            Shape::Structure { members, .. } if count == 1 => {
                let names = members.iter().filter_map(|member| member.name.clone()).collect();
                return Err(NotFixed::Structure { name: path.to_owned(), members: names });
            }
            _ => return Err(NotFixed::NoNumber(path.to_owned())),
        };
        // Assembler and stripped debug information leave only the symbol's size.
        let element = match element.size {
            0 => Element { size: variable.size, kind: Kind::Unsigned },
            _ => element,
        };
        let size = element.size.saturating_mul(count);
        Ok(Field { name: path.to_owned(), address, size, element, count, bits, labels })
    }

    fn walk(&self, path: &str, mut at: Walk, mut rest: &str) -> Result<Walk, NotFixed> {
        while !rest.is_empty() {
            let no = |why: String| NotFixed::NoPart { name: path.to_owned(), why };
            if let Some(inner) = rest.strip_prefix('[') {
                let (index, after) =
                    inner.split_once(']').ok_or_else(|| no("a `]` is missing".into()))?;
                let index: u64 =
                    index.trim().parse().map_err(|_| no(format!("`{index}` is no index")))?;
                at = self.element_of(at, index).map_err(no)?;
                rest = after;
            } else {
                let named = rest.strip_prefix('.').unwrap_or(rest);
                let end = named.find(['.', '[']).unwrap_or(named.len());
                at = self.member_of(at, &named[..end]).map_err(no)?;
                rest = &named[end..];
            }
        }
        Ok(at)
    }

    /// Takes an element of an array's outermost dimension.
    fn element_of(&self, at: Walk, index: u64) -> Result<Walk, String> {
        let Shape::Array { of, dimensions } = self.shapes.get(at.shape) else {
            return Err(format!("[{index}] follows what is no array"));
        };
        let Some([length, inner @ ..]) = dimensions.get(at.taken..) else {
            return Err(format!("[{index}] follows an array of unknown length"));
        };
        if index >= *length {
            return Err(format!("[{index}] lies outside an array of {length}"));
        }
        let size = self.shapes.size(*of);
        let row = inner.iter().fold(size, |size, &length| size.saturating_mul(length));
        let address = at.address.wrapping_add(index.wrapping_mul(row));
        Ok(match inner {
            [] => Walk { address, shape: *of, bits: None, taken: 0 },
            _ => Walk { address, taken: at.taken + 1, ..at },
        })
    }

    fn member_of(&self, at: Walk, name: &str) -> Result<Walk, String> {
        let Shape::Structure { members, .. } = self.shapes.get(at.shape) else {
            return Err(format!(".{name} follows what is no structure"));
        };
        let found = self.member_in(at.address, members, name, 0).ok_or_else(|| {
            let names = members.iter().filter_map(|member| member.name.as_deref());
            format!("it has no member `{name}`{}", nearest(name, names))
        })?;
        found.ok_or_else(|| {
            format!("the debug information does not say in one number where `{name}` lies")
        })
    }

    /// The member of this name, if there is one; its place, if that is known.
    fn member_in(
        &self,
        base: u64,
        members: &[Member],
        name: &str,
        depth: usize,
    ) -> Option<Option<Walk>> {
        members.iter().find_map(|member| match &member.name {
            Some(own) if own == name => Some(placed(base, member)),
            None if depth < DEEPEST => match (self.shapes.get(member.shape), member.place) {
                (Shape::Structure { members, .. }, Place::Bytes(offset)) => {
                    self.member_in(base.wrapping_add(offset), members, name, depth + 1)
                }
                _ => None,
            },
            _ => None,
        })
    }
}

fn placed(base: u64, member: &Member) -> Option<Walk> {
    let (offset, bits) = match member.place {
        Place::Bytes(offset) => (offset, None),
        Place::Bits { offset, bits } => (offset, Some(bits)),
        Place::Unknown => return None,
    };
    Some(Walk { address: base.wrapping_add(offset), shape: member.shape, bits, taken: 0 })
}

/// Where a path has led so far.
#[derive(Clone, Copy)]
struct Walk {
    address: u64,
    shape: ShapeId,
    bits: Option<Bits>,
    /// Dimensions of the array that were chosen from.
    taken: usize,
}
