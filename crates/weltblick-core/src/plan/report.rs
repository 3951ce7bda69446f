//! Makes a plan: what the link must carry, what to write, how long to measure.

use super::basis::Basis;
use super::core::InstructionTrace;
use super::description::{Description, Instructions};
use super::error::PlanError;
use super::mtb;
use super::narrow::{Left, Narrow, Placed};
use super::program::Program;
use super::registers::{Register, Request, registers};
use super::ring::plan_ring;
use super::rows::{PlanReport, SCHEMA, Wanted, WatchRow};
use super::watch::{Watch, WatchError, resolve};
use crate::judge::{Point, address_of, ranges_of};

/// Makes a plan.
///
/// # Errors
///
/// What is missing, or cannot be done, and what to do instead.
pub fn plan(
    description: &Description,
    program: Option<Program<'_>>,
    wanted: &[Wanted],
) -> Result<PlanReport, PlanError> {
    let measured = program.and_then(|program| program.measured);
    let basis = Basis::new(description, measured)?;
    let watches = resolve(&description.observe.variables, program.map(|p| p.variables))?;
    let narrow = narrow(description.observe.instructions.as_ref(), program)?;
    let unit = basis.unit(watches.len());
    let placed = unit.map_or_else(Placed::default, |unit| unit.place(&narrow));
    let points = usize::from(narrow.start.is_some()) + usize::from(narrow.stop.is_some());
    let comparators = watches.len() + points;
    let built_in = usize::from(basis.core.comparators.min(4));
    if comparators > built_in {
        return Err(WatchError::TooMany { wanted: comparators, comparators: built_in }.into());
    }
    let divisor = basis.divisor()?;
    let mtb = unit.is_some_and(|unit| unit.kind == InstructionTrace::Mtb);
    let mtb = if mtb { mtb::place(description, program)? } else { None };
    let request = Request {
        plan: description,
        core: basis.core,
        link: basis.link,
        itm: basis.itm,
        formatter: basis.formatter,
        divisor,
        watches: &watches,
        unit,
        placed: &placed,
        mtb,
    };
    let mut doubts = basis.doubts();
    doubts.extend(mtb.into_iter().flat_map(|place| mtb::doubts(description, place, program)));
    doubts.extend(doubts_of(&placed.left));
    let program = program.map(|program| (program.image, program.variables));
    let ring = description.ring.as_ref().map(|ring| plan_ring(ring, program)).transpose()?;
    let link = basis.traces().then(|| basis.link_row(divisor));
    doubts.extend(ring.iter().flat_map(|ring| ring.doubts.iter().cloned()));
    Ok(PlanReport {
        schema: SCHEMA.into(),
        name: description.name.clone(),
        core: basis.core.name.into(),
        core_clock_hz: basis.clock.hertz(),
        proposal: if link.as_ref().is_none_or(|link| link.fits) { None } else { basis.proposal() },
        sources: basis.load_rows(),
        measuring: basis.measuring(wanted),
        buffer: basis.buffer(&narrow, &placed),
        ring,
        watches: watch_rows(&watches),
        registers: if basis.traces() { written(description, &request) } else { Vec::new() },
        unit,
        doubts,
        checklist: basis.checklist(),
        link,
    })
}

/// The core's registers, and those of the chip before and after them.
fn written(description: &Description, request: &Request<'_>) -> Vec<Register> {
    let Description { before, after, .. } = description;
    before.iter().cloned().chain(registers(request)).chain(after.iter().cloned()).collect()
}

/// The places that instruction trace is narrowed to.
fn narrow(
    instructions: Option<&Instructions>,
    program: Option<Program<'_>>,
) -> Result<Narrow, PlanError> {
    let Some(instructions) = instructions else { return Ok(Narrow::default()) };
    let image = program.map(|program| program.image);
    let nowhere = |text: &str, why: String| PlanError::Point { point: text.to_owned(), why };
    let find = |text: &String| {
        let point: Point = text.parse().map_err(|error| nowhere(text, format!("{error}")))?;
        match (&point, image) {
            (Point::Address(address), _) => Ok(*address & !1),
            (_, None) => Err(nowhere(text, "give --image to look names up".into())),
            (_, Some(image)) => {
                address_of(&point, image).map_err(|error| nowhere(text, error.to_string()))
            }
        }
    };
    let ranges = |texts: &[String]| {
        let found = |text: &String| {
            ranges_of(text, image).map_err(|error| nowhere(text, error.to_string()))
        };
        Ok::<_, PlanError>(texts.iter().map(found).collect::<Result<Vec<_>, _>>()?.concat())
    };
    Ok(Narrow {
        start: instructions.start.as_ref().map(find).transpose()?,
        stop: instructions.stop.as_ref().map(find).transpose()?,
        inside: ranges(&instructions.inside)?,
        exclude: ranges(&instructions.exclude)?,
    })
}

/// What the target cannot do of a narrowing.
fn doubts_of(left: &Left) -> Vec<String> {
    let Left { points, ranges } = left;
    let points = points.map(|why| {
        format!("Start and stop points are not applied on the target: {why}. `capture --window A..B` stops there instead, through a debug stub (intrusive).")
    });
    let ranges = ranges.map(|why| {
        format!("Ranges are not applied on the target: {why}. `capture --inside` and `--exclude` apply them when the trace is read.")
    });
    points.into_iter().chain(ranges).collect()
}

fn watch_rows(watches: &[Watch]) -> Vec<WatchRow> {
    let row = |(comparator, watch): (usize, &Watch)| WatchRow {
        comparator,
        name: watch.name.clone(),
        address: watch.address,
        bytes: watch.size,
    };
    watches.iter().enumerate().map(row).collect()
}
