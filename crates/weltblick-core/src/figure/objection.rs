//! What speaks against figures, as results state it.

use super::doubt::Doubt;
use schemars::JsonSchema;
use serde::Serialize;

/// Something that speaks against a figure.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Objection {
    /// A stable word for programs.
    pub code: String,
    /// Why it speaks against the figure.
    pub why: String,
    /// What would help.
    pub advice: String,
}

/// The same, with the figures of a row that it touches.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ObjectionRow {
    /// Which, as the result calls them: `own.max`, or `own` where it touches all of these.
    pub figures: Vec<String>,
    /// What speaks against them.
    #[serde(flatten)]
    pub objection: Objection,
}

impl From<&Doubt> for Objection {
    fn from(doubt: &Doubt) -> Self {
        Self { code: doubt.code().into(), why: doubt.why(), advice: doubt.advice() }
    }
}
