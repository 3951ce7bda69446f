//! What signals are called, what their bits mean, and in which unit they are told.

use super::from_text::capture_of;
use crate::capture::SignalSpec;
use crate::event::Name;
use crate::image::{Element, Field, Image, Kind, NotFixed, Variables};
use crate::wire::poll;
use std::sync::Arc;

/// A level that the user asks about: of one signal, or of all.
#[derive(Debug, Clone, PartialEq)]
pub struct Level {
    /// Whose.
    pub signal: Option<String>,
    /// In the signal's unit.
    pub value: f64,
}

/// A comparator, and what it watches.
pub type Watched = (u8, Arc<Field>);

/// Everything that is known of signals before the first event.
#[derive(Debug, Default)]
pub struct Dictionary<'a> {
    /// The firmware's image.
    pub image: Option<&'a Image>,
    /// Its variables.
    pub variables: Option<&'a Variables>,
    /// What the manifest says of signals.
    pub specs: &'a [SignalSpec],
    /// What the specs' comparators watch, by number.
    pub watched: Vec<Watched>,
    /// What numbers in printed lines are called, in the order of the patterns.
    pub captured: Vec<String>,
    /// Levels to be told about.
    pub levels: Vec<Level>,
}

impl Dictionary<'_> {
    /// What comparators watch, looked up in the image. What is watched by address, or without an
    /// image, stays plain bits.
    ///
    /// # Errors
    ///
    /// The first signal whose variable is not there, and why.
    pub fn look_up(
        specs: &[SignalSpec],
        variables: Option<&Variables>,
    ) -> Result<Vec<Watched>, (String, NotFixed)> {
        let watched = specs.iter().filter_map(|spec| Some((spec.comparator?, spec)));
        let named = watched.filter_map(|(comparator, spec)| {
            let path = spec.variable.as_ref().unwrap_or(&spec.name);
            let variables = variables.filter(|_| !path.starts_with("0x"))?;
            let field = variables.field(path).map_err(|why| (spec.name.clone(), why));
            Some(field.map(|field| (comparator, Arc::new(field))))
        });
        named.collect()
    }

    /// What the manifest says of a signal.
    #[must_use]
    pub fn spec(&self, name: &str) -> Option<&SignalSpec> {
        self.specs.iter().find(|spec| spec.name == name)
    }

    pub(super) fn watched(&self, watch: u8) -> Option<Arc<Field>> {
        let found = self.watched.iter().find(|(number, _)| *number == watch);
        found.map(|(_, field)| field.clone())
    }

    pub(super) fn watch_name(&self, watch: u8) -> String {
        let named = self.specs.iter().find(|spec| spec.comparator == Some(watch));
        named.map_or_else(|| format!("comparator {watch}"), |spec| spec.name.clone())
    }

    /// The name of a number in printed lines.
    pub(super) fn captured(&self, quantity: u32) -> Option<&str> {
        self.captured.get(capture_of(quantity)).map(String::as_str)
    }

    pub(super) fn quantity_name(&self, number: u32, told: Option<&Name>) -> String {
        if let Some(name) = self.captured(number) {
            return name.to_owned();
        }
        if let Some(spec) = self.specs.iter().find(|spec| spec.quantity == Some(number)) {
            return spec.name.clone();
        }
        let told = told.and_then(|name| name.told(|address| self.image?.text_at(address)));
        told.unwrap_or_else(|| format!("quantity {number}"))
    }

    /// The format, and which of its arguments: `report %u of %u bytes #2`.
    pub(super) fn argument_name(&self, format: u64, index: u8) -> String {
        let text = self.image.and_then(|image| image.text_at(format));
        let text = text.unwrap_or_else(|| format!("text at {format:#010x}"));
        format!("{} #{}", text.trim_end(), index + 1)
    }

    /// What a poll stream says of a variable; the image says it better.
    pub(super) fn polled(&self, name: &str, address: u64, size: u64, kind: poll::Kind) -> Field {
        let known = self.variables.and_then(|variables| variables.field(name).ok());
        if let Some(field) = known.filter(|field| field.address == address) {
            return field;
        }
        let kind = match kind {
            poll::Kind::Unsigned => Kind::Unsigned,
            poll::Kind::Signed => Kind::Signed,
            poll::Kind::Float => Kind::Float,
            poll::Kind::Other => Kind::Other,
        };
        Field { element: Element { size, kind }, ..Field::plain(name.to_owned(), address, size) }
    }

    /// The levels that are meant for a signal, as raw values.
    pub(super) fn thresholds(&self, name: &str) -> Vec<f64> {
        let spec = self.spec(name);
        let (scale, offset) = spec.map_or((1.0, 0.0), |spec| (spec.scale, spec.offset));
        let meant = |level: &&Level| level.signal.as_ref().is_none_or(|signal| signal == name);
        self.levels.iter().filter(meant).map(|level| (level.value - offset) / scale).collect()
    }
}
