//! The entries of a unit as a tree, read in one pass.

use super::units::Unit;
use gimli::{DwTag, UnitOffset};

/// No other node.
const NONE: u32 = u32::MAX;

/// The entries of one unit, in their order.
///
/// Who asks for an entry's children would else have to read past all that is below them, each time anew.
#[derive(Debug, Default)]
pub(in crate::image) struct Tree {
    nodes: Vec<Node>,
}

#[derive(Debug)]
struct Node {
    offset: usize,
    tag: DwTag,
    parent: u32,
    first_child: u32,
    next_sibling: u32,
}

/// One entry of a [`Tree`].
#[derive(Debug, Clone, Copy)]
pub(in crate::image) struct NodeId(u32);

impl Tree {
    /// Reads a unit, as far as it is sound.
    pub(super) fn of(unit: &Unit) -> Self {
        let mut tree = Self::default();
        let _ = tree.read(unit);
        tree
    }

    fn read(&mut self, unit: &Unit) -> gimli::Result<()> {
        let mut entries = unit.unit.entries_raw(None)?;
        // The entries that are open, and the last child of each.
        let mut open: Vec<(u32, u32)> = Vec::new();
        while !entries.is_empty() {
            let offset = entries.next_offset().0;
            let Some(abbreviation) = entries.read_abbreviation()? else {
                open.pop();
                continue;
            };
            let id = self.nodes.len() as u32;
            let parent = match open.last_mut() {
                Some((parent, last)) => {
                    match std::mem::replace(last, id) {
                        NONE => self.nodes[*parent as usize].first_child = id,
                        before => self.nodes[before as usize].next_sibling = id,
                    }
                    *parent
                }
                None => NONE,
            };
            let (first_child, next_sibling) = (NONE, NONE);
            let tag = abbreviation.tag();
            self.nodes.push(Node { offset, tag, parent, first_child, next_sibling });
            if abbreviation.has_children() {
                open.push((id, NONE));
            }
            entries.skip_attributes(abbreviation.attributes())?;
        }
        Ok(())
    }

    /// All entries, in their order.
    pub(in crate::image) fn all(&self) -> impl Iterator<Item = NodeId> + use<> {
        (0..self.nodes.len() as u32).map(NodeId)
    }

    /// The entry that begins at an offset.
    pub(in crate::image) fn at(&self, offset: UnitOffset) -> Option<NodeId> {
        let found = self.nodes.binary_search_by_key(&offset.0, |node| node.offset);
        found.ok().map(|index| NodeId(index as u32))
    }

    pub(in crate::image) fn offset(&self, id: NodeId) -> UnitOffset {
        UnitOffset(self.nodes[id.0 as usize].offset)
    }

    pub(in crate::image) fn tag(&self, id: NodeId) -> DwTag {
        self.nodes[id.0 as usize].tag
    }

    /// The entries around an entry, innermost first.
    pub(in crate::image) fn around(&self, id: NodeId) -> impl Iterator<Item = NodeId> {
        let above = |id: NodeId| {
            let parent = self.nodes[id.0 as usize].parent;
            (parent != NONE).then_some(NodeId(parent))
        };
        std::iter::successors(above(id), move |&id| above(id))
    }

    /// The children of an entry.
    pub(in crate::image) fn children(&self, id: NodeId) -> impl Iterator<Item = NodeId> {
        let known = |id: u32| (id != NONE).then_some(NodeId(id));
        let first = known(self.nodes[id.0 as usize].first_child);
        std::iter::successors(first, move |id| known(self.nodes[id.0 as usize].next_sibling))
    }
}
