//! Following calls: who runs on whose behalf, for how many instructions, how long.
//!
//! Every context has a stack of its own: one for each handler that is active, one for each thread that
//! was seen to be interrupted (see [`contexts`](super::contexts)). Stacks follow what the code does, not
//! what compilers are supposed to do:
//!
//! * a call opens a frame with the address that it returns to;
//! * any other indirect branch to such an address closes all frames down to it (returns, and jumps out
//!   of several calls at once);
//! * a return to anywhere else goes beyond what was seen to be called: all frames are cut;
//! * arriving in another function in any other way ends one function and begins another in the same
//!   frame (a tail call);
//! * after a gap nothing is known: open frames are cut. They count as calls and not as durations.
//!
//! Blocks become steps ([`strides`]), and steps become calls ([`following`]): two threads may share that.

mod apart;
mod following;
mod stretch;
mod strides;
mod whose;

use super::crossings::Crossings;
use super::figures::CallFigures;
use super::stacks::OnStack;
use super::tree::{Named, Root, Tree};
use crate::flow::{Block, Clocking, Moment, Sink};
use crate::image::Image;
pub use apart::Ahead;
pub(super) use following::Edge;
use following::Following;
use strides::Strides;
pub(super) use whose::Whose;

/// Follows calls.
#[derive(Debug)]
pub struct Calls<'a> {
    strides: Strides<'a>,
    following: Following<'a>,
}

impl<'a> Calls<'a> {
    /// Nothing ran yet.
    #[must_use]
    pub fn new(image: &'a Image, clocking: Clocking) -> Self {
        Self { strides: Strides::new(image, clocking), following: Following::new(image, clocking) }
    }

    /// The same, telling what was on the stack from when to when.
    #[must_use]
    pub fn telling_stacks(mut self) -> Self {
        self.following.stacks = Some(Box::default());
        self
    }

    /// What left the stack since it was last asked.
    pub fn left_stack(&mut self) -> impl Iterator<Item = OnStack> + '_ {
        self.following.stacks.iter_mut().flat_map(|stacks| stacks.left.drain(..))
    }

    /// The same, following ways between points too. Blocks must begin there: see
    /// [`Code::cut_at`](crate::flow::Code::cut_at).
    #[must_use]
    pub fn crossing(mut self, crossings: Crossings) -> Self {
        self.strides.stop_at(crossings.addresses());
        let crossings = crossings.timed(self.following.clocking != Clocking::Nothing);
        self.following.crossings = Some(Box::new(crossings));
        self
    }

    /// The ways that were gone, if any are followed.
    #[must_use]
    pub fn crossings(&self) -> Option<&Crossings> {
        self.following.crossings.as_deref()
    }

    /// Counts all that is certain by now for the functions that it belongs to: for those who ask while
    /// reading goes on.
    pub fn catch_up(&mut self) {
        self.strides.catch_up(&mut self.following);
    }

    /// Ends the recording: open calls are cut.
    pub fn finish(&mut self) {
        self.catch_up();
        self.following.finish();
    }

    /// What the calls came to before what no synchronisation confirms, if anything ran there: a recording of its own, that
    /// ends there.
    pub fn take_confirmed(&mut self) -> Option<Self> {
        let Following { confirmed, image, clocking, .. } = &mut self.following;
        let following = *confirmed.take()?;
        let mut confirmed = Self { strides: Strides::new(image, *clocking), following };
        confirmed.finish();
        Some(confirmed)
    }

    /// What is known of the calls of one function, if there were any.
    #[must_use]
    pub fn figures_of(&self, function: Named) -> Option<&CallFigures> {
        self.following.figures.of(function)
    }

    /// What is known of each function's calls.
    pub fn figures(&self) -> impl Iterator<Item = (Named, &CallFigures)> {
        self.following.figures.iter()
    }

    /// How many calls deep what runs is, handlers on top of what they interrupted.
    #[must_use]
    pub fn depth(&self) -> u32 {
        self.following.depth()
    }

    /// Who called what runs, outermost first: beginnings of paths, and functions.
    #[must_use]
    pub fn path(&self) -> Vec<(Root, Option<Named>)> {
        self.following.path()
    }

    /// Who called whom.
    #[must_use]
    pub const fn tree(&self) -> &Tree {
        &self.following.tree
    }

    /// Ticks that were told, in all; `None` where nothing tells time.
    #[must_use]
    pub fn ticks(&self) -> Option<u64> {
        let Following { clocking, clock, .. } = &self.following;
        (*clocking != Clocking::Nothing).then_some(clock.high + self.strides.alone.ticks)
    }

    /// Whether it is known how long every stretch lasted, between the first time and the last.
    #[must_use]
    pub const fn knows_all_time(&self) -> bool {
        !self.following.untimed
    }

    /// Instructions in all.
    #[must_use]
    pub const fn instructions(&self) -> u64 {
        self.following.clock.instructions + self.strides.alone.instructions
    }
}

impl Sink for Calls<'_> {
    #[inline(always)]
    fn ran(&mut self, block: &Block, taken: bool) {
        self.strides.ran(block, taken, &mut self.following);
    }

    fn ran_part(&mut self, block: &Block, _until: u64, instructions: u32) {
        self.strides.ran_part(block, instructions, &mut self.following);
    }

    #[inline(always)]
    fn arrived(&mut self, block: &Block) {
        self.strides.arrived(block, &mut self.following);
    }

    #[inline(always)]
    fn at(&mut self, offset: u64) {
        self.strides.offset = offset;
    }

    #[inline(always)]
    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.strides.moment(offset, moment, &mut self.following);
    }
}
