//! What is known of the figures of a span.

use super::stated::{StatedSpan, StatedSpans};
use crate::figure::Doubt;
use crate::measure::known::{
    Ask, Facts, Found, Measure, Missing, OpenRuns, counted, no_such_figure, relied, spread,
    spread_or_open, weigh_silence,
};

impl StatedSpans {
    /// What is known of a figure of a span.
    ///
    /// # Errors
    ///
    /// Why nothing is.
    pub fn figure(&self, row: &StatedSpan, ask: Ask, facts: &Facts) -> Found {
        let scale = facts.scale()?;
        let hiding = facts.hiding(ask, self.gap_ticks, scale);
        let missing = Missing::new(self.gaps, row.cut, hiding);
        let apart = missing.apart(&row.bridges, &row.period);
        let of = ask.of;
        let mut found = match ask.measure {
            Measure::Elapsed => {
                let open =
                    OpenRuns { count: row.open_count, longest: row.open_elapsed, is_exact: true };
                let lasting = missing.lasting(row.hidden);
                let mut found = spread_or_open(&row.elapsed, of, &lasting, open, scale)?;
                open.weigh(&mut found, &row.elapsed, of, scale);
                if row.overlapping > 0 {
                    found.doubt(Doubt::Overlapping { count: row.overlapping });
                }
                found
            }
            Measure::Period => {
                let mut found = spread(&row.period, of, &apart, scale)?;
                weigh_silence(&mut found, row.silence(facts.end), &row.period, of, scale);
                found
            }
            Measure::Jitter => spread(&row.jitter, of, &apart.unsummed(), scale)?,
            Measure::Count => counted(row.count, &missing, 1.0),
            Measure::Rate => facts.rate(row.count, &missing, scale),
            _ => return Err(no_such_figure()),
        };
        if row.reused {
            found.doubt(Doubt::NumberReused);
        }
        relied(ask, &missing, &mut found);
        facts.weigh(ask, ask.rests(false), &mut found);
        Ok(found)
    }
}
