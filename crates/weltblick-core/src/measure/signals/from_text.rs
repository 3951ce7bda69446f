//! Numbers in printed lines become quantities.

use crate::event::{Event, Number, Position, Sink, Statement};
use crate::image::Image;
use crate::measure::console::{Console, End, Line, Lines, Source, format};
use crate::pattern::Pattern;
use crate::time::Window;

/// Quantities from texts are numbered downwards from here: the firmware's own are smaller.
const LAST: u32 = u32::MAX;

/// The number of the quantity that a pattern's capture becomes.
#[must_use]
pub const fn quantity_of(capture: usize) -> u32 {
    LAST - capture as u32
}

/// Which capture a quantity is, if it is one.
pub(super) const fn capture_of(quantity: u32) -> usize {
    (LAST - quantity) as usize
}

/// Passes events on, and after each the quantities that the lines which it ended tell.
#[derive(Clone)]
pub struct FromText<'a, S> {
    console: Console<Captures<'a>>,
    /// Where events and quantities go.
    pub sink: S,
}

/// What lines told.
#[derive(Clone)]
struct Captures<'a> {
    patterns: &'a [Pattern],
    image: Option<&'a Image>,
    found: Vec<(Option<Window>, u32, f64)>,
}

impl Lines for Captures<'_> {
    fn line(&mut self, line: Line<'_>) {
        // What is cut, behind or before, may be cut within a number.
        let begins = !line.after_loss || matches!(line.source, Source::Text { .. });
        if line.end != End::Whole || !begins || line.is_binary {
            return;
        }
        let text_at = |address| self.image.and_then(|image| image.text_at(address));
        let text = match line.source {
            Source::Port(_) => line.written(),
            Source::Text { format: at, arguments } => match text_at(at) {
                Some(text) => format(&text, arguments.as_slice(), text_at),
                None => return,
            },
        };
        let mut first = 0;
        for pattern in self.patterns {
            if let Some(numbers) = pattern.read(&text) {
                let captures = (first..).zip(numbers);
                self.found
                    .extend(captures.map(|(at, number)| (line.time, quantity_of(at), number)));
            }
            first += pattern.names().len();
        }
    }
}

impl<'a, S: Sink> FromText<'a, S> {
    /// Reads these patterns; `image` holds formats of texts.
    pub fn new(patterns: &'a [Pattern], image: Option<&'a Image>, sink: S) -> Self {
        Self { console: Console::new(Captures { patterns, image, found: Vec::new() }), sink }
    }
}

impl<S: Sink> Sink for FromText<'_, S> {
    fn event(&mut self, position: Position, event: &Event) {
        self.sink.event(position, event);
        if self.console.tell.patterns.is_empty() {
            return;
        }
        self.console.event(position, event);
        for (time, quantity, number) in self.console.tell.found.drain(..) {
            let number = Number::Float(number);
            let stated = Event::Stated(Statement::Quantity { quantity, number });
            self.sink.event(Position { time, ..position }, &stated);
        }
    }
}
