//! Where an instruction trace with gaps lies in the time of an ITM, held against when things happened.

use crate::calls::By;
use crate::executed::{FIRMWARE, image};
use crate::recording::traced;
use weltblick_core::event::{self, Event, FlowEvents, LossReason, Origin, Position, Sink as _};
use weltblick_core::image::Image;
use weltblick_core::measure::alignment::{Alignment, Witness};
use weltblick_core::time::Window;
use weltblick_standin::Machine;

/// The ITM's clock began so many cycles before the core did.
const LATER: u64 = 1_000_000;
/// Cycles by which two sources may tell an entry apart.
const NEAR: u64 = 80;

/// When a handler was entered, stretch by stretch.
struct Stretches {
    exception: u16,
    entered: Vec<Vec<Option<Window>>>,
}

impl event::Sink for Stretches {
    fn event(&mut self, position: Position, event: &Event) {
        match (event, self.entered.last_mut()) {
            (Event::Lost { .. }, _) => self.entered.push(Vec::new()),
            (&Event::Entered { exception }, Some(now)) if exception == self.exception => {
                now.push(position.time);
            }
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
        witness.event(Position { origin: Origin(0), offset: 0, time }, &event);
    }
    witness
}

/// For each stretch that was told: when the handler was really entered in it.
fn really(machine: &Machine, image: &Image, exception: u16) -> Vec<Vec<u64>> {
    let handler = image.vector(exception).unwrap().handler.unwrap();
    let start = image.function(handler).range.start;
    let truth = machine.truth();
    let executed = truth.addresses.as_ref().unwrap();
    let begins = (0_u64..).zip(executed).filter(|(_, pc)| u64::from(**pc) == start);
    let records = truth.exceptions.iter().filter(|record| record.number == exception);
    let all: Vec<(u64, u64)> =
        begins.zip(records).map(|((number, _), record)| (number, record.entered)).collect();
    let inside = |first: u64, told: u64| {
        let those = all.iter().filter(|(number, _)| (first..first + told).contains(number));
        those.map(|(_, at)| *at).collect()
    };
    let segments = machine.trace().etm().segments();
    segments.iter().map(|segment| inside(segment.first, segment.told)).collect()
}

#[test]
fn stretches_lie_where_they_were() {
    let image = image();
    let exception = image.exception_named("adc_ready").unwrap();
    // Links that are full now and then.
    for (by, link) in
        [(By::Etmv4(8), 24_000_000), (By::Etmv4(256), 8_000_000), (By::Etmv3, 60_000_000)]
    {
        let (unit, tells, registers) = by.set_up();
        let mut machine = traced(FIRMWARE, unit, link, &registers);
        machine.run(30_000_000);
        let bytes = machine.take_trace();
        let told = Stretches { exception, entered: vec![Vec::new()] };
        let mut events = FlowEvents::new(Origin(0), (Witness::default(), told));
        tells.follow(&image, &[], (&bytes, 0), &mut events);
        events.finish();
        let (flow, told) = events.sink_mut();
        let alignment = Alignment::of(&itm(&machine, 700..730), flow);
        let really = really(&machine, &image, exception);
        assert_eq!(told.entered.len(), really.len(), "{by:?}");
        assert!(really.len() > 10, "{by:?}: {} gaps", really.len());
        let (mut placed, mut all) = (0, 0);
        for (number, (told, really)) in told.entered.iter().zip(&really).enumerate() {
            let fits = |(told, real): (&Option<Window>, &u64)| {
                let Some(itm) = told.and_then(|told| alignment.to_itm(told)) else { return true };
                let real = real + LATER;
                itm.earliest <= real + NEAR && real <= itm.latest + NEAR
            };
            // The first may lie before the first packet that says where execution is.
            let begins = (0..2).find(|&skip| told.iter().zip(really.iter().skip(skip)).all(fits));
            assert!(begins.is_some(), "{by:?}, stretch {number}: {told:?} {really:?}");
            let has_place =
                |told: &&Option<Window>| told.and_then(|at| alignment.to_itm(at)).is_some();
            all += told.len();
            placed += told.iter().filter(has_place).count();
        }
        assert!(placed * 10 > all * 8, "{by:?}: {placed} of {all} have a place");
    }
}
