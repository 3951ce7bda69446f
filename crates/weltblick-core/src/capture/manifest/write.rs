//! A manifest as text.

use super::interrupt::write_interrupts;
use super::meaning::write_ctf;
use super::{
    FORMAT, Framing, ItmSettings, LapPoint, Manifest, Protocol, SourceSpec, StreamSpec, Target,
    write_signals,
};
use crate::wire::mtb;
use crate::wire::tpiu::Start;
use std::fmt::Write as _;
use std::ops::Range;

impl Manifest {
    /// Writes the manifest. Reading it again gives the same.
    #[must_use]
    pub fn to_toml(&self) -> String {
        let mut text = format!("format = {FORMAT}\n");
        if let Some(image) = &self.image {
            let _ = writeln!(text, "image = {}", quoted(&image.value));
        }
        write_ranges(&mut text, "inside", &self.ranges.inside);
        write_ranges(&mut text, "exclude", &self.ranges.exclude);
        if self.intrusive {
            let _ = writeln!(text, "intrusive = true");
        }
        if self.between_points {
            let _ = writeln!(text, "between_points = true");
        }
        write_target(&mut text, &self.target);
        for stream in &self.streams {
            write_stream(&mut text, stream);
        }
        write_signals(&mut text, &self.signals);
        write_interrupts(&mut text, &self.interrupts);
        text
    }
}

pub(super) fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

fn write_ranges(text: &mut String, key: &str, ranges: &[Range<u64>]) {
    if ranges.is_empty() {
        return;
    }
    let ranges =
        ranges.iter().map(|range| format!("\"{:#010x}..{:#010x}\"", range.start, range.end));
    let _ = writeln!(text, "{key} = [{}]", ranges.collect::<Vec<_>>().join(", "));
}

fn write_target(text: &mut String, target: &Target) {
    let Target { name, isa, core_clock, global_clock, tick_period } = target;
    let mut lines = String::new();
    if let Some(name) = name {
        let _ = writeln!(lines, "name = {}", quoted(name));
    }
    if let Some(isa) = isa {
        let _ = writeln!(lines, "isa = \"{}\"", isa.name());
    }
    if let Some(clock) = global_clock {
        let _ = writeln!(lines, "global_clock = \"{} Hz\"", clock.hertz());
    }
    if let Some(clock) = core_clock {
        let _ = writeln!(lines, "core_clock = \"{} Hz\"", clock.hertz());
    }
    if let Some(period) = tick_period {
        let _ = writeln!(lines, "tick_period = \"{} ns\"", period.as_nanos());
    }
    if !lines.is_empty() {
        let _ = write!(text, "\n[target]\n{lines}");
    }
}

fn write_stream(text: &mut String, stream: &StreamSpec) {
    let _ = writeln!(text, "\n[[stream]]");
    if let [SourceSpec { protocol: Protocol::Ctf(settings), .. }] = stream.sources.as_slice() {
        if let Some(folder) = &settings.folder {
            let _ = writeln!(text, "folder = {}", quoted(&folder.value));
        }
        return write_ctf(text, settings);
    }
    let files: Vec<String> = stream.files.iter().map(|file| quoted(&file.value)).collect();
    let _ = match files.as_slice() {
        [] => {
            writeln!(text, "segments = {}", quoted(stream.segments.as_deref().unwrap_or("trace")))
        }
        [only] => writeln!(text, "file = {only}"),
        several => writeln!(text, "file = [{}]", several.join(", ")),
    };
    match stream.framing {
        Framing::None => {}
        Framing::Tpiu(start) => {
            let _ = writeln!(text, "framing = \"tpiu\"");
            if start == Start::AtFrame {
                let _ = writeln!(text, "starts_at_frame = true");
            }
        }
    }
    if let Some(capacity) = stream.capacity {
        let _ = writeln!(text, "capacity = {capacity}");
    }
    for source in &stream.sources {
        write_source(text, source);
    }
}

fn write_source(text: &mut String, source: &SourceSpec) {
    let table = match source.trace_id {
        Some(id) => {
            let _ = writeln!(text, "\n[[stream.source]]\ntrace_id = {id}");
            "stream.source.settings"
        }
        None => "stream.settings",
    };
    let _ = match &source.protocol {
        Protocol::Itm(settings) => {
            let _ = writeln!(text, "protocol = \"itm\"\n\n[{table}]");
            return write_itm(text, settings);
        }
        protocol @ (Protocol::Etmv3(_) | Protocol::Etmv4(_)) => {
            let name = if matches!(protocol, Protocol::Etmv3(_)) { "etmv3" } else { "etmv4" };
            let _ = writeln!(text, "protocol = \"{name}\"\n\n[{table}]");
            for (name, register) in protocol.clone().registers_mut() {
                let _ = writeln!(text, "{name} = {register:#010x}");
            }
            Ok(())
        }
        // It is a stream of its own.
        Protocol::Ctf(_) => Ok(()),
        Protocol::Mtb(mtb::Settings { mtb_position: 0 }) => writeln!(text, "protocol = \"mtb\""),
        Protocol::Mtb(mtb::Settings { mtb_position }) => {
            writeln!(text, "protocol = \"mtb\"\n\n[{table}]\nmtb_position = {mtb_position:#x}")
        }
        Protocol::Poll(settings) => {
            let _ = writeln!(text, "protocol = \"poll\"\n\n[{table}]");
            let _ = writeln!(text, "intrusive = {}", settings.intrusive);
            for LapPoint { name, address } in &settings.laps {
                let name = quoted(name);
                let _ = writeln!(text, "\n[[stream.settings.lap]]\nname = {name}");
                let _ = writeln!(text, "address = {address:#010x}");
            }
            Ok(())
        }
    };
}

fn write_itm(text: &mut String, settings: &ItmSettings) {
    if let Some(period) = settings.pc_sample_period {
        let _ = writeln!(text, "pc_sample_period = {period}");
    }
    let _ = writeln!(text, "timestamp_prescaler = {}", settings.timestamp_prescaler);
    if let Some(clock) = settings.timestamp_clock {
        let _ = writeln!(text, "timestamp_clock_hz = {:.0}", clock.hertz());
    }
    if let Some(port) = settings.marks_port {
        let _ = writeln!(text, "marks_port = {port}");
    }
    if settings.timestamp_dates_group {
        let _ = writeln!(text, "timestamp_dates_group = true");
    }
}
