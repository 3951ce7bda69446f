//! Files, folders and standard input: all reading happens here.

mod folder;
mod read;

pub(crate) use folder::{Capture, OpenImage, open, read_image, setup_of_raw};
pub(crate) use read::Input;
