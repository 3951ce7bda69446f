//! Global variables: where they are and what they hold, or why they have no fixed address.

use super::ImageError;
use super::debug::{
    DOUBTFUL, DebugFiles, Entry, NoFiles, NodeId, Reference, Sections, Unit, Units, Value,
    constant, with_slashes,
};
use super::elf::{has_flags, opened};
use super::ends_with_path;
use super::names::Names;
use super::shapes::{Element, Reader, ShapeId, Shapes};
use crate::document::nearest;
use object::{Object as _, ObjectSection as _, ObjectSymbol as _, SymbolKind, elf};
use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use thiserror::Error;

/// A variable at a fixed address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Variable {
    /// Its name, with the namespaces and classes that it is in: `wave::level`.
    pub name: String,
    /// The function that it is local to, for a static one.
    pub function: Option<String>,
    /// The file that defines it, if debug information says so.
    pub file: Option<String>,
    /// Where it is.
    pub address: u64,
    /// How many bytes it takes.
    pub size: u64,
    /// Its element's size and kind: of an array's element, else of the variable itself.
    pub element: Element,
    /// What its bytes mean.
    pub(super) shape: ShapeId,
}

/// Why a name is no variable at a fixed address.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NotFixed {
    /// No such name.
    #[error("the image has no variable `{name}`{hint}")]
    Unknown {
        /// What was asked for.
        name: String,
        /// The nearest names.
        hint: String,
    },
    /// It lives on the stack or in a register.
    #[error(
        "`{name}` is local to `{function}`: it lives in a register or on the stack while that runs, if the compiler kept it at all; make it static, or watch what it is stored to"
    )]
    Local {
        /// The variable.
        name: String,
        /// Its function.
        function: String,
    },
    /// The compiler removed it.
    #[error(
        "`{0}` was optimised out: it exists in the source only; make it volatile to keep it in memory"
    )]
    OptimisedOut(String),
    /// It has an address, but not one alone, or not always.
    #[error(
        "`{0}` has no single fixed address: the compiler split it, or where it is depends on what runs"
    )]
    Scattered(String),
    /// Several have the name.
    #[error("`{name}` is the name of {count} variables; write {}", .places.join(" or "))]
    Ambiguous {
        /// The name.
        name: String,
        /// How many there are.
        count: usize,
        /// What to write instead, for the first few.
        places: Vec<String>,
    },
    /// A structure holds several numbers.
    #[error("`{name}` is a structure; write one of its members: {}", .members.iter().map(|member| format!("{name}.{member}")).collect::<Vec<_>>().join(", "))]
    Structure {
        /// The path.
        name: String,
        /// What is in it.
        members: Vec<String>,
    },
    /// It leads somewhere else than to numbers.
    #[error("`{0}` holds no number that could be read")]
    NoNumber(String),
    /// A part of a path does not exist.
    #[error("`{name}`: {why}")]
    NoPart {
        /// The path.
        name: String,
        /// What is wrong with it.
        why: String,
    },
}

/// So many variables of one name are told apart in a message.
const MOST_PLACES: usize = 8;

/// All global variables of an image.
#[derive(Debug, Clone, Default)]
pub struct Variables {
    fixed: Vec<Variable>,
    /// Names without a fixed address, and why.
    floating: HashMap<String, Floating>,
    /// What their bytes mean.
    pub(super) shapes: Shapes,
    /// Files with debug information that are not there.
    missing: Vec<String>,
}

/// Why a variable has no fixed address.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Floating {
    Local(String),
    Scattered,
    OptimisedOut,
}

impl Variables {
    /// Reads an ELF file's symbols and debug information.
    ///
    /// # Errors
    ///
    /// If it is no sound ELF file. Damaged debug information is left out.
    pub fn parse(bytes: &[u8]) -> Result<Self, ImageError> {
        Self::parse_with(bytes, Box::new(NoFiles))
    }

    /// Reads an ELF file's symbols and debug information, and the files that it was split into.
    ///
    /// # Errors
    ///
    /// If it is no sound ELF file. Damaged debug information is left out.
    pub fn parse_with(bytes: &[u8], files: Box<dyn DebugFiles>) -> Result<Self, ImageError> {
        let file = opened(bytes)?;
        let mut read = Self::default();
        let linked = LinkedData::of(&file);
        if let Some(sections) = Sections::of(&file, bytes.len()) {
            let mut units = Units::new(sections, files);
            let reader = Reader {
                units: &mut units,
                shapes: &mut read.shapes,
                known: HashMap::new(),
                is_little_endian: file.is_little_endian(),
            };
            let (linked, names) = (&linked, Names::default());
            let (fixed, floating) = (Vec::new(), HashMap::new());
            let mut all = All { reader, linked, names, fixed, floating };
            all.read();
            (read.fixed, read.floating) = (all.fixed, all.floating);
            read.missing = units.missing();
        }
        read.add_symbols(&linked);
        let is_unknown = |variable: &Variable| variable.shape == Shapes::UNKNOWN;
        read.fixed.sort_by(|a, b| {
            (a.address, &a.name, is_unknown(a), &a.file).cmp(&(
                b.address,
                &b.name,
                is_unknown(b),
                &b.file,
            ))
        });
        read.fixed.dedup_by(|a, b| a.address == b.address && a.name == b.name);
        Ok(read)
    }

    /// Every variable with a fixed address, by address.
    #[must_use]
    pub fn all(&self) -> &[Variable] {
        &self.fixed
    }

    /// The variable, or the element of an array, that lies at an address: with how far in, if that is not its
    /// beginning.
    #[must_use]
    pub fn name_at(&self, address: u64) -> Option<String> {
        let variable = self.at(address)?;
        let (name, inside) = (&variable.name, address - variable.address);
        let one = variable.element.size.clamp(1, variable.size.max(1));
        let (element, rest) = (inside / one, inside % one);
        let mut text = name.clone();
        if one < variable.size {
            text = format!("{name}[{element}]");
        }
        Some(if rest == 0 { text } else { format!("{text}+{rest:#x}") })
    }

    /// The variable called `name`: with or without its namespaces, with its function before it if it is local to one
    /// (`run::count`), with its file (`file.c#name`) where several have the name, or by its address (`0x20000010`).
    ///
    /// # Errors
    ///
    /// Why there is no such address.
    pub fn find(&self, name: &str) -> Result<&Variable, NotFixed> {
        match self.called(name).as_slice() {
            [one] => Ok(one),
            [] => Err(self.why_not(name)),
            several => {
                let few = several.iter().take(MOST_PLACES);
                let places = few.map(|variable| self.unambiguous(variable)).collect();
                Err(NotFixed::Ambiguous { name: name.to_owned(), count: several.len(), places })
            }
        }
    }

    /// All variables of this name; if some have exactly it, those alone.
    fn called(&self, name: &str) -> Vec<&Variable> {
        if let Some(address) = name.strip_prefix("0x")
            && let Ok(address) = u64::from_str_radix(address, 16)
        {
            return self.fixed.iter().filter(|variable| variable.address == address).collect();
        }
        let (file, plain) = name.split_once('#').map_or((None, name), |(file, n)| (Some(file), n));
        let in_file = |variable: &&Variable| {
            file.is_none_or(|file| {
                variable.file.as_deref().is_some_and(|own| ends_with_path(own, file))
            })
        };
        let found: Vec<&Variable> =
            self.fixed.iter().filter(in_file).filter(|v| v.is_called(plain)).collect();
        let exact: Vec<&Variable> =
            found.iter().copied().filter(|variable| variable.name == plain).collect();
        if exact.is_empty() { found } else { exact }
    }

    /// A name that only this variable has.
    fn unambiguous(&self, variable: &Variable) -> String {
        let name = variable.name.as_str();
        let scoped = variable.function.as_ref().map(|function| format!("{function}::{name}"));
        let in_file = |name: &str| Some(format!("{}#{name}", variable.file.as_ref()?));
        let names = [
            Some(name.to_owned()),
            scoped.clone(),
            in_file(name),
            scoped.as_deref().and_then(in_file),
        ];
        let is_alone = |name: &String| self.called(name).len() == 1;
        let found = names.into_iter().flatten().find(is_alone);
        found.unwrap_or_else(|| format!("{:#010x}", variable.address))
    }

    /// The variable that holds `address`.
    #[must_use]
    pub fn at(&self, address: u64) -> Option<&Variable> {
        let after = self.fixed.partition_point(|variable| variable.address <= address);
        self.fixed[..after].iter().rev().take(4).find(|v| address - v.address < v.size.max(1))
    }

    fn why_not(&self, name: &str) -> NotFixed {
        let plain = name.split_once('#').map_or(name, |(_, plain)| plain);
        let name = name.to_owned();
        match self.floating.get(plain) {
            Some(Floating::Local(function)) => NotFixed::Local { name, function: function.clone() },
            Some(Floating::OptimisedOut) => NotFixed::OptimisedOut(name),
            Some(Floating::Scattered) => NotFixed::Scattered(name),
            None => {
                let known = self.fixed.iter().map(|variable| variable.name.as_str());
                let hint = nearest(plain, known) + &self.missing_hint();
                NotFixed::Unknown { hint, name }
            }
        }
    }

    /// Where a variable's debug information may be, if files with such are missing.
    pub(super) fn missing_hint(&self) -> String {
        self.missing.first().map_or_else(String::new, |missing| {
            format!(" (the file {missing} is missing; --debug-info names the folder of such files)")
        })
    }

    /// Symbols that debug information does not have, and sizes that it does not say.
    fn add_symbols(&mut self, linked: &LinkedData) {
        for variable in &mut self.fixed {
            if let Some((_, size)) = linked.symbols.get(&variable.address)
                && variable.size == 0
            {
                variable.size = *size;
            }
        }
        let known: HashSet<u64> = self.fixed.iter().map(|variable| variable.address).collect();
        for (&address, (name, size)) in &linked.symbols {
            if !known.contains(&address) {
                let shape = self.shapes.plain(*size);
                let element = self.shapes.element(shape);
                let (name, size) = (name.clone(), *size);
                let (file, function) = (None, None);
                self.fixed.push(Variable { name, function, file, address, size, element, shape });
            }
        }
    }
}

impl Variable {
    /// Its bytes.
    #[must_use]
    pub const fn range(&self) -> Range<u64> {
        self.address..self.address.saturating_add(self.size)
    }

    /// Whether this is its name: whole, without outer namespaces, or with its function before it.
    fn is_called(&self, name: &str) -> bool {
        let ends = |whole: &str, end: &str| {
            whole
                .strip_suffix(end)
                .is_some_and(|before| before.is_empty() || before.ends_with("::"))
        };
        ends(&self.name, name)
            || self.function.as_ref().is_some_and(|function| {
                let outer = name.strip_suffix(self.name.as_str());
                outer.and_then(|outer| outer.strip_suffix("::")).is_some_and(|o| ends(function, o))
            })
    }
}

/// What the linker left of the variables.
#[derive(Debug, Default)]
struct LinkedData {
    /// Data symbols by address: demangled name, and size.
    symbols: HashMap<u64, (String, u64)>,
    /// All names of data symbols, demangled, by address.
    names: HashMap<u64, Vec<String>>,
    /// Sections that take memory.
    memory: Vec<Range<u64>>,
}

impl LinkedData {
    fn of(file: &object::File<'_>) -> Self {
        let (mut linked, mut names) = (Self::default(), Names::default());
        let in_memory = file.sections().filter(|section| has_flags(section, elf::SHF_ALLOC));
        linked.memory = in_memory
            .map(|section| section.address()..section.address().saturating_add(section.size()))
            .collect();
        for symbol in file.symbols() {
            if symbol.kind() != SymbolKind::Data || symbol.is_undefined() {
                continue;
            }
            let Ok(name) = symbol.name() else { continue };
            let name = names.of(name);
            linked.names.entry(symbol.address()).or_default().push(name.clone());
            linked.symbols.insert(symbol.address(), (name, symbol.size()));
        }
        linked
    }

    /// Whether a variable of this name is at an address, or debug information only has it still. Symbols of local
    /// ones have a number (`count.0`).
    fn has(&self, name: &str, address: u64) -> bool {
        if !self.memory.iter().any(|section| section.contains(&address)) {
            return false;
        }
        let is_it = || {
            let here = self.names.get(&address).into_iter().flatten();
            here.map(String::as_str).any(|symbol| symbol.split('.').next() == Some(name))
        };
        address >= DOUBTFUL || self.symbols.is_empty() || is_it()
    }
}

/// Functions around a variable are named so far.
const DEEPEST: usize = 8;

/// Reads the variables of all units.
struct All<'a> {
    reader: Reader<'a>,
    linked: &'a LinkedData,
    names: Names,
    fixed: Vec<Variable>,
    floating: HashMap<String, Floating>,
}

impl All<'_> {
    fn read(&mut self) {
        for id in self.reader.units.ids() {
            // One damaged unit does not cost the others.
            let Some(unit) = self.reader.units.whole(id) else { continue };
            let tree = self.reader.units.tree(&unit);
            for node in tree.all() {
                let tag = tree.tag(node);
                if (tag == gimli::DW_TAG_variable || tag == gimli::DW_TAG_formal_parameter)
                    && let Ok(entry) = unit.unit.entry(tree.offset(node))
                {
                    self.add(&unit, node, &entry);
                }
            }
        }
    }

    fn add(&mut self, unit: &Arc<Unit>, node: NodeId, entry: &Entry) {
        if entry.attr(gimli::DW_AT_declaration).is_some() {
            return;
        }
        let address = match self.place(unit, entry) {
            Where::At(address) => address,
            Where::Nowhere => return self.float(unit, node, entry, Floating::OptimisedOut),
            Where::Scattered => return self.float(unit, node, entry, Floating::Scattered),
        };
        let Some(own) = self.reader.units.name(unit, entry) else { return };
        let linked = self.reader.units.linkage_name(unit, entry).map(|name| self.names.of(&name));
        let is_linked = self.linked.has(linked.as_deref().unwrap_or(&own), address);
        if !is_linked && !self.linked.has(&own, address) {
            self.floating.entry(own).or_insert(Floating::OptimisedOut);
            return;
        }
        let at = self.reader.units.declaration(Reference { unit: unit.id, offset: entry.offset() });
        let (scope, function) = self.scope(at, 0).unwrap_or_default();
        // A copy that links units together is outside of the function that the original is in.
        let function = function.or_else(|| self.function_around(unit, node));
        let name = scope.iter().rev().chain([&own]).map(String::as_str).collect::<Vec<_>>();
        let (file, shape) = (self.file(at), self.reader.of(unit, entry));
        self.fixed.push(Variable {
            name: name.join("::"),
            function,
            file,
            address,
            size: self.reader.shapes.size(shape),
            element: self.reader.shapes.element(shape),
            shape,
        });
    }

    /// Notes why a variable has no address. What has no name of its own is a copy of what has, or completes it.
    fn float(&mut self, unit: &Arc<Unit>, node: NodeId, entry: &Entry, why: Floating) {
        let Some(name) = entry.attr_value(gimli::DW_AT_name) else { return };
        let Some(name) = self.reader.units.text(unit, &name) else { return };
        // The first of a name is as good as any.
        if !self.floating.contains_key(&name) {
            let function = self.function_around(unit, node);
            self.floating.insert(name, function.map_or(why, Floating::Local));
        }
    }

    /// The source file of a unit.
    fn file(&mut self, at: Reference) -> Option<String> {
        let unit = self.reader.units.open(at.unit)?;
        let root = unit.unit.entry(unit.unit.header.root_offset()).ok()?;
        let name = with_slashes(self.reader.units.name(&unit, &root)?);
        // Of Rust: the file, and the part of its code that is one unit.
        Some(name.split("/@/").next().unwrap_or(&name).to_owned())
    }

    fn place(&self, unit: &Unit, entry: &Entry) -> Where {
        match entry.attr_value(gimli::DW_AT_location) {
            None => Where::Nowhere,
            Some(Value::Exprloc(expression)) => self.constant(unit, expression),
            Some(Value::Block(bytes)) => self.constant(unit, gimli::Expression(bytes)),
            Some(_) => Where::Scattered,
        }
    }

    fn constant(&self, unit: &Unit, expression: gimli::Expression<super::debug::Slice>) -> Where {
        constant(self.reader.units, unit, expression, None).map_or(Where::Scattered, Where::At)
    }

    /// The namespaces and classes that an entry is in, innermost first, and the function.
    fn scope(&mut self, at: Reference, depth: usize) -> Option<(Vec<String>, Option<String>)> {
        let unit = self.reader.units.open(at.unit)?;
        let tree = self.reader.units.tree(&unit);
        let mut scope = Vec::new();
        for node in tree.around(tree.at(at.offset)?) {
            match tree.tag(node) {
                gimli::DW_TAG_subprogram => {
                    let at = Reference { unit: at.unit, offset: tree.offset(node) };
                    return Some((scope, self.function(at, depth)));
                }
                gimli::DW_TAG_namespace
                | gimli::DW_TAG_structure_type
                | gimli::DW_TAG_class_type
                | gimli::DW_TAG_union_type => {
                    let entry = unit.unit.entry(tree.offset(node)).ok()?;
                    let name = self.reader.units.name(&unit, &entry);
                    scope.push(name.unwrap_or_else(|| "(anonymous namespace)".into()));
                }
                _ => {}
            }
        }
        Some((scope, None))
    }

    /// A function's name, with the namespaces and classes that it is in.
    fn function(&mut self, at: Reference, depth: usize) -> Option<String> {
        let (unit, entry) = self.reader.units.entry(at)?;
        let name = self.reader.units.name(&unit, &entry)?;
        let declared = self.reader.units.declaration(at);
        // Functions within functions are as deep as a crafted file likes.
        let outer = (depth < DEEPEST).then(|| self.scope(declared, depth + 1)).flatten();
        let (mut names, function) = outer.unwrap_or_default();
        names.extend(function);
        Some(names.into_iter().rev().chain([name]).collect::<Vec<_>>().join("::"))
    }

    fn function_around(&mut self, unit: &Arc<Unit>, node: NodeId) -> Option<String> {
        let tree = self.reader.units.tree(unit);
        let function =
            tree.around(node).find(|&node| tree.tag(node) == gimli::DW_TAG_subprogram)?;
        let at = Reference { unit: unit.id, offset: tree.offset(function) };
        Some(self.function(at, 0).unwrap_or_else(|| "a function".into()))
    }
}

/// Where debug information says that a variable is.
enum Where {
    At(u64),
    /// It says of no place.
    Nowhere,
    /// In several, or computed.
    Scattered,
}
