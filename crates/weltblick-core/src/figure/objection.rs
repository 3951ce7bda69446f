//! What speaks against figures, as results state it.

use super::doubt::Doubt;
use schemars::JsonSchema;
use serde::Serialize;

/// Something that speaks against a figure.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct Objection {
    /// A stable word for programs.
    pub code: String,
    /// Why it speaks against the figure.
    pub why: String,
    /// What would help.
    pub advice: String,
    /// The first place in the recording, in nanoseconds since it began; absent where all of it is meant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from_ns: Option<f64>,
    /// The last place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until_ns: Option<f64>,
}

/// What speaks against some figures of a row.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ObjectionRow {
    /// Which, as the result calls them: `own.max`, or `own` where it touches all of these.
    pub figures: Vec<String>,
    /// What speaks against them.
    #[serde(flatten)]
    pub objection: Objection,
}

impl From<&Doubt> for Objection {
    fn from(doubt: &Doubt) -> Self {
        let (from_ns, until_ns) =
            doubt.within().map(|within| (within.from_ns, within.until_ns)).unzip();
        let (code, why, advice) = (doubt.code().into(), doubt.why(), doubt.advice());
        Self { code, why, advice, from_ns, until_ns }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::figure::Interval;

    #[test]
    fn what_lies_in_a_stretch_of_the_recording_says_where() {
        let within = |from_ns, until_ns| Some(Interval { from_ns, until_ns });
        let at = |within| Objection::from(&Doubt::ClockChanged { times: 2, within });
        let told = at(within(1e9, 2.5e9));
        assert!(told.why.contains("(2 times, from 1.000000s to 2.500000s)"), "{}", told.why);
        assert_eq!((told.from_ns, told.until_ns), (Some(1e9), Some(2.5e9)));
        assert!(at(within(1e9, 1e9)).why.contains("(2 times, at 1.000000s)"));
        let nowhere = at(None);
        assert!(nowhere.why.contains("(2 times): ticks") && nowhere.from_ns.is_none());
        let stopped = Doubt::ClockStopped { places: 4, within: within(0.0, 3e9) };
        assert!(stopped.why().contains("in 4 places, from 0.000000s to 3.000000s: their clock"));
    }
}
