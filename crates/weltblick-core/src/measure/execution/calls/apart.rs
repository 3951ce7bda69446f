//! Following calls on a thread of its own, beside the one that reads.

use super::Calls;
use super::strides::{Step, Steps, Strides};
use crate::apart::{Batches, apart};
use crate::flow::{Block, Moment, Sink};

/// Steps that are handed over at once: few enough for a core's own cache.
const STEPS: usize = 1 << 10;

/// The part of [`Calls`] that goes with the thread that reads.
#[derive(Debug)]
pub struct Ahead<'b, 'a> {
    strides: Strides<'a>,
    batches: &'b mut Batches<Step, STEPS>,
}

impl<'a> Calls<'a> {
    /// Has `read` tell what ran on a thread of its own, while calls are followed on this one. They are the same
    /// as if one thread did both.
    pub fn apart<R: Send>(self, read: impl FnOnce(&mut Ahead<'_, 'a>) -> R + Send) -> (R, Self) {
        let Self { strides, mut following } = self;
        let make = |batches: &mut Batches<Step, STEPS>| {
            let mut ahead = Ahead { strides, batches };
            (read(&mut ahead), ahead.strides)
        };
        let (result, strides) = apart(make, |step| following.step(step));
        (result, Self { strides, following })
    }
}

impl Steps for Batches<Step, STEPS> {
    #[inline(always)]
    fn step(&mut self, step: &Step) {
        self.push(*step);
    }
}

impl Sink for Ahead<'_, '_> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        self.strides.ran(block, taken, self.batches);
    }

    fn ran_part(&mut self, block: &Block, _until: u64, instructions: u32) {
        self.strides.ran_part(block, instructions, self.batches);
    }

    #[inline(always)]
    fn arrived(&mut self, block: &Block) {
        self.strides.arrived(block, self.batches);
    }

    #[inline(always)]
    fn at(&mut self, offset: u64) {
        self.strides.offset = offset;
    }

    #[inline(always)]
    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.strides.moment(offset, moment, self.batches);
    }
}
