//! Faces of a plan.

use super::{Align, Paint, Table, cell, count, duration_ns, percent, plain, share, wrapped};
use anyhow::Result;
use std::io::Write;
use weltblick_core::plan::{Field, LinkRow, PlanReport, Register, StretchRow};
use weltblick_core::time::Frequency;

/// For people: does it fit, then why, then what to do.
pub(crate) fn text(plan: &PlanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    title(plan, paint, out)?;
    verdict(plan, paint, out)?;
    notes("?", &plan.doubts, paint, out)?;
    sources(plan, paint, out)?;
    measuring(plan, paint, out)?;
    memory(plan, paint, out)?;
    registers(plan, paint, out)?;
    writeln!(out)?;
    writeln!(out, "{}", paint.strong("What no register can do"))?;
    for line in &plan.checklist {
        note("-", line, paint, out)?;
    }
    Ok(())
}

fn title(plan: &PlanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let name = plan.name.as_deref().map_or_else(String::new, |name| format!("{}: ", plain(name)));
    let clock = Frequency::from_hertz(plan.core_clock_hz)
        .map_or_else(String::new, |clock| format!(" at {clock}"));
    let link = plan.link.as_ref().map_or_else(String::new, |row| format!(", {}", link(row)));
    writeln!(out, "{}", paint.strong(&format!("{name}{}{clock}{link}", plan.core)))?;
    Ok(())
}

fn link(link: &LinkRow) -> String {
    let framed = if link.formatter { ", in formatter frames" } else { "" };
    match (link.bits_per_second, link.capacity) {
        (Some(bits), Some(capacity)) => {
            let error = link.bit_rate_error.filter(|error| error.abs() > 5e-5);
            let off = error.map_or_else(String::new, |e| format!(" ({:+.2} % off)", 100.0 * e));
            format!(
                "{} at {:.3} Mbit/s{off}: {:.1} kB/s{framed}",
                link.kind,
                bits / 1e6,
                capacity / 1e3
            )
        }
        _ => format!("{}{framed}", link.kind),
    }
}

fn verdict(plan: &PlanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    let Some(link) = &plan.link else { return Ok(()) };
    writeln!(out)?;
    let kilobytes = link.bytes_per_second / 1e3;
    let Some(headroom) = link.headroom else {
        writeln!(out, "  {kilobytes:.1} kB/s go into the buffer")?;
        return Ok(());
    };
    let used = share(1.0 - headroom);
    if link.fits {
        writeln!(
            out,
            "= it fits: {kilobytes:.1} kB/s use {used} of the link, {} free",
            share(headroom)
        )?;
        return Ok(());
    }
    let dropped = share(link.dropped.unwrap_or_default());
    let line = if link.overflows {
        format!(
            "! it overflows for certain: {kilobytes:.1} kB/s are {used} of the link, about {dropped} will be dropped"
        )
    } else if headroom < 0.0 {
        format!(
            "! it overflows as described: {kilobytes:.1} kB/s are {used} of the link, about {dropped} will be dropped"
        )
    } else {
        format!(
            "! it is too tight: {kilobytes:.1} kB/s use {used} of the link, which leaves no room for bursts"
        )
    };
    writeln!(out, "{}", paint.alarm(&line))?;
    match &plan.proposal {
        Some(proposal) => writeln!(
            out,
            "  -> sample every {} cycles: then {:.1} kB/s use {}, {} free",
            count(proposal.pc_sample_period),
            proposal.bytes_per_second / 1e3,
            share(1.0 - proposal.headroom),
            share(proposal.headroom),
        )?,
        None => writeln!(
            out,
            "  -> no sampling period makes it fit: widen the link, or trace less beside the samples"
        )?,
    }
    Ok(())
}

fn notes(mark: &str, lines: &[String], paint: Paint, out: &mut dyn Write) -> Result<()> {
    for line in lines {
        note(mark, line, paint, out)?;
    }
    Ok(())
}

fn note(mark: &str, text: &str, paint: Paint, out: &mut dyn Write) -> Result<()> {
    for (number, line) in wrapped(text).into_iter().enumerate() {
        let lead = if number == 0 { mark } else { " " };
        let line = format!("{lead} {}", plain(&line));
        let line = if mark == "?" { paint.alarm(&line) } else { line };
        writeln!(out, "{line}")?;
    }
    Ok(())
}

fn sources(plan: &PlanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    if plan.sources.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    let mut table = Table::new(
        paint,
        &[
            ("link %", Align::Right),
            ("bytes/s", Align::Right),
            ("each", Align::Right),
            ("a second", Align::Right),
            ("source", Align::Left),
        ],
    );
    for row in &plan.sources {
        let limit = if row.at_most { " (at most)" } else { "" };
        table.row([
            row.link_share.map_or_else(String::new, percent),
            count(row.bytes_per_second.round() as u64),
            if row.bytes_each < 1.0 {
                format!("{:.1} bit", 8.0 * row.bytes_each)
            } else {
                format!("{:.1} B", row.bytes_each)
            },
            if row.events_per_second < 10.0 {
                format!("{:.1}", row.events_per_second)
            } else {
                count(row.events_per_second.round() as u64)
            },
            format!("{}{limit}", plain(&row.source)),
        ]);
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    Ok(())
}

fn measuring(plan: &PlanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    if plan.measuring.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    writeln!(out, "{}", paint.strong("How long to measure"))?;
    let mut table = Table::new(
        paint,
        &[
            ("share", Align::Right),
            ("known to", Align::Right),
            ("samples", Align::Right),
            ("at least", Align::Right),
        ],
    );
    for row in &plan.measuring {
        table.row([
            share(row.share),
            format!("+- {:.2} %", 100.0 * row.within),
            count(row.samples),
            duration_ns(row.time.ns),
        ]);
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    writeln!(
        out,
        "{}",
        paint.faint(
            "for independent samples; work that comes in long stretches takes several times as long"
        )
    )?;
    Ok(())
}

/// Ranges in which instruction trace alone would make a buffer last longer.
fn stretches(rows: &[StretchRow], paint: Paint, out: &mut dyn Write) -> Result<()> {
    if rows.is_empty() {
        return Ok(());
    }
    let columns = [
        ("lasts", Align::Right),
        ("of the time awake", Align::Right),
        ("with instruction trace only inside", Align::Left),
    ];
    let mut table = Table::new(paint, &columns);
    for StretchRow { inside, share: part, lasts } in rows {
        table.row([duration_ns(lasts.ns), share(*part), plain(inside).into_owned()]);
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    Ok(())
}

fn memory(plan: &PlanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    if let Some(buffer) = &plan.buffer {
        writeln!(out)?;
        let line = format!(
            "The buffer of {} bytes holds {}",
            count(buffer.bytes),
            duration_ns(buffer.lasts.ns)
        );
        writeln!(out, "{}", paint.strong(&line))?;
        stretches(&buffer.stretches, paint, out)?;
        for advice in &buffer.advice {
            note("->", advice, paint, out)?;
        }
    }
    if let Some(ring) = &plan.ring {
        writeln!(out)?;
        let at = ring.address.map_or_else(String::new, |address| format!(" at {address:#010x}"));
        let line = format!(
            "The ring {}{at} needs {} bytes",
            plain(&ring.symbol),
            count(ring.bytes_needed)
        );
        writeln!(out, "{}", paint.strong(&line))?;
    }
    for watch in &plan.watches {
        writeln!(
            out,
            "comparator {} watches {} at {:#010x}, {} bytes",
            watch.comparator,
            plain(&watch.name),
            watch.address,
            watch.bytes
        )?;
    }
    Ok(())
}

fn registers(plan: &PlanReport, paint: Paint, out: &mut dyn Write) -> Result<()> {
    if plan.registers.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    writeln!(out, "{}", paint.strong("Registers, in this order"))?;
    let left = |name| (name, Align::Left);
    let mut table = Table::new(
        paint,
        &[left("address"), left("value"), left("register"), left("field"), left("meaning")],
    );
    for register in &plan.registers {
        for (number, field) in register.fields.iter().enumerate() {
            let bits = match (field.high, field.low) {
                (31, 0) => String::new(),
                (high, low) if high == low => format!("[{low}]"),
                (high, low) => format!("[{high}:{low}]"),
            };
            let first = number == 0;
            let once = |text: String| if first { text } else { String::new() };
            table.row([
                once(format!("{:#010x}", register.address)),
                once(format!("{:#010x}", register.value)),
                once(plain(&register.name).into_owned()),
                match field.name.as_str() {
                    "" => String::new(),
                    name => format!("{name}{bits} = {}", value(field.value)),
                },
                plain(&field.meaning).into_owned(),
            ]);
        }
    }
    for line in table.lines() {
        writeln!(out, "{line}")?;
    }
    let kept: Vec<_> =
        plan.registers.iter().filter(|r| r.mask != u32::MAX).map(|r| plain(&r.name)).collect();
    if !kept.is_empty() {
        let line = format!("only the named bits are changed in {}", kept.join(" and "));
        writeln!(out, "{}", paint.faint(&line))?;
    }
    Ok(())
}

fn value(value: u32) -> String {
    if value < 256 { value.to_string() } else { format!("{value:#x}") }
}

/// What a field is set to, in words; of a register of the chip what it is for.
fn meaning(field: &Field) -> String {
    match field.name.as_str() {
        "" => field.meaning.clone(),
        name => format!("{name}: {}", field.meaning),
    }
}

/// For spreadsheets: the register writes.
pub(crate) fn csv(plan: &PlanReport, out: &mut dyn Write) -> Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record(["register", "address", "value", "mask", "meaning"])?;
    for Register { name, address, value, mask, fields } in &plan.registers {
        let meaning: Vec<String> = fields.iter().map(meaning).collect();
        csv.write_record([
            cell(name).as_ref(),
            &format!("{address:#010x}"),
            &format!("{value:#010x}"),
            &format!("{mask:#010x}"),
            cell(&meaning.join("; ")).as_ref(),
        ])?;
    }
    csv.flush()?;
    Ok(())
}
