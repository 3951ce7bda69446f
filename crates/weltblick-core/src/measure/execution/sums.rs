//! Sums over the tree of calls.

use super::calls::Calls;
use super::report::ExactContext;
use super::rows::{ExactRow, Partner};
use super::tree::{Named, Node, NodeId, Root, SelfTime, Tree};
use crate::measure::duration::Duration;
use crate::measure::statistic::Scale;
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// What ran in one place.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Sum {
    pub(super) instructions: u64,
    time: SelfTime,
    pub(super) calls: u64,
    total_instructions: u64,
    total: SelfTime,
}

impl Sum {
    pub(super) fn add(&mut self, node: &Node) {
        self.instructions += node.instructions;
        self.time.add(node.time);
    }

    pub(super) fn row(&self, calls: &Calls<'_>, context: &ExactContext<'_>) -> ExactRow {
        let part = |ticks: u64, all: u64| ticks as f64 / all.max(1) as f64;
        let timed = calls.ticks();
        let high = timed.map_or(0, |all| self.time.high.min(all));
        // Time of which nobody knows how long it was may all be its own, or none of it.
        let knows_all = !context.lacks_time(calls);
        let bounded = |share: f64, nothing: f64| if knows_all { share } else { nothing };
        let duration = |time: SelfTime, scale: Scale| Duration {
            ns: time.ticks as f64 * scale.ns,
            ns_low: time.low as f64 * scale.ns,
            ns_high: knows_all.then_some(time.high.min(timed.unwrap_or(0)) as f64 * scale.ns),
            cycles: None,
            seen: None,
        };
        let has_total = self.total_instructions > 0;
        ExactRow {
            instructions: self.instructions,
            instruction_share: part(self.instructions, calls.instructions()),
            total_instructions: (self.total_instructions > 0).then_some(self.total_instructions),
            self_time: timed.and(context.scale).map(|scale| duration(self.time, scale)),
            total_time: timed
                .and(context.scale)
                .filter(|_| has_total)
                .map(|scale| duration(self.total, scale)),
            self_share: timed.map(|all| part(self.time.ticks, all)),
            self_share_low: timed.map(|all| bounded(part(self.time.low, all), 0.0)),
            self_share_high: timed.map(|all| bounded(part(high, all), 1.0)),
            total_share: timed.filter(|_| has_total).map(|all| part(self.total.ticks, all)),
            ..ExactRow::default()
        }
    }
}

/// Sums over the tree.
pub(super) struct Sums {
    pub(super) functions: FxHashMap<Named, Sum>,
    pub(super) callers: FxHashMap<Named, Partners>,
    pub(super) callees: FxHashMap<Named, Partners>,
}

/// By caller or callee: calls, and instructions in them.
pub(super) type Partners = BTreeMap<Beside, (u64, u64)>;

/// Who stands beside a function in a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Beside {
    Function(Named),
    Root(Root),
}

impl Sums {
    pub(super) fn of(tree: &Tree) -> Self {
        let nodes = tree.nodes();
        // Parents stand before their children: from the end, every path is whole when it is met.
        let mut below: Vec<(u64, SelfTime)> =
            nodes.iter().map(|node| (node.instructions, node.time)).collect();
        for (place, node) in nodes.iter().enumerate().rev() {
            if let Some(parent) = node.parent {
                let (instructions, time) = below[place];
                let parent = &mut below[parent.number()];
                parent.0 += instructions;
                parent.1.add(time);
            }
        }
        let mut sums = Self {
            functions: FxHashMap::default(),
            callers: FxHashMap::default(),
            callees: FxHashMap::default(),
        };
        for (place, node) in nodes.iter().enumerate() {
            let Some(function) = node.function else { continue };
            let (instructions, time) = below[place];
            let sum = sums.functions.entry(function).or_default();
            sum.add(node);
            // What is below itself is counted already.
            if !tree.is_below(NodeId(place as u32), function) {
                sum.total_instructions += instructions;
                sum.total.add(time);
            }
            let parent = node.parent.map(|parent| tree.node(parent));
            let beside = match parent.and_then(|parent| parent.function) {
                Some(caller) => Beside::Function(caller),
                None => Beside::Root(node.root),
            };
            if node.calls > 0 {
                let caller = sums.callers.entry(function).or_default().entry(beside).or_default();
                *caller = (caller.0 + node.calls, caller.1 + instructions);
                if let Beside::Function(caller) = beside {
                    let callees = sums.callees.entry(caller).or_default();
                    let callee = callees.entry(Beside::Function(function)).or_default();
                    *callee = (callee.0 + node.calls, callee.1 + instructions);
                }
            }
        }
        sums
    }
}

pub(super) fn partners(
    found: Option<&Partners>,
    context: &ExactContext<'_>,
    most: impl Fn(&Partner) -> u64,
) -> Vec<Partner> {
    let partner = |(beside, &(calls, instructions)): (&Beside, &(u64, u64))| Partner {
        function: match *beside {
            Beside::Function(function) => context.name(function),
            Beside::Root(root) => context.root_name(root),
        },
        calls,
        instructions,
    };
    let mut partners: Vec<Partner> = found.into_iter().flatten().map(partner).collect();
    partners.sort_by_key(|partner| std::cmp::Reverse(most(partner)));
    partners
}
