//! Numbers among the arguments of texts whose format stays in the image.

use crate::image::Image;
use crate::measure::console::{Conversion, conversions};
use rustc_hash::FxHashMap;

/// Formats that are remembered at most.
const MOST_FORMATS: usize = 4096;

/// What each format takes, looked up once.
#[derive(Debug, Clone, Default)]
pub(super) struct Arguments {
    formats: FxHashMap<u64, Vec<Conversion>>,
}

impl Arguments {
    /// The number that an argument is; nothing where it is a text, or nothing tells.
    pub(super) fn number(
        &mut self,
        image: Option<&Image>,
        format: u64,
        index: u8,
        word: u32,
    ) -> Option<f64> {
        if self.formats.len() >= MOST_FORMATS && !self.formats.contains_key(&format) {
            return None;
        }
        let takes = self.formats.entry(format).or_insert_with(|| {
            let text = image.and_then(|image| image.text_at(format));
            text.map_or_else(Vec::new, |text| conversions(&text))
        });
        match takes.get(usize::from(index))? {
            Conversion::Signed => Some(f64::from(word as i32)),
            Conversion::Unsigned => Some(f64::from(word)),
            Conversion::Text | Conversion::Unknown => None,
        }
    }
}
