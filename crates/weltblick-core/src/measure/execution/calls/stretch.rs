//! The end of a stretch between two times: what happened in it gets its share of them.

use super::super::crossings::{Crossings, Passing};
use super::super::figures::Longest;
use super::super::interval::{Clock, Item, Itself, Mix, share_out};
use super::super::tree::SelfTime;
use super::following::Following;
use super::strides::Alone;
use crate::flow::{Clocking, Ran};
use crate::stats::Ticks;
use crate::time::Window;

/// A stretch that has ended.
#[derive(Clone, Copy)]
struct Between {
    /// When it began.
    before: Clock,
    all: Ran,
    ticks: u64,
}

impl Following<'_> {
    /// A stretch ends: so many ticks passed in it.
    pub(super) fn tick(&mut self, ticks: u64) {
        match (self.items.is_empty(), self.contexts.is_nobody()) {
            (true, false) => self.settle_alone(ticks),
            // Nothing ran, and nobody is there for whom time could pass: it says nothing of how slow code is.
            (true, true) if self.run == 0 => {
                self.stretch += 1;
                self.ran = Ran::default();
                self.clock.add(Clock { low: ticks, high: ticks, instructions: 0 });
            }
            _ => self.settle(Some(ticks)),
        }
    }

    /// A stretch ends: so many ticks passed in it, if that is known.
    #[inline(never)]
    pub(super) fn settle(&mut self, ticks: Option<u64>) {
        self.flush();
        self.stretch += 1;
        let items = std::mem::take(&mut self.items);
        let all = std::mem::take(&mut self.ran);
        if let Some(ticks) = ticks.filter(|_| all.waits == 0) {
            self.slowest.learn(all.instructions, ticks);
        }
        let before = self.clock;
        let mix = self.count(&items, ticks.unwrap_or(0));
        if ticks.is_none() {
            // Nor is it known of calls that are open how long they last.
            self.unknown = self.stretch;
            self.untimed |= self.clock.high > 0;
        }
        let idle = (!self.contexts.is_nobody()).then_some(self.node);
        share_out(&items, &mix, ticks, self.stretch, idle, &mut self.pace, &mut self.tree);
        let ticks = ticks.unwrap_or(0);
        self.clock.low += ticks;
        self.clock.high += ticks;
        self.contexts.advance(&items, &mix, ticks, self.stretch);
        self.advance_frames(&mix, ticks);
        let at_once = self.before_anything_ran(&items, &mix);
        if let Some(stacks) = &mut self.stacks {
            stacks.settle([before.high, self.clock.high], at_once);
        }
        for item in items.iter().filter(|_| mix.joins) {
            if let Item::Join(stand_in, context) = *item {
                self.contexts.join_time(stand_in, context);
            }
        }
        if let Some(crossings) = self.crossings.take() {
            let stretch = Between { before, all, ticks };
            self.crossings = Some(self.cross(crossings, &items, at_once, stretch));
        }
        for (place, item) in items.iter().enumerate() {
            // Nothing ran before it: it happened when the stretch began.
            let passed = if place < at_once { 0 } else { ticks };
            match *item {
                Item::Open(number) if passed > 0 => {
                    let at = self.at(self.frames[number].before[0], all, ticks);
                    let own = self.contexts.clock(self.frames[number].context);
                    let frame = &mut self.frames[number];
                    frame.by_pace = at != Window { earliest: 0, latest: ticks };
                    frame.began = frame.began.map(|clock| clock.after(at.earliest));
                    frame.began[1] = before.after(at.latest);
                    frame.began_own[1] = own;
                }
                Item::Close(number) => {
                    let at = self.at(self.frames[number].before[1], all, passed);
                    self.frames[number].by_pace |= at != Window { earliest: 0, latest: passed };
                    self.note(number, before, at, [ticks, passed]);
                    self.free.push(number);
                }
                Item::Cut(number) => {
                    self.figures.of_mut(self.frames[number].function).cut += 1;
                    self.free.push(number);
                }
                Item::Drop(number) => self.free.push(number),
                Item::Open(_)
                | Item::Ran { .. }
                | Item::Waits(_)
                | Item::Join(..)
                | Item::Passed { .. }
                | Item::Gone(_)
                | Item::Forgotten(_)
                | Item::Back
                | Item::Lost => {}
            }
        }
        self.contexts.bury();
        self.items = items;
        self.items.clear();
    }

    /// When something happened in a stretch of so many ticks.
    fn at(&self, before: Ran, all: Ran, ticks: u64) -> Window {
        let whole = Window { earliest: 0, latest: ticks };
        match self.clocking {
            Clocking::Cycles => self.slowest.narrow(whole, before, all),
            Clocking::Timestamps | Clocking::Nothing => whole,
        }
    }

    /// Ways between points go on by what happened in a stretch; the first `at_once` items took no time.
    fn cross(
        &mut self,
        mut crossings: Box<Crossings>,
        items: &[Item],
        at_once: usize,
        Between { before, all, ticks }: Between,
    ) -> Box<Crossings> {
        crossings.unknown = self.unknown;
        let mut passed = std::mem::take(&mut self.passed);
        let mut each = passed.drain(..);
        let mut joined = std::mem::take(&mut self.joined).into_iter();
        for (place, item) in items.iter().enumerate() {
            match *item {
                Item::Passed { context, .. } => {
                    let Some(mut passing) = each.next() else { break };
                    if place >= at_once {
                        let at = self.at(passing.before, all, ticks);
                        crossings.by_pace |= at != Window { earliest: 0, latest: ticks };
                        let instructions = passing.at[0].instructions;
                        passing.at = [at.earliest, at.latest]
                            .map(|ticks| Clock { instructions, ..before.after(ticks) });
                        let own = self.contexts.clock(context);
                        let instructions = passing.own[0].instructions;
                        passing.own[1] = Clock { instructions, ..own };
                    }
                    crossings.pass(passing, self.contexts.stands_in(context));
                }
                Item::Join(stand_in, context) => {
                    let Some(own) = joined.next() else { break };
                    crossings.join(stand_in, context, own);
                }
                Item::Gone(context) => crossings.end(context),
                Item::Forgotten(context) => crossings.forget(context),
                Item::Lost => crossings.lose(),
                _ => {}
            }
        }
        drop(each);
        self.passed = passed;
        crossings
    }

    /// How many items stand before the first one that took time: calls and returns do not, but handlers
    /// take some to begin. A cycle count tells the time of the last branch itself; a timestamp comes
    /// some time after it.
    fn before_anything_ran(&self, items: &[Item], mix: &Mix) -> usize {
        match self.clocking {
            // What is found out about threads changes their clocks.
            Clocking::Cycles if mix.joins => 0,
            Clocking::Cycles => mix.took.unwrap_or(items.len()),
            Clocking::Timestamps | Clocking::Nothing => 0,
        }
    }

    /// What a call ran itself takes its part of a stretch: for certain only where no other ran.
    fn advance_frames(&mut self, mix: &Mix, ticks: u64) {
        if let Some(frame) = mix.only_frame() {
            self.frames[frame].itself.low += ticks;
        }
        // Nothing ran: time passed in what would run next.
        if !mix.ran_at_all()
            && let Some(frame) = self.frame.filter(|_| !self.contexts.is_nobody())
        {
            self.frames[frame].itself.ran_in(self.stretch, ticks);
        }
    }

    /// A stretch in which one function ran and nothing else happened.
    fn settle_alone(&mut self, ticks: u64) {
        self.stretch += 1;
        let ran = std::mem::take(&mut self.ran);
        let instructions = std::mem::take(&mut self.run);
        if instructions > 0 && ran.waits == 0 {
            self.slowest.learn(ran.instructions + instructions, ticks);
        }
        self.add_alone(Alone::of(ticks, instructions));
    }

    /// Counts what ran in such stretches.
    pub(super) fn add_alone(&mut self, alone: Alone) {
        let Alone { ticks, instructions, idle } = alone;
        let by = Clock { low: ticks, high: ticks, instructions };
        self.clock.add(by);
        self.pace.learn(ticks - idle, instructions);
        let node = self.tree.node_mut(self.node);
        node.instructions += instructions;
        node.time.add(SelfTime { ticks, low: ticks, high: ticks });
        if let Some(frame) = self.frame {
            let itself = &mut self.frames[frame].itself;
            itself.instructions += instructions;
            itself.ran_alone(ticks);
        }
        let context = self.contexts.current();
        self.contexts.ran_alone(context, by);
    }

    /// Counts instructions: these are certain, one by one. What calls ran themselves takes no more than the
    /// ticks of the stretch.
    fn count(&mut self, items: &[Item], ticks: u64) -> Mix {
        let mut mix = Mix::default();
        for (place, item) in items.iter().enumerate() {
            let mut takes_time = false;
            match *item {
                Item::Ran { node, frame, context, instructions } => {
                    takes_time = true;
                    mix.ran(node, frame, context, instructions);
                    self.clock.instructions += instructions;
                    self.contexts.count(context, instructions);
                    if let Some(frame) = frame {
                        let itself = &mut self.frames[frame].itself;
                        itself.instructions += instructions;
                        itself.ran_in(self.stretch, ticks);
                    }
                }
                Item::Open(number) => {
                    let frame = &mut self.frames[number];
                    takes_time = frame.returns_to.is_none();
                    frame.began = [self.clock; 2];
                    frame.began_own = [self.contexts.clock(frame.context); 2];
                }
                Item::Close(number) => {
                    let frame = &mut self.frames[number];
                    frame.ended_own = self.contexts.clock(frame.context);
                    let own = frame.ended_own.instructions;
                    let ran = own.saturating_sub(frame.began_own[0].instructions);
                    let ran = Ticks::exact(ran);
                    let (offset, until) = (frame.offset, self.offset);
                    let figures = self.figures.of_mut(frame.function);
                    figures.instructions.add(ran);
                    if !frame.itself.unsure {
                        figures.self_instructions.add(Ticks::exact(frame.itself.instructions));
                    }
                    if self.clocking == Clocking::Nothing {
                        figures.keep_longest(Longest { ticks: ran, from: offset, until });
                    }
                }
                Item::Join(stand_in, context) => {
                    mix.joins = true;
                    if self.crossings.is_some() {
                        self.joined.push(self.contexts.clock(context));
                    }
                    self.contexts.join_instructions(stand_in, context);
                }
                Item::Passed { points, context, depth, counts, offset, before } => {
                    let (at, own) = ([self.clock; 2], [self.contexts.clock(context); 2]);
                    let stretch = self.stretch;
                    let passing = Passing {
                        points,
                        context,
                        depth,
                        counts,
                        offset,
                        stretch,
                        before,
                        at,
                        own,
                    };
                    self.passed.push(passing);
                }
                Item::Waits(node) => {
                    takes_time = true;
                    mix.waits.get_or_insert(node);
                }
                Item::Back => takes_time = true,
                Item::Cut(_) | Item::Drop(_) | Item::Gone(_) | Item::Forgotten(_) | Item::Lost => {}
            }
            if takes_time {
                mix.took.get_or_insert(place);
            }
        }
        mix
    }

    /// How long a call lasted that ended in the stretch that began at `before` and had `ticks`, after
    /// `passed` of them at most, and then.
    fn note(&mut self, number: usize, before: Clock, at: Window, [ticks, passed]: [u64; 2]) {
        let frame = &self.frames[number];
        if frame.stretch <= self.unknown || self.clocking == Clocking::Nothing {
            return;
        }
        let own = self.contexts.clock(frame.context);
        let elapsed = Ticks {
            low: (before.low + at.earliest).saturating_sub(frame.began[1].low),
            high: (before.high + at.latest).saturating_sub(frame.began[0].high),
        };
        let [own_low, own_high] = match passed {
            0 => [frame.ended_own.low, frame.ended_own.high],
            _ => [own.low.saturating_sub(ticks), own.high],
        };
        let alone = Ticks {
            low: own_low.saturating_sub(frame.began_own[1].low),
            high: own_high.saturating_sub(frame.began_own[0].high).min(elapsed.high),
        };
        let until = self.offset;
        let figures = self.figures.of_mut(frame.function);
        figures.by_pace |= frame.by_pace;
        figures.elapsed.add(elapsed);
        figures.own.add(Ticks { low: alone.low.min(alone.high), ..alone });
        let Itself { low, high, unsure, .. } = frame.itself;
        if !unsure {
            let high = high.min(alone.high);
            figures.self_own.add(Ticks { low: low.min(high), high });
        }
        figures.keep_longest(Longest { ticks: elapsed, from: frame.offset, until });
    }
}
