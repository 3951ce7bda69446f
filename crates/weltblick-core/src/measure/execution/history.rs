//! What ran around one place: the last instructions before it, and the first ones after it.

use super::calls::Calls;
use super::index::Found;
use super::tree::{Named, Root};
use super::view::View;
use crate::flow::{Block, Clocking, End, Gap, Moment, Sink};
use crate::image::Image;
use std::collections::VecDeque;

/// Where to look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// The first instruction that is known.
    First,
    /// The last one.
    Last,
    /// The first instruction that a packet from this byte on tells of.
    Byte(u64),
    /// An instruction, each time that it runs.
    Address(u64),
    /// The first instruction after so many ticks.
    Ticks(u64),
    /// What runs first after this exception was entered, each time: its handler, or one that comes before it.
    Entry(u16),
}

/// Something that happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// The byte of the packet that tells it.
    pub offset: u64,
    /// Ticks at the last moment before it whose time is known.
    pub ticks: Option<u64>,
    /// How often it was unknown before how much time passed: ticks of two steps may be subtracted where this is equal.
    pub untimed: u32,
    /// How many calls deep it is, handlers on top of what they interrupted.
    pub depth: u32,
    /// What happened.
    pub what: What,
}

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// Instructions from an address up to another one ran.
    Ran {
        /// The first.
        start: u64,
        /// The address behind the last.
        until: u64,
        /// How many.
        instructions: u32,
        /// Whether the last one branched; `None` if it is no branch, or an exception came in behind it.
        branched: Option<bool>,
    },
    /// The condition of the instruction at this address, which is among those that are told next,
    /// failed.
    PassedOver(u64),
    /// An exception was taken.
    Entered(Option<u16>),
    /// A handler ended.
    Left,
    /// What ran is not known.
    Gap(Gap),
    /// No synchronisation confirms what comes.
    Unconfirmed,
    /// What ran is not shown.
    LeftOut {
        /// How many instructions.
        instructions: u64,
        /// How often among them it is not known what ran.
        losses: u32,
    },
}

/// Keeps what ran around a place.
#[derive(Debug)]
pub struct History<'a> {
    image: &'a Image,
    calls: Calls<'a>,
    view: Option<Box<View>>,
    /// What ran last is not shown.
    hidden: bool,
    /// Something other than code came behind what ran last.
    interrupted: bool,
    /// The exception that is looked for was entered: what runs next is the place.
    entered: bool,
    /// A handler that is not shown ended: that is, if what runs next is.
    left: Option<Step>,
    /// The conditions of these instructions failed, which are among those that are told next.
    passed_over: Vec<u64>,
    timed: bool,
    /// How often it was unknown how much time passed.
    untimed: u32,
    place: Place,
    /// Which time the place is reached, from 0.
    skip: u64,
    before: u64,
    after: u64,
    steps: VecDeque<Step>,
    /// Instructions in `steps`, before the place and after it.
    held: [u64; 2],
    /// The step in which the place was reached.
    hit: Option<usize>,
    path: Vec<(Root, Option<Named>)>,
    offset: u64,
    /// Reading began in the middle: what is looked for lies from here on.
    gate: Option<Gate>,
    /// Ticks before those that were read.
    base: u64,
    misses: bool,
}

/// Where what is looked for begins, if reading began shortly before it.
#[derive(Debug, Clone, Copy)]
struct Gate {
    offset: u64,
    ticks: u64,
}

impl<'a> History<'a> {
    /// Looks for a place for the time `skip` (from 0), and keeps so many instructions around it.
    #[must_use]
    pub fn new(
        image: &'a Image,
        clocking: Clocking,
        place: Place,
        skip: u64,
        [before, after]: [u64; 2],
    ) -> Self {
        Self {
            image,
            calls: Calls::new(image, clocking),
            view: None,
            hidden: false,
            interrupted: false,
            entered: false,
            left: None,
            passed_over: Vec::new(),
            timed: clocking != Clocking::Nothing,
            untimed: 0,
            place,
            skip,
            before,
            after,
            steps: VecDeque::new(),
            held: [0; 2],
            hit: None,
            path: Vec::new(),
            offset: 0,
            gate: None,
            base: 0,
            misses: false,
        }
    }

    /// The same, of what a view shows only.
    #[must_use]
    pub fn seen_through(self, view: View) -> Self {
        Self { view: Some(Box::new(view)), ..self }
    }

    /// Fewer instructions before the place are known than were asked for.
    #[must_use]
    pub const fn is_short(&self) -> bool {
        self.held[0] < self.before
    }

    /// The same, read from shortly before `found`: nothing before it counts, and ticks are those of the whole
    /// recording.
    #[must_use]
    pub fn from(self, found: Found) -> Self {
        let gate = Gate { offset: found.offset, ticks: found.cycles };
        Self { skip: found.skip, gate: Some(gate), ..self }
    }

    #[inline]
    fn look_for_gate(&mut self) {
        if let Some(gate) = self.gate.filter(|gate| self.offset >= gate.offset) {
            self.pass_gate(gate);
        }
    }

    /// The place from which things count is reached.
    #[cold]
    fn pass_gate(&mut self, gate: Gate) {
        self.gate = None;
        // Nothing ran before it that is known: then it is not known either how often what ran.
        self.misses |= self.calls.instructions() == 0;
        self.base = gate.ticks.saturating_sub(self.calls.ticks().unwrap_or(0));
        for step in &mut self.steps {
            step.ticks = step.ticks.map(|ticks| ticks + self.base);
        }
    }

    fn ticks(&self) -> Option<u64> {
        self.calls.ticks().map(|ticks| ticks + self.base)
    }

    /// Reading began too late to know what ran where things begin to count.
    #[must_use]
    pub const fn misses(&self) -> bool {
        self.misses || self.gate.is_some()
    }

    /// The recording ends.
    pub fn finish(&mut self) {
        if self.place == Place::Last {
            let is_code = |step: &Step| matches!(step.what, What::Ran { .. });
            self.hit = self.steps.iter().rposition(is_code);
            if !self.hidden {
                self.path = self.calls.path();
            }
        }
    }

    /// What happened, in order, and the number of the step at which the place was reached; `None` if
    /// it was not.
    #[must_use]
    pub fn steps(&self) -> Option<(&VecDeque<Step>, usize)> {
        Some((&self.steps, self.hit?))
    }

    /// Who had called when the place was reached, outermost first: beginnings of paths, and functions.
    #[must_use]
    pub fn path(&self) -> &[(Root, Option<Named>)] {
        &self.path
    }

    fn push(&mut self, what: What) {
        if self.is_full() {
            return;
        }
        let step = self.step(what);
        self.steps.push_back(step);
        let instructions = match what {
            What::Ran { instructions, .. } => u64::from(instructions),
            _ => 0,
        };
        self.held[usize::from(self.hit.is_some())] += instructions;
        if self.hit.is_none() {
            if self.is_there(what) {
                self.reach(instructions);
            } else {
                self.forget();
            }
        }
    }

    fn step(&self, what: What) -> Step {
        let ticks = self.timed.then(|| self.ticks()).flatten();
        let (offset, untimed) = (self.offset, self.untimed);
        Step { offset, ticks, untimed, depth: self.calls.depth(), what }
    }

    /// Code is about to run, which is shown or not.
    fn look(&mut self, block: &Block) {
        let image = self.image;
        let hidden = self.view.as_mut().is_some_and(|view| !view.shows(block, image));
        if hidden && !self.hidden {
            self.keep_path();
        }
        self.hidden = hidden;
        self.interrupted = false;
    }

    /// What was shown last may be the last that is.
    fn keep_path(&mut self) {
        if self.place == Place::Last && !self.interrupted {
            self.path = self.calls.path();
        }
    }

    /// Code ran.
    fn run(&mut self, what: What, instructions: u32) {
        if self.hidden {
            self.left = None;
            self.passed_over.clear();
            return self.leave_out(u64::from(instructions), 0);
        }
        if let Some(left) = self.left.take()
            && !self.is_full()
        {
            self.steps.push_back(left);
        }
        for address in std::mem::take(&mut self.passed_over) {
            self.push(What::PassedOver(address));
        }
        self.push(what);
    }

    /// Counts what is not shown, in one step.
    fn leave_out(&mut self, more: u64, lost: u32) {
        if self.is_full() {
            return; // whoever reads on nevertheless does not change what was found
        }
        match self.steps.back_mut() {
            Some(Step { what: What::LeftOut { instructions, losses }, .. }) => {
                *instructions += more;
                *losses += lost;
            }
            _ => self.push(What::LeftOut { instructions: more, losses: lost }),
        }
    }

    fn is_there(&mut self, what: What) -> bool {
        if self.gate.is_some() {
            return false;
        }
        let there = match (self.place, what) {
            (Place::Last, _) => false,
            (Place::First, What::Ran { .. }) => true,
            (Place::Byte(byte), What::Ran { .. }) => self.offset >= byte,
            (Place::Address(address), What::Ran { start, until, .. }) => {
                (start..until).contains(&address)
            }
            (Place::Ticks(ticks), What::Ran { .. }) => self.ticks().is_some_and(|now| now >= ticks),
            (Place::Entry(_), What::Ran { .. }) => return self.entered,
            _ => false,
        };
        if there && self.skip > 0 {
            self.skip -= 1;
            return false;
        }
        there
    }

    fn look_for_entry(&mut self, moment: &Moment) {
        if let (Place::Entry(wanted), Moment::Entered { exception: Some(entered), .. }) =
            (self.place, moment)
            && wanted == *entered
            && !self.entered
            && self.gate.is_none()
        {
            self.entered = self.skip == 0;
            self.skip = self.skip.saturating_sub(1);
        }
    }

    fn reach(&mut self, instructions: u64) {
        self.hit = Some(self.steps.len() - 1);
        self.path = self.calls.path();
        // The step itself counts for what comes after.
        self.held[0] -= instructions;
        self.held[1] += instructions;
    }

    /// Drops the oldest steps that are not needed any more.
    fn forget(&mut self) {
        while let Some(Step { what, .. }) = self.steps.front().copied() {
            let instructions = match what {
                What::Ran { instructions, .. } => u64::from(instructions),
                _ => 0,
            };
            let too_many = self.steps.len() as u64 > 4 * self.before + 16;
            if !too_many && self.held[0] - instructions < self.before {
                break;
            }
            self.held[0] -= instructions;
            self.steps.pop_front();
        }
    }

    fn is_full(&self) -> bool {
        let most = 4 * (self.before + self.after) + 64;
        self.hit.is_some() && (self.held[1] > self.after || self.steps.len() as u64 > most)
    }
}

impl Sink for History<'_> {
    fn ran(&mut self, block: &Block, taken: bool) {
        self.look(block);
        self.calls.ran(block, taken);
        let (start, until, instructions) = (block.start, block.after(), block.instructions);
        let is_branch = !matches!(block.end, End::Through | End::Edge | End::Marked);
        let branched = is_branch.then_some(taken);
        self.run(What::Ran { start, until, instructions, branched }, instructions);
    }

    fn ran_part(&mut self, block: &Block, until: u64, instructions: u32) {
        self.look(block);
        self.calls.ran_part(block, until, instructions);
        let start = block.start;
        self.run(What::Ran { start, until, instructions, branched: None }, instructions);
    }

    fn skipped(&mut self, address: u64) {
        self.passed_over.push(address);
    }

    fn arrived(&mut self, block: &Block) {
        self.calls.arrived(block);
    }

    fn at(&mut self, offset: u64) {
        self.offset = offset;
        self.calls.at(offset);
        if let Some(view) = &mut self.view {
            view.at(offset);
        }
        self.look_for_gate();
    }

    fn moment(&mut self, offset: u64, moment: &Moment) {
        self.offset = offset;
        self.look_for_gate();
        if self.view.is_some() && !self.hidden && is_boundary(moment) {
            self.keep_path();
            self.interrupted = true;
        }
        self.calls.moment(offset, moment);
        if let Some(view) = &mut self.view {
            view.moment(offset, moment);
        }
        self.look_for_entry(moment);
        if matches!(moment, Moment::Gap(_) | Moment::Cycles(None)) {
            self.untimed = self.untimed.saturating_add(1);
        }
        match *moment {
            Moment::Left if self.hidden => self.left = Some(self.step(What::Left)),
            Moment::Gap(Gap::Unwatched) | Moment::Entered { .. } if self.hidden => {}
            Moment::Gap(_) if self.hidden => self.leave_out(0, 1),
            Moment::Entered { exception, .. } => self.push(What::Entered(exception)),
            Moment::Left => self.push(What::Left),
            Moment::Gap(gap) => self.push(What::Gap(gap)),
            Moment::Unconfirmed | Moment::Overdue if !self.hidden => self.push(What::Unconfirmed),
            Moment::Cycles(_)
            | Moment::Time { .. }
            | Moment::Context { .. }
            | Moment::Unconfirmed
            | Moment::Overdue
            | Moment::Confirmed => {}
        }
    }

    fn has_enough(&self) -> bool {
        self.is_full()
    }
}

const fn is_boundary(moment: &Moment) -> bool {
    matches!(moment, Moment::Entered { .. } | Moment::Left | Moment::Gap(_))
}
