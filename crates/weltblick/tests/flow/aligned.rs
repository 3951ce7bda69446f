//! Where an instruction trace with gaps lies in the time of an ITM, held against when things happened.

use crate::calls::By;
use crate::executed::{FIRMWARE, image};
use crate::recording::traced;
use std::collections::{HashMap, VecDeque};
use weltblick_core::event::{self, Event, FlowEvents, LossReason, Origin, Position, Sink as _};
use weltblick_core::flow::Clocking;
use weltblick_core::image::Image;
use weltblick_core::measure::alignment::{Alignment, Witness};
use weltblick_core::time::Window;
use weltblick_standin::Machine;

/// The ITM's clock began so many cycles before the core did.
const LATER: u64 = 1_000_000;
/// Cycles by which two sources may tell an entry apart.
const NEAR: u64 = 80;

/// Which exceptions were entered, and when, stretch by stretch.
struct Stretches(Vec<Vec<(u16, Option<Window>)>>);

impl event::Sink for Stretches {
    fn event(&mut self, position: Position, event: &Event) {
        match (event, self.0.last_mut()) {
            (Event::Lost { .. }, _) => self.0.push(Vec::new()),
            (&Event::Entered { exception }, Some(now)) => now.push((exception, position.time)),
            _ => {}
        }
    }
}

/// What an ITM would tell of all exceptions, but for those that it drops.
fn itm(machine: &Machine, drops: std::ops::Range<usize>) -> Witness {
    let mut witness = Witness::default();
    for (number, record) in machine.truth().exceptions.iter().enumerate() {
        let at = record.entered + LATER;
        let time = Some(Window { earliest: at - number as u64 % 40, latest: at });
        let event = match drops.contains(&number) {
            true => Event::Lost { bytes: 0..0, why: LossReason::Overflow },
            false => Event::Entered { exception: record.number },
        };
        witness.event(Position::new(Origin(0), 0, time), &event);
    }
    witness
}

/// For each stretch that was told: which exceptions were really entered in it, and when. Each is known by the
/// first instruction of its handler.
fn really(machine: &Machine, image: &Image) -> Vec<Vec<(u16, u64)>> {
    let truth = machine.truth();
    let mut begins: HashMap<u64, VecDeque<u64>> = HashMap::new();
    for (number, &pc) in (0_u64..).zip(truth.addresses.as_ref().unwrap()) {
        begins.entry(u64::from(pc)).or_default().push_back(number);
    }
    let mut all = Vec::new();
    for record in &truth.exceptions {
        let handler = image.vector(record.number).unwrap().handler.unwrap();
        let start = image.function(handler).range.start;
        // The last may not have begun.
        let Some(number) = begins.get_mut(&start).and_then(VecDeque::pop_front) else { break };
        all.push((number, record.number, record.entered));
    }
    let inside = |first: u64, told: u64| {
        let those = all.iter().filter(|(number, ..)| (first..first + told).contains(number));
        those.map(|&(_, exception, at)| (exception, at)).collect()
    };
    let segments = machine.trace().etm().segments();
    segments.iter().map(|segment| inside(segment.first, segment.told)).collect()
}

#[test]
fn stretches_lie_where_they_were() {
    let image = image();
    // Links that are full now and then.
    for (by, link) in
        [(By::Etmv4(8), 24_000_000), (By::Etmv4(256), 8_000_000), (By::Etmv3, 60_000_000)]
    {
        let (unit, tells, registers) = by.set_up();
        let mut machine = traced(FIRMWARE, unit, link, &registers);
        machine.run(30_000_000);
        let bytes = machine.take_trace();
        let told = Stretches(vec![Vec::new()]);
        let mut events = FlowEvents::new(Origin(0), Clocking::Cycles, (Witness::default(), told));
        tells.follow(&image, &[], (&bytes, 0), &mut events);
        events.finish();
        let (flow, told) = events.sink_mut();
        let alignment = Alignment::of(&itm(&machine, 700..730), flow);
        let really = really(&machine, &image);
        assert_eq!(told.0.len(), really.len(), "{by:?}");
        assert!(really.len() > 10, "{by:?}: {} gaps", really.len());
        let (mut placed, mut all) = (0, 0);
        for (number, (told, really)) in told.0.iter().zip(&really).enumerate() {
            let place = |told: &Option<Window>| told.and_then(|told| alignment.to_itm(told));
            let fits = |((number, told), (exception, real)): (&(u16, _), &(u16, u64))| {
                let real = real + LATER;
                number == exception
                    && place(told)
                        .is_none_or(|itm| itm.earliest <= real + NEAR && real <= itm.latest + NEAR)
            };
            // The first may lie before the first packet that says where execution is.
            let begins = (0..3).find(|&skip| told.iter().zip(really.iter().skip(skip)).all(fits));
            assert!(begins.is_some(), "{by:?}, stretch {number}: {told:?} {really:?}");
            all += told.len();
            placed += told.iter().filter(|(_, told)| place(told).is_some()).count();
        }
        assert!(placed * 10 > all * 8, "{by:?}: {placed} of {all} have a place");
    }
}
