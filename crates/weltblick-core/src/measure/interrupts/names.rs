//! What interrupts are called: as the recording says, else by the image's vector table, else by number.

use crate::event::{Event, Name, Position, Sink, Statement, Thing};
use crate::image::{Image, interrupt_name};
use std::collections::BTreeMap;

/// Names at most: as many as a core has exceptions.
const MOST: usize = 512;

/// Names that a recording gives to interrupts, by exception number.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct InterruptNames(BTreeMap<u16, Box<str>>);

impl InterruptNames {
    /// The recording names none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// What to call an exception.
    #[must_use]
    pub fn name(&self, exception: u16, image: Option<&Image>) -> String {
        match self.0.get(&exception) {
            Some(name) => name.to_string(),
            None => interrupt_name(image, exception),
        }
    }

    /// All exceptions of this name: several may share a handler.
    #[must_use]
    pub fn named(&self, name: &str, image: Option<&Image>) -> Vec<u16> {
        let told = self.0.iter().filter(|(_, known)| &***known == name).map(|(number, _)| *number);
        let mut numbers: Vec<u16> = told.collect();
        // A name of the image is not another's that the recording calls otherwise.
        let of_image = image.map(|image| image.exceptions_named(name)).unwrap_or_default();
        numbers.extend(of_image.into_iter().filter(|number| !self.0.contains_key(number)));
        numbers
    }

    /// All names that there are.
    #[must_use]
    pub fn all(&self, image: Option<&Image>) -> Vec<String> {
        let of_image = image.map(Image::interrupt_names).unwrap_or_default();
        self.0.values().map(ToString::to_string).chain(of_image).collect()
    }

    #[cold]
    fn add(&mut self, exception: u16, name: &Name) {
        if let Name::Told(name) = name
            && !name.is_empty()
            && (self.0.len() < MOST || self.0.contains_key(&exception))
        {
            self.0.insert(exception, name.clone());
        }
    }
}

impl Sink for InterruptNames {
    #[inline(always)]
    fn event(&mut self, _: Position, event: &Event) {
        if let Event::Stated(Statement::Named(Thing::Interrupt(exception), name)) = event {
            self.add(*exception, name);
        }
    }
}
