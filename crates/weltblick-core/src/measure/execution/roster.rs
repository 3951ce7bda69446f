//! Which functions threads are known by: no trace of instructions says what a thread is called.

use super::calls::Calls;
use super::tree::{Named, NodeId, Root, Tree};
use crate::image::{FunctionId, Image};
use rustc_hash::FxHashSet;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The functions that threads are known by, of one recording.
///
/// A thread is known by the function that it began with. Where its beginning was not seen, that is the
/// outermost function that it ever returned to, if nothing was seen to call that one. A function that begins
/// many threads and calls another in each of them, and only once, is passed over: kernels begin their
/// threads so.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Roster {
    /// In the order of the image.
    tasks: Vec<Named>,
    /// Functions that threads begin with, and that only lead to those they are known by.
    onward: FxHashSet<Named>,
    /// The one that waits for interrupts.
    idle: Option<Named>,
}

impl Roster {
    /// Threads of what ran.
    #[must_use]
    pub fn of(calls: &Calls<'_>, image: &Image) -> Self {
        Self::of_tree(calls.tree(), image)
    }

    fn of_tree(tree: &Tree, image: &Image) -> Self {
        let mut roster = Self::default();
        let never = called_or_handling(tree, image);
        for outermost in tree.nodes().iter().filter(|node| is_outermost(tree, node.parent)) {
            let Some(function) = outermost.function else { continue };
            let begun = outermost.root == Root::Thread && outermost.calls > 0;
            let found = matches!(outermost.root, Root::Thread | Root::Unknown);
            if begun || (found && function.0.is_some() && !never.contains(&function)) {
                roster.tasks.push(function);
            }
        }
        roster.pass_over(tree);
        roster.tasks.sort_unstable();
        roster.tasks.dedup();
        roster.idle = roster.waits_most(tree);
        roster
    }

    /// Replaces functions that begin many threads by those that they call in each.
    fn pass_over(&mut self, tree: &Tree) {
        let mut begun: BTreeMap<Named, (u64, BTreeMap<Named, u64>)> = BTreeMap::new();
        for node in tree.nodes().iter().filter(|node| node.root == Root::Thread) {
            let (Some(parent), Some(function)) = (node.parent, node.function) else { continue };
            match tree.node(parent).function {
                None => begun.entry(function).or_default().0 += node.calls,
                Some(caller) if is_outermost(tree, tree.node(parent).parent) => {
                    let (_, called) = begun.entry(caller).or_default();
                    *called.entry(function).or_default() += node.calls;
                }
                Some(_) => {}
            }
        }
        for (function, (threads, called)) in begun {
            if called.len() > 1 && called.values().sum::<u64>() == threads {
                self.tasks.retain(|&task| task != function);
                self.tasks.extend(called.into_keys());
                self.onward.insert(function);
            }
        }
    }

    /// The task in which most waiting for interrupts was done.
    fn waits_most(&self, tree: &Tree) -> Option<Named> {
        let mut waits: BTreeMap<Named, u64> = BTreeMap::new();
        for (number, node) in tree.nodes().iter().enumerate().filter(|(_, node)| node.waits > 0) {
            let task = self.task_of_node(tree, NodeId(number as u32));
            if let (Some(task), true) = (task, node.root != Root::Unknown) {
                *waits.entry(task).or_default() += node.waits;
            }
        }
        waits.into_iter().max_by_key(|&(_, waits)| waits).map(|(task, _)| task)
    }

    /// The task that a thread is, by the functions that it is in, the outermost first.
    pub(super) fn task_of(&self, functions: impl IntoIterator<Item = Named>) -> Option<Named> {
        let mut functions = functions.into_iter().skip_while(|f| self.onward.contains(f));
        functions.next().filter(|function| self.tasks.binary_search(function).is_ok())
    }

    /// The task that a path of thread mode belongs to.
    pub(super) fn task_of_node(&self, tree: &Tree, node: NodeId) -> Option<Named> {
        if matches!(tree.node(node).root, Root::Exception(_)) {
            return None;
        }
        let above = std::iter::successors(Some(node), |&id| tree.node(id).parent);
        let mut path: Vec<Named> = above.filter_map(|id| tree.node(id).function).collect();
        path.reverse();
        self.task_of(path)
    }

    /// The number of a task, from 1.
    #[must_use]
    pub fn number(&self, task: Named) -> u32 {
        self.tasks.binary_search(&task).map_or(0, |place| place as u32 + 1)
    }

    /// Whether a task waits for interrupts when nothing else has anything to do.
    #[must_use]
    pub fn is_idle(&self, task: Named) -> bool {
        self.idle == Some(task)
    }

    /// The number of the task that waits for interrupts.
    #[must_use]
    pub fn idle(&self) -> Option<u32> {
        self.idle.map(|task| self.number(task))
    }
}

fn is_outermost(tree: &Tree, parent: Option<NodeId>) -> bool {
    parent.is_some_and(|parent| tree.node(parent).function.is_none())
}

/// Functions that something was seen to call, and those that handle exceptions.
fn called_or_handling(tree: &Tree, image: &Image) -> FxHashSet<Named> {
    let called = tree
        .nodes()
        .iter()
        .filter(|node| !is_outermost(tree, node.parent) || matches!(node.root, Root::Exception(_)));
    let called = called.filter_map(|node| node.function);
    let handlers = (0..512).filter_map(|exception| image.vector(exception)?.handler);
    called.chain(handlers.map(|handler: FunctionId| Named(Some(handler)))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    const FIRMWARE: &[u8] = include_bytes!("../../../../../demo/buoy/wave-buoy.elf");

    /// Paths below a root: the function's number, how often it was entered, and how often it waited.
    fn add(tree: &mut Tree, root: Root, path: &[(u32, u64, u64)]) {
        let mut at = tree.root(root);
        for &(function, calls, waits) in path {
            at = tree.child(at, Named(Some(FunctionId(function))));
            let node = tree.node_mut(at);
            (node.calls, node.waits) = (calls, waits);
        }
    }

    fn named(function: u32) -> Named {
        Named(Some(FunctionId(function)))
    }

    #[test]
    fn threads_are_known_by_where_they_begin() {
        let image = Image::parse(FIRMWARE).unwrap();
        let reset = image.vector(1).unwrap().handler.unwrap().0;
        let plain = |n: u32| (reset + 1 + n) % 100;
        let [begins, goes_on, inside, handler, waits, main] = [0, 1, 2, 3, 4, 5].map(plain);
        let mut tree = Tree::default();
        add(&mut tree, Root::Thread, &[(begins, 1, 0), (inside, 40, 0)]);
        add(&mut tree, Root::Thread, &[(goes_on, 0, 0), (inside, 10, 0)]);
        // Seen first in the middle of what another calls, and in the middle of a handler.
        add(&mut tree, Root::Thread, &[(inside, 0, 0)]);
        add(&mut tree, Root::Unknown, &[(handler, 0, 0)]);
        add(&mut tree, Root::Exception(15), &[(handler, 7, 0)]);
        add(&mut tree, Root::Thread, &[(waits, 1, 90)]);
        add(&mut tree, Root::Unknown, &[(reset, 1, 0), (main, 1, 3)]);
        let roster = Roster::of_tree(&tree, &image);
        let tasks = [begins, goes_on, waits].map(named);
        assert!(tasks.iter().all(|&task| roster.task_of([task, named(inside)]) == Some(task)));
        assert!(
            [inside, handler, reset, main].iter().all(|&f| roster.task_of([named(f)]).is_none())
        );
        let mut numbers = tasks.map(|task| roster.number(task));
        numbers.sort_unstable();
        assert_eq!(numbers, [1, 2, 3]);
        assert_eq!(tasks.map(|task| roster.is_idle(task)), [false, false, true]);
    }

    #[test]
    fn what_begins_every_thread_is_passed_over() {
        let image = Image::parse(FIRMWARE).unwrap();
        let mut tree = Tree::default();
        let [entry, sampler, logger, helper, alone] = [20, 21, 22, 23, 24];
        add(&mut tree, Root::Thread, &[(entry, 3, 0), (sampler, 1, 0), (helper, 9, 0)]);
        add(&mut tree, Root::Thread, &[(entry, 3, 0), (logger, 2, 0)]);
        // A task that calls two functions, again and again.
        add(&mut tree, Root::Thread, &[(alone, 2, 0), (helper, 30, 0)]);
        add(&mut tree, Root::Thread, &[(alone, 2, 0), (logger, 4, 0)]);
        let roster = Roster::of_tree(&tree, &image);
        let task = |path: &[u32]| roster.task_of(path.iter().map(|&f| named(f)));
        assert_eq!(task(&[entry, sampler, helper]), Some(named(sampler)));
        assert_eq!(task(&[entry, logger]), Some(named(logger)));
        assert_eq!(task(&[alone, helper]), Some(named(alone)));
        assert_eq!((task(&[entry]), task(&[])), (None, None));
    }
}
