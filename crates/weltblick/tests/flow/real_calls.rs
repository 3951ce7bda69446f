//! Who truly called whom, and for how long: from the core's registers, instruction by instruction.
//!
//! A call begins where a function's first instruction runs that something outside of it led to; it ends where the context
//! goes on at the address that its link register had, with the stack pointer that it had. Whose context runs is what the
//! kernel's own variable says, and which handlers are active. Nothing of that is in a trace.

use crate::executed::FIRMWARE;
use std::collections::BTreeMap;
use std::ops::Range;
use weltblick_core::image::{FunctionId, Image, Variables};
use weltblick_standin::Machine;

/// Who runs: a handler, by the number of its run, or a thread, by the kernel's word for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Context {
    Handler(usize),
    Thread(u32),
}

/// One call.
#[derive(Debug, Clone)]
pub(crate) struct Call {
    pub(crate) function: FunctionId,
    pub(crate) began: u64,
    /// Of a handler, when it was entered: another may have come before its first instruction.
    pub(crate) entered: u64,
    /// `u64::MAX`: it had not ended.
    pub(crate) ended: u64,
    /// When its context ran meanwhile, with what it called.
    pub(crate) ran: Vec<Range<u64>>,
    /// The core slept meanwhile: how long it took is a matter of opinion.
    pub(crate) slept: bool,
}

struct Frame {
    call: usize,
    returns: u32,
    stack: u32,
}

/// Everything that ran.
#[derive(Default)]
pub(crate) struct Life {
    pub(crate) calls: Vec<Call>,
    /// Instructions, and when each began.
    pub(crate) ran: Vec<(u64, u64)>,
    /// What the trace unit had sent by then: bytes, and when.
    pub(crate) sent: Vec<(usize, u64)>,
    pub(crate) bytes: Vec<u8>,
    /// Every run of a handler: which exception, when its first instruction could run, and when it ended.
    pub(crate) handlers: Vec<(u16, Range<u64>)>,
    /// When the core slept.
    pub(crate) slept: Vec<Range<u64>>,
    pub(crate) end: u64,
}

impl Life {
    /// What was truly when so many bytes had been sent.
    pub(crate) fn when(&self, bytes: usize) -> u64 {
        let place = self.sent.partition_point(|(sent, _)| *sent <= bytes);
        self.sent.get(place).map_or(self.end, |(_, cycle)| *cycle)
    }

    /// Runs a machine for so many cycles, and looks on.
    pub(crate) fn of(mut machine: Machine, image: &Image, cycles: u64) -> Self {
        let current = Variables::parse(FIRMWARE).unwrap().find("kernel_current").unwrap().address;
        let mut life = Self::default();
        let mut contexts: BTreeMap<Context, (Vec<Frame>, Option<u64>)> = BTreeMap::new();
        let (mut active, mut entered): (Vec<usize>, usize) = (Vec::new(), 0);
        let mut thread = machine.peek(current as u32, 4).unwrap();
        while machine.cycle() < cycles {
            let (began, before) = (machine.cycle(), machine.truth().instructions);
            let pc = machine.regs.pc;
            let [stack, link] = [machine.regs.r[13], machine.regs.r[14]];
            let asleep = machine.is_asleep();
            machine.step().unwrap();
            let context =
                active.last().map_or(Context::Thread(thread), |run| Context::Handler(*run));
            let now = machine.cycle();
            if asleep {
                life.slept.push(began..now);
            }
            if machine.truth().instructions > before {
                let (frames, last) = contexts.entry(context).or_default();
                let entered = match context {
                    Context::Handler(run) if frames.is_empty() => {
                        machine.truth().exceptions[run].entered
                    }
                    _ => began,
                };
                life.executed(image, (frames, last), [pc, stack, link], began..now, entered);
            } else if asleep && let Some((frames, _)) = contexts.get(&context) {
                for frame in frames {
                    life.calls[frame.call].slept = true;
                }
            }
            let truth = &machine.truth().exceptions;
            while let Some(run) = active.last().filter(|run| truth[**run].left.is_some()) {
                let (frames, _) = contexts.remove(&Context::Handler(*run)).unwrap_or_default();
                let left = truth[*run].left.unwrap();
                frames.iter().for_each(|frame| life.calls[frame.call].ended = left);
                active.pop();
            }
            active.extend(entered..truth.len());
            entered = truth.len();
            if active.is_empty() {
                thread = machine.peek(current as u32, 4).unwrap();
            }
            if life.ran.len().is_multiple_of(64) {
                life.bytes.extend(machine.take_trace());
                life.sent.push((life.bytes.len(), now));
            }
        }
        life.bytes.extend(machine.take_trace());
        let runs = machine.truth().exceptions.iter();
        life.handlers =
            runs.map(|run| (run.number, run.entered..run.left.unwrap_or(u64::MAX))).collect();
        life.end = machine.cycle();
        life
    }

    fn executed(
        &mut self,
        image: &Image,
        (frames, last): (&mut Vec<Frame>, &mut Option<u64>),
        [pc, stack, link]: [u32; 3],
        time: Range<u64>,
        entered: u64,
    ) {
        let address = u64::from(pc);
        self.ran.push((address, time.start));
        while let Some(at) =
            frames.iter().rposition(|frame| frame.returns == pc && frame.stack == stack)
        {
            for frame in frames.drain(at..) {
                let call = &mut self.calls[frame.call];
                call.ended = call.ran.last().map_or(time.start, |last| last.end);
            }
        }
        let before = last.replace(address);
        if let Some(function) = image.function_at(address) {
            let range = &image.function(function).range;
            let outside = before.is_none_or(|before| !range.contains(&before));
            if range.start == address && outside {
                let (began, ran) = (time.start, Vec::new());
                let call = Call { function, began, entered, ended: u64::MAX, ran, slept: false };
                frames.push(Frame { call: self.calls.len(), returns: link & !1, stack });
                self.calls.push(call);
            }
        }
        for frame in frames {
            let ran = &mut self.calls[frame.call].ran;
            match ran.last_mut().filter(|last| last.end == time.start) {
                Some(last) => last.end = time.end,
                None => ran.push(time.clone()),
            }
        }
    }
}
