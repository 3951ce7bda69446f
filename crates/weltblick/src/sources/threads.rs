//! Threads of an instruction trace: who they are must be known before their turns are told.

use super::Capture;
use anyhow::Result;
use std::borrow::Cow;
use weltblick_core::event::{FlowEvents, Origin};
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{Calls, Found, Roster, TaskEvents, Threads};

impl Capture {
    /// The same; whoever reads events hears of tasks, where nothing but an instruction trace tells.
    pub(crate) const fn telling_tasks(mut self) -> Self {
        self.tells_tasks = true;
        self
    }

    /// Who the threads are, if they are told: all is read for it, once.
    pub(super) fn roster(&self) -> Result<Option<&Roster>> {
        if !self.tells_tasks || !self.tells_events_by_flow() || self.reads_standard_input() {
            return Ok(None);
        }
        if let Some(roster) = self.roster.get() {
            return Ok(Some(roster));
        }
        let image = self.image()?;
        let mut calls = Calls::new(image, self.flow_clocking());
        let read = if self.is_worth_two_cores() {
            let (read, followed) = calls.apart(|ahead| self.replay_flow(ahead));
            calls = followed;
            read
        } else {
            self.replay_flow(&mut calls)
        };
        read?;
        calls.catch_up();
        Ok(Some(self.roster.get_or_init(|| Roster::of(&calls, image))))
    }

    /// The same for a part of a long trace, as far as that part tells.
    pub(super) fn roster_near(&self, found: Found, until: u64) -> Result<Option<Cow<'_, Roster>>> {
        if !self.tells_tasks {
            return Ok(None);
        }
        if let Some(roster) = self.roster.get() {
            return Ok(Some(Cow::Borrowed(roster)));
        }
        let image = self.image()?;
        let events = FlowEvents::new(Origin(0), ()).between((found.offset, found.cycles), until);
        let nobody = Roster::default();
        let mut part = TaskEvents::new(Some(self.threads(image, &nobody)), events);
        self.replay_flow_near(found.offset, &mut part)?;
        Ok(Some(Cow::Owned(part.roster().unwrap_or_default())))
    }

    /// What tells whose turn it is.
    pub(super) fn threads<'c>(&'c self, image: &'c Image, roster: &'c Roster) -> Threads<'c> {
        Threads::new(image, roster, Calls::new(image, self.flow_clocking()))
    }
}
