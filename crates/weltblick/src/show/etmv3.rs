//! ETMv3 packets in words.

use super::instructions::letters;
use super::packets::place;
use weltblick_core::image::{Image, interrupt_name};
use weltblick_core::wire::etmv3::{
    Atoms, Branch, Data, Exception, InstructionSet, Packet, Reason, Start,
};

/// What a packet is called, and what it says.
pub(super) fn describe(packet: &Packet, image: Option<&Image>) -> (&'static str, String) {
    match packet {
        Packet::Async => ("sync", String::new()),
        Packet::Start(start) => describe_start(start, image),
        Packet::Atoms(atoms) => ("atoms", describe_atoms(*atoms)),
        Packet::Branch(branch) => describe_branch(branch, image),
        Packet::CycleCount(0) => ("cycles", "more than can be counted".into()),
        Packet::CycleCount(cycles) => ("cycles", format!("+{cycles} cycles")),
        Packet::Context(id) => ("context", format!("{id:#x}")),
        Packet::Vmid(id) => ("context", format!("virtual machine {id:#x}")),
        Packet::Timestamp { value, clock_changed } => {
            let changed = if *clock_changed { ", the core's clock changed" } else { "" };
            ("time", format!("{value}{changed}"))
        }
        Packet::ExceptionEntry => ("exception entry", String::new()),
        Packet::ExceptionReturn => ("exception return", String::new()),
        Packet::Trigger => ("trigger", String::new()),
        Packet::Data(data) => ("data", describe_data(*data)),
        Packet::Ignore => ("ignore", String::new()),
    }
}

/// W for a cycle, E for an instruction that ran, N for one whose condition failed.
fn describe_atoms(atoms: Atoms) -> String {
    let Atoms { bits, count, cycles, cycle_each } = atoms;
    let mut text = "W".repeat(usize::from(cycles));
    let separator = if cycle_each { "W" } else { "" };
    let letters = letters(u32::from(bits), count);
    text.push_str(
        &letters.split("").filter(|one| !one.is_empty()).collect::<Vec<_>>().join(separator),
    );
    text
}

fn address(value: u64, set: InstructionSet, image: Option<&Image>) -> String {
    let place = u32::try_from(value).map_or_else(|_| String::new(), |pc| place(pc, image));
    let set = match set {
        InstructionSet::Thumb => "",
        InstructionSet::Arm => ", A32",
        InstructionSet::Jazelle => ", Jazelle",
    };
    format!("{value:#010x}{place}{set}")
}

fn describe_start(start: &Start, image: Option<&Image>) -> (&'static str, String) {
    let name = match start.reason {
        Reason::Periodic => "position",
        Reason::TraceOn => "trace on",
        Reason::Overflow => "! overflow",
        Reason::LeftDebug => "trace on",
    };
    let mut parts = Vec::new();
    match start.reason {
        Reason::Overflow => parts.push("the trace unit's buffer was full; goes on at".to_owned()),
        Reason::LeftDebug => parts.push("the core was halted; goes on at".to_owned()),
        Reason::Periodic | Reason::TraceOn => {}
    }
    parts.extend(start.address.map(|value| address(value, start.set, image)));
    parts.extend(start.in_progress.map(|value| format!("while {value:#010x} goes on")));
    parts.extend(start.cycles.map(|cycles| format!("after {cycles} cycles")));
    if start.context != 0 {
        parts.push(format!("context {:#x}", start.context));
    }
    (name, parts.join(" "))
}

fn describe_branch(branch: &Branch, image: Option<&Image>) -> (&'static str, String) {
    let to = address(branch.address, branch.set, image);
    match branch.exception.filter(Exception::is_taken) {
        Some(exception) => {
            ("exception", format!("{} to {to}", describe_exception(exception, image)))
        }
        None => ("address", to),
    }
}

fn describe_exception(exception: Exception, image: Option<&Image>) -> String {
    let what = match (exception.m_profile_number(), exception.kind) {
        (Some(number), _) => format!("{} ({number})", interrupt_name(image, number)),
        (None, Some(kind)) => format!("type {kind:#x}"),
        (None, None) => "of a kind that is not told".into(),
    };
    let cancels = if exception.cancels { ", cancels the last instruction" } else { "" };
    let resume = match exception.resume {
        0 => String::new(),
        register => format!(", goes on with register {register}"),
    };
    format!("{what}{cancels}{resume}")
}

fn describe_data(data: Data) -> String {
    match data {
        Data::Normal(value) => format!("{value:#x}"),
        Data::OutOfOrder(tag, value) => format!("{value:#x}, announced as {tag}"),
        Data::Placeholder(tag) => format!("to come as {tag}"),
        Data::NotTraced => "not traced".into(),
        Data::StoreFailed => "a store failed".into(),
        Data::Suppressed => "values are missing".into(),
    }
}
