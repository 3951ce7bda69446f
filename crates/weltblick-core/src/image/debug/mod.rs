//! Debug information: DWARF 2 to 5, read piece by piece, for what is asked.
//!
//! The lookup is our own, on top of `gimli`: it has to know what the symbol table and the sections say, because a
//! linker leaves debug information of code that it dropped, and gives it addresses that other code has. Nothing here
//! recurses as deep as the input says, and no input is read more often than once for each unit that is asked for.

mod abbreviations;
mod claims;
mod functions;
mod lines;
mod linked;
mod lookup;
mod sections;
mod split;
mod tree;
mod units;

pub(super) use linked::{DOUBTFUL, Linked};
pub(super) use lookup::Lookup;
pub(crate) use lookup::ends_with_path;
pub use lookup::{Frame, Location};
pub(super) use sections::Sections;
pub use split::{DebugFiles, NoFiles, SplitFile};
pub(super) use tree::NodeId;
pub(super) use units::{Reference, Slice, Unit, Units, constant, with_slashes};

/// An entry of debug information, with its attributes.
pub(super) type Entry = gimli::DebuggingInformationEntry<Slice>;

/// What an attribute says.
pub(super) type Value = gimli::AttributeValue<Slice>;
