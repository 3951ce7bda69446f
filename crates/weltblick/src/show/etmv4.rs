//! ETMv4 packets in words.

use super::instructions::letters;
use super::packets::place;
use weltblick_core::image::{Image, interrupt_name};
use weltblick_core::wire::etmv4::{
    Address, Atoms, Conditional, Context, DataSync, Exception, Packet, Returns, TraceInfo,
};

/// What a packet is called, and what it says.
pub(super) fn describe(packet: &Packet, image: Option<&Image>) -> (&'static str, String) {
    match packet {
        Packet::Async => ("sync", String::new()),
        Packet::Discard => ("discard", "trace was switched off before all was sent".into()),
        Packet::Overflow => ("! overflow", "the trace unit's buffer was full".into()),
        Packet::TraceInfo(info) => ("trace info", describe_info(info)),
        Packet::TraceOn => ("trace on", "what ran before was not traced".into()),
        Packet::Timestamp { value, cycles } => {
            let more = cycles.map(|cycles| format!(", {cycles} cycles after the last count"));
            ("time", format!("{value}{}", more.unwrap_or_default()))
        }
        Packet::CycleCount { commit, cycles } => {
            let cycles = cycles.map_or("unknown".into(), |cycles| format!("+{cycles} cycles"));
            let commit = if *commit == 0 { String::new() } else { format!(", commits {commit}") };
            ("cycles", format!("{cycles}{commit}"))
        }
        Packet::Atoms(atoms) => ("atoms", letters(atoms.bits, atoms.count)),
        Packet::Address(address) => ("address", describe_address(address, image)),
        Packet::Context(context) => ("context", describe_context(context)),
        Packet::Exception(exception) => ("exception", describe_exception(exception, image)),
        Packet::ExceptionReturn => ("exception return", String::new()),
        Packet::FunctionReturn => ("function return", "to secure code".into()),
        Packet::Commit(count) => ("commit", format!("{count}")),
        Packet::Cancel { atoms, elements, mispredict } => {
            let more = if *mispredict { ", then mispredicted" } else { "" };
            ("cancel", format!("{}{elements}{more}", before(*atoms)))
        }
        Packet::Mispredict { atoms } => ("mispredict", before(*atoms)),
        Packet::Q { count, address } => {
            let count = count.map_or("some".into(), |count| count.to_string());
            let to = address.as_ref().map(|address| describe_address(address, image));
            let to = to.map_or_else(String::new, |to| format!(", then {to}"));
            ("uncounted", format!("{count} instructions{to}"))
        }
        Packet::Event(events) => ("event", format!("{events:#06b}")),
        Packet::DataSync(DataSync::Numbered(number)) => ("data sync", format!("{number}")),
        Packet::DataSync(DataSync::Unnumbered(number)) => {
            ("data sync", format!("unnumbered, {number}"))
        }
        Packet::Conditional(conditional) => ("conditional", describe_conditional(*conditional)),
        Packet::Ignore => ("ignore", String::new()),
    }
}

fn before(atoms: Atoms) -> String {
    if atoms.count == 0 {
        String::new()
    } else {
        format!("after {}: ", letters(atoms.bits, atoms.count))
    }
}

fn describe_info(info: &TraceInfo) -> String {
    let mut parts = Vec::new();
    if info.cycle_counts {
        parts.push(format!("cycle counts of {} and more", info.threshold));
    }
    if info.speculation > 0 {
        parts.push(format!("{} elements uncertain", info.speculation));
    }
    if info.conditional > 0 {
        parts.push("conditional instructions".into());
    }
    if info.loads || info.stores {
        parts.push("loads and stores".into());
    }
    parts.join(", ")
}

fn describe_address(address: &Address, image: Option<&Image>) -> String {
    let context =
        address.context.as_ref().map(|context| format!("; {}", describe_context(context)));
    let place = u32::try_from(address.value).map_or_else(|_| String::new(), |pc| place(pc, image));
    format!("{:#010x}{place}{}", address.value, context.unwrap_or_default())
}

fn describe_context(context: &Context) -> String {
    let Context { level, wide, non_secure, vmid, id } = context;
    let state = if *non_secure { "non-secure" } else { "secure" };
    let wide = if *wide { ", 64 bits" } else { "" };
    let vmid = if *vmid == 0 { String::new() } else { format!(", virtual machine {vmid:#x}") };
    let id = if *id == 0 { String::new() } else { format!(", context {id:#x}") };
    format!("{state}, level {level}{wide}{vmid}{id}")
}

fn describe_exception(exception: &Exception, image: Option<&Image>) -> String {
    let what = match exception.m_profile_number() {
        Some(number) => format!("{} ({number})", interrupt_name(image, number)),
        None => match exception.kind {
            0x18 => "halted by a debugger".into(),
            0x19 => "lazy floating-point state".into(),
            0x1a => "lockup".into(),
            kind => format!("type {kind:#x}"),
        },
    };
    let returns = match exception.returns {
        Returns::After => "returns to",
        Returns::AtTarget => "right after the last branch; returns to",
    };
    let fault = if exception.fault_pending { ", a fault is pending" } else { "" };
    format!("{what}{fault}; {returns} the next address")
}

fn describe_conditional(conditional: Conditional) -> String {
    match conditional {
        Conditional::Instruction { format, bits } => {
            format!("instruction, format {format}, {bits:#x}")
        }
        Conditional::Result { format, bits: [first, second] } => {
            format!("result, format {format}, {first:#x} {second:#x}")
        }
        Conditional::Flush => "flush".into(),
    }
}
