//! Bytes that are not what they are taken for.

use super::{Evidence, Finding, fault};
use crate::capture::{Framing, Protocol, SourceSpec};
use crate::measure::inspection::kinds::Kind;
use crate::measure::inspection::trial::{Packets, Reading, best};
use crate::wire::tpiu::TraceId;

/// Findings after which nothing else can be said of the bytes.
pub(in crate::measure::inspection) const UNREADABLE: [&str; 6] = [
    "framed",
    "not_framed",
    "other_source",
    "wrong_protocol",
    "no_synchronisation",
    "starts_inside",
];

impl Evidence<'_> {
    /// Bytes that do not read as they are said to, and do another way: as another protocol, with another framing, or
    /// as another source.
    pub(super) fn read_wrongly(&self) -> Option<Finding> {
        let stream = self.settings.stream?;
        let named: Vec<(Option<TraceId>, Packets)> = stream
            .sources
            .iter()
            .filter_map(|source| Some((source.trace_id, Packets::of(&source.protocol)?)))
            .collect();
        if named.is_empty() || self.reads() {
            return None;
        }
        let [plain, framed] = best(&self.wire.beginning);
        let is_framed = matches!(self.settings.framing(), Framing::Tpiu(_));
        let right = if is_framed { framed.or(plain) } else { plain.or(framed) }?;
        let is_named = |&(source, packets): &(Option<TraceId>, Packets)| {
            packets == right.packets && source == right.source
        };
        let &(_, stated) = named.first()?;
        (!named.iter().any(is_named)).then(|| other_reading(is_framed, stated, &right))
    }

    /// Whether the bytes read as what they are said to be.
    fn reads(&self) -> bool {
        let wire = self.wire;
        let branches = wire.packets(Kind::Branch) + wire.packets(Kind::ExceptionalBranch);
        if branches > 0 {
            // Any eight bytes are a branch.
            return Packets::Mtb.fit(&wire.beginning).is_good();
        }
        let is_itm = self.settings.sources > 0;
        let begins = is_itm || wire.packets(Kind::TraceInfo) + wire.packets(Kind::TraceOn) > 0;
        let most_lost = if is_itm && self.settings.framing() == Framing::None { 0.05 } else { 0.5 };
        wire.all_packets() > 0 && begins && self.lost_part() <= most_lost
    }

    /// No synchronisation, and what is there does not read.
    pub(super) fn not_this_protocol(&self) -> Option<Finding> {
        let is_itm = self.settings.sources > 0;
        if !is_itm || self.wire.packets(Kind::Sync) > 0 || self.lost_part() <= 0.05 {
            return None;
        }
        self.starts_inside().or_else(|| {
            Some(fault(
                "no_synchronisation",
                format!("There is no synchronisation in {} bytes, and {:.0} % of them are no ITM packets: the bit rate is wrong, or this is not ITM.", self.wire.raw_bytes, 100.0 * self.lost_part()),
                "Compare the probe's bit rate with trace clock / (TPIU_ACPR + 1), check the core clock that it was computed from, and the encoding (UART or Manchester, TPIU_SPPR).",
            ))
        })
    }

    /// The recording starts inside a packet, and no synchronisation says where the next one is.
    pub(super) fn starts_inside(&self) -> Option<Finding> {
        let beginning = &self.wire.beginning;
        let skipped = (1..8.min(beginning.len()))
            .find(|&skip| Packets::Itm.fit(&beginning[skip..]).reads())?;
        Some(fault(
            "starts_inside",
            format!(
                "The recording starts inside a packet and never synchronises; from byte {skipped} on it reads well."
            ),
            format!(
                "Turn synchronisation on (ITM_TCR.SYNCENA, DWT_CTRL.SYNCTAP = 1), or start recording before the target. To read this one, cut off what stands before byte {skipped}."
            ),
        ))
    }

    /// An instruction trace, or the frames around it, without one place at which reading could begin.
    pub(super) fn nowhere_to_begin(&self) -> Option<Finding> {
        let of_instructions = |source: &SourceSpec| {
            matches!(source.protocol, Protocol::Etmv3(_) | Protocol::Etmv4(_))
        };
        let is_meant = self.settings.stream?.sources.iter().all(of_instructions);
        if !is_meant || self.wire.packets(Kind::Sync) > 0 {
            return None;
        }
        let framed =
            matches!(self.settings.framing(), Framing::Tpiu(_)) && self.wire.frame_syncs == 0;
        let bytes = self.wire.raw_bytes;
        Some(if framed {
            fault(
                "no_synchronisation",
                format!(
                    "There is no synchronisation of formatter frames in {bytes} bytes: nothing says where a frame begins."
                ),
                "Let the port synchronise: DWT_CTRL.CYCCNTENA and SYNCTAP = 1 (Armv7-M), TPIU_PSCR (Armv8-M); `plan` writes both. Record longer than it takes them to come (2^24 cycles on Armv7-M), and start before the target runs. Read bytes that begin with a frame by `--framing tpiu-buffer`, and check that these are frames at all.",
            )
        } else {
            fault(
                "no_synchronisation",
                format!(
                    "There is no synchronisation in {bytes} bytes of instruction trace: nothing says where a packet begins."
                ),
                "Check the protocol, the framing and the trace ID; let the trace unit synchronise (TRCSYNCPR, ETMSYNCFR) within what is recorded.",
            )
        })
    }
}

/// What the bytes are, and how to say so.
fn other_reading(is_framed: bool, stated: Packets, right: &Reading) -> Finding {
    let &Reading { source, packets, fit } = right;
    let (name, title, count) = (packets.name(), packets.title(), fit.packets);
    let is_other = packets != stated;
    let protocol = if is_other { format!(", protocol = \"{name}\"") } else { String::new() };
    let option = if is_other { format!(" --protocol {name}") } else { String::new() };
    match (is_framed, source) {
        (false, Some(id)) => fault(
            "framed",
            format!(
                "These bytes are formatter frames, but they are read as plain {}: as frames, source {id} gives {count} sound packets of {title}.",
                stated.title()
            ),
            format!(
                "Set framing = \"tpiu\" with trace_id = {id}{protocol} (or --framing tpiu --trace-id {id}{option}), or switch the formatter off (TPIU_FFCR.EnFCont = 0)."
            ),
        ),
        (true, None) => fault(
            "not_framed",
            format!(
                "These bytes are plain {title}, but they are read as formatter frames: read plainly they give {count} sound packets."
            ),
            format!(
                "Set framing = \"none\"{protocol} (or leave --framing out{}).",
                if is_other { format!(", and give{option}") } else { String::new() }
            ),
        ),
        (true, Some(id)) => fault(
            if is_other { "wrong_protocol" } else { "other_source" },
            format!(
                "What is named does not read as {}, but source {id} reads as {title}: {count} sound packets.",
                stated.title()
            ),
            format!("Set trace_id = {id}{protocol} (or --trace-id {id}{option})."),
        ),
        (false, None) => fault(
            "wrong_protocol",
            format!(
                "These bytes do not read as {}; they read as {title}: {count} sound packets.",
                stated.title()
            ),
            format!("Set protocol = \"{name}\" (or --protocol {name})."),
        ),
    }
}
