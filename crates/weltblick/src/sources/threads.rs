//! Threads of an instruction trace: who they are must be known before their turns are told.

use super::kept::kept_if;
use super::{Beside, Capture, Part, flow_index};
use anyhow::Result;
use std::borrow::Cow;
use weltblick_core::event::{FlowEvents, Origin, Sink};
use weltblick_core::image::Image;
use weltblick_core::measure::execution::{Calls, Found, Roster, TaskEvents, Threads};
use weltblick_core::measure::timeline::{TurnList, Turns};

impl Capture {
    /// The same; whoever reads events hears of tasks, where nothing but an instruction trace tells.
    pub(crate) const fn telling_tasks(mut self) -> Self {
        self.tells_tasks = true;
        self
    }

    /// Who the threads are, if they are told.
    pub(super) fn roster(&self) -> Result<Option<&Roster>> {
        let told = self.tells_tasks && self.tells_events_by_flow();
        if told && !self.reads_standard_input() { self.threads_known().map(Some) } else { Ok(None) }
    }

    /// Who the threads of the instruction trace are: all is read for it, once; of a long one that is kept.
    fn threads_known(&self) -> Result<&Roster> {
        if let Some(roster) = self.roster.get() {
            return Ok(roster);
        }
        let found = kept_if(flow_index::key(self), "threads", || self.find_threads())?;
        Ok(self.roster.get_or_init(|| found))
    }

    fn find_threads(&self) -> Result<Roster> {
        let image = self.image()?;
        let calls = Calls::new(image, self.flow_clocking());
        let (_, calls) = Part::default().follow(self, &[], &mut Beside::default(), calls)?;
        Ok(Roster::of(&calls, image))
    }

    /// All turns of tasks, where nothing but an instruction trace tells of them: what is asked for by its number
    /// is found there. All is read for it, once; of a long trace that is kept. `None` where other streams tell,
    /// or only a part is asked for.
    pub(crate) fn turns(&self) -> Result<Option<&Turns>> {
        if !self.tells_events_by_flow() || !self.part.is_all() || self.reads_standard_input() {
            return Ok(None);
        }
        if let Some(turns) = self.turns.get() {
            return Ok(Some(turns));
        }
        let found = kept_if(flow_index::key(self), "turns", || self.find_turns())?;
        Ok(Some(self.turns.get_or_init(|| found)))
    }

    fn find_turns(&self) -> Result<Turns> {
        let (image, roster) = (self.image()?, self.threads_known()?);
        let mut list = TurnList::default();
        let sink: &mut dyn Sink = &mut list;
        let events = FlowEvents::new(Origin(0), self.flow_clocking(), sink);
        let mut events = TaskEvents::new(Some(self.threads(image, roster)), events);
        self.replay_flow(&mut events)?;
        events.finish();
        Ok(list.finish(|address| image.text_at(address)))
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
        let sink: &mut dyn Sink = &mut ();
        let events = FlowEvents::new(Origin(0), self.flow_clocking(), sink)
            .between((found.offset, found.cycles), until);
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
