//! Coverage of two builds of one source, added up by file and line.

use crate::executed::FIRMWARE;
use crate::recording::{self, ETM, FAST, Told, certain};
use std::collections::BTreeSet;
use weltblick_core::image::Image;
use weltblick_core::measure::coverage::{
    Build, Choice, CoverageReport, OtherSource, report, report_of_builds,
};
use weltblick_core::measure::execution::{BlockCounts, Listing, Seen};
use weltblick_standin::trace::Fitted;

/// The demo's firmware with other optimizations, from a source folder elsewhere.
const OTHER: &[u8] = include_bytes!("../firmware/wave-buoy-o1.elf");
const FOLDER: &str = "/ci/buoy/";

type Lines = BTreeSet<(String, u32)>;

struct Recorded {
    image: Image,
    listing: Listing,
    seen: Seen,
    /// Lines of which an instruction ran, as the stand-in knows it.
    ran: Lines,
}

impl Recorded {
    fn new(firmware: &[u8], cycles: u64) -> Self {
        let registers =
            [(ETM + 0x010, 1), (ETM + 0x034, 12), (ETM + 0x080, 1 | 1 << 9), (ETM + 4, 1)];
        let (machine, bytes) =
            recording::record_of(firmware, Fitted::default(), FAST, &registers, cycles);
        let image = Image::parse(firmware).unwrap();
        let listing = Listing::of(&image);
        let mut counts = BlockCounts::default();
        let code = Told::Etmv4(1).follow(&image, &[], (&bytes, 0), &mut counts);
        let seen = Seen::of_flow(&counts.into_tally(&code), &listing);
        let ran: BTreeSet<u32> = certain(&machine).iter().copied().collect();
        let ran = ran.iter().filter_map(|&address| line_of(&image, u64::from(address))).collect();
        Self { image, listing, seen, ran }
    }

    fn build(&self) -> Build<'_> {
        Build { image: &self.image, listing: &self.listing, seen: &self.seen }
    }

    /// Lines that have code.
    fn lines(&self) -> Lines {
        let instructions = self.listing.instructions.iter();
        instructions.filter_map(|listed| line_of(&self.image, listed.address)).collect()
    }
}

fn line_of(image: &Image, address: u64) -> Option<(String, u32)> {
    let location = image.location_at(address)?;
    let file = location.file.strip_prefix(FOLDER).unwrap_or(&location.file).to_owned();
    Some((file, location.line?))
}

fn lines_of(report: &CoverageReport, ran: bool) -> Lines {
    let rows = report.lines.iter().filter(|row| !ran || row.executions > 0);
    rows.map(|row| (row.file.clone(), row.line)).collect()
}

#[test]
fn a_line_ran_if_it_ran_in_any_build() {
    // The one is cut off before the tasks have done much, the other runs longer.
    let first = Recorded::new(FIRMWARE, 300_000);
    let second = Recorded::new(OTHER, 2_000_000);
    let choice = Choice::default();
    let alone = [&first, &second].map(|recorded| report(&recorded.build(), &choice));
    let both = report_of_builds(&[first.build(), second.build()], &choice).unwrap();
    assert_eq!(lines_of(&both, false), &first.lines() | &second.lines());
    assert_eq!(lines_of(&both, true), &first.ran | &second.ran);
    assert!(alone.iter().all(|alone| alone.total.lines.covered < both.total.lines.covered));
    assert_eq!(both.total.lines.total, both.lines.len() as u64);
    assert!(both.evidence.doubts.is_empty() && both.builds == 2);
    // The order does not matter to what ran.
    let turned = report_of_builds(&[second.build(), first.build()], &choice).unwrap();
    assert_eq!(turned.total, both.total);
    // A function is one, whatever the compiler cut off it; it ran if it ran in any build.
    let functions = |report: &CoverageReport, ran: bool| -> BTreeSet<String> {
        let rows = report.functions.iter();
        let rows = rows.filter(|row| !ran || row.measures.functions.covered > 0);
        rows.map(|row| row.function.split('.').next().unwrap().to_owned()).collect()
    };
    for ran in [false, true] {
        let [one, other] = alone.each_ref().map(|alone| functions(alone, ran));
        assert_eq!(functions(&both, ran), &one | &other);
    }
    // A branch that went both ways in neither build has not gone both ways.
    let ways = |report: &CoverageReport, file: &str, line: u32| {
        let row = report.lines.iter().find(|row| row.file.ends_with(file) && row.line == line);
        row.map_or(0, |row| row.branches.iter().flatten().filter(|&&way| way > 0).count())
    };
    for row in &both.lines {
        let most = alone.iter().map(|alone| ways(alone, &row.file, row.line)).sum::<usize>();
        assert!(ways(&both, &row.file, row.line) <= most, "{}:{}", row.file, row.line);
    }
}

#[test]
fn one_build_twice_is_that_build() {
    let one = Recorded::new(FIRMWARE, 300_000);
    let choice = Choice { inside: vec!["src/*".into()], ..Choice::default() };
    let alone = report(&one.build(), &choice);
    let twice = report_of_builds(&[one.build(), one.build()], &choice).unwrap();
    assert_eq!(twice.total, alone.total);
    assert_eq!(twice.never, alone.never);
    assert_eq!(twice.one_way.len(), alone.one_way.len());
    assert!(twice.one_way.iter().all(|row| row.build == Some(1)));
}

#[test]
fn other_source_is_refused() {
    let one = Recorded::new(FIRMWARE, 50_000);
    let other = include_bytes!("../firmware/hot.elf");
    let image = Image::parse(other).unwrap();
    let listing = Listing::of(&image);
    let seen = Seen { executed: vec![0; listing.instructions.len()], ..Seen::default() };
    let other = Build { image: &image, listing: &listing, seen: &seen };
    let why = report_of_builds(&[one.build(), other], &Choice::default()).unwrap_err();
    assert_eq!(why, (1, OtherSource::NothingShared));
}
