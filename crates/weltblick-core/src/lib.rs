//! Weltblick's core: bytes and an image in, figures and verdicts out.
//!
//! The core is pure: no files, no terminal, no sockets, no global state. Streams are pushed in as
//! byte slices of any length; images and manifests come as bytes and text; results are values that
//! serialise.
//!
//! The way of a byte: [`wire`] makes packets of it, [`event`] turns packets into the one
//! vocabulary, [`measure`] counts events by address, and [`image`] names the addresses at the end.
//! [`capture`] ties the first two together as its manifest says; [`judge`] says whether [`figure`]s keep their budgets.
//!
//! ```
//! use weltblick_core::capture::{ItmSettings, Line, StreamSpec};
//! use weltblick_core::event::Origin;
//! use weltblick_core::image::Image;
//! use weltblick_core::measure::profile::{By, SampleCounts, rows};
//!
//! let elf = include_bytes!("../../../demo/buoy/wave-buoy.elf");
//! let stream = include_bytes!("../../../demo/buoy/swo.bin");
//! let image = Image::parse(elf)?;
//!
//! let mut counts = SampleCounts::default();
//! let mut line = Line::new(&StreamSpec::itm(Vec::new(), ItmSettings::default()), Origin(0));
//! line.push(stream, &mut (), &mut counts);
//! line.finish(&mut (), &mut counts);
//!
//! let rows = rows(&counts, &image, By::Function { inlined: false }, 0.95);
//! assert_eq!(rows[1].function.as_deref(), Some("spectrum_power"));
//! # Ok::<(), weltblick_core::image::ImageError>(())
//! ```

mod apart;
pub mod capture;
pub mod document;
pub mod event;
pub mod exchange;
pub mod figure;
pub mod flow;
pub mod image;
pub mod isa;
pub mod judge;
pub mod measure;
pub mod pattern;
pub mod plan;
pub mod point;
pub mod stats;
pub mod time;
pub mod wire;
