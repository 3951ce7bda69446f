//! Who called whom: a tree of paths.

use crate::image::{FunctionId, Image};
use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};

/// Paths that are told apart: what is called beyond counts for its caller, so that memory is bounded.
const MOST_NODES: usize = 1 << 16;

/// The number of a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NodeId(pub(super) u32);

impl NodeId {
    /// Its place among [`Tree::nodes`].
    #[must_use]
    pub const fn number(self) -> usize {
        self.0 as usize
    }
}

impl From<u32> for NodeId {
    fn from(number: u32) -> Self {
        Self(number)
    }
}

/// What stands at the beginning of a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Root {
    /// Thread mode, whichever task.
    Thread,
    /// An exception's handler.
    Exception(u16),
    /// It was not seen who runs: after a gap.
    Unknown,
}

/// A function, or code that no symbol names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Named(pub Option<FunctionId>);

impl Named {
    /// What to call it.
    #[must_use]
    pub fn name(self, image: &Image) -> String {
        self.0.map_or_else(
            || "[code without a name]".to_owned(),
            |id| image.function(id).name.clone(),
        )
    }
}

/// One path: a function, called from another path.
#[derive(Debug, Clone, PartialEq)]
pub struct Node {
    /// The function; absent for a root.
    pub function: Option<Named>,
    /// Who called it; absent for a root.
    pub parent: Option<NodeId>,
    /// What stands at its beginning.
    pub root: Root,
    /// How often it was entered.
    pub calls: u64,
    /// Instructions of its own.
    pub instructions: u64,
    /// Time of its own.
    pub time: SelfTime,
    /// How often it waited for an interrupt.
    pub waits: u64,
    /// The last stretch in which it ran.
    pub(super) stretch: u64,
}

/// Ticks that ran in one place, where time is told only now and then: shared out by instructions in
/// between.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SelfTime {
    /// The estimate.
    pub ticks: u64,
    /// Not less: stretches in which nothing else ran.
    pub low: u64,
    /// Not more: stretches in which it ran at all.
    pub high: u64,
}

impl SelfTime {
    /// Adds what ran elsewhere.
    pub(crate) const fn add(&mut self, other: Self) {
        self.ticks = self.ticks.saturating_add(other.ticks);
        self.low = self.low.saturating_add(other.low);
        self.high = self.high.saturating_add(other.high);
    }
}

/// All paths.
#[derive(Debug, Clone, Default)]
pub struct Tree {
    nodes: Vec<Node>,
    children: FxHashMap<(NodeId, Named), NodeId>,
    roots: FxHashMap<Root, NodeId>,
    /// Calls beyond the paths that are told apart.
    pub beyond: u64,
}

impl Tree {
    /// Every path; parents stand before their children.
    #[must_use]
    pub fn nodes(&self) -> &[Node] {
        &self.nodes
    }

    /// One path.
    #[must_use]
    pub fn node(&self, id: NodeId) -> &Node {
        &self.nodes[id.0 as usize]
    }

    pub(super) fn node_mut(&mut self, id: NodeId) -> &mut Node {
        &mut self.nodes[id.0 as usize]
    }

    pub(super) fn root(&mut self, root: Root) -> NodeId {
        if let Some(&id) = self.roots.get(&root) {
            return id;
        }
        let id = self.push(None, None, root);
        self.roots.insert(root, id);
        id
    }

    /// The path of `function` called from `parent`.
    pub(super) fn child(&mut self, parent: NodeId, function: Named) -> NodeId {
        if let Some(&id) = self.children.get(&(parent, function)) {
            return id;
        }
        if self.nodes.len() >= MOST_NODES {
            self.beyond += 1;
            return parent;
        }
        let root = self.node(parent).root;
        let id = self.push(Some(function), Some(parent), root);
        self.children.insert((parent, function), id);
        id
    }

    fn push(&mut self, function: Option<Named>, parent: Option<NodeId>, root: Root) -> NodeId {
        let id = NodeId(self.nodes.len() as u32);
        let time = SelfTime::default();
        self.nodes.push(Node {
            function,
            parent,
            root,
            calls: 0,
            instructions: 0,
            time,
            waits: 0,
            stretch: 0,
        });
        id
    }

    /// What a function ran itself, on all its paths: instructions, and time.
    #[must_use]
    pub fn own(&self, function: Named) -> (u64, SelfTime) {
        let mut all = (0, SelfTime::default());
        for node in self.nodes.iter().filter(|node| node.function == Some(function)) {
            all.0 += node.instructions;
            all.1.add(node.time);
        }
        all
    }

    /// Whether a path has this function above its end.
    #[must_use]
    pub fn is_below(&self, id: NodeId, function: Named) -> bool {
        let mut at = self.node(id).parent;
        while let Some(parent) = at {
            let node = self.node(parent);
            if node.function == Some(function) {
                return true;
            }
            at = node.parent;
        }
        false
    }
}
