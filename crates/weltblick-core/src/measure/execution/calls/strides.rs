//! Blocks put together as long as nothing happens that calls could depend on: most blocks go on in the
//! function that ran before, and most times are told while it does.

use super::super::tree::Named;
use super::following::Edge;
use crate::flow::{Block, Clocking, End, Moment, Slowest};
use crate::image::{FunctionId, Image};
use crate::isa::thumb::Indirect;

/// Something that happened, and what ran since the step before.
#[derive(Debug, Clone, Copy)]
pub(super) struct Step {
    /// First, in stretches in which nothing else happened;
    pub(super) alone: Alone,
    /// then so many instructions in the same function.
    pub(super) run: u64,
    /// How the last of them led on.
    pub(super) edge: Edge,
    /// The byte that tells of it.
    pub(super) offset: u64,
    pub(super) what: What,
}

/// What happened.
#[derive(Debug, Clone, Copy)]
pub(super) enum What {
    /// Execution came to `start`, in this function.
    Came { start: u64, function: Named },
    /// The same, after something else than a branch.
    Arrived { start: u64, function: Named },
    /// So many ticks passed since the last time that is known, if that is known.
    Ticked(Option<u64>),
    /// Code with an instruction that waits ran.
    Waited,
    /// Code that writes a stack pointer ran.
    SetStack,
    /// An exception was taken.
    Entered { exception: Option<u16>, returns_to: u64 },
    /// A handler ended.
    Left,
    /// What ran is not known any more.
    Lost,
    /// No synchronisation confirms what follows.
    Unconfirmed,
    /// A stretch of so many instructions was slower than others.
    Learnt { instructions: u64, ticks: u64 },
    /// Nothing but what ran.
    Nothing,
}

/// Who wants to know of steps.
pub(super) trait Steps {
    fn step(&mut self, step: &Step);
}

/// What ran in stretches in which nothing else happened.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Alone {
    pub(super) ticks: u64,
    pub(super) instructions: u64,
    /// Ticks of those of them in which no instruction ended.
    pub(super) idle: u64,
}

impl Alone {
    /// One stretch.
    pub(super) const fn of(ticks: u64, instructions: u64) -> Self {
        Self { ticks, instructions, idle: if instructions > 0 { 0 } else { ticks } }
    }

    #[inline(always)]
    pub(super) const fn is_any(self) -> bool {
        self.ticks | self.instructions != 0
    }
}

/// Makes steps of blocks.
#[derive(Debug)]
pub(super) struct Strides<'a> {
    image: &'a Image,
    clocking: Clocking,
    /// By block number.
    known: Vec<Known>,
    /// Addresses at which it is always told that execution came there, in order.
    stops: Vec<u64>,
    /// What runs, as long as it was last told that execution came there.
    function: Key,
    /// What ran since the last step.
    pub(super) alone: Alone,
    run: u64,
    edge: Edge,
    /// There was no step since the last time, and it is known who runs.
    quiet: bool,
    /// It is known who runs.
    somebody: bool,
    /// An arrival would tell something.
    awaited: bool,
    slowest: Slowest,
    /// The last timestamp.
    stamp: Option<u64>,
    /// All ticks that were handed on.
    elapsed: u64,
    /// The byte that tells of what comes.
    pub(super) offset: u64,
}

/// What is known of a block: little, for it is looked at for each that runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Known {
    function: Key,
    /// It is always told that execution came there.
    stops: bool,
    /// An instruction in it waits.
    waits: bool,
    /// One writes a stack pointer.
    sets_stack: bool,
    /// Where it branches, calls could depend on it.
    leads: bool,
}

impl Known {
    /// Nothing yet.
    const NOTHING: Self =
        Self { function: Key(0), stops: false, waits: false, sets_stack: false, leads: false };
}

/// A function by its number and 2, so that one comparison says whether a block goes on in what ran before it and
/// there is nothing else to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Key(u32);

impl Key {
    /// Added to that of a block that more must be told of.
    const SPECIAL: u32 = 1 << 31;
    const NAMELESS: u32 = 1;
    /// What runs where nobody was told, or nobody knows: unequal to that of every block.
    const NOBODY: Self = Self(Self::SPECIAL);

    fn of(function: Named, special: bool) -> Self {
        let number = function.0.map_or(Self::NAMELESS, |FunctionId(number)| number + 2);
        Self(number | if special { Self::SPECIAL } else { 0 })
    }

    fn function(self) -> Named {
        Named((self.0 & !Self::SPECIAL).checked_sub(2).map(FunctionId))
    }

    /// What runs behind it.
    fn running(self) -> Self {
        Self(self.0 & !Self::SPECIAL)
    }
}

/// Ticks in all, at most: 52 days of a clock of 1 GHz. Timestamps may be anything, and their sums must fit.
const MOST_TICKS: u64 = 1 << 52;

impl<'a> Strides<'a> {
    pub(super) fn new(image: &'a Image, clocking: Clocking) -> Self {
        Self {
            image,
            clocking,
            known: Vec::new(),
            stops: Vec::new(),
            function: Key::NOBODY,
            alone: Alone::default(),
            run: 0,
            edge: Edge::None,
            quiet: false,
            somebody: false,
            awaited: true,
            slowest: Slowest::default(),
            stamp: None,
            elapsed: 0,
            offset: 0,
        }
    }

    /// At these addresses it is always told that execution came there. Before anything ran.
    pub(super) fn stop_at(&mut self, addresses: impl Iterator<Item = u64>) {
        self.stops = addresses.collect();
        self.stops.sort_unstable();
    }

    fn known(&mut self, block: &Block) -> Known {
        match self.known.get(block.id.0 as usize) {
            Some(&known) if known != Known::NOTHING => known,
            _ => self.look_up(block),
        }
    }

    #[cold]
    fn look_up(&mut self, block: &Block) -> Known {
        let number = block.id.0 as usize;
        if number >= self.known.len() {
            self.known.resize((number + 1).next_power_of_two(), Known::NOTHING);
        }
        let function = Named(self.image.function_at(block.start));
        let stops = self.stops.binary_search(&block.start).is_ok();
        let (waits, sets_stack) = (block.waits, block.sets_stack);
        let leads = block.links || matches!(block.end, End::Indirect(_));
        let function = Key::of(function, stops || waits || sets_stack);
        let known = Known { function, stops, waits, sets_stack, leads };
        self.known[number] = known;
        known
    }

    /// A block ran to its end, and its last instruction branched or did not.
    #[inline(always)]
    pub(super) fn ran(&mut self, block: &Block, taken: bool, out: &mut impl Steps) {
        if self.go_on(block, block.instructions, out) & taken {
            self.edge = match block.end {
                _ if block.links => Edge::Call(block.after()),
                End::Indirect(Indirect::Return) => Edge::Return,
                _ => Edge::Jump,
            };
            self.function = Key::NOBODY;
        }
    }

    /// The beginning of a block ran.
    pub(super) fn ran_part(&mut self, block: &Block, instructions: u32, out: &mut impl Steps) {
        self.go_on(block, instructions, out);
    }

    /// Instructions of a block ran, in the function that it lies in. Returns whether calls could depend on where
    /// it branches.
    #[inline(always)]
    fn go_on(&mut self, block: &Block, instructions: u32, out: &mut impl Steps) -> bool {
        match self.known.get(block.id.0 as usize) {
            Some(known) if known.function == self.function => {
                self.run += u64::from(instructions);
                known.leads
            }
            _ => self.go_elsewhere(block, instructions, out),
        }
    }

    /// The same in another function, or where more must be told.
    #[inline(never)]
    fn go_elsewhere(&mut self, block: &Block, instructions: u32, out: &mut impl Steps) -> bool {
        let known = self.known(block);
        if known.stops || known.function.running() != self.function {
            let function = known.function.function();
            self.step(What::Came { start: block.start, function }, out);
            (self.somebody, self.awaited) = (true, false);
            self.function = known.function.running();
        }
        self.run += u64::from(instructions);
        if known.waits {
            self.step(What::Waited, out);
        }
        if known.sets_stack {
            self.step(What::SetStack, out);
        }
        known.leads
    }

    /// Execution goes on at the start of a block.
    #[inline(always)]
    pub(super) fn arrived(&mut self, block: &Block, out: &mut impl Steps) {
        if self.awaited {
            let function = self.known(block).function.function();
            self.step(What::Arrived { start: block.start, function }, out);
            (self.somebody, self.awaited) = (true, false);
            self.function = Key::NOBODY;
        }
    }

    /// Something other than code.
    #[inline(always)]
    pub(super) fn moment(&mut self, offset: u64, moment: &Moment, out: &mut impl Steps) {
        self.offset = offset;
        match (*moment, self.clocking) {
            (Moment::Cycles(cycles), Clocking::Cycles) => self.tick(cycles.map(u64::from), out),
            (Moment::Cycles(_), _) => {}
            _ => self.happened(moment, out),
        }
    }

    #[inline(never)]
    fn happened(&mut self, moment: &Moment, out: &mut impl Steps) {
        match (*moment, self.clocking) {
            (Moment::Entered { exception, returns_to }, _) => {
                self.step(What::Entered { exception, returns_to }, out);
                if exception.is_some() {
                    (self.somebody, self.awaited) = (true, true);
                    self.function = Key::NOBODY;
                }
            }
            (Moment::Left, _) => {
                self.step(What::Left, out);
                self.forget();
            }
            (Moment::Time { value, .. }, Clocking::Timestamps) if value > 0 => {
                let since = self.stamp.replace(value).and_then(|before| value.checked_sub(before));
                self.tick(since, out);
            }
            (Moment::Unconfirmed, _) => {
                let quiet = self.quiet;
                self.step(What::Unconfirmed, out);
                self.quiet = quiet;
            }
            (Moment::Gap(_), _) => {
                self.step(What::Lost, out);
                self.forget();
                self.stamp = None;
            }
            _ => {}
        }
    }

    /// It is not known who runs.
    const fn forget(&mut self) {
        (self.somebody, self.awaited) = (false, true);
        self.function = Key::NOBODY;
    }

    /// Time is known again.
    #[inline(always)]
    fn tick(&mut self, ticks: Option<u64>, out: &mut impl Steps) {
        let elapsed = ticks.and_then(|ticks| self.elapsed.checked_add(ticks));
        let elapsed = elapsed.filter(|&elapsed| elapsed <= MOST_TICKS);
        let ticks = ticks.filter(|_| elapsed.is_some());
        self.elapsed = elapsed.unwrap_or(self.elapsed);
        match ticks {
            Some(ticks) if self.quiet => {
                let instructions = std::mem::take(&mut self.run);
                self.alone.ticks += ticks;
                self.alone.instructions += instructions;
                if instructions == 0 {
                    self.alone.idle += ticks;
                } else if self.slowest.learn(instructions, ticks) {
                    self.learnt(instructions, ticks, out);
                }
            }
            _ => {
                self.step(What::Ticked(ticks), out);
                self.quiet = self.somebody;
            }
        }
    }

    /// Whoever tells what waited from what ran must know of it; nothing else changes.
    #[cold]
    fn learnt(&self, instructions: u64, ticks: u64, out: &mut impl Steps) {
        out.step(&Step {
            alone: Alone::default(),
            run: 0,
            edge: Edge::None,
            offset: self.offset,
            what: What::Learnt { instructions, ticks },
        });
    }

    /// Tells what ran, although nothing happened.
    pub(super) fn catch_up(&mut self, out: &mut impl Steps) {
        let quiet = self.quiet;
        self.step(What::Nothing, out);
        self.quiet = quiet;
    }

    #[inline(always)]
    fn step(&mut self, what: What, out: &mut impl Steps) {
        let alone = std::mem::take(&mut self.alone);
        let run = std::mem::take(&mut self.run);
        let edge = std::mem::take(&mut self.edge);
        self.quiet = false;
        out.step(&Step { alone, run, edge, offset: self.offset, what });
    }
}
