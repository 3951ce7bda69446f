//! What ran, as flow tells it and as the stand-in knows it.

use weltblick_core::flow::{Block, Gap, Moment, Sink};
use weltblick_core::image::Image;
use weltblick_core::isa::{Isa, instruction_length};
use weltblick_standin::Machine;

pub(crate) const FIRMWARE: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");

pub(crate) fn image() -> Image {
    Image::parse(FIRMWARE).unwrap()
}

/// The addresses of all instructions that ran, gap by gap.
pub(crate) struct Executed<'a> {
    image: &'a Image,
    pub(crate) segments: Vec<Vec<u32>>,
    pub(crate) gaps: Vec<(u64, Gap)>,
    pub(crate) cycles: u64,
    lost: bool,
}

impl<'a> Executed<'a> {
    pub(crate) fn new(image: &'a Image) -> Self {
        Self { image, segments: Vec::new(), gaps: Vec::new(), cycles: 0, lost: true }
    }

    fn push(&mut self, start: u64, until: u64) {
        let segment = self.segments.last_mut().expect("it arrived somewhere");
        let bytes = self.image.instructions_from(start).unwrap();
        let mut at = start;
        while at < until {
            segment.push(at as u32);
            at += instruction_length(Isa::Thumb, &bytes[(at - start) as usize..]).unwrap();
        }
    }
}

impl Sink for Executed<'_> {
    fn ran(&mut self, block: &Block, _: bool) {
        self.push(block.start, block.after());
    }
    fn ran_part(&mut self, block: &Block, until: u64, _: u32) {
        self.push(block.start, until);
    }
    fn arrived(&mut self, _: &Block) {
        if std::mem::take(&mut self.lost) {
            self.segments.push(Vec::new());
        }
    }
    fn moment(&mut self, offset: u64, moment: &Moment) {
        match *moment {
            Moment::Gap(gap) => {
                self.gaps.push((offset, gap));
                self.lost = true;
            }
            Moment::Cycles(cycles) => self.cycles += u64::from(cycles.unwrap()),
            _ => {}
        }
    }
}

/// Every segment is what the trace unit told, instruction for instruction; where it ends in a gap, so many
/// of the last instructions may be missing.
pub(crate) fn compare(machine: &Machine, executed: &Executed<'_>, open: usize) -> usize {
    let truth = machine.truth().addresses.as_ref().unwrap();
    let told = machine.trace().etm().segments();
    let few = &executed.gaps[..executed.gaps.len().min(5)];
    assert_eq!(executed.segments.len(), told.len(), "segments; gaps {few:?}");
    for (number, (found, told)) in executed.segments.iter().zip(told).enumerate() {
        let first = told.first as usize;
        let truth = &truth[first..first + told.told as usize];
        let equal = truth.starts_with(found) && truth.len() <= found.len() + open;
        if !equal {
            let place = found.iter().zip(truth).take_while(|(a, b)| a == b).count();
            let near = |list: &[u32]| {
                list.iter()
                    .skip(place.saturating_sub(4))
                    .take(8)
                    .map(|a| format!("{a:x}"))
                    .collect::<Vec<_>>()
            };
            panic!(
                "segment {number}: {} instructions instead of {}, equal up to {place}: {:?} instead of {:?}; gaps {:?}",
                found.len(),
                truth.len(),
                near(found),
                near(truth),
                few,
            );
        }
    }
    executed.segments.iter().map(Vec::len).sum()
}

/// `DWT_COMPn`, `DWT_MASKn`, `DWT_FUNCTIONn` of a comparator that watches instructions.
pub(crate) fn comparator(number: u32, address: u64, mask: u32) -> [(u32, u32); 3] {
    let base = 0xe000_1020 + 16 * number;
    [(base, address as u32), (base + 4, mask), (base + 8, 0b1000)]
}

/// Whether `found` stands in `truth`, from some place after `from` on; where it ends.
pub(crate) fn stands_in(found: &[u32], truth: &[u32], from: usize) -> Option<usize> {
    let start = truth[from..].windows(found.len()).position(|window| window == found)?;
    Some(from + start + found.len())
}
