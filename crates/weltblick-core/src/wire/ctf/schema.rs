//! A description, ready to read packets by.

use super::bits::Order;
use super::bound::{Binder, Node, NodeId, plain};
use super::fragments;
use super::parser::parse;
use super::types::{DeclaredStream, Label};
use crate::document::{Fault, Source};
use rustc_hash::FxHashMap;
use std::ops::Range;
use std::sync::Arc;

/// The first word of a packet (section 5.1).
pub(super) const MAGIC: u32 = 0xc1fc_1fc1;

/// What the packets of an event trace hold.
#[derive(Debug)]
pub struct Schema {
    pub(super) nodes: Vec<Node>,
    pub(super) fields: Vec<Field>,
    pub(super) slots: usize,
    pub(super) header: Option<NodeId>,
    /// Whether packets begin with [`MAGIC`], and in which byte order.
    pub(super) magic: Option<Order>,
    pub(super) uuid: Option<[u8; 16]>,
    pub(super) streams: Vec<Stream>,
    pub(super) by_stream_id: FxHashMap<u64, usize>,
    clocks: Vec<Clock>,
    events: Vec<EventClass>,
}

/// A clock of the trace (section 8).
#[derive(Debug, Clone, PartialEq)]
pub struct Clock {
    /// What the description calls it.
    pub name: String,
    /// Ticks in a second.
    pub hertz: u64,
    /// Ticks by which a reading may be wrong.
    pub precision: u64,
    /// What its zero is, in ticks since an epoch that the trace's clocks share.
    pub offset: i128,
}

/// One kind of event.
#[derive(Debug)]
pub struct EventClass {
    /// What the description calls it; names may be used twice.
    pub name: String,
    /// The number of its stream in [`Schema`].
    pub(super) stream: usize,
    pub(super) roots: [Option<NodeId>; 2],
    fields: Range<u32>,
}

#[derive(Debug)]
pub(super) struct Stream {
    pub(super) context: Option<NodeId>,
    pub(super) event_header: Option<NodeId>,
    pub(super) event_context: Option<NodeId>,
    pub(super) by_event_id: FxHashMap<u64, u32>,
    /// The clock of its events.
    pub(super) clock: Option<u8>,
    /// How many bits of it an event can tell at most; 0: none.
    pub(super) stamp_bits: u32,
    fields: Range<u32>,
}

/// One field of an event, or of what surrounds it.
#[derive(Debug, Clone)]
pub struct Field {
    /// Names from the outermost on, joined with dots.
    pub path: String,
    /// Where it stands.
    pub(super) scope: Scope,
    pub(super) labels: Option<Arc<[Label]>>,
    /// It is wider than any number here.
    pub is_wide: bool,
    /// It is an integer that people write in hexadecimal.
    pub is_hex: bool,
}

impl Field {
    /// What an enumeration calls a number: the first label that fits.
    #[must_use]
    pub fn label(&self, number: i128) -> Option<&str> {
        let mut labels = self.labels.as_deref()?.iter();
        labels.find(|label| (label.low..=label.high).contains(&number)).map(|l| l.name.as_str())
    }

    /// Whether it is an enumeration that knows this label.
    #[must_use]
    pub fn knows_label(&self, name: &str) -> bool {
        self.labels.as_deref().is_some_and(|labels| labels.iter().any(|label| label.name == name))
    }

    /// Whether it is an enumeration.
    #[must_use]
    pub const fn is_enumeration(&self) -> bool {
        self.labels.is_some()
    }

    /// Whether it belongs to single events, not to what frames them: packets, numbers, times.
    #[must_use]
    pub fn is_of_event(&self) -> bool {
        self.scope >= Scope::StreamContext
    }

    fn is_called(&self, path: &str) -> bool {
        self.path == path || self.path.split('.').map(plain).eq(path.split('.').map(plain))
    }
}

/// Where a field stands (section 7.3.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Scope {
    PacketHeader,
    PacketContext,
    EventHeader,
    StreamContext,
    EventContext,
    Fields,
}

impl Scope {
    pub(super) const ALL: [Self; 6] = [
        Self::PacketHeader,
        Self::PacketContext,
        Self::EventHeader,
        Self::StreamContext,
        Self::EventContext,
        Self::Fields,
    ];

    /// How references to it begin.
    pub(super) const fn prefix(self) -> &'static str {
        match self {
            Self::PacketHeader => "trace.packet.header",
            Self::PacketContext => "stream.packet.context",
            Self::EventHeader => "stream.event.header",
            Self::StreamContext => "stream.event.context",
            Self::EventContext => "event.context",
            Self::Fields => "event.fields",
        }
    }

    /// Whether a mapped integer of this name moves its clock.
    pub(super) fn dates(self, name: &str) -> bool {
        match self {
            Self::PacketHeader | Self::EventHeader => true,
            Self::PacketContext => plain(name) != "timestamp_end",
            _ => false,
        }
    }
}

impl Schema {
    /// Reads the text of a description that the user knows as `file`.
    ///
    /// # Errors
    ///
    /// The first thing that is wrong, with its line.
    ///
    /// ```
    /// use weltblick_core::wire::ctf::Schema;
    /// let text = "trace { byte_order = le; };\nevent { name = beat; fields := struct { u8 rate; }; };";
    /// let fault = Schema::parse("events/metadata", text).unwrap_err();
    /// assert_eq!(fault.line, 2);
    /// assert!(fault.message.contains("no type `u8` is declared before this"));
    /// ```
    pub fn parse(file: &str, text: &str) -> Result<Self, Fault> {
        let source = Source::new(file, text);
        let mut told = match fragments::is_of_fragments(text) {
            true => fragments::parse(source, text)?,
            false => parse(source, text)?,
        };
        if told.streams.is_empty() {
            told.streams.push(DeclaredStream::default());
        }
        let mut binder = Binder::new(source, &told);
        let nowhere = 0..0;
        let header = binder.root(told.packet_header, Scope::PacketHeader, &nowhere)?;
        let header_roots = binder.roots();
        let mut streams = Vec::new();
        let mut events: Vec<EventClass> = Vec::new();
        let mut by_stream_id = FxHashMap::default();
        for declared in &told.streams {
            let number = streams.len();
            by_stream_id.insert(declared.id, number);
            let first = binder.fields.len() as u32;
            let context = binder.root(declared.packet_context, Scope::PacketContext, &nowhere)?;
            let event_header = binder.root(declared.event_header, Scope::EventHeader, &nowhere)?;
            let event_context =
                binder.root(declared.event_context, Scope::StreamContext, &nowhere)?;
            let fields = first..binder.fields.len() as u32;
            let stream_roots = binder.roots();
            let mut by_event_id = FxHashMap::default();
            // An event without a stream belongs to the only one.
            let only = told.streams.len() == 1;
            let mine = |stream: Option<u64>| stream.map_or(only, |id| id == declared.id);
            for event in told.events.iter().filter(|event| mine(event.stream)) {
                let first = binder.fields.len() as u32;
                let context = binder.root(event.context, Scope::EventContext, &event.span)?;
                let payload = binder.root(event.fields, Scope::Fields, &event.span)?;
                binder.forget_from(stream_roots);
                let id = event.id.unwrap_or(0);
                if by_event_id.insert(id, events.len() as u32).is_some() {
                    let why = format!("stream {} has two events of the number {id}", declared.id);
                    return Err(source.fault(event.span.clone(), why));
                }
                events.push(EventClass {
                    name: event.name.clone(),
                    stream: number,
                    roots: [context, payload],
                    fields: first..binder.fields.len() as u32,
                });
            }
            binder.forget_from(header_roots);
            let clock = clock_of(&binder.nodes, event_header).or(clock_of(&binder.nodes, context));
            streams.push(Stream {
                context,
                event_header,
                event_context,
                by_event_id,
                clock,
                stamp_bits: event_header.map_or(0, |root| widest(&binder.nodes, root)),
                fields,
            });
        }
        let lonely = told.events.iter().find(|event| match event.stream {
            Some(id) => !by_stream_id.contains_key(&id),
            None => told.streams.len() > 1,
        });
        if let Some(event) = lonely {
            let why = format!("event `{}` belongs to no stream that is declared", event.name);
            return Err(source.fault(event.span.clone(), why));
        }
        let magic = magic_of(&binder.nodes, header);
        let (nodes, fields, slots) = (binder.nodes, binder.fields, usize::from(binder.slots));
        let clocks = told.clocks.iter().map(|clock| Clock {
            name: clock.name.clone(),
            hertz: clock.hertz,
            precision: clock.precision,
            offset: i128::from(clock.offset_s) * i128::from(clock.hertz) + i128::from(clock.offset),
        });
        let clocks = clocks.collect();
        let uuid = told.uuid;
        Ok(Self {
            nodes,
            fields,
            slots,
            header,
            magic,
            uuid,
            streams,
            by_stream_id,
            clocks,
            events,
        })
    }

    /// The clocks, in the order of their declaration.
    #[must_use]
    pub fn clocks(&self) -> &[Clock] {
        &self.clocks
    }

    /// The clock that dates a kind of event; absent where events have order only, or where the
    /// description knows no clock.
    #[must_use]
    pub fn clock_of(&self, event: &EventClass) -> Option<&Clock> {
        self.clocks.get(usize::from(self.streams[event.stream].clock?))
    }

    /// Whether events of this kind have times.
    #[must_use]
    pub fn is_dated(&self, event: &EventClass) -> bool {
        self.streams[event.stream].clock.is_some()
    }

    /// How many bits the longest reading of a clock has.
    #[must_use]
    pub fn widest_time(&self) -> u32 {
        let bits = |node: &Node| match &node.what {
            super::bound::What::Number(number) if number.clock.is_some() => number.size,
            _ => 0,
        };
        self.nodes.iter().map(bits).max().unwrap_or(0)
    }

    /// The kinds of events, by number.
    #[must_use]
    pub fn events(&self) -> &[EventClass] {
        &self.events
    }

    /// A field by its number.
    #[must_use]
    pub fn field(&self, number: u32) -> &Field {
        &self.fields[number as usize]
    }

    /// The fields of an event's own, by number: of its context, then of itself.
    pub fn fields_of(&self, event: &EventClass) -> impl Iterator<Item = (u32, &Field)> {
        event.fields.clone().map(|number| (number, self.field(number)))
    }

    /// The field of an event that somebody asks for: its own first, then those around it.
    #[must_use]
    pub fn find_field(&self, event: &EventClass, path: &str) -> Option<u32> {
        let around = self.streams[event.stream].fields.clone();
        let mut found: Vec<u32> = event.fields.clone().chain(around).collect();
        found.retain(|&number| self.field(number).is_called(path));
        found
            .into_iter()
            .max_by_key(|&number| (self.field(number).scope, std::cmp::Reverse(number)))
    }
}

impl EventClass {
    /// The number of its stream.
    #[must_use]
    pub const fn stream(&self) -> usize {
        self.stream
    }
}

impl Schema {
    /// A field of what frames an event: its packet, its header, its contexts.
    #[must_use]
    pub fn find_around(&self, event: &EventClass, path: &str) -> Option<u32> {
        let around = self.streams[event.stream].fields.clone();
        let mut all = around.chain(event.fields.clone());
        all.find(|&number| {
            let field = self.field(number);
            field.scope != Scope::Fields && field.is_called(path)
        })
    }
}

/// The clock that a tree moves.
fn clock_of(nodes: &[Node], root: Option<NodeId>) -> Option<u8> {
    use super::bound::What;
    match &nodes[root? as usize].what {
        What::Number(number) => number.clock,
        What::Struct(members) => members.iter().find_map(|(_, node)| clock_of(nodes, Some(*node))),
        What::Variant { choices, .. } => {
            choices.iter().find_map(|(_, _, node)| clock_of(nodes, Some(*node)))
        }
        _ => None,
    }
}

/// How many bits the longest reading of a clock has below a node.
fn widest(nodes: &[Node], root: NodeId) -> u32 {
    use super::bound::What;
    match &nodes[root as usize].what {
        What::Number(number) if number.clock.is_some() => number.size,
        What::Struct(members) => {
            members.iter().map(|(_, node)| widest(nodes, *node)).max().unwrap_or(0)
        }
        What::Variant { choices, .. } => {
            choices.iter().map(|(_, _, node)| widest(nodes, *node)).max().unwrap_or(0)
        }
        _ => 0,
    }
}

/// Whether packets begin with the magic number: nothing else can stand first.
fn magic_of(nodes: &[Node], header: Option<NodeId>) -> Option<Order> {
    use super::bound::{Role, What};
    let What::Struct(members) = &nodes[header? as usize].what else { return None };
    match &nodes[members.first()?.1 as usize].what {
        What::Number(number) if number.role == Role::Magic && number.size == 32 => {
            Some(number.order)
        }
        _ => None,
    }
}
