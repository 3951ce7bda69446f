//! What a capture is made of, in lines for people.

use super::capture::Capture;
use weltblick_core::capture::{
    CtfSettings, Framing, ItmSettings, PollSettings, Protocol, SourceSpec, StreamSpec,
};
use weltblick_core::event::CodeRanges;
use weltblick_core::wire::mtb;

impl Capture {
    /// What else the manifest says that readers should know: one line each.
    fn conduct_lines(&self) -> Vec<String> {
        let CodeRanges { inside, exclude } = &self.manifest.ranges;
        let named = |range: &std::ops::Range<u64>| {
            let image = self.image.as_ref().map(|open| &open.image);
            let function =
                image.and_then(|image| Some(image.function(image.function_at(range.start)?)));
            match function.filter(|function| function.range == *range) {
                Some(function) => function.name.clone(),
                None => format!("{:#010x}..{:#010x}", range.start, range.end),
            }
        };
        let list = |ranges: &[std::ops::Range<u64>]| {
            ranges.iter().map(named).collect::<Vec<_>>().join(", ")
        };
        let mut lines = Vec::new();
        if !inside.is_empty() {
            lines.push(format!("asked for: code inside {}", list(inside)));
        }
        if !exclude.is_empty() {
            lines.push(format!("not asked for: code inside {}", list(exclude)));
        }
        if self.conduct().between_points {
            lines.push("recorded only between points in the code".into());
        }
        if self.conduct().intrusive {
            lines.push("intrusive: a debugger stopped the core while this was recorded".into());
        }
        lines
    }

    /// One line per stream for people, and what else they should know.
    pub(crate) fn stream_lines(&self) -> Vec<String> {
        let line = |(number, stream): (usize, &StreamSpec)| {
            let name = self.stream_name(number);
            let sources: Vec<String> = stream.sources.iter().map(source_line).collect();
            let framing = if stream.framing == Framing::None { "" } else { "formatter frames, " };
            format!("{name}: {framing}{}", sources.join("; "))
        };
        let streams = self.manifest.streams.iter().enumerate().map(line);
        streams.chain(self.conduct_lines()).collect()
    }
}

/// What one source of a stream is.
fn source_line(source: &SourceSpec) -> String {
    match &source.protocol {
        Protocol::Itm(settings) => itm_line(source, settings),
        Protocol::Ctf(settings) => trace_line(settings),
        Protocol::Etmv3(settings) => instruction_line(
            source,
            &[
                ("etmv3", true),
                ("cycles", settings.cycle_accurate()),
                ("timestamps", settings.timestamps()),
                ("every target", settings.branch_broadcast()),
            ],
        ),
        Protocol::Etmv4(settings) => instruction_line(
            source,
            &[
                ("etmv4", true),
                ("cycle counts", settings.cycle_counts()),
                ("return stack", settings.return_stack()),
                ("every target", settings.branch_broadcast()),
            ],
        ),
        Protocol::Mtb(mtb::Settings { mtb_position }) => {
            let order = match mtb_position {
                0 => "in order".to_owned(),
                position => format!("from the oldest on (MTB_POSITION {position:#x})"),
            };
            format!("branches of a micro trace buffer, {order} but without times")
        }
        Protocol::Poll(settings) => poll_line(settings),
    }
}

/// One line about an ITM for people.
fn itm_line(source: &SourceSpec, settings: &ItmSettings) -> String {
    let id = source.trace_id.map_or_else(String::new, |id| format!("source {id}: "));
    let clock = match settings.timestamp_clock {
        Some(clock) => format!("{clock}"),
        None => "the core clock".to_owned(),
    };
    let prescaler = settings.timestamp_prescaler;
    let ticks = if prescaler == 1 { String::new() } else { format!(" / {prescaler}") };
    let group =
        if settings.timestamp_dates_group { ", each for all packets of its tick" } else { "" };
    format!("{id}itm, timestamps from {clock}{ticks}{group}")
}

/// One line about what a debug stub was asked, for people.
fn poll_line(PollSettings { intrusive, laps }: &PollSettings) -> String {
    let how = if *intrusive { "by stopping the core" } else { "while the core ran" };
    let names: Vec<&str> = laps.iter().map(|lap| lap.name.as_str()).collect();
    let laps = match names.as_slice() {
        [] => String::new(),
        names => format!("; laps at {} (`weltblick span`)", names.join(", ")),
    };
    format!("polled {how}, times from the host{laps}")
}

/// One line about an instruction trace for people: what it has.
fn instruction_line(source: &SourceSpec, has: &[(&str, bool)]) -> String {
    let id = source.trace_id.map_or_else(String::new, |id| format!("source {id}: "));
    let has: Vec<&str> = has.iter().filter(|(_, has)| *has).map(|(name, _)| *name).collect();
    format!("{id}instruction trace ({})", has.join(", "))
}

/// One line about an event trace for people.
fn trace_line(settings: &CtfSettings) -> String {
    let clock = match settings.clock {
        Some(clock) => format!("times from its own clock of {clock}"),
        None => "without a clock".to_owned(),
    };
    let meanings = match settings.meanings.len() {
        0 => "nothing says what its events mean".to_owned(),
        1 => "one meaning".to_owned(),
        count => format!("{count} meanings"),
    };
    format!("an event trace (ctf), {clock}; {meanings}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use weltblick_core::capture::Manifest;

    /// The lines of the sources of a manifest's streams.
    fn lines(streams: &str) -> Vec<String> {
        let manifest = Manifest::parse("capture.toml", &format!("format = 1\n{streams}")).unwrap();
        let sources = manifest.streams.iter().flat_map(|stream| &stream.sources);
        sources.map(source_line).collect()
    }

    #[test]
    fn every_protocol_says_what_it_has() {
        let stream = |protocol: &str, settings: &str| {
            let settings = match settings {
                "" => String::new(),
                settings => format!("[stream.settings]\n{settings}\n"),
            };
            lines(&format!("[[stream]]\nfile = \"a\"\nprotocol = \"{protocol}\"\n{settings}"))
        };
        assert_eq!(stream("itm", ""), ["itm, timestamps from the core clock"]);
        let slow = "timestamp_prescaler = 4\ntimestamp_clock_hz = 2_000_000";
        assert_eq!(stream("itm", slow), ["itm, timestamps from 2 MHz / 4"]);
        assert_eq!(stream("etmv4", ""), ["instruction trace (etmv4)"]);
        assert_eq!(
            stream("etmv4", "trcconfigr = 0x1019"),
            ["instruction trace (etmv4, cycle counts, return stack, every target)"]
        );
        assert_eq!(
            stream("etmv3", "etmcr = 0x10001000"),
            ["instruction trace (etmv3, cycles, timestamps)"]
        );
        let branches = "branches of a micro trace buffer, in order but without times";
        assert_eq!(stream("mtb", ""), [branches]);
        assert_eq!(stream("poll", ""), ["polled while the core ran, times from the host"]);
    }

    #[test]
    fn sources_in_frames_have_their_numbers() {
        let port = "[[stream]]\nfile = \"p\"\nframing = \"tpiu\"\n\
            [[stream.source]]\ntrace_id = 1\nprotocol = \"itm\"\n\
            [[stream.source]]\ntrace_id = 2\nprotocol = \"etmv4\"\n";
        assert_eq!(
            lines(port),
            [
                "source 1: itm, timestamps from the core clock",
                "source 2: instruction trace (etmv4)"
            ]
        );
    }
}
