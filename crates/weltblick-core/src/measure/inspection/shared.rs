//! Events that share a synchronous timestamp: how much later than they it may be.

use super::gather::Settings;
use crate::event::{Event, OneTick, Position};
use crate::time::Frequency;
use schemars::JsonSchema;
use serde::Serialize;

/// Follows groups of events that have the same latest time.
#[derive(Debug, Default)]
pub(super) struct Shared {
    group: Group,
    /// Events that have a time only because a later one has it.
    events: u64,
    /// All events with a time.
    dated: u64,
    /// Ticks from the timestamp before to theirs: at most, and added up.
    widest: u64,
    ticks: u64,
    /// Core cycles that lay at least between events of one group.
    apart: u32,
}

#[derive(Debug, Default)]
struct Group {
    latest: u64,
    /// Events, and how wide the windows of the first and the last are.
    events: u64,
    first: u64,
    last: u64,
    so_far: OneTick,
    apart: u32,
}

/// Events whose time is known less well than it could be.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct SharedTimestamps {
    /// Events that share a synchronous timestamp with a later one.
    pub events: u64,
    /// Of so many events that have a time.
    pub of: u64,
    /// How long before their timestamp they may have been, at most; nanoseconds, ticks where no clock is known.
    pub before_max: f64,
    /// How long before it on average.
    pub before_mean: f64,
    /// Not all of them can be of the tick of their timestamp: setting `timestamp_dates_group` would be wrong.
    pub excluded: bool,
}

impl Shared {
    #[inline]
    pub(super) fn add(&mut self, position: Position, event: &Event) {
        let Some(window) = position.time else { return };
        if window.latest != self.group.latest {
            self.close();
            self.group.latest = window.latest;
        }
        if matches!(event, Event::Lost { .. } | Event::ClockFault(_)) {
            self.close();
            return;
        }
        self.dated += 1;
        let group = &mut self.group;
        group.apart = group.apart.max(group.so_far.apart(event));
        group.events += 1;
        group.last = window.latest - window.earliest;
        if group.events == 1 {
            group.first = group.last;
        }
    }

    /// The group has ended. A delayed timestamp leaves its last event as uncertain as its first.
    fn close(&mut self) {
        let latest = self.group.latest;
        let group = std::mem::replace(&mut self.group, Group { latest, ..Group::default() });
        let wider = group.first.saturating_sub(group.last);
        if group.events > 1 && wider > 0 {
            self.events += group.events - 1;
            self.ticks = self.ticks.saturating_add(wider.saturating_mul(group.events - 1));
            self.widest = self.widest.max(wider);
            self.apart = self.apart.max(group.apart);
        }
    }

    /// What the setting would sharpen; absent where nothing is shared.
    pub(super) fn report(
        &self,
        settings: &Settings<'_>,
        clock: Option<Frequency>,
    ) -> Option<SharedTimestamps> {
        if self.events == 0 {
            return None;
        }
        let itm = settings.itm()?;
        let time = |ticks: f64| clock.map_or(ticks, |clock| ticks * 1e9 / clock.hertz());
        // A clock of its own may be slower than the core's by any factor.
        let excluded = itm.timestamp_clock.is_none() && self.apart > itm.timestamp_prescaler;
        Some(SharedTimestamps {
            events: self.events,
            of: self.dated,
            before_max: time(self.widest as f64),
            before_mean: time(self.ticks as f64 / self.events as f64),
            excluded,
        })
    }
}
