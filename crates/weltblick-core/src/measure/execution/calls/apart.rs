//! Following calls on a thread of its own, beside the one that reads.

use super::Calls;
use super::strides::{Step, Steps, Strides};
use crate::flow::{Block, Moment, Sink};
use std::sync::mpsc::{Receiver, SyncSender, TryRecvError, channel, sync_channel};
use std::thread;

/// Steps that are handed over at once: few enough for a core's own cache.
const STEPS: usize = 1 << 10;
/// How many times as many may wait.
const WAITING: usize = 8;

/// The part of [`Calls`] that goes with the thread that reads.
#[derive(Debug)]
pub struct Ahead<'a> {
    strides: Strides<'a>,
    batches: Batches,
}

impl<'a> Calls<'a> {
    /// Has `read` tell what ran on a thread of its own, while calls are followed on this one. They are the same
    /// as if one thread did both.
    pub fn apart<R: Send>(self, read: impl FnOnce(&mut Ahead<'a>) -> R + Send) -> (R, Self) {
        let Self { strides, mut following } = self;
        let (sender, batches) = sync_channel(WAITING);
        let (give_back, used) = channel();
        let ((result, strides), following) = thread::scope(|scope| {
            let reader = scope.spawn(move || {
                let batches = Batches { steps: Vec::new(), sender, used };
                let mut ahead = Ahead { strides, batches };
                let result = read(&mut ahead);
                let Ahead { strides, mut batches } = ahead;
                batches.hand_over();
                (result, strides)
            });
            for batch in batches {
                for step in &batch {
                    following.step(step);
                }
                // Nobody needs it any more once all is read.
                let _ = give_back.send(batch);
            }
            let read = reader.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            (read, following)
        });
        (result, Self { strides, following })
    }
}

/// Steps on their way.
#[derive(Debug)]
struct Batches {
    steps: Vec<Step>,
    sender: SyncSender<Vec<Step>>,
    used: Receiver<Vec<Step>>,
}

impl Batches {
    #[cold]
    fn hand_over(&mut self) {
        let mut empty = match self.used.try_recv() {
            Ok(batch) => batch,
            Err(TryRecvError::Empty | TryRecvError::Disconnected) => Vec::with_capacity(STEPS),
        };
        empty.clear();
        // Whoever follows only stops when nothing comes any more.
        let _ = self.sender.send(std::mem::replace(&mut self.steps, empty));
    }
}

impl Steps for Batches {
    #[inline(always)]
    fn step(&mut self, step: &Step) {
        self.steps.push(*step);
        if self.steps.len() >= STEPS {
            self.hand_over();
        }
    }
}

impl Sink for Ahead<'_> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        self.strides.ran(block, taken, &mut self.batches);
    }

    fn ran_part(&mut self, block: &Block, _until: u64, instructions: u32) {
        self.strides.ran_part(block, instructions, &mut self.batches);
    }

    #[inline(always)]
    fn arrived(&mut self, block: &Block) {
        self.strides.arrived(block, &mut self.batches);
    }

    #[inline(always)]
    fn at(&mut self, offset: u64) {
        self.strides.offset = offset;
    }

    #[inline(always)]
    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.strides.moment(offset, moment, &mut self.batches);
    }
}
