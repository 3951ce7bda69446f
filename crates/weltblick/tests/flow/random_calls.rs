//! Calls of programs made at random, held against a stack that knows every instruction.

use crate::calls::By;
use crate::random_programs::{Assembled, POP, assemble, item, machine};
use crate::recording::{FAST, certain};
use proptest::collection::vec;
use proptest::prelude::*;
use weltblick_core::flow::Clocking;
use weltblick_core::image::FunctionId;
use weltblick_core::measure::execution::{CallFigures, Calls, Named};
use weltblick_core::stats::{Spread, Ticks};

/// What is true of a function's calls.
#[derive(Debug, Clone, Default)]
struct Real {
    entries: u64,
    /// Instructions of each call that ended, with what it called, and without.
    instructions: Vec<u64>,
    own: Vec<u64>,
}

/// A call that has not ended.
struct Open {
    function: usize,
    instructions: u64,
    own: u64,
    /// It returns together with the one below.
    in_place: bool,
}

impl Assembled {
    fn half(&self, address: u32) -> u16 {
        self.code[address as usize / 2]
    }

    fn function(&self, address: u32) -> usize {
        self.starts.partition_point(|&start| start <= address as usize / 2) - 1
    }

    fn handler(&self) -> usize {
        self.starts.len() - 1
    }

    /// Follows the instructions that ran. Handlers interrupt and go: without them there is one thread.
    fn real_calls(&self, ran: &[u32]) -> Vec<Real> {
        let mut all = vec![Real::default(); self.starts.len()];
        let handler_start = 2 * self.starts[self.handler()] as u32;
        all[self.handler()].entries =
            ran.iter().filter(|&&address| address == handler_start).count() as u64;
        let thread: Vec<u32> = ran
            .iter()
            .copied()
            .filter(|&address| self.function(address) != self.handler())
            .collect();
        let mut stack = Vec::new();
        let enter = |all: &mut Vec<Real>, stack: &mut Vec<Open>, address, in_place| {
            let function = self.function(address);
            all[function].entries += 1;
            stack.push(Open { function, instructions: 0, own: 0, in_place });
        };
        enter(&mut all, &mut stack, thread[0], false);
        for (place, &address) in thread.iter().enumerate() {
            stack.iter_mut().for_each(|call| call.instructions += 1);
            stack.last_mut().unwrap().own += 1;
            let Some(&next) = thread.get(place + 1) else { break };
            let is_branch = self.half(address) & 0xf800 == 0xf000;
            match is_branch.then(|| self.half(address + 2) & 0xd000) {
                Some(0xd000) => enter(&mut all, &mut stack, next, false),
                Some(0x9000) => enter(&mut all, &mut stack, next, true),
                _ if self.half(address) == POP && next != address + 2 => {
                    let mut again = true;
                    while again {
                        let call = stack.pop().unwrap();
                        all[call.function].instructions.push(call.instructions);
                        all[call.function].own.push(call.own);
                        again = call.in_place;
                    }
                }
                _ => {}
            }
        }
        all
    }
}

fn is_that(found: &Spread, real: &[u64]) -> bool {
    let exact = |ticks: Option<&u64>| ticks.map(|&ticks| Ticks::exact(ticks));
    let sum = found.mean().map_or(0.0, |mean| mean.middle() * found.count() as f64);
    found.count() == real.len() as u64
        && found.min() == exact(real.iter().min())
        && found.max() == exact(real.iter().max())
        && sum.round() as u64 == real.iter().sum::<u64>()
}

fn by() -> impl Strategy<Value = By> {
    prop_oneof![prop::sample::select(vec![4_u32, 40, 1000]).prop_map(By::Etmv4), Just(By::Etmv3)]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn calls_of_any_program_are_those_that_happened(
        functions in vec(vec(item(), 0..14), 2..7),
        by in by(),
        timed: bool,
        tick in 40_u32..900,
    ) {
        let assembled = assemble(&functions);
        let (image, mut machine) = machine(&assembled, FAST, tick);
        let (unit, told, registers) = by.set_up();
        machine.trace_mut().fit(unit);
        for (address, value) in registers {
            machine.poke(address, 4, value).unwrap();
        }
        machine.run(60_000);
        let bytes = machine.take_trace();
        let clocking = if timed { Clocking::Cycles } else { Clocking::Nothing };
        let mut calls = Calls::new(&image, clocking);
        told.follow(&image, &[], (&bytes, 0), &mut calls);
        calls.finish();
        let ran = certain(&machine);
        let known = calls.instructions() as usize;
        prop_assert!(known <= ran.len() && known + 1 >= ran.len(), "{known} of {}", ran.len());
        let real = assembled.real_calls(&ran[..known]);
        for (number, real) in real.iter().enumerate() {
            let id = (0..).zip(image.functions()).find(|(_, f)| f.name == format!("function_{number}"));
            let named = Named(id.map(|(id, _)| FunctionId(id)));
            let none = CallFigures::default();
            let found = calls.figures().find(|(function, _)| *function == named);
            let figures = found.map_or(&none, |(_, figures)| figures);
            let is_handler = number == assembled.handler();
            // Where the trace ends, two may have been entered on top of each other, before the first
            // instruction of either.
            let most = real.entries + if is_handler { 2 } else { 0 };
            prop_assert!((real.entries..=most).contains(&figures.calls), "calls of {number}");
            if !is_handler {
                prop_assert!(is_that(&figures.instructions, &real.instructions), "{number}: {real:?}");
                prop_assert!(is_that(&figures.self_instructions, &real.own), "{number}: {real:?}");
            }
        }
    }
}
