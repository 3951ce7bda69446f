//! A firmware image as plans look at it.

use super::measured::Measured;
use crate::image::{Image, Variables};

/// A firmware image as plans look at it.
#[derive(Debug, Clone, Copy)]
pub struct Program<'a> {
    /// Code.
    pub image: &'a Image,
    /// Variables.
    pub variables: &'a Variables,
    /// What an earlier recording says of it.
    pub measured: Option<&'a Measured>,
}
