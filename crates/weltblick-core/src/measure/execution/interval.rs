//! What happened between two moments whose time is known, and how time is shared out then.

use super::tree::{NodeId, SelfTime, Tree};
use crate::flow::Ran;

/// Something that happened, in order.
#[derive(Debug, Clone, Copy)]
pub(super) enum Item {
    /// Instructions ran, in a call that is followed or in none.
    Ran { node: NodeId, frame: Option<usize>, context: usize, instructions: u64 },
    /// Code with an instruction that waits ran.
    Waits(NodeId),
    /// A call began.
    Open(usize),
    /// A call ended; it was seen from its beginning to its end.
    Close(usize),
    /// A call is not seen to its end.
    Cut(usize),
    /// What looked like a call's frame stood for another one.
    Drop(usize),
    /// What ran in the first context belongs to the second.
    Join(usize, usize),
    /// Points were passed, one bit each, in this context, at this depth, told by this byte; a way that
    /// begins there counts. So much ran before it in its stretch.
    Passed { points: u64, context: usize, depth: usize, counts: bool, offset: u64, before: Ran },
    /// A handler ended.
    Gone(usize),
    /// A thread is not followed any more.
    Forgotten(usize),
    /// What was interrupted goes on: that takes time before its next instruction.
    Back,
    /// What ran is not known any more.
    Lost,
}

impl Item {
    /// Who ran, and how much.
    pub(super) const fn ran(&self) -> Option<(NodeId, usize, u64)> {
        match *self {
            Self::Ran { node, context, instructions, .. } => Some((node, context, instructions)),
            _ => None,
        }
    }
}

/// Who ran in a stretch, and how much, all together.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Mix {
    pub(super) instructions: u64,
    /// The first that ran.
    first: Option<Who>,
    /// Others did, too.
    others: Others,
    /// The first that waited.
    pub(super) waits: Option<NodeId>,
    /// The place of the first item that took time.
    pub(super) took: Option<usize>,
    /// It was found out for whom a stand-in ran.
    pub(super) joins: bool,
}

/// Who runs: a path, a call in it, if one is followed, and a thread of execution.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Who {
    node: NodeId,
    frame: Option<usize>,
    context: usize,
}

#[derive(Debug, Clone, Copy, Default)]
struct Others {
    nodes: bool,
    frames: bool,
    contexts: bool,
}

impl Mix {
    #[inline(always)]
    pub(super) fn ran(
        &mut self,
        node: NodeId,
        frame: Option<usize>,
        context: usize,
        instructions: u64,
    ) {
        self.instructions += instructions;
        let first = *self.first.get_or_insert(Who { node, frame, context });
        self.others.nodes |= first.node != node;
        self.others.frames |= first.frame != frame;
        self.others.contexts |= first.context != context;
    }

    /// Whether anything ran.
    pub(super) const fn ran_at_all(&self) -> bool {
        self.first.is_some()
    }

    /// The path that ran, if only one did.
    pub(super) fn only_node(&self) -> Option<NodeId> {
        self.first.filter(|_| !self.others.nodes).map(|who| who.node)
    }

    /// The same of calls: if only one ran, and it is followed.
    pub(super) fn only_frame(&self) -> Option<usize> {
        self.first.filter(|_| !self.others.frames).and_then(|who| who.frame)
    }

    /// The same of threads of execution.
    pub(super) fn only_context(&self) -> Option<usize> {
        self.first.filter(|_| !self.others.contexts).map(|who| who.context)
    }
}

/// What a call ran itself, without what it called: ticks for certain and at most, and instructions.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Itself {
    pub(super) low: u64,
    pub(super) high: u64,
    pub(super) instructions: u64,
    /// The last stretch in which it ran.
    stretch: u64,
    /// Something ran of which nobody knows whether it belongs here.
    pub(super) unsure: bool,
}

impl Itself {
    /// Nothing else ran for so many ticks.
    pub(super) const fn ran_alone(&mut self, ticks: u64) {
        self.low += ticks;
        self.high += ticks;
    }

    /// It ran in a stretch, beside others.
    pub(super) const fn ran_in(&mut self, stretch: u64, ticks: u64) {
        // At most all of it, once.
        if self.stretch != stretch {
            self.stretch = stretch;
            self.high += ticks;
        }
    }
}

/// Clocks that only move on where time is known.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Clock {
    /// Ticks for certain.
    pub(super) low: u64,
    /// Ticks at most.
    pub(super) high: u64,
    /// Instructions: these are always certain.
    pub(super) instructions: u64,
}

impl Clock {
    /// Goes on by as much as another did.
    pub(super) const fn add(&mut self, by: Self) {
        self.low += by.low;
        self.high += by.high;
        self.instructions += by.instructions;
    }

    /// So many ticks later, for certain.
    pub(super) const fn after(self, ticks: u64) -> Self {
        Self { low: self.low + ticks, high: self.high + ticks, ..self }
    }
}

/// How fast instructions run where nothing waits: learnt from the stretches themselves.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Pace {
    ticks: u64,
    instructions: u64,
}

impl Pace {
    /// About how many ticks so many instructions take: two each as long as nothing is known.
    pub(super) fn of(self, instructions: u64) -> u64 {
        match self.instructions {
            0 => 2 * instructions,
            known => (u128::from(self.ticks) * u128::from(instructions) / u128::from(known)) as u64,
        }
    }

    pub(super) fn learn(&mut self, ticks: u64, instructions: u64) {
        // Halved before they would not fit: what was learnt last counts more.
        if self.ticks > u64::MAX / 4 {
            *self = Self { ticks: self.ticks / 2, instructions: self.instructions / 2 };
        }
        self.ticks += ticks;
        self.instructions += instructions;
    }
}

/// Shares the `ticks` of a stretch out among the paths that ran: by instructions; but where one waits,
/// what is left after the usual pace is the time that it waited. Stretches have numbers from 1; of one
/// whose ticks are not known, only instructions count. Where nothing ran, time passed in `idle`.
pub(super) fn share_out(
    items: &[Item],
    mix: &Mix,
    known: Option<u64>,
    stretch: u64,
    idle: Option<NodeId>,
    pace: &mut Pace,
    tree: &mut Tree,
) {
    let ticks = known.unwrap_or(0);
    let (total, waits) = (mix.instructions, mix.waits);
    let busy = if waits.is_some() { pace.of(total).min(ticks) } else { ticks };
    let part = |done: u64| match busy.checked_mul(done) {
        _ if done == total => busy,
        Some(product) => product / total,
        None => (u128::from(busy) * u128::from(done) / u128::from(total)) as u64,
    };
    let (mut done, mut shared) = (0, 0);
    for (node, _, ran) in items.iter().filter_map(Item::ran) {
        done += ran;
        let until = part(done);
        let node = tree.node_mut(node);
        node.instructions += ran;
        node.time.ticks += until - shared;
        shared = until;
        // At most all of it, once.
        if node.stretch != stretch {
            node.stretch = stretch;
            node.time.high += ticks;
        }
    }
    if let Some(node) = mix.only_node() {
        tree.node_mut(node).time.low += ticks;
    }
    let nothing_ran = total == 0 && waits.is_none();
    if let (Some(node), true) = (idle, nothing_ran) {
        tree.node_mut(node).time.add(SelfTime { ticks, low: ticks, high: ticks });
    }
    match waits {
        Some(node) => tree.node_mut(node).time.ticks += ticks - busy,
        None if known.is_some() && total > 0 => pace.learn(ticks, total),
        None => {}
    }
}
