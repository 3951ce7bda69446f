//! Firmware marks: writes to two neighbouring stimulus ports to statements.
//!
//! The form is ours: `docs/formats/marks.md`. Arguments come first, as words on the second port; the
//! mark itself, a halfword on the first, takes as many as its kind needs, newest last. So an
//! interrupt that states something between the arguments of what it interrupts disturbs nothing.

use super::statement::{Arguments, MOST_ARGUMENTS, Name, Number, Statement, Stop, Thing};

/// Arguments that wait for their mark at most; older ones are forgotten.
const MOST_WAITING: usize = 32;

/// The mark cannot be read: it lacks arguments, or its kind is unknown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct NoMark;

/// Arguments that wait for their mark.
#[derive(Debug, Clone)]
pub(super) struct Marks {
    /// The port of marks; arguments come on the next.
    port: u32,
    waiting: [u32; MOST_WAITING],
    len: usize,
}

impl Marks {
    pub(super) const fn new(port: u32) -> Self {
        Self { port, waiting: [0; MOST_WAITING], len: 0 }
    }

    /// Whether a port is one of the two.
    pub(super) const fn uses(&self, port: u32) -> bool {
        port == self.port || port == self.port.wrapping_add(1)
    }

    /// Something is missing: what waits may belong to nothing.
    pub(super) const fn clear(&mut self) {
        self.len = 0;
    }

    /// A write to one of the two ports. `Ok(None)`: an argument.
    pub(super) fn write(
        &mut self,
        port: u32,
        word: u32,
        size: u8,
    ) -> Result<Option<Statement>, NoMark> {
        if port != self.port {
            self.push(word);
            return Ok(None);
        }
        if size != 2 {
            return Err(NoMark);
        }
        self.mark(word >> 12 & 0xf, word & 0xfff).map(Some)
    }

    fn push(&mut self, word: u32) {
        if self.len == MOST_WAITING {
            self.waiting.copy_within(1.., 0);
            self.len -= 1;
        }
        self.waiting[self.len] = word;
        self.len += 1;
    }

    /// Takes the newest `N` arguments, in the order in which they were written.
    fn take<const N: usize>(&mut self) -> Result<[u32; N], NoMark> {
        let from = self.len.checked_sub(N).ok_or(NoMark)?;
        self.len = from;
        Ok(std::array::from_fn(|at| self.waiting[from + at]))
    }

    fn mark(&mut self, kind: u32, number: u32) -> Result<Statement, NoMark> {
        let task = number;
        Ok(match kind {
            0x1 => Statement::Runs { task, stack_pointer: None },
            0x2 => Statement::Ready { task },
            0x3 => Statement::Stops { task, why: Stop::Sleeps },
            0x4 => Statement::Stops { task, why: Stop::Waits(self.take::<1>()?[0]) },
            0x5 => Statement::Stops { task, why: Stop::Ended },
            0x6 => Statement::Takes { object: number },
            0x7 => Statement::Gives { object: number },
            0x8 => Statement::SpanBegan { span: number },
            0x9 => Statement::SpanEnded { span: number },
            0xa => {
                let [pointer] = self.take()?;
                Statement::Runs { task, stack_pointer: Some(u64::from(pointer)) }
            }
            0xb => {
                let [value] = self.take()?;
                let number = Number::Integer(i64::from(value as i32));
                Statement::Quantity { quantity: task, number }
            }
            0xc => {
                let [value] = self.take()?;
                let number = Number::Float(f64::from(f32::from_bits(value)));
                Statement::Quantity { quantity: task, number }
            }
            0xd => Statement::StackUsed { task, bytes: self.take::<1>()?[0] },
            0xe if number == 0xfff => Statement::Requested { cycles_ago: self.take::<1>()?[0] },
            0xe => Statement::Requested { cycles_ago: number },
            0xf => self.long_mark(number)?,
            _ => return Err(NoMark),
        })
    }

    /// Marks that are rare, or long.
    fn long_mark(&mut self, kind: u32) -> Result<Statement, NoMark> {
        let named = |thing: fn(u32) -> Thing, [number, name]: [u32; 2]| {
            Statement::Named(thing(number), Name::InImage(u64::from(name)))
        };
        let wide = |low: u32, high: u32| u64::from(high) << 32 | u64::from(low);
        Ok(match kind {
            0x000 => {
                let [task, priority, base, size] = self.take()?;
                let stack = (size > 0).then_some((u64::from(base), size));
                let priority = u8::try_from(priority).ok();
                Statement::Created { task, priority, stack }
            }
            0x001 => named(Thing::Task, self.take()?),
            0x002 => named(Thing::Object, self.take()?),
            0x003 => named(Thing::Span, self.take()?),
            0x004 => named(Thing::Quantity, self.take()?),
            0x005 => {
                let [quantity, low, high] = self.take()?;
                let number = Number::Integer(wide(low, high) as i64);
                Statement::Quantity { quantity, number }
            }
            0x006 => {
                let [quantity, low, high] = self.take()?;
                let number = Number::Float(f64::from_bits(wide(low, high)));
                Statement::Quantity { quantity, number }
            }
            0x007 => Statement::Stops { task: self.take::<1>()?[0], why: Stop::WaitsForSomething },
            0x010..=0x018 => self.text((kind - 0x010) as usize)?,
            _ => return Err(NoMark),
        })
    }

    /// A text: its arguments, then where its format stands.
    fn text(&mut self, count: usize) -> Result<Statement, NoMark> {
        debug_assert!(count <= MOST_ARGUMENTS, "the kinds end there");
        let [format] = self.take()?;
        let from = self.len.checked_sub(count).ok_or(NoMark)?;
        let arguments = Arguments::new(&self.waiting[from..self.len]);
        self.len = from;
        Ok(Statement::Text { format: u64::from(format), arguments })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn written(marks: &mut Marks, arguments: &[u32], mark: u32) -> Result<Statement, NoMark> {
        for &word in arguments {
            assert_eq!(marks.write(25, word, 4), Ok(None));
        }
        marks.write(24, mark, 2).map(|statement| statement.expect("a mark is a statement"))
    }

    #[test]
    fn every_kind_reads() {
        let marks = &mut Marks::new(24);
        let number = |value| Statement::Quantity { quantity: 3, number: value };
        for (arguments, mark, statement) in [
            (&[][..], 0x1002, Statement::Runs { task: 2, stack_pointer: None }),
            (&[], 0x2fff, Statement::Ready { task: 4095 }),
            (&[], 0x3001, Statement::Stops { task: 1, why: Stop::Sleeps }),
            (&[70_000], 0x4001, Statement::Stops { task: 1, why: Stop::Waits(70_000) }),
            (&[], 0x5001, Statement::Stops { task: 1, why: Stop::Ended }),
            (&[], 0x6009, Statement::Takes { object: 9 }),
            (&[], 0x7009, Statement::Gives { object: 9 }),
            (&[], 0x8007, Statement::SpanBegan { span: 7 }),
            (&[], 0x9007, Statement::SpanEnded { span: 7 }),
            (&[0x2000_0400], 0xa002, Statement::Runs { task: 2, stack_pointer: Some(0x2000_0400) }),
            (&[-5_i32 as u32], 0xb003, number(Number::Integer(-5))),
            (&[1.5_f32.to_bits()], 0xc003, number(Number::Float(1.5))),
            (&[640], 0xd002, Statement::StackUsed { task: 2, bytes: 640 }),
            (&[], 0xe123, Statement::Requested { cycles_ago: 0x123 }),
            (&[90_000], 0xefff, Statement::Requested { cycles_ago: 90_000 }),
            (
                &[2, 7, 0x2000_0000, 1024],
                0xf000,
                Statement::Created { task: 2, priority: Some(7), stack: Some((0x2000_0000, 1024)) },
            ),
            (&[2, 300, 0, 0], 0xf000, Statement::Created { task: 2, priority: None, stack: None }),
            (&[2, 0x800], 0xf001, Statement::Named(Thing::Task(2), Name::InImage(0x800))),
            (&[2, 0x800], 0xf002, Statement::Named(Thing::Object(2), Name::InImage(0x800))),
            (&[2, 0x800], 0xf003, Statement::Named(Thing::Span(2), Name::InImage(0x800))),
            (&[2, 0x800], 0xf004, Statement::Named(Thing::Quantity(2), Name::InImage(0x800))),
            (&[3, u32::MAX, u32::MAX], 0xf005, number(Number::Integer(-1))),
            (&[3, 0, 0x3ff8_0000], 0xf006, number(Number::Float(1.5))),
            (&[4], 0xf007, Statement::Stops { task: 4, why: Stop::WaitsForSomething }),
            (
                &[8, 9, 0x900],
                0xf012,
                Statement::Text { format: 0x900, arguments: Arguments::new(&[8, 9]) },
            ),
        ] {
            assert_eq!(written(marks, arguments, mark), Ok(statement), "{mark:#x}");
            assert_eq!(marks.len, 0, "{mark:#x} takes exactly its arguments");
        }
        for mark in [0x0000, 0xa001, 0xf000, 0xf008, 0xf010, 0xf019, 0xffff] {
            assert_eq!(written(marks, &[], mark), Err(NoMark), "{mark:#x}");
        }
        assert_eq!(marks.write(24, 0x1001, 4), Err(NoMark), "a mark is a halfword");
    }

    #[test]
    fn interrupts_may_state_things_in_between() {
        let marks = &mut Marks::new(24);
        assert_eq!(marks.write(25, 8, 4), Ok(None));
        let inner = written(marks, &[0x2000_0100], 0xa001);
        assert_eq!(inner, Ok(Statement::Runs { task: 1, stack_pointer: Some(0x2000_0100) }));
        let outer = written(marks, &[9, 0x900], 0xf012);
        let arguments = Arguments::new(&[8, 9]);
        assert_eq!(outer, Ok(Statement::Text { format: 0x900, arguments }));
    }

    proptest! {
        #[test]
        fn nothing_written_there_does_harm(
            writes in prop::collection::vec((24_u32..26, any::<u32>(), 1_u8..5), 0..200),
        ) {
            let mut marks = Marks::new(24);
            for (port, word, size) in writes {
                let _ = marks.write(port, word, size);
                prop_assert!(marks.len <= MOST_WAITING);
            }
        }
    }
}
