//! Global variables: where they are and what they hold, or why they have no fixed address.

use super::ImageError;
use super::elf::{damaged, debug_section};
use super::ends_with_path;
use super::shapes::{Element, Reader, ShapeId, Shapes, Slice, Unit, text};
use crate::document::nearest;
use gimli::{AttributeValue, EndianArcSlice, Operation, RunTimeEndian};
use object::{Object as _, ObjectSymbol as _, SymbolKind};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;
use thiserror::Error;

/// A variable at a fixed address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Variable {
    /// Its name.
    pub name: String,
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
    /// Several have the name.
    #[error("`{name}` is the name of several variables; write {}", .places.join(" or "))]
    Ambiguous {
        /// The name.
        name: String,
        /// What to write instead.
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

/// All global variables of an image.
#[derive(Debug, Clone, Default)]
pub struct Variables {
    fixed: Vec<Variable>,
    /// Names without an address: the function they are local to, or nothing if optimised out.
    floating: HashMap<String, Option<String>>,
    /// What their bytes mean.
    pub(super) shapes: Shapes,
}

impl Variables {
    /// Reads an ELF file's symbols and debug information.
    ///
    /// # Errors
    ///
    /// If it is no sound ELF file. Damaged debug information is left out.
    pub fn parse(bytes: &[u8]) -> Result<Self, ImageError> {
        let file = object::File::parse(bytes).map_err(|error| damaged(&error))?;
        let mut read = Self::default();
        let symbols = sized_symbols(&file);
        let endian =
            if file.is_little_endian() { RunTimeEndian::Little } else { RunTimeEndian::Big };
        let load = |id: gimli::SectionId| -> Result<Slice, gimli::Error> {
            let bytes = debug_section(&file, id.name()).unwrap_or_default();
            Ok(EndianArcSlice::new(Arc::from(bytes), endian))
        };
        if let Ok(dwarf) = gimli::Dwarf::load(load) {
            let _ = read.read_units(&dwarf);
        }
        read.add_symbols(symbols);
        read.fixed
            .sort_by(|a, b| (a.address, &a.name, &a.file).cmp(&(b.address, &b.name, &b.file)));
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

    /// The variable called `name`, or `file.c#name` where several files have one.
    ///
    /// # Errors
    ///
    /// Why there is no such address.
    pub fn find(&self, name: &str) -> Result<&Variable, NotFixed> {
        let (file, plain) = name.split_once('#').map_or((None, name), |(file, n)| (Some(file), n));
        let in_file = |variable: &&Variable| {
            file.is_none_or(|file| {
                variable.file.as_deref().is_some_and(|own| ends_with_path(own, file))
            })
        };
        let named = self.fixed.iter().filter(|variable| variable.name == plain);
        let found: Vec<&Variable> = named.filter(in_file).collect();
        match found.as_slice() {
            [one] => Ok(one),
            [] => Err(self.why_not(name, plain)),
            several => Err(NotFixed::Ambiguous {
                name: name.to_owned(),
                places: several
                    .iter()
                    .map(|variable| match &variable.file {
                        Some(file) => format!("{file}#{plain}"),
                        None => format!("{:#010x}", variable.address),
                    })
                    .collect(),
            }),
        }
    }

    /// The variable that holds `address`.
    #[must_use]
    pub fn at(&self, address: u64) -> Option<&Variable> {
        let after = self.fixed.partition_point(|variable| variable.address <= address);
        self.fixed[..after].iter().rev().take(4).find(|v| address - v.address < v.size.max(1))
    }

    fn why_not(&self, name: &str, plain: &str) -> NotFixed {
        match self.floating.get(plain) {
            Some(Some(function)) => {
                NotFixed::Local { name: name.to_owned(), function: function.clone() }
            }
            Some(None) => NotFixed::OptimisedOut(name.to_owned()),
            None => {
                let known = self.fixed.iter().map(|variable| variable.name.as_str());
                NotFixed::Unknown { name: name.to_owned(), hint: nearest(plain, known) }
            }
        }
    }

    fn read_units(&mut self, dwarf: &gimli::Dwarf<Slice>) -> gimli::Result<()> {
        let mut headers = dwarf.units();
        while let Some(header) = headers.next()? {
            if let Ok(unit) = dwarf.unit(header) {
                // One damaged unit does not cost the others.
                let _ = self.read_unit(dwarf, &unit);
            }
        }
        Ok(())
    }

    fn read_unit(&mut self, dwarf: &gimli::Dwarf<Slice>, unit: &Unit) -> gimli::Result<()> {
        let file = unit.name.as_ref().and_then(text);
        // The function around each depth of the tree.
        let mut inside: Vec<(isize, String)> = Vec::new();
        let shapes = &mut self.shapes;
        let mut reader = Reader { dwarf, unit, shapes, known: HashMap::new() };
        let mut entries = unit.entries();
        while let Some(entry) = entries.next_dfs()? {
            let depth = entry.depth();
            inside.retain(|(outer, _)| *outer < depth);
            // A definition may leave name and type to the declaration that it completes.
            let declared = match entry.attr_value(gimli::DW_AT_specification) {
                Some(AttributeValue::UnitRef(offset)) => unit.entry(offset).ok(),
                _ => None,
            };
            let name = || {
                let own = entry.attr_value(gimli::DW_AT_name);
                let name = own.or_else(|| declared.as_ref()?.attr_value(gimli::DW_AT_name))?;
                text(&dwarf.attr_string(unit, name).ok()?)
            };
            match entry.tag() {
                gimli::DW_TAG_subprogram => {
                    inside.push((depth, name().unwrap_or_else(|| "a function".into())));
                }
                gimli::DW_TAG_variable | gimli::DW_TAG_formal_parameter => {
                    let Some(name) = name() else { continue };
                    if entry.attr(gimli::DW_AT_declaration).is_some() {
                        continue;
                    }
                    let function = inside.last().map(|(_, function)| function.clone());
                    match fixed_address(dwarf, unit, entry) {
                        Some(address) => {
                            let shape = reader.of(declared.as_ref().unwrap_or(entry));
                            let size = reader.shapes.size(shape);
                            let element = reader.shapes.element(shape);
                            let file = file.clone();
                            self.fixed.push(Variable { name, file, address, size, element, shape });
                        }
                        None => {
                            self.floating.insert(name, function);
                        }
                    }
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Symbols that debug information does not tell of, and sizes that it does not say.
    fn add_symbols(&mut self, symbols: HashMap<u64, (String, u64)>) {
        for variable in &mut self.fixed {
            if let Some((_, size)) = symbols.get(&variable.address)
                && variable.size == 0
            {
                variable.size = *size;
            }
        }
        for (address, (name, size)) in symbols {
            if !self.fixed.iter().any(|variable| variable.address == address) {
                let shape = self.shapes.plain(size);
                let element = self.shapes.element(shape);
                self.fixed.push(Variable { name, file: None, address, size, element, shape });
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
}

/// Data symbols by address.
fn sized_symbols(file: &object::File<'_>) -> HashMap<u64, (String, u64)> {
    file.symbols()
        .filter(|symbol| symbol.kind() == SymbolKind::Data && !symbol.is_undefined())
        .filter_map(|symbol| {
            Some((symbol.address(), (symbol.name().ok()?.to_owned(), symbol.size())))
        })
        .collect()
}

/// The address that a location says, if it is nothing but an address (`DW_OP_addr`).
fn fixed_address(
    dwarf: &gimli::Dwarf<Slice>,
    unit: &Unit,
    entry: &gimli::DebuggingInformationEntry<Slice>,
) -> Option<u64> {
    let AttributeValue::Exprloc(expression) = entry.attr_value(gimli::DW_AT_location)? else {
        return None;
    };
    let mut operations = expression.operations(unit.encoding());
    let address = match operations.next().ok()?? {
        Operation::Address { address } => address,
        Operation::AddressIndex { index } => dwarf.address(unit, index).ok()?,
        _ => return None,
    };
    operations.next().ok()?.is_none().then_some(address)
}
