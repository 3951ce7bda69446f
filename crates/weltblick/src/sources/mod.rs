//! Files, folders and standard input: all reading happens here.

mod aligned;
mod capture;
pub(crate) mod debug_files;
mod describe;
pub(crate) mod events;
mod flow_index;
mod folder;
mod follow;
mod given;
pub(crate) mod inside;
mod kept;
pub(crate) mod live;
mod make;
mod near;
mod part;
mod pieces;
mod read;
mod replay;
mod segments;
mod setup;
mod source_text;
pub(crate) mod stub;
mod threads;

pub(crate) use capture::{Capture, OpenImage};
pub(crate) use flow_index::flow_index;
pub(crate) use folder::{open, open_as, read_image};
pub(crate) use make::{NewFolder, Place, copy};
pub(crate) use part::{Beside, Part};
pub(crate) use replay::Also;
pub(crate) use setup::{correct, correct_stream, setup_of_raw};
pub(crate) use source_text::SourceText;
