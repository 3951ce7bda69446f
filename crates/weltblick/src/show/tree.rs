//! Who called whom, as a tree of text and as folded stacks.

use super::exact::Look;
use super::{count, percent, plain};
use anyhow::Result;
use std::io::Write;
use weltblick_core::measure::execution::{Calls, ExactContext};

/// What a path stands for.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Branch {
    /// The function; what stands at the beginning of a path has a name in brackets or an interrupt's.
    pub(crate) name: String,
    /// How often it was entered.
    pub(crate) calls: u64,
    /// Of its own: ticks, or instructions where nothing tells time.
    pub(crate) own: u64,
    /// With what it called.
    pub(crate) total: u64,
    /// The largest first.
    pub(crate) children: Vec<Branch>,
}

/// The tree of a recording: its beginnings, the largest first.
pub(crate) fn branches(calls: &Calls<'_>, context: &ExactContext<'_>) -> Vec<Branch> {
    let tree = calls.tree();
    let timed = calls.ticks().is_some();
    let mut found: Vec<Option<Branch>> = tree
        .nodes()
        .iter()
        .map(|node| {
            let own = if timed { node.time.ticks } else { node.instructions };
            let name = match node.function {
                Some(function) => context.name(function),
                None => context.root_name(node.root),
            };
            Some(Branch { name, calls: node.calls, own, total: own, children: Vec::new() })
        })
        .collect();
    let mut roots = Vec::new();
    // Parents stand before their children: from the end, every branch is whole when it is met.
    for (place, node) in tree.nodes().iter().enumerate().rev() {
        let Some(mut branch) = found[place].take() else { continue };
        branch.children.sort_by_key(|child| std::cmp::Reverse(child.total));
        let parent = node.parent.and_then(|parent| found[parent.number()].as_mut());
        match parent {
            Some(parent) => {
                parent.total += branch.total;
                parent.children.push(branch);
            }
            None if branch.total > 0 => roots.push(branch),
            None => {}
        }
    }
    roots.sort_by_key(|root| std::cmp::Reverse(root.total));
    roots
}

/// Branches below this part of everything are left out.
const LEAST: f64 = 0.001;
/// Deeper branches are left out.
const DEEPEST: usize = 64;

/// For people: the largest branches first.
pub(crate) fn text(
    calls: &Calls<'_>,
    context: &ExactContext<'_>,
    look: &Look<'_>,
    out: &mut dyn Write,
) -> Result<()> {
    let roots = branches(calls, context);
    let all: u64 = roots.iter().map(|root| root.total).sum();
    let unit = if calls.ticks().is_some() { "time" } else { "instructions" };
    writeln!(out, "{}", look.paint.strong(&plain(&look.capture)))?;
    writeln!(out, "{} instructions; shares are of the {unit}\n", count(calls.instructions()))?;
    let heading = format!("{:>7} {:>7} {:>9}  path", "total %", "self %", "calls");
    writeln!(out, "{}", look.paint.faint(&heading))?;
    let mut left = look.top;
    for root in &roots {
        line(root, 0, all, &mut left, out)?;
    }
    if left == 0 {
        writeln!(out, "{}", look.paint.faint("  and more; --top 0 shows all"))?;
    }
    Ok(())
}

fn line(
    branch: &Branch,
    depth: usize,
    all: u64,
    left: &mut usize,
    out: &mut dyn Write,
) -> Result<()> {
    let share = |ticks: u64| ticks as f64 / all.max(1) as f64;
    if share(branch.total) < LEAST || depth > DEEPEST || *left == 0 {
        return Ok(());
    }
    *left -= 1;
    let calls = if branch.calls > 0 { count(branch.calls) } else { String::new() };
    writeln!(
        out,
        "{:>7} {:>7} {calls:>9}  {}{}",
        percent(share(branch.total)),
        percent(share(branch.own)),
        "  ".repeat(depth),
        plain(&branch.name)
    )?;
    for child in &branch.children {
        line(child, depth + 1, all, left, out)?;
    }
    Ok(())
}

/// Folded stacks: one line a path, its functions separated by semicolons, and how much ran there.
pub(crate) fn folded(
    calls: &Calls<'_>,
    context: &ExactContext<'_>,
    out: &mut dyn Write,
) -> Result<()> {
    let mut path = Vec::new();
    for root in branches(calls, context) {
        fold(&root, &mut path, out)?;
    }
    Ok(())
}

fn fold(branch: &Branch, path: &mut Vec<String>, out: &mut dyn Write) -> Result<()> {
    path.push(plain(&branch.name).replace([';', ' '], "_"));
    if branch.own > 0 {
        writeln!(out, "{} {}", path.join(";"), branch.own)?;
    }
    for child in &branch.children {
        fold(child, path, out)?;
    }
    path.pop();
    Ok(())
}
