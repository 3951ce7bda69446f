//! Files, folders and standard input: all reading happens here.

mod aligned;
pub(crate) mod events;
mod flow_index;
mod folder;
mod follow;
mod kept;
pub(crate) mod live;
mod make;
mod near;
mod pieces;
mod read;
mod segments;
mod setup;
mod source_text;
pub(crate) mod stub;
mod threads;

pub(crate) use flow_index::flow_index;
pub(crate) use folder::{Capture, OpenImage, addresses, open, open_as, read_image};
pub(crate) use make::{NewFolder, Place};
pub(crate) use setup::{correct, setup_of_raw};
pub(crate) use source_text::SourceText;
