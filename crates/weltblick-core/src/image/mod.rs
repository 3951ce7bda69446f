//! What is at an address: code or data, which function, which source line, which handler.
//!
//! An [`Image`] is made once from the bytes of an ELF file. Its index answers "which function" in
//! tens of nanoseconds; source lines and inlined frames are looked up only for addresses that are
//! asked for. Nothing here does I/O.

mod debug;
mod elf;
mod fields;
mod functions;
mod names;
mod shapes;
#[cfg(test)]
mod tests;
mod variables;
mod vectors;

pub(crate) use debug::ends_with_path;
pub use debug::{DebugFiles, Frame, Location, NoFiles, SplitFile};
pub use elf::ImageError;
pub use fields::{Bits, Field};
pub use functions::{Function, FunctionId};
pub use shapes::{Element, Kind, Labels};
pub use variables::{NotFixed, Variable, Variables};
pub use vectors::{Vector, system_exception};

use crate::document::few;
use crate::isa::{Isa, instruction_length};
use debug::{Linked, Lookup};
use functions::Functions;
use std::ops::Range;
use std::sync::{Mutex, MutexGuard, PoisonError};
use vectors::{Vectors, short_handler_name};

/// A stretch of loaded memory and its bytes.
#[derive(Debug)]
struct Code {
    range: Range<u64>,
    bytes: Vec<u8>,
}

/// One firmware image.
#[derive(Debug)]
pub struct Image {
    isa: Isa,
    build_id: Option<Vec<u8>>,
    /// Sorted, not overlapping.
    code: Vec<Code>,
    /// Where several executable sections have one address.
    overlays: Vec<Range<u64>>,
    /// Loaded, but not executable; the same.
    data: Vec<Code>,
    /// Stretches of data between instructions, from mapping symbols: sorted, not overlapping.
    literals: Vec<Range<u64>>,
    functions: Functions,
    /// Looked up one at a time: what is found is remembered in it.
    debug: Option<Mutex<Lookup>>,
    vectors: Vectors,
    /// Files that debug information was moved to.
    links: Vec<String>,
}

/// What an address is, seen from the image.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// The first byte of an instruction.
    Instruction,
    /// Inside an instruction: no core executes there.
    InsideInstruction,
    /// Data between instructions.
    Literal,
    /// Executable memory, with nothing to tell where instructions start.
    Code,
    /// Nothing that this image could execute.
    Outside,
}

impl Image {
    /// An image of nothing, for what is asked of a recording and needs none.
    #[must_use]
    pub fn empty() -> Self {
        Self {
            isa: Isa::Thumb,
            build_id: None,
            code: Vec::new(),
            overlays: Vec::new(),
            data: Vec::new(),
            literals: Vec::new(),
            functions: Functions::default(),
            debug: None,
            vectors: Vectors::default(),
            links: Vec::new(),
        }
    }

    /// Reads an ELF file.
    ///
    /// # Errors
    ///
    /// What is wrong with the file, and where: it is no ELF, it is cut off, or it is for a machine
    /// that Weltblick does not know. Damaged debug information is no error; it is left out.
    pub fn parse(bytes: &[u8]) -> Result<Self, ImageError> {
        Self::parse_with(bytes, Box::new(NoFiles))
    }

    /// Reads an ELF file, whose debug information the compiler may have put into files of their own.
    ///
    /// # Errors
    ///
    /// As [`Image::parse`]. Files that are not found are no error: see [`Image::missing_debug_files`].
    pub fn parse_with(bytes: &[u8], files: Box<dyn DebugFiles>) -> Result<Self, ImageError> {
        elf::parse(bytes, files)
    }

    /// The files that the image's debug information was split into.
    #[must_use]
    pub fn split_files(&self) -> Vec<SplitFile> {
        self.debug().map_or_else(Vec::new, |mut debug| debug.split_files())
    }

    /// Files with debug information that the image refers to, and that were not found or are of another build: their
    /// names. Reads all that there are.
    #[must_use]
    pub fn missing_debug_files(&self) -> Vec<String> {
        self.debug().map_or_else(Vec::new, |mut debug| debug.missing_files())
    }

    /// [`Image::missing_debug_files`] as a sentence names them: a few of them. `None` if none are missing.
    #[must_use]
    pub fn missing_debug_files_in_words(&self) -> Option<String> {
        let missing = self.missing_debug_files();
        let names: Vec<&str> = missing.iter().map(String::as_str).collect();
        (!names.is_empty()).then(|| few(&names))
    }

    /// Files that debug information was moved to after linking, which are not read (`.gnu_debuglink`,
    /// `.gnu_debugaltlink`): their names.
    #[must_use]
    pub fn moved_debug_files(&self) -> &[String] {
        &self.links
    }

    /// The instruction set.
    #[must_use]
    pub const fn isa(&self) -> Isa {
        self.isa
    }

    /// The linker's build ID, if it wrote one.
    #[must_use]
    pub fn build_id(&self) -> Option<&[u8]> {
        self.build_id.as_deref()
    }

    /// Whether code of several sections has an address in this range: which of them is there, nothing in the image says.
    #[must_use]
    pub fn is_overlaid(&self, range: &Range<u64>) -> bool {
        self.overlays.iter().any(|two| two.start < range.end && range.start < two.end)
    }

    /// Whether another image has the same code at the same addresses.
    #[must_use]
    pub fn has_same_code(&self, other: &Self) -> bool {
        self.code().eq(other.code())
    }

    /// Whether source lines are known at all.
    #[must_use]
    pub const fn has_lines(&self) -> bool {
        self.debug.is_some()
    }

    /// Every function, by address.
    #[must_use]
    pub fn functions(&self) -> &[Function] {
        self.functions.all()
    }

    /// The function with this number.
    #[must_use]
    pub fn function(&self, id: FunctionId) -> &Function {
        self.functions.get(id)
    }

    /// The function whose extent holds `address`.
    #[must_use]
    pub fn function_at(&self, address: u64) -> Option<FunctionId> {
        self.functions.at(address)
    }

    /// Where the next function after `address` begins.
    #[must_use]
    pub fn function_after(&self, address: u64) -> Option<u64> {
        self.functions.after(address)
    }

    /// Functions that are called `name`: several where files have static functions of one name.
    #[must_use]
    pub fn functions_named(&self, name: &str) -> Vec<FunctionId> {
        self.functions.named(name)
    }

    /// What a compiler made of a function besides: copies for certain arguments, parts of it, its cold code. Of a
    /// name that several functions have it is not known whose they are: none.
    #[must_use]
    pub fn clones_of(&self, id: FunctionId) -> Vec<FunctionId> {
        let name = &self.function(id).name;
        if self.functions.named(name).len() > 1 {
            return Vec::new();
        }
        self.functions.clones(name)
    }

    /// Whether `address` lies in executable memory.
    #[must_use]
    pub fn is_executable(&self, address: u64) -> bool {
        self.code_at(address).is_some()
    }

    /// Where the next instructions stand after `address`, which is data between instructions.
    #[must_use]
    pub fn after_literal(&self, address: u64) -> Option<u64> {
        range_holding(&self.literals, address).map(|literal| literal.end)
    }

    /// What stands at `address`. Walks from the start of the function: for reports, not for loops.
    #[must_use]
    pub fn place(&self, address: u64) -> Place {
        let Some(code) = self.code_at(address) else { return Place::Outside };
        if range_holding(&self.literals, address).is_some() {
            return Place::Literal;
        }
        let Some(id) = self.function_at(address) else { return Place::Code };
        let mut at = self.function(id).range.start.max(code.range.start);
        while at < address {
            if let Some(literal) = range_holding(&self.literals, at) {
                at = literal.end;
                continue;
            }
            let offset = (at - code.range.start) as usize;
            let Some(length) =
                code.bytes.get(offset..).and_then(|c| instruction_length(self.isa, c))
            else {
                return Place::Code;
            };
            at += length;
        }
        if at == address { Place::Instruction } else { Place::InsideInstruction }
    }

    fn debug(&self) -> Option<MutexGuard<'_, Lookup>> {
        Some(self.debug.as_ref()?.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn linked(&self) -> Linked<'_> {
        Linked { code: &self.code, literals: &self.literals, functions: &self.functions }
    }

    /// The functions that are active at `address`, innermost inlined first; empty without line data. The outermost,
    /// which was not inlined, has the name of [`Image::function_at`].
    #[must_use]
    pub fn frames_at(&self, address: u64) -> Vec<Frame> {
        let Some(mut debug) = self.debug() else { return Vec::new() };
        let mut frames = debug.frames(self.linked(), address);
        if let Some(outermost) = frames.last_mut()
            && let Some(id) = self.function_at(address)
        {
            outermost.function = Some(self.function(id).name.clone());
        }
        frames
    }

    /// The source line of the instruction at `address`.
    #[must_use]
    pub fn location_at(&self, address: u64) -> Option<Location> {
        self.debug()?.location(self.linked(), address)
    }

    /// Where the source declares the function that `address` belongs to.
    #[must_use]
    pub fn declaration_of(&self, address: u64) -> Option<Location> {
        self.debug()?.declaration(self.linked(), address)
    }

    /// Where the lines of a source file start: addresses and lines. `file` is its path, or the end
    /// of it. Empty without line data.
    #[must_use]
    pub fn lines_of(&self, file: &str) -> Vec<(u64, u32)> {
        self.debug().map_or_else(Vec::new, |mut debug| debug.of_file(self.linked(), file))
    }

    /// Every stretch of executable memory and its bytes, by address.
    pub fn code(&self) -> impl Iterator<Item = (Range<u64>, &[u8])> {
        self.code.iter().map(|code| (code.range.clone(), code.bytes.as_slice()))
    }

    /// The instructions from `address` on, as bytes: up to the next data between instructions, or to
    /// where the code ends. `None` where nothing can be executed.
    #[must_use]
    pub fn instructions_from(&self, address: u64) -> Option<&[u8]> {
        let code = self.code_at(address)?;
        let after = self.literals.partition_point(|literal| literal.end <= address);
        let end = match self.literals.get(after) {
            Some(literal) if literal.start <= address => return None,
            Some(literal) => literal.start.min(code.range.end),
            None => code.range.end,
        };
        let offset = |address: u64| (address - code.range.start) as usize;
        code.bytes.get(offset(address)..offset(end).min(code.bytes.len()))
    }

    /// The vector of an exception, if the image has a vector table that reaches so far.
    #[must_use]
    pub fn vector(&self, exception: u16) -> Option<&Vector> {
        self.vectors.get(exception)
    }

    /// What to call an exception: the system's name below 16, the handler's above, else its number.
    #[must_use]
    pub fn exception_name(&self, exception: u16) -> String {
        if let Some(name) = system_exception(exception) {
            return name.to_owned();
        }
        self.vector(exception)
            .and_then(|vector| vector.handler)
            .map(|handler| self.function(handler).name.clone())
            .unwrap_or_else(|| format!("exception {exception}"))
    }

    /// What to call an exception where handlers are not meant: its handler's name without the
    /// ending that says that it is one (`adc_ready` for `adc_ready_handler`).
    #[must_use]
    pub fn interrupt_name(&self, exception: u16) -> String {
        let name = self.exception_name(exception);
        if exception < 16 {
            return name;
        }
        let short = short_handler_name(&name);
        // Several vectors may lead to one default handler.
        let handler = self.vector(exception).and_then(|vector| vector.handler);
        let twice = (16..512)
            .filter(|&other| other != exception)
            .filter_map(|other| self.vector(other)?.handler)
            .any(|other| Some(other) == handler);
        if twice { format!("{short}_{exception}") } else { short.to_owned() }
    }

    /// The names of all exceptions above 15 that the vector table has, by number.
    #[must_use]
    pub fn interrupt_names(&self) -> Vec<String> {
        (16..512).filter(|&n| self.vector(n).is_some()).map(|n| self.interrupt_name(n)).collect()
    }

    /// The exception of this name: the system's, the interrupt's, or its handler's.
    #[must_use]
    pub fn exception_named(&self, name: &str) -> Option<u16> {
        self.exceptions_named(name).first().copied()
    }

    /// All exceptions of this name: interrupts may share a handler.
    #[must_use]
    pub fn exceptions_named(&self, name: &str) -> Vec<u16> {
        let is_meant = |n: &u16| {
            let known = *n < 16 || self.vector(*n).is_some();
            known && (self.interrupt_name(*n) == name || self.exception_name(*n) == name)
        };
        (1..512).filter(is_meant).collect()
    }

    fn code_at(&self, address: u64) -> Option<&Code> {
        section_holding(&self.code, address)
    }

    /// The text at `address` that ends with a zero byte; what is no UTF-8 is replaced. `None` where
    /// the image has nothing, or nothing that ends within 1024 bytes.
    #[must_use]
    pub fn text_at(&self, address: u64) -> Option<String> {
        let section = self.code_at(address).or_else(|| section_holding(&self.data, address))?;
        let bytes = section.bytes.get((address - section.range.start) as usize..)?;
        let end = bytes.iter().take(LONGEST_TEXT).position(|&byte| byte == 0)?;
        Some(String::from_utf8_lossy(&bytes[..end]).into_owned())
    }
}

/// What to call an exception, with an image or without one.
#[must_use]
pub fn interrupt_name(image: Option<&Image>, exception: u16) -> String {
    match image {
        Some(image) => image.interrupt_name(exception),
        None => system_exception(exception).map_or_else(
            || match exception.checked_sub(16) {
                Some(interrupt) => format!("interrupt {interrupt}"),
                None => format!("exception {exception}"),
            },
            str::to_owned,
        ),
    }
}

/// Texts of the image are no longer than this.
const LONGEST_TEXT: usize = 1024;

/// The section that holds `address`, among sorted ones that do not overlap.
fn section_holding(sections: &[Code], address: u64) -> Option<&Code> {
    let after = sections.partition_point(|section| section.range.start <= address);
    sections[..after].last().filter(|section| section.range.contains(&address))
}

/// The range that holds `address`, among sorted ranges that do not overlap.
fn range_holding(ranges: &[Range<u64>], address: u64) -> Option<&Range<u64>> {
    let after = ranges.partition_point(|range| range.start <= address);
    ranges[..after].last().filter(|range| range.contains(&address))
}
