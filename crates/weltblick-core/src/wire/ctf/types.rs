//! Types as a description declares them (section 4), before anybody uses them.

use super::bits::Order;
use super::bound::Role;
use std::ops::Range;
use std::sync::Arc;

/// A type, by its number in [`Types`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct TypeId(pub(super) usize);

/// All types that were declared. Those that are used twice stand here once.
#[derive(Debug, Default)]
pub(super) struct Types(Vec<Type>);

impl Types {
    pub(super) fn add(&mut self, declared: Type) -> TypeId {
        self.0.push(declared);
        TypeId(self.0.len() - 1)
    }

    pub(super) fn get(&self, id: TypeId) -> &Type {
        &self.0[id.0]
    }
}

/// One type.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Type {
    Integer(Integer),
    Float {
        exponent: u32,
        mantissa: u32,
        order: Option<Order>,
        align: u32,
    },
    /// Bytes up to a zero.
    Text,
    Enumeration {
        of: Integer,
        labels: Arc<[Label]>,
    },
    Struct {
        members: Vec<Member>,
        /// At least this alignment.
        align: u32,
    },
    /// `tag` is absent where it is only declared, to be used with a tag later.
    Variant {
        tag: Option<Reference>,
        choices: Vec<Member>,
    },
    /// One of these by the number in a field: the first whose range it lies in.
    Choice {
        tag: Reference,
        choices: Vec<(i128, i128, Member)>,
    },
    Array {
        of: TypeId,
        len: u64,
        /// At least this alignment.
        align: u32,
    },
    Sequence {
        of: TypeId,
        len: Reference,
        /// At least this alignment.
        align: u32,
    },
    /// 16 bytes that name the trace.
    Uuid {
        of: TypeId,
    },
}

/// Section 4.1.5.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Integer {
    /// Bits.
    pub(super) size: u32,
    pub(super) align: u32,
    pub(super) signed: bool,
    /// Absent: the trace's own.
    pub(super) order: Option<Order>,
    /// Arrays of it are text.
    pub(super) is_character: bool,
    /// People write it in hexadecimal.
    pub(super) is_hex: bool,
    /// The clock whose value it is.
    pub(super) clock: Option<String>,
    /// It is a bit-field in units of so many bits, none of which it crosses.
    pub(super) unit: Option<u32>,
    /// Each of its bytes has 7 bits, the lowest first, and one that says whether another follows (LEB128).
    pub(super) is_variable: bool,
    /// What the format uses it for, where the description says so.
    pub(super) role: Role,
}

impl Integer {
    /// So many bits, and nothing else is said of it.
    pub(super) const fn of(size: u32, signed: bool) -> Self {
        Self {
            size,
            align: 1,
            signed,
            order: None,
            is_character: false,
            is_hex: false,
            clock: None,
            unit: None,
            is_variable: false,
            role: Role::None,
        }
    }
}

/// One label of an enumeration, and the numbers that it stands for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Label {
    pub(super) name: String,
    pub(super) low: i128,
    pub(super) high: i128,
}

/// A member of a structure, or a choice of a variant.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Member {
    pub(super) name: String,
    pub(super) of: TypeId,
}

/// Another field, named by its path (section 7.3.2).
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Reference {
    pub(super) path: Vec<String>,
    /// It begins in the structure so many further out; absent: in the nearest that has such a field, or in the scope that
    /// it names.
    pub(super) outwards: Option<usize>,
    pub(super) span: Range<usize>,
}

/// What a description says.
#[derive(Debug, Default)]
pub(super) struct Description {
    pub(super) types: Types,
    /// Roles say what the format uses a field for, not names.
    pub(super) by_roles: bool,
    pub(super) order: Option<Order>,
    pub(super) uuid: Option<[u8; 16]>,
    pub(super) packet_header: Option<TypeId>,
    pub(super) clocks: Vec<DeclaredClock>,
    pub(super) streams: Vec<DeclaredStream>,
    pub(super) events: Vec<DeclaredEvent>,
}

/// `clock { ... }` (section 8).
#[derive(Debug, Clone, PartialEq)]
pub(super) struct DeclaredClock {
    pub(super) name: String,
    pub(super) hertz: u64,
    /// Ticks by which a reading may be wrong.
    pub(super) precision: u64,
    pub(super) offset_s: i64,
    pub(super) offset: i64,
}

/// `stream { ... }`.
#[derive(Debug, Default, Clone)]
pub(super) struct DeclaredStream {
    pub(super) id: u64,
    pub(super) packet_context: Option<TypeId>,
    pub(super) event_header: Option<TypeId>,
    pub(super) event_context: Option<TypeId>,
}

/// `event { ... }`.
#[derive(Debug, Default, Clone)]
pub(super) struct DeclaredEvent {
    pub(super) name: String,
    pub(super) span: Range<usize>,
    pub(super) id: Option<u64>,
    pub(super) stream: Option<u64>,
    pub(super) context: Option<TypeId>,
    pub(super) fields: Option<TypeId>,
}
