//! `[interrupt.NAME]`: what is known of an interrupt beside its trace.

use super::write::quoted;
use crate::document::{At, Fault, Table};
use std::fmt::Write as _;

/// What is known of an interrupt.
#[derive(Debug, Clone, PartialEq)]
pub struct InterruptSpec {
    /// Its name, or number.
    pub name: At<String>,
    /// Its priority register.
    pub priority: u8,
}

/// All tables `[interrupt.NAME]`.
pub(super) fn read_interrupts(root: &Table<'_>) -> Result<Vec<InterruptSpec>, Fault> {
    let Some(table) = root.table("interrupt")? else { return Ok(Vec::new()) };
    let mut interrupts = Vec::new();
    for (name, inner) in table.named_tables()? {
        let priority = inner.integer("priority")?.ok_or_else(|| inner.missing("priority"))?;
        let in_range = u8::try_from(priority.value);
        let wrong = "a priority register holds 0 to 255; lower is more urgent";
        let priority = in_range.map_err(|_| inner.fault(priority.span, wrong))?;
        inner.finish()?;
        interrupts.push(InterruptSpec {
            name: At { value: name.value.to_owned(), span: name.span },
            priority,
        });
    }
    Ok(interrupts)
}

/// Writes them.
pub(super) fn write_interrupts(text: &mut String, interrupts: &[InterruptSpec]) {
    for InterruptSpec { name, priority } in interrupts {
        let _ = writeln!(text, "\n[interrupt.{}]\npriority = {priority}", quoted(&name.value));
    }
}
