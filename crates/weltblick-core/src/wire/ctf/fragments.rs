//! A description of version 2: JSON fragments in place of TSDL.
//!
//! *Document*: "CTF2-SPEC-2.0: Common Trace Format version 2" (DiaMon Workgroup). A metadata stream is a JSON text
//! sequence (RFC 7464): before each fragment stands a record separator, U+001E. What the fragments declare are the same
//! headers, contexts and events; what the format itself uses a field for is said by *roles*, not by names.
//!
//! Assumed where memory of the document leaves room:
//!
//! * The field that a relative location names is searched in the structure around, one further out for each `null`.
//! * Bits have the order that goes with their byte order; another one is refused.
//! * An unknown extension of the preamble may change everything: it is refused.

use super::bits::Order;
use super::bound::Role;
use super::schema::Scope;
use super::types::{
    DeclaredClock, DeclaredEvent, DeclaredStream, Description, Integer, Label, Member, Reference,
    Type, TypeId,
};
use crate::document::{Fault, Source};
use serde_json::{Map, Value};
use std::collections::HashMap;
use std::ops::Range;

/// What stands before each fragment.
const SEPARATOR: char = '\u{1e}';
/// Field classes inside one another at most.
const DEEPEST: usize = 32;
/// Labels of all enumerations together at most.
const MOST_LABELS: usize = 1 << 16;
/// Elements of an array at most.
const MOST_ELEMENTS: u64 = u32::MAX as u64;

/// Whether a text is such a description.
pub(super) fn is_of_fragments(text: &str) -> bool {
    text.trim_start().starts_with([SEPARATOR, '{'])
}

/// Reads the fragments of a description that the user knows as `source`.
pub(super) fn parse(source: Source<'_>, text: &str) -> Result<Description, Fault> {
    let told = Description { by_roles: true, ..Description::default() };
    let mut reader = Reader {
        source,
        here: 0..0,
        told,
        aliases: HashMap::new(),
        clocks: HashMap::new(),
        labels: 0,
        clock: None,
    };
    let mut start = 0;
    let mut number = 0;
    for piece in text.split(SEPARATOR) {
        let span = start..start + piece.len();
        start = span.end + SEPARATOR.len_utf8();
        if piece.trim().is_empty() {
            continue;
        }
        reader.here = span.clone();
        let fragment: Value = serde_json::from_str(piece).map_err(|error| {
            // Where it is, in the whole text.
            let line = piece.lines().take(error.line().saturating_sub(1));
            let at = span.start + line.map(|line| line.len() + 1).sum::<usize>();
            let at = (at + error.column().saturating_sub(1)).min(span.end);
            source.fault(at..at, format!("no JSON fragment: {error}"))
        })?;
        reader.fragment(&fragment, number == 0)?;
        number += 1;
    }
    if number == 0 {
        return reader.fault("there is no fragment here");
    }
    Ok(reader.told)
}

struct Reader<'a> {
    source: Source<'a>,
    /// The fragment that is being read.
    here: Range<usize>,
    told: Description,
    aliases: HashMap<String, TypeId>,
    /// Names of clocks, by what data stream classes call them.
    clocks: HashMap<String, String>,
    labels: usize,
    /// The default clock of the data stream class that is being read.
    clock: Option<String>,
}

type Object = Map<String, Value>;

impl Reader<'_> {
    fn fault<T>(&self, message: impl Into<String>) -> Result<T, Fault> {
        Err(self.source.fault(self.here.start..self.here.start, message))
    }

    fn object<'v>(&self, value: &'v Value, what: &str) -> Result<&'v Object, Fault> {
        match value.as_object() {
            Some(object) => Ok(object),
            None => self.fault(format!("{what} must be an object")),
        }
    }

    fn text<'v>(&self, object: &'v Object, key: &str) -> Result<Option<&'v str>, Fault> {
        match object.get(key) {
            None => Ok(None),
            Some(Value::String(text)) => Ok(Some(text)),
            Some(_) => self.fault(format!("`{key}` must be a text")),
        }
    }

    fn needed_text<'v>(&self, object: &'v Object, key: &str) -> Result<&'v str, Fault> {
        match self.text(object, key)? {
            Some(text) => Ok(text),
            None => self.fault(format!("`{key}` is missing")),
        }
    }

    fn number(&self, object: &Object, key: &str) -> Result<Option<u64>, Fault> {
        match object.get(key) {
            None => Ok(None),
            Some(value) => match value.as_u64() {
                Some(number) => Ok(Some(number)),
                None => self.fault(format!("`{key}` must be a whole number that is not negative")),
            },
        }
    }

    fn signed(&self, object: &Object, key: &str) -> Result<i64, Fault> {
        match object.get(key) {
            None => Ok(0),
            Some(value) => match value.as_i64() {
                Some(number) => Ok(number),
                None => self.fault(format!("`{key}` must be a whole number")),
            },
        }
    }

    fn needed_number(&self, object: &Object, key: &str) -> Result<u64, Fault> {
        match self.number(object, key)? {
            Some(number) => Ok(number),
            None => self.fault(format!("`{key}` is missing")),
        }
    }

    fn list<'v>(&self, object: &'v Object, key: &str) -> Result<&'v [Value], Fault> {
        match object.get(key) {
            None => Ok(&[]),
            Some(Value::Array(list)) => Ok(list),
            Some(_) => self.fault(format!("`{key}` must be a list")),
        }
    }

    fn fragment(&mut self, fragment: &Value, is_first: bool) -> Result<(), Fault> {
        let fragment = self.object(fragment, "a fragment")?;
        let kind = self.needed_text(fragment, "type")?;
        if is_first != (kind == "preamble") {
            return self.fault("a description begins with one fragment of the type `preamble`");
        }
        match kind {
            "preamble" => self.preamble(fragment),
            "field-class-alias" => {
                let name = self.needed_text(fragment, "name")?.to_owned();
                let Some(class) = self.class(fragment, "field-class")? else {
                    return self.fault("`field-class` is missing");
                };
                if self.aliases.insert(name.clone(), class).is_some() {
                    return self.fault(format!("`{name}` is declared twice"));
                }
                Ok(())
            }
            "trace-class" => {
                if let Some(uuid) = fragment.get("uuid") {
                    self.told.uuid = Some(self.uuid(uuid)?);
                }
                self.told.packet_header = self.class(fragment, "packet-header-field-class")?;
                Ok(())
            }
            "clock-class" => self.clock_class(fragment),
            "data-stream-class" => self.stream(fragment),
            "event-record-class" => self.event(fragment),
            other => self.fault(format!("no fragment has the type `{other}`")),
        }
    }

    fn preamble(&mut self, fragment: &Object) -> Result<(), Fault> {
        match self.needed_number(fragment, "version")? {
            2 => {}
            other => {
                return self.fault(format!("version {other} of the format is unknown; 2 is read"));
            }
        }
        if let Some(extensions) = fragment.get("extensions")
            && let Some(name) = extensions.as_object().and_then(|all| all.keys().next())
        {
            return self.fault(format!("the trace uses an extension that is unknown: `{name}`"));
        }
        if let Some(uuid) = fragment.get("uuid") {
            self.told.uuid = Some(self.uuid(uuid)?);
        }
        Ok(())
    }

    fn uuid(&self, value: &Value) -> Result<[u8; 16], Fault> {
        let bytes = value.as_array().map(Vec::as_slice).unwrap_or_default();
        let byte = |value: &Value| value.as_u64().and_then(|byte| u8::try_from(byte).ok());
        let bytes: Option<Vec<u8>> = bytes.iter().map(byte).collect();
        match bytes.and_then(|bytes| <[u8; 16]>::try_from(bytes).ok()) {
            Some(uuid) => Ok(uuid),
            None => self.fault("`uuid` must be a list of 16 bytes"),
        }
    }

    fn clock_class(&mut self, fragment: &Object) -> Result<(), Fault> {
        if self.told.clocks.len() == super::decoder::MOST_CLOCKS {
            return self.fault(format!("more than {} clocks", super::decoder::MOST_CLOCKS));
        }
        let name = self.text(fragment, "name")?;
        let Some(id) = self.text(fragment, "id")?.or(name) else {
            return self.fault("`id` is missing");
        };
        let offset = ["offset-from-origin", "offset"].iter().find_map(|key| fragment.get(*key));
        let (mut offset_s, mut cycles) = (0, 0);
        if let Some(offset) = offset {
            let offset = self.object(offset, "`offset-from-origin`")?;
            offset_s = self.signed(offset, "seconds")?;
            cycles = self.signed(offset, "cycles")?;
        }
        let hertz = self.needed_number(fragment, "frequency")?;
        if hertz == 0 {
            return self.fault("a clock of 0 Hz never ticks");
        }
        let precision = self.number(fragment, "precision")?.unwrap_or(0);
        // Names need not differ, and identifiers do.
        self.clocks.insert(id.to_owned(), id.to_owned());
        let name = id.to_owned();
        self.told.clocks.push(DeclaredClock { name, hertz, precision, offset_s, offset: cycles });
        Ok(())
    }

    fn stream(&mut self, fragment: &Object) -> Result<(), Fault> {
        if self.told.streams.len() == super::parser::MOST_STREAMS {
            return self.fault(format!("more than {} streams", super::parser::MOST_STREAMS));
        }
        let keys = ["default-clock-class-id", "default-clock-class-name"];
        let mut clock = None;
        for key in keys {
            clock = clock.or(self.text(fragment, key)?);
        }
        self.clock = match clock {
            None => None,
            Some(id) => match self.clocks.get(id) {
                Some(name) => Some(name.clone()),
                None => {
                    return self.fault(format!("no clock class `{id}` is declared before this"));
                }
            },
        };
        let id = self.number(fragment, "id")?.unwrap_or(0);
        if self.told.streams.iter().any(|stream| stream.id == id) {
            return self.fault(format!("two data stream classes have the number {id}"));
        }
        let stream = DeclaredStream {
            id,
            packet_context: self.class(fragment, "packet-context-field-class")?,
            event_header: self.class(fragment, "event-record-header-field-class")?,
            event_context: self.class(fragment, "event-record-common-context-field-class")?,
        };
        self.clock = None;
        self.told.streams.push(stream);
        Ok(())
    }

    fn event(&mut self, fragment: &Object) -> Result<(), Fault> {
        if self.told.events.len() == super::parser::MOST_EVENTS {
            return self.fault(format!("more than {} events", super::parser::MOST_EVENTS));
        }
        let id = self.number(fragment, "id")?.unwrap_or(0);
        let name = self.text(fragment, "name")?.or(self.text(fragment, "uid")?);
        let event = DeclaredEvent {
            name: name.map_or_else(|| format!("event {id}"), str::to_owned),
            span: self.here.start..self.here.start,
            id: Some(id),
            stream: Some(self.number(fragment, "data-stream-class-id")?.unwrap_or(0)),
            context: self.class(fragment, "specific-context-field-class")?,
            fields: self.class(fragment, "payload-field-class")?,
        };
        self.told.events.push(event);
        Ok(())
    }

    /// The field class under a key, if there is one.
    fn class(&mut self, object: &Object, key: &str) -> Result<Option<TypeId>, Fault> {
        object.get(key).map(|class| self.field(class, 0)).transpose()
    }

    fn needed_class(&mut self, object: &Object, key: &str, depth: usize) -> Result<TypeId, Fault> {
        match object.get(key) {
            Some(class) => self.field(class, depth + 1),
            None => self.fault(format!("`{key}` is missing")),
        }
    }

    fn field(&mut self, class: &Value, depth: usize) -> Result<TypeId, Fault> {
        if depth == DEEPEST {
            return self.fault(format!("field classes are nested more than {DEEPEST} deep"));
        }
        if let Some(name) = class.as_str() {
            return match self.aliases.get(name) {
                Some(class) => Ok(*class),
                None => self.fault(format!("no field class `{name}` is declared before this")),
            };
        }
        let class = self.object(class, "a field class")?;
        let declared = match self.needed_text(class, "type")? {
            "fixed-length-unsigned-integer" => self.integer(class, false)?,
            "fixed-length-signed-integer" => self.integer(class, true)?,
            "fixed-length-bit-array" | "fixed-length-bit-map" | "fixed-length-boolean" => {
                Type::Integer(self.fixed(class, false)?)
            }
            "variable-length-unsigned-integer" => self.integer(class, false)?,
            "variable-length-signed-integer" => self.integer(class, true)?,
            "fixed-length-floating-point-number" => {
                let length = self.needed_number(class, "length")?;
                let (exponent, mantissa) = match length {
                    16 => (5, 11),
                    32 => (8, 24),
                    64 => (11, 53),
                    // They are passed over.
                    128 => (15, 113),
                    _ => return self.fault(format!("no number has {length} bits in IEEE 754")),
                };
                let order = Some(self.order(class)?);
                Type::Float {
                    exponent,
                    mantissa,
                    order,
                    align: self.alignment(class, "alignment")?,
                }
            }
            "null-terminated-string" => {
                self.require_bytes(class)?;
                Type::Text
            }
            "static-length-string" => {
                self.require_bytes(class)?;
                let of = self.byte(true);
                Type::Array { of, len: self.length(class)?, align: 1 }
            }
            "dynamic-length-string" => {
                self.require_bytes(class)?;
                let of = self.byte(true);
                Type::Sequence { of, len: self.location(class, "length-field-location")?, align: 1 }
            }
            "static-length-blob" => {
                let of = self.byte(false);
                let len = self.length(class)?;
                match self.roles(class)?.contains(&"metadata-stream-uuid") && len == 16 {
                    true => Type::Uuid { of },
                    false => Type::Array { of, len, align: 1 },
                }
            }
            "dynamic-length-blob" => {
                let of = self.byte(false);
                Type::Sequence { of, len: self.location(class, "length-field-location")?, align: 1 }
            }
            "static-length-array" => {
                let of = self.needed_class(class, "element-field-class", depth)?;
                let align = self.alignment(class, "minimum-alignment")?;
                Type::Array { of, len: self.length(class)?, align }
            }
            "dynamic-length-array" => {
                let of = self.needed_class(class, "element-field-class", depth)?;
                let align = self.alignment(class, "minimum-alignment")?;
                let len = self.location(class, "length-field-location")?;
                Type::Sequence { of, len, align }
            }
            "structure" => {
                let mut members: Vec<Member> = Vec::new();
                for member in self.list(class, "member-classes")? {
                    let member = self.object(member, "a member class")?;
                    let name = self.needed_text(member, "name")?.to_owned();
                    let of = self.needed_class(member, "field-class", depth)?;
                    if members.iter().any(|other| other.name == name) {
                        return self.fault(format!("two members are called `{name}`"));
                    }
                    members.push(Member { name, of });
                }
                Type::Struct { members, align: self.alignment(class, "minimum-alignment")? }
            }
            "optional" => self.optional(class, depth)?,
            "variant" => self.variant(class, depth)?,
            other => return self.fault(format!("no field class has the type `{other}`")),
        };
        Ok(self.told.types.add(declared))
    }

    /// A byte of a text, or of a blob.
    fn byte(&mut self, is_character: bool) -> TypeId {
        let byte = Integer { align: 8, is_character, ..Integer::of(8, false) };
        self.told.types.add(Type::Integer(byte))
    }

    fn length(&self, class: &Object) -> Result<u64, Fault> {
        let length = self.needed_number(class, "length")?;
        if length > MOST_ELEMENTS {
            return self.fault(format!("{length} elements are more than any array has"));
        }
        Ok(length)
    }

    /// Texts are read whose letters are bytes.
    fn require_bytes(&self, class: &Object) -> Result<(), Fault> {
        match self.text(class, "encoding")? {
            None | Some("utf-8") => Ok(()),
            Some(other) => self.fault(format!("texts in `{other}` are not read; only utf-8 is")),
        }
    }

    fn alignment(&self, class: &Object, key: &str) -> Result<u32, Fault> {
        let align = self.number(class, key)?.unwrap_or(1);
        match u32::try_from(align) {
            Ok(align) if align.is_power_of_two() => Ok(align),
            _ => self.fault(format!("`{key}` must be a power of two")),
        }
    }

    fn order(&self, class: &Object) -> Result<Order, Fault> {
        let (order, usual) = match self.needed_text(class, "byte-order")? {
            "big-endian" => (Order::Big, "last-to-first"),
            "little-endian" => (Order::Little, "first-to-last"),
            other => return self.fault(format!("no byte order is called `{other}`")),
        };
        match self.text(class, "bit-order")? {
            None => Ok(order),
            Some(bits) if bits == usual => Ok(order),
            Some(bits) => self.fault(format!("the bit order `{bits}` of these bytes is not read")),
        }
    }

    fn fixed(&self, class: &Object, signed: bool) -> Result<Integer, Fault> {
        let length = self.needed_number(class, "length")?;
        let size = match u32::try_from(length) {
            Ok(size @ 1..=65_536) => size,
            _ => return self.fault(format!("a number of {length} bits")),
        };
        Ok(Integer {
            align: self.alignment(class, "alignment")?,
            order: Some(self.order(class)?),
            ..Integer::of(size, signed)
        })
    }

    fn roles<'v>(&self, class: &'v Object) -> Result<Vec<&'v str>, Fault> {
        Ok(self.list(class, "roles")?.iter().filter_map(Value::as_str).collect())
    }

    fn integer(&mut self, class: &Object, signed: bool) -> Result<Type, Fault> {
        let is_variable = class["type"].as_str().is_some_and(|kind| kind.starts_with("variable"));
        let mut integer = match is_variable {
            true => Integer { align: 8, is_variable: true, ..Integer::of(64, signed) },
            false => self.fixed(class, signed)?,
        };
        let base = self.number(class, "preferred-display-base")?;
        integer.is_hex = base == Some(16);
        for name in self.roles(class)? {
            match name {
                "packet-magic-number" => integer.role = Role::Magic,
                "data-stream-class-id" => integer.role = Role::StreamId,
                "packet-total-length" => integer.role = Role::PacketSize,
                "packet-content-length" => integer.role = Role::ContentSize,
                "packet-end-default-clock-timestamp" => integer.role = Role::End,
                "discarded-event-record-counter-snapshot" => integer.role = Role::Discarded,
                "packet-sequence-number" => integer.role = Role::Sequence,
                "event-record-class-id" => integer.role = Role::EventId,
                "default-clock-timestamp" => integer.clock.clone_from(&self.clock),
                // Whose file it is says nothing about its bytes; further roles are for others.
                _ => {}
            }
        }
        let mut labels = Vec::new();
        if let Some(mappings) = class.get("mappings") {
            for (name, ranges) in self.object(mappings, "`mappings`")? {
                for (low, high) in self.ranges(ranges)? {
                    self.labels += 1;
                    if self.labels > MOST_LABELS {
                        return self.fault(format!("more than {MOST_LABELS} labels"));
                    }
                    labels.push(Label { name: name.clone(), low, high });
                }
            }
        }
        Ok(match labels.is_empty() {
            true => Type::Integer(integer),
            false => Type::Enumeration { of: integer, labels: labels.into() },
        })
    }

    fn ranges(&self, value: &Value) -> Result<Vec<(i128, i128)>, Fault> {
        let end = |value: &Value| value.as_i64().map(i128::from).or(value.as_u64().map(i128::from));
        let range = |value: &Value| match value.as_array().map(Vec::as_slice) {
            Some([low, high]) => Some((end(low)?, end(high)?)),
            _ => None,
        };
        let ranges = value.as_array().and_then(|list| list.iter().map(range).collect());
        match ranges {
            Some(ranges) => Ok(ranges),
            None => self.fault("ranges of numbers are a list of pairs, such as [[0, 3], [7, 7]]"),
        }
    }

    /// The field that another one names, by its origin and its path.
    fn location(&self, class: &Object, key: &str) -> Result<Reference, Fault> {
        let Some(location) = class.get(key) else {
            return self.fault(format!("`{key}` is missing"));
        };
        let location = self.object(location, "a field location")?;
        let prefix = match self.text(location, "origin")? {
            None => None,
            Some("packet-header") => Some(Scope::PacketHeader),
            Some("packet-context") => Some(Scope::PacketContext),
            Some("event-record-header") => Some(Scope::EventHeader),
            Some("event-record-common-context") => Some(Scope::StreamContext),
            Some("event-record-specific-context") => Some(Scope::EventContext),
            Some("event-record-payload") => Some(Scope::Fields),
            Some(other) => return self.fault(format!("no field location begins at `{other}`")),
        };
        let mut path: Vec<String> = prefix
            .map(|scope| scope.prefix().split('.').map(str::to_owned).collect())
            .unwrap_or_default();
        let mut outwards = 0;
        for step in self.list(location, "path")? {
            match step {
                Value::Null if prefix.is_none() && path.is_empty() => outwards += 1,
                Value::String(name) => path.push(name.clone()),
                _ => return self.fault("the path of a field location has names only"),
            }
        }
        if path.is_empty() {
            return self.fault("the path of a field location names no field");
        }
        let outwards = prefix.is_none().then_some(outwards);
        Ok(Reference { path, outwards, span: self.here.start..self.here.start })
    }

    fn optional(&mut self, class: &Object, depth: usize) -> Result<Type, Fault> {
        let tag = self.location(class, "selector-field-location")?;
        let of = self.needed_class(class, "field-class", depth)?;
        let there = Member { name: String::new(), of };
        let none = Type::Struct { members: Vec::new(), align: 1 };
        let none = Member { name: String::new(), of: self.told.types.add(none) };
        // A boolean selector has no ranges: anything but zero is yes.
        let mut choices = Vec::new();
        match class.get("selector-field-ranges") {
            Some(ranges) => {
                for (low, high) in self.ranges(ranges)? {
                    choices.push((low, high, there.clone()));
                }
                choices.push((i128::MIN, i128::MAX, none));
            }
            None => {
                choices.push((0, 0, none));
                choices.push((i128::MIN, i128::MAX, there));
            }
        }
        Ok(Type::Choice { tag, choices })
    }

    fn variant(&mut self, class: &Object, depth: usize) -> Result<Type, Fault> {
        let tag = self.location(class, "selector-field-location")?;
        let mut choices = Vec::new();
        for option in self.list(class, "options")? {
            let option = self.object(option, "an option")?;
            let name = self.text(option, "name")?.unwrap_or_default().to_owned();
            let of = self.needed_class(option, "field-class", depth)?;
            let Some(ranges) = option.get("selector-field-ranges") else {
                return self.fault("`selector-field-ranges` is missing");
            };
            for (low, high) in self.ranges(ranges)? {
                self.labels += 1;
                if self.labels > MOST_LABELS {
                    return self.fault(format!("more than {MOST_LABELS} ranges of options"));
                }
                choices.push((low, high, Member { name: name.clone(), of }));
            }
        }
        Ok(Type::Choice { tag, choices })
    }
}
