//! Global timestamps, put together, beside the local ones.

use crate::event::Origin;
use crate::time::Frequency;
use crate::wire::itm::{Carried, Packet};
use schemars::JsonSchema;
use serde::Serialize;

/// Follows both clocks of one source.
#[derive(Debug, Default)]
pub(super) struct Globals {
    /// The first that had a packet.
    source: Option<Origin>,
    carried: Carried,
    count: u64,
    /// The first and the last number that was sent whole.
    first: Option<u64>,
    last: u64,
    /// Ticks of local timestamps so far.
    local: u64,
    /// Both clocks at the global timestamp before, if nothing was lost since.
    before: Option<(u64, u64)>,
    /// Ticks of both from one global timestamp to the next, nothing lost between, added up.
    both: (u64, u64),
}

/// What global timestamps say.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct GlobalTimestamps {
    /// How many were sent whole.
    pub count: u64,
    /// The first, in ticks of their clock.
    pub first: u64,
    /// The last.
    pub last: u64,
    /// How fast their clock is by the local timestamps.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hertz: Option<f64>,
}

impl Globals {
    pub(super) fn packet(&mut self, origin: Origin, packet: &Packet) {
        if origin != *self.source.get_or_insert(origin) {
            return;
        }
        self.carried.take(packet);
        match *packet {
            Packet::LocalTime { ticks, .. } => self.local += u64::from(ticks),
            // The high bits follow.
            Packet::GlobalTimeLow { wrapped: true, .. } => {}
            Packet::GlobalTimeLow { clock_changed, .. } => {
                if clock_changed {
                    self.before = None;
                }
                self.stamped();
            }
            Packet::GlobalTimeHigh { .. } => self.stamped(),
            // The counter of local timestamps may have wrapped.
            Packet::Overflow => self.before = None,
            _ => {}
        }
    }

    /// Bytes are missing, and maybe time.
    pub(super) const fn lost(&mut self) {
        self.before = None;
    }

    fn stamped(&mut self) {
        let Some(global) = self.carried.global() else { return };
        self.count += 1;
        self.first.get_or_insert(global);
        self.last = global;
        if let Some((before, local)) = self.before.replace((global, self.local))
            && let Some(ticks) = global.checked_sub(before)
        {
            self.both.0 = self.both.0.saturating_add(ticks);
            self.both.1 += self.local - local;
        }
    }

    /// What they say; a tick of local timestamps is so many cycles of a clock.
    pub(super) fn report(
        &self,
        prescaler: u32,
        clock: Option<Frequency>,
    ) -> Option<GlobalTimestamps> {
        let (global, local) = self.both;
        let hertz = clock
            .filter(|_| local > 0)
            .map(|clock| global as f64 / (local as f64 * f64::from(prescaler)) * clock.hertz());
        Some(GlobalTimestamps { count: self.count, first: self.first?, last: self.last, hertz })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wire::itm::Relation;

    #[test]
    fn the_clock_of_global_timestamps_is_found_by_the_local_ones() {
        let low = |bits, width, wrapped| Packet::GlobalTimeLow {
            bits,
            width,
            clock_changed: false,
            wrapped,
        };
        let local = |ticks| Packet::LocalTime { ticks, relation: Relation::Synchronous };
        let mut globals = Globals::default();
        let clock = Frequency::from_hertz(48e6);
        assert_eq!(globals.report(1, clock), None);
        globals.packet(Origin(0), &low(100, 26, false));
        for packet in [local(4000), low(200, 14, false), local(4000), low(300, 14, false)] {
            globals.packet(Origin(0), &packet);
        }
        globals.lost();
        let high = Packet::GlobalTimeHigh { bits: 1, width: 22 };
        for packet in [local(10), low(0, 26, true), high] {
            globals.packet(Origin(0), &packet);
        }
        let report = globals.report(1, clock).unwrap();
        assert_eq!((report.count, report.first, report.last), (4, 100, 1 << 26));
        assert_eq!(report.hertz, Some(1.2e6));
    }
}
