//! Types where they are used: a tree for every header, context and event, with every reference to
//! another field resolved (section 7.3), so that reading follows numbers only.

use super::bits::Order;
use super::schema::{Field, Scope};
use super::types::{Description, Integer, Label, Reference, Type, TypeId};
use crate::document::{Fault, Source};
use std::ops::Range;
use std::sync::Arc;

/// Fields and labels of all trees together at most: types that hold others many times over must not
/// buy memory.
const MOST_NODES: usize = 1 << 17;
/// Trees are so deep at most: names can nest types deeper than braces do.
const DEEPEST: usize = 64;

/// A node of a tree.
pub(super) type NodeId = u32;
/// Where the value of a field that others refer to is kept.
pub(super) type Slot = u16;

/// One node of a tree.
#[derive(Debug, Clone)]
pub(super) struct Node {
    pub(super) what: What,
    pub(super) align: u32,
    /// The number of the field, for what has a value.
    pub(super) field: u32,
}

/// What a node is.
#[derive(Debug, Clone)]
pub(super) enum What {
    Number(Number),
    /// A floating-point number of so many bits of exponent, and bits in all.
    Float {
        exponent: u32,
        size: u32,
        order: Order,
    },
    Text,
    Struct(Vec<(String, NodeId)>),
    /// Choices by their tags' ranges, sorted by nothing: the first that fits counts.
    Variant {
        tag: Slot,
        /// The tag has a sign.
        signed: bool,
        choices: Vec<(i128, i128, NodeId)>,
    },
    Array {
        of: NodeId,
        len: Length,
        /// Characters: together they are a text.
        is_text: bool,
        /// It names the trace.
        is_uuid: bool,
    },
}

/// How many elements there are.
#[derive(Debug, Clone, Copy)]
pub(super) enum Length {
    Fixed(u64),
    In(Slot),
}

/// An integer where it is used.
#[derive(Debug, Clone, Copy)]
pub(super) struct Number {
    pub(super) size: u32,
    pub(super) signed: bool,
    pub(super) order: Order,
    pub(super) unit: Option<u32>,
    pub(super) slot: Option<Slot>,
    pub(super) clock: Option<u8>,
    pub(super) role: Role,
    /// Its bytes say themselves how many there are.
    pub(super) is_variable: bool,
    is_character: bool,
}

/// What the format itself uses a number for (sections 5 and 6).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) enum Role {
    #[default]
    None,
    Magic,
    StreamId,
    Begin,
    End,
    ContentSize,
    PacketSize,
    Discarded,
    Sequence,
    EventId,
}

/// All trees.
#[derive(Debug)]
pub(super) struct Binder<'a> {
    source: Source<'a>,
    told: &'a Description,
    pub(super) nodes: Vec<Node>,
    pub(super) fields: Vec<Field>,
    pub(super) slots: u16,
    spent: usize,
    /// Members of the structures around what is being bound, innermost last.
    open: Vec<Vec<(String, NodeId)>>,
    /// What these are called, but for the outermost.
    names: Vec<String>,
    /// The trees that come before, by scope.
    roots: Vec<(Scope, NodeId)>,
    here: Range<usize>,
}

impl<'a> Binder<'a> {
    pub(super) const fn new(source: Source<'a>, told: &'a Description) -> Self {
        Self {
            source,
            told,
            nodes: Vec::new(),
            fields: Vec::new(),
            slots: 0,
            spent: 0,
            open: Vec::new(),
            names: Vec::new(),
            roots: Vec::new(),
            here: 0..0,
        }
    }

    /// Binds a tree. Later ones may refer to it as long as [`Binder::forget_from`] keeps it.
    pub(super) fn root(
        &mut self,
        of: Option<TypeId>,
        scope: Scope,
        here: &Range<usize>,
    ) -> Result<Option<NodeId>, Fault> {
        self.here = here.clone();
        let Some(of) = of else { return Ok(None) };
        let node = self.bind(of, &mut String::new(), scope, 0)?;
        self.roots.push((scope, node));
        Ok(Some(node))
    }

    /// How many trees there are that may be referred to.
    pub(super) fn roots(&self) -> usize {
        self.roots.len()
    }

    /// Trees from this one on are out of sight.
    pub(super) fn forget_from(&mut self, root: usize) {
        self.roots.truncate(root);
    }

    fn fault<T>(&self, span: Range<usize>, message: impl Into<String>) -> Result<T, Fault> {
        Err(self.source.fault(span, message))
    }

    fn spend(&mut self, nodes: usize) -> Result<(), Fault> {
        self.spent += nodes;
        if self.spent > MOST_NODES {
            let why = format!("together the events have more than {MOST_NODES} fields and labels");
            return self.fault(self.here.clone(), why);
        }
        Ok(())
    }

    fn add(&mut self, what: What, align: u32, field: u32) -> NodeId {
        self.nodes.push(Node { what, align, field });
        (self.nodes.len() - 1) as NodeId
    }

    fn field(&mut self, path: &str, scope: Scope, labels: Option<Arc<[Label]>>, wide: bool) -> u32 {
        self.fields.push(Field {
            path: path.to_owned(),
            scope,
            labels,
            is_wide: wide,
            is_hex: false,
        });
        (self.fields.len() - 1) as u32
    }

    fn order(&self, order: Option<Order>) -> Order {
        order.or(self.told.order).unwrap_or(Order::Little)
    }

    fn bind(
        &mut self,
        of: TypeId,
        path: &mut String,
        scope: Scope,
        depth: usize,
    ) -> Result<NodeId, Fault> {
        self.spend(1)?;
        if depth == DEEPEST {
            let why = format!("fields are nested more than {DEEPEST} deep");
            return self.fault(self.here.clone(), why);
        }
        let told = self.told;
        match told.types.get(of) {
            Type::Integer(integer) => Ok(self.number(integer, None, path, scope)),
            Type::Enumeration { of, labels } => {
                Ok(self.number(of, Some(labels.clone()), path, scope))
            }
            Type::Float { exponent, mantissa, order, align } => {
                let size = exponent + mantissa;
                let known = matches!((exponent, mantissa), (5, 11) | (8, 24) | (11, 53));
                let field = self.field(path, scope, None, !known);
                let order = self.order(*order);
                Ok(self.add(What::Float { exponent: *exponent, size, order }, *align, field))
            }
            Type::Text => {
                let field = self.field(path, scope, None, false);
                Ok(self.add(What::Text, 8, field))
            }
            Type::Struct { members, align } => self.structure(members, *align, path, scope, depth),
            Type::Variant { tag, choices } => {
                let Some(tag) = tag else {
                    let why = format!("the variant `{path}` has no tag: <field>");
                    return self.fault(self.here.clone(), why);
                };
                self.variant(tag, choices, path, scope, depth)
            }
            Type::Choice { tag, choices } => self.choice(tag, choices, path, scope, depth),
            Type::Uuid { of } => {
                let node = self.array(*of, Length::Fixed(16), 1, path, scope, depth)?;
                if let What::Array { is_uuid, .. } = &mut self.nodes[node as usize].what {
                    *is_uuid = true;
                }
                Ok(node)
            }
            Type::Array { of, len, align } => {
                self.array(*of, Length::Fixed(*len), *align, path, scope, depth)
            }
            Type::Sequence { of, len, align } => {
                let counted = self.resolve(len)?;
                match &self.nodes[counted as usize].what {
                    What::Number(number) if !number.signed && number.size <= 64 => {}
                    _ => {
                        let why = "the length of a sequence is an integer without sign";
                        return self.fault(len.span.clone(), why);
                    }
                }
                let slot = self.slot(counted, &len.span)?;
                self.array(*of, Length::In(slot), *align, path, scope, depth)
            }
        }
    }

    fn number(
        &mut self,
        integer: &Integer,
        labels: Option<Arc<[Label]>>,
        path: &str,
        scope: Scope,
    ) -> NodeId {
        let wide = integer.size > 64;
        let name = path.rsplit('.').next().unwrap_or(path);
        let by_roles = self.told.by_roles;
        let role = match by_roles {
            _ if wide => Role::None,
            true => integer.role,
            false => role(scope, name),
        };
        let dates = match by_roles {
            true => matches!(scope, Scope::PacketContext | Scope::EventHeader),
            false => scope.dates(name),
        };
        let clock = integer.clock.as_ref().filter(|_| !wide && dates);
        let mut clock =
            clock.and_then(|name| self.told.clocks.iter().position(|clock| clock.name == *name));
        // Old descriptions do not say that a timestamp is one.
        if !by_roles && clock.is_none() && dates && !wide && is_time(scope, name) {
            clock = (self.told.clocks.len() <= 1).then_some(0);
        }
        let number = Number {
            size: integer.size,
            signed: integer.signed,
            order: self.order(integer.order),
            unit: integer.unit,
            slot: None,
            clock: clock.map(|clock| clock as u8),
            role,
            is_variable: integer.is_variable,
            is_character: integer.is_character && integer.size == 8,
        };
        let field = self.field(path, scope, labels, wide);
        self.fields[field as usize].is_hex = integer.is_hex;
        self.add(What::Number(number), integer.align, field)
    }

    fn structure(
        &mut self,
        members: &'a [super::types::Member],
        align: u32,
        path: &mut String,
        scope: Scope,
        depth: usize,
    ) -> Result<NodeId, Fault> {
        if !self.open.is_empty() {
            self.names.push(path.rsplit('.').next().unwrap_or_default().to_owned());
        }
        self.open.push(Vec::with_capacity(members.len()));
        let mut widest = align;
        for member in members {
            let node = self.inside(&member.name, member.of, path, scope, depth)?;
            widest = widest.max(self.nodes[node as usize].align);
            if let Some(open) = self.open.last_mut() {
                open.push((member.name.clone(), node));
            }
        }
        let members = self.open.pop().unwrap_or_default();
        self.names.pop();
        Ok(self.add(What::Struct(members), widest, 0))
    }

    /// Binds what is called `name` inside of what is at `path`.
    fn inside(
        &mut self,
        name: &str,
        of: TypeId,
        path: &mut String,
        scope: Scope,
        depth: usize,
    ) -> Result<NodeId, Fault> {
        let before = path.len();
        if before > 0 {
            path.push('.');
        }
        path.push_str(name);
        let node = self.bind(of, path, scope, depth + 1);
        path.truncate(before);
        node
    }

    fn variant(
        &mut self,
        tag: &Reference,
        choices: &'a [super::types::Member],
        path: &mut String,
        scope: Scope,
        depth: usize,
    ) -> Result<NodeId, Fault> {
        let tagged = self.resolve(tag)?;
        let field = self.nodes[tagged as usize].field;
        let labels = self.fields[field as usize].labels.clone();
        let (Some(labels), What::Number(Number { signed, size: ..=64, .. })) =
            (labels, &self.nodes[tagged as usize].what)
        else {
            return self.fault(tag.span.clone(), "the tag of a variant is an enumeration");
        };
        let signed = *signed;
        let slot = self.slot(tagged, &tag.span)?;
        self.spend(labels.len())?;
        let mut bound = std::collections::HashMap::new();
        for choice in choices {
            let node = self.inside(&choice.name, choice.of, path, scope, depth)?;
            bound.insert(plain(&choice.name), node);
        }
        let choices = labels
            .iter()
            .filter_map(|label| Some((label.low, label.high, *bound.get(plain(&label.name))?)));
        let choices = choices.collect();
        Ok(self.add(What::Variant { tag: slot, signed, choices }, 1, 0))
    }

    /// One of several, by the number in a field.
    fn choice(
        &mut self,
        tag: &Reference,
        choices: &'a [(i128, i128, super::types::Member)],
        path: &mut String,
        scope: Scope,
        depth: usize,
    ) -> Result<NodeId, Fault> {
        let tagged = self.resolve(tag)?;
        let What::Number(Number { signed, size: ..=64, .. }) = self.nodes[tagged as usize].what
        else {
            return self.fault(tag.span.clone(), "what selects an option is an integer");
        };
        let slot = self.slot(tagged, &tag.span)?;
        self.spend(choices.len())?;
        let mut bound: Vec<(i128, i128, NodeId)> = Vec::new();
        let mut known = std::collections::HashMap::new();
        for (low, high, member) in choices {
            let key = (member.of.0, member.name.as_str());
            let node = match known.get(&key) {
                Some(node) => *node,
                None if member.name.is_empty() => self.bind(member.of, path, scope, depth + 1)?,
                None => self.inside(&member.name, member.of, path, scope, depth)?,
            };
            known.insert(key, node);
            bound.push((*low, *high, node));
        }
        Ok(self.add(What::Variant { tag: slot, signed, choices: bound }, 1, 0))
    }

    fn array(
        &mut self,
        of: TypeId,
        len: Length,
        least: u32,
        path: &mut String,
        scope: Scope,
        depth: usize,
    ) -> Result<NodeId, Fault> {
        let of = self.bind(of, path, scope, depth + 1)?;
        let node = &self.nodes[of as usize];
        let (align, field) = (node.align.max(least), node.field);
        let (is_text, is_byte) = match &node.what {
            What::Number(number) => {
                (number.is_character && align % 8 == 0, number.size == 8 && align == 8)
            }
            _ => (false, false),
        };
        let is_uuid = scope == Scope::PacketHeader
            && path.as_str() == "uuid"
            && is_byte
            && matches!(len, Length::Fixed(16));
        Ok(self.add(What::Array { of, len, is_text, is_uuid }, align, field))
    }

    /// The slot of a field to which others refer.
    fn slot(&mut self, node: NodeId, span: &Range<usize>) -> Result<Slot, Fault> {
        let next = self.slots;
        let What::Number(number) = &mut self.nodes[node as usize].what else {
            return self.fault(span.clone(), "only integers and enumerations are referred to");
        };
        if let Some(slot) = number.slot {
            return Ok(slot);
        }
        if next == u16::MAX {
            return self.fault(span.clone(), "more than 65535 fields are referred to");
        }
        number.slot = Some(next);
        self.slots += 1;
        Ok(next)
    }

    /// The field that a reference means: the nearest one before it, outwards, then in the scopes
    /// before.
    fn resolve(&self, reference: &Reference) -> Result<NodeId, Fault> {
        let path = reference.path.as_slice();
        let absolute = Scope::ALL.into_iter().find_map(|scope| {
            let prefix: Vec<&str> = scope.prefix().split('.').collect();
            let is = path.len() > prefix.len() && path.iter().zip(&prefix).all(|(a, b)| a == b);
            is.then_some((scope, prefix.len()))
        });
        let found = if let Some(outwards) = reference.outwards {
            let open = self.open.iter().rev().nth(outwards);
            open.and_then(|open| self.among(open, path))
        } else if let Some((scope, skip)) = absolute {
            let root = self.roots.iter().rev().find(|(other, _)| *other == scope);
            match root {
                Some((_, root)) => self.descend(*root, &path[skip..]),
                // The scope that is being bound.
                None => self.around(&path[skip..]),
            }
        } else {
            let lexical = self.open.iter().rev().find_map(|open| self.among(open, path));
            lexical
                .or_else(|| self.roots.iter().rev().find_map(|(_, root)| self.descend(*root, path)))
        };
        match found {
            Some(found) => Ok(found),
            None => {
                let why = format!("there is no field `{}` before this one", path.join("."));
                self.fault(reference.span.clone(), why)
            }
        }
    }

    /// A field of the scope that is being bound: what is around it is not complete.
    fn around(&self, path: &[String]) -> Option<NodeId> {
        let shared = self.names.iter().zip(path).take_while(|(open, name)| open == name).count();
        (0..=shared).rev().find_map(|depth| self.among(self.open.get(depth)?, &path[depth..]))
    }

    fn among(&self, members: &[(String, NodeId)], path: &[String]) -> Option<NodeId> {
        let (first, rest) = path.split_first()?;
        let (_, node) = members.iter().find(|(name, _)| name == first)?;
        if rest.is_empty() { Some(*node) } else { self.descend(*node, rest) }
    }

    fn descend(&self, node: NodeId, path: &[String]) -> Option<NodeId> {
        match &self.nodes[node as usize].what {
            What::Struct(members) => self.among(members, path),
            _ => None,
        }
    }
}

/// A name without the underscore that tracers put before it.
pub(super) fn plain(name: &str) -> &str {
    name.strip_prefix('_').unwrap_or(name)
}

fn role(scope: Scope, name: &str) -> Role {
    match (scope, plain(name)) {
        (Scope::PacketHeader, "magic") => Role::Magic,
        (Scope::PacketHeader, "stream_id") => Role::StreamId,
        (Scope::PacketContext, "timestamp_begin") => Role::Begin,
        (Scope::PacketContext, "timestamp_end") => Role::End,
        (Scope::PacketContext, "content_size") => Role::ContentSize,
        (Scope::PacketContext, "packet_size") => Role::PacketSize,
        (Scope::PacketContext, "events_discarded") => Role::Discarded,
        (Scope::PacketContext, "packet_seq_num") => Role::Sequence,
        (Scope::EventHeader, "id") => Role::EventId,
        _ => Role::None,
    }
}

/// Whether a field of this name is a time, also where it names no clock.
fn is_time(scope: Scope, name: &str) -> bool {
    matches!(
        (scope, plain(name)),
        (Scope::EventHeader, "timestamp") | (Scope::PacketContext, "timestamp_begin")
    )
}
