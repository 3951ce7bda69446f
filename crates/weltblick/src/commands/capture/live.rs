//! The live view: keys in, figures out.

use super::watch::Watch;
use crate::sources::live::Outbox;
use anyhow::Result;

pub(super) struct Screen;

impl Screen {
    pub(super) fn open(_capacity: Option<f64>, _outbox: Outbox) -> Result<Self> {
        Ok(Self)
    }

    pub(super) fn tell(&mut self, _line: &str) {}

    pub(super) fn tick(&mut self, _watch: &Watch<'_>) -> Result<bool> {
        Ok(false)
    }
}
