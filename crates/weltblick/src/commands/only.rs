//! `--only`: a part of an instruction trace.

use super::within;
use crate::sources::{Capture, Part};
use anyhow::{Context as _, Result, bail};
use weltblick_core::flow::{Clocking, Edge};
use weltblick_core::image::{FunctionId, Image};
use weltblick_core::judge::{Point, PointRange, address_of};
use weltblick_core::measure::coverage::Choice;

/// Which code rows are about.
#[derive(Debug, clap::Args, Default)]
pub(crate) struct CodeArgs {
    /// Only functions or files of this name (`*` stands for anything), or functions that start in this range
    /// (`0x08000100..0x08000200`)
    #[arg(long, value_name = "PATTERN")]
    pub(crate) inside: Vec<String>,
    /// Not these
    #[arg(long, value_name = "PATTERN")]
    pub(crate) exclude: Vec<String>,
}

impl CodeArgs {
    /// What is meant.
    pub(crate) fn choice(&self) -> Choice {
        let (inside, exclude) = (self.inside.clone(), self.exclude.clone());
        Choice { inside, exclude, ..Choice::default() }
    }

    /// Whether all code is meant.
    pub(crate) const fn is_all(&self) -> bool {
        self.inside.is_empty() && self.exclude.is_empty()
    }

    /// The functions of the image that are meant, and `None` for code that lies in none.
    pub(crate) fn functions(&self, image: &Image) -> Vec<Option<FunctionId>> {
        let named = (0..).map(|number| Some(FunctionId(number))).zip(image.functions());
        let names = named.map(|(id, function)| (id, function.name.as_str()));
        let all = names.chain([(None, "[code without a name]")]);
        all.filter(|&(id, name)| self.takes(name, id, image)).map(|(id, _)| id).collect()
    }

    /// Whether a row with this function, file and address is meant, as far as it has them. Rows that are no code are
    /// not.
    pub(crate) fn takes_row(
        &self,
        [function, file, address]: [Option<&str>; 3],
        image: &Image,
    ) -> bool {
        let digits = address.and_then(|address| address.strip_prefix("0x"));
        let address = digits.and_then(|digits| u64::from_str_radix(digits, 16).ok());
        let named = function.and_then(|name| image.functions_named(name).first().copied());
        let start = address.or_else(|| Some(image.function(named?).range.start));
        let has_code = function.or(file).is_some() || address.is_some();
        has_code && self.choice().takes(function.unwrap_or_default(), file, start)
    }

    /// Whether a function of the image is meant, or a name that is none.
    pub(crate) fn takes(&self, name: &str, function: Option<FunctionId>, image: &Image) -> bool {
        let choice = self.choice();
        let Some(function) = function.map(|id| image.function(id)) else {
            return choice.takes(name, None, None);
        };
        let start = function.range.start;
        let file = image.location_at(start).map(|place| place.file);
        choice.takes(&function.name, file.as_deref(), Some(start))
    }
}

/// Counts only a part of an instruction trace.
#[derive(Debug, clap::Args, Default)]
pub(crate) struct OnlyArgs {
    /// Only what ran from one point to another, each time: code (`kernel_start..wave_filter`), bytes of
    /// the trace, times or occurrences (`irq:adc_ready[3]..`); either side may be left out
    #[arg(long, value_name = "POINT..POINT")]
    pub(crate) only: Option<PointRange>,
}

impl OnlyArgs {
    /// The capture, its events told of this part only.
    pub(crate) fn of_events(&self, capture: Capture) -> Result<Capture> {
        if self.only.is_some() && !capture.tells_events_by_flow() {
            bail!(
                "--only takes a part of an instruction trace that tells of exceptions: one that counts cycles or has timestamps, without an ITM beside it, or read with --flow-only. --within takes a stretch of time of any recording"
            );
        }
        let part = self.part(&capture)?;
        Ok(capture.telling(part))
    }
}

impl OnlyArgs {
    /// What is meant by it in this capture.
    pub(crate) fn part(&self, capture: &Capture) -> Result<Part> {
        let Some(range) = &self.only else { return Ok(Part::default()) };
        if !capture.has_flow() {
            bail!("--only takes a part of an instruction trace, and this capture has none");
        }
        part_between(range, capture).context("--only")
    }
}

/// What ran from one point to another in a capture that has an instruction trace.
pub(super) fn part_between(range: &PointRange, capture: &Capture) -> Result<Part> {
    let edge = |point: &Option<Point>| point.as_ref().map(|point| edge(point, capture));
    Ok(Part::new(edge(&range.start).transpose()?, edge(&range.end).transpose()?))
}

fn edge(point: &Point, capture: &Capture) -> Result<Edge> {
    Ok(match point {
        Point::Time(_) | Point::Event(_) | Point::Occurrence(_) => {
            if capture.flow_clocking() == Clocking::Nothing {
                bail!(
                    "this instruction trace counts no cycles and has no timestamps: name code or bytes"
                );
            }
            Edge::Cycles(within::in_flow(point, capture)?.latest)
        }
        Point::Byte { stream, offset } => {
            let name = capture.flow_stream_name();
            if *stream != name {
                bail!("the instruction trace of this capture is called `{name}`, not `{stream}`");
            }
            Edge::Byte(*offset)
        }
        Point::First | Point::Last => {
            bail!(
                "`{point}` is no edge; leave that side out, or name code, a time, an event or a byte"
            )
        }
        code => {
            Edge::Address(address_of(code, capture.image()?).with_context(|| format!("`{code}`"))?)
        }
    })
}
