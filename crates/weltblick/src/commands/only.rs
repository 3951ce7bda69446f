//! `--only`: a part of an instruction trace.

use crate::sources::Capture;
use anyhow::{Context as _, Result, bail};
use weltblick_core::budget::{Point, PointRange, address_of};
use weltblick_core::flow::{Clocking, Code, Edge, Only, Sink};

/// Counts only a part of an instruction trace.
#[derive(Debug, clap::Args, Default)]
pub(crate) struct OnlyArgs {
    /// Only what ran from one point to another, each time: code (`kernel_start..wave_filter`), bytes of
    /// the trace or times; either side may be left out
    #[arg(long, value_name = "POINT..POINT")]
    pub(crate) only: Option<PointRange>,
}

/// A part of an instruction trace.
#[derive(Debug, Default)]
pub(crate) struct Part {
    from: Option<Edge>,
    until: Option<Edge>,
    /// Times are those of the whole recording.
    one_clock: bool,
}

impl OnlyArgs {
    /// What is meant by it in this capture.
    pub(crate) fn part(&self, capture: &Capture) -> Result<Part> {
        let Some(range) = &self.only else { return Ok(Part::default()) };
        if !capture.has_flow() {
            bail!("--only takes a part of an instruction trace, and this capture has none");
        }
        let edge = |point: &Option<Point>| point.as_ref().map(|point| edge(point, capture));
        Ok(Part {
            from: edge(&range.start).transpose()?,
            until: edge(&range.end).transpose()?,
            one_clock: false,
        })
    }
}

fn edge(point: &Point, capture: &Capture) -> Result<Edge> {
    Ok(match point {
        Point::Time(time) => {
            let clock = capture.manifest.target.core_clock.context(
                "--only: a time needs the core clock: give --core-clock, or `core_clock` in the manifest",
            )?;
            if capture.flow_clocking() != Clocking::Cycles {
                bail!("--only: this instruction trace counts no cycles: name code or bytes");
            }
            Edge::Cycles(clock.cycle_at(*time))
        }
        Point::Byte { stream, offset } => {
            let name = capture.flow_stream_name();
            if *stream != name {
                bail!(
                    "--only: the instruction trace of this capture is called `{name}`, not `{stream}`"
                );
            }
            Edge::Byte(*offset)
        }
        Point::First | Point::Last | Point::Event(_) | Point::Occurrence(_) => {
            bail!(
                "--only: `{point}` is no place in an instruction trace; name code, a time or a byte"
            )
        }
        code => Edge::Address(
            address_of(code, capture.image()?).with_context(|| format!("--only: `{code}`"))?,
        ),
    })
}

impl Part {
    /// Whether it is all of the recording.
    pub(crate) const fn is_all(&self) -> bool {
        self.from.is_none() && self.until.is_none()
    }

    /// The same; what tells time tells it of all of the recording.
    pub(crate) fn on_one_clock(self) -> Self {
        Self { one_clock: true, ..self }
    }

    /// Tells this part to a sink; blocks begin at its edges, and at these addresses.
    pub(crate) fn replay<'c, S: Sink>(
        &self,
        capture: &'c Capture,
        cuts: &[u64],
        sink: &mut S,
    ) -> Result<Code<'c>> {
        let cuts = self.cuts(cuts);
        if self.is_all() {
            return capture.replay_flow_cut(&cuts, sink);
        }
        let only = Only::new(self.from, self.until, sink);
        let mut only = if self.one_clock { only.on_one_clock() } else { only };
        capture.replay_flow_cut(&cuts, &mut only)
    }

    fn cuts(&self, further: &[u64]) -> Vec<u64> {
        let edges = [self.from, self.until].into_iter().flatten();
        let places = edges.filter_map(|edge| match edge {
            Edge::Address(address) => Some(address),
            Edge::Byte(_) | Edge::Cycles(_) => None,
        });
        further.iter().copied().chain(places).collect()
    }
}
