//! Weltblick's core: bytes and an image in, figures and verdicts out.
//!
//! The core is pure: no files, no terminal, no sockets, no global state. Streams are pushed in as
//! byte slices; images and manifests come as bytes and text; results are values that serialise.

pub mod budget;
pub mod capture;
pub mod document;
pub mod event;
pub mod image;
pub mod isa;
pub mod measure;
pub mod plan;
pub mod stats;
pub mod time;
pub mod wire;
