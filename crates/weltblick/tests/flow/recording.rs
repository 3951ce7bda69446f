//! Recordings of the stand-in, and what flow makes of them.

use crate::executed::FIRMWARE;
use weltblick_core::flow::{Code, Etmv3Flow, Etmv4Flow, Sink};
use weltblick_core::image::Image;
use weltblick_core::wire::{etmv3, etmv4};
use weltblick_standin::machine::Setup;
use weltblick_standin::trace::Fitted;
use weltblick_standin::{Machine, Program};

/// Base of the trace unit's registers.
pub(crate) const ETM: u32 = 0xe004_1000;
/// A link that is never full.
pub(crate) const FAST: u64 = 10_000_000_000;

/// The demo's firmware after so many cycles from reset, and what this trace unit sent, set up by these
/// registers.
pub(crate) fn record(
    unit: Fitted,
    link_bit_rate: u64,
    registers: &[(u32, u32)],
    cycles: u64,
) -> (Machine, Vec<u8>) {
    record_of(FIRMWARE, unit, link_bit_rate, registers, cycles)
}

/// The same of any firmware.
pub(crate) fn record_of(
    firmware: &[u8],
    unit: Fitted,
    link_bit_rate: u64,
    registers: &[(u32, u32)],
    cycles: u64,
) -> (Machine, Vec<u8>) {
    let mut machine = traced(firmware, unit, link_bit_rate, registers);
    machine.run(cycles);
    let bytes = machine.take_trace();
    (machine, bytes)
}

/// Any firmware at reset, with this trace unit set up by these registers.
pub(crate) fn traced(
    firmware: &[u8],
    unit: Fitted,
    link_bit_rate: u64,
    registers: &[(u32, u32)],
) -> Machine {
    let setup = Setup { link_bit_rate, ..Setup::default() };
    let mut machine = Machine::new(&Program::parse(firmware).unwrap(), setup).unwrap();
    machine.keep_addresses();
    machine.trace_mut().fit(unit);
    for &(address, value) in [(0xe000_edfc, 1 << 24)].iter().chain(registers) {
        machine.poke(address, 4, value).unwrap();
    }
    machine
}

/// What tells, and how it was set up.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Told {
    /// ETMv4, with this `TRCCONFIGR`.
    Etmv4(u32),
    /// ETMv3.
    Etmv3(etmv3::Settings),
}

impl Told {
    /// ETMv3 with this `ETMCR`.
    pub(crate) fn etmv3(etmcr: u32) -> Self {
        Self::Etmv3(etmv3::Settings { etmcr, ..etmv3::Settings::default() })
    }

    /// Tells a sink what ran, by the bytes of a recording from `offset` on; blocks begin at `cuts`.
    pub(crate) fn follow<'a>(
        self,
        image: &'a Image,
        cuts: &[u64],
        (bytes, offset): (&[u8], u64),
        sink: &mut impl Sink,
    ) -> Code<'a> {
        match self {
            Self::Etmv4(trcconfigr) => {
                let settings = etmv4::Settings { trcconfigr, ..etmv4::Settings::default() };
                let mut flow = Etmv4Flow::new(image, &settings);
                flow.cut_at(cuts);
                let mut decoder = etmv4::Decoder::starting_at(settings, offset);
                decoder.push(bytes, &mut flow.feeding(sink));
                decoder.finish(&mut flow.feeding(sink));
                flow.finish(sink);
                flow.into_code()
            }
            Self::Etmv3(settings) => {
                let mut flow = Etmv3Flow::new(image, &settings);
                flow.cut_at(cuts);
                let mut decoder = etmv3::Decoder::starting_at(settings, offset);
                decoder.push(bytes, &mut flow.feeding(sink));
                decoder.finish(&mut flow.feeding(sink));
                flow.finish(sink);
                flow.into_code()
            }
        }
    }
}

/// What the trace unit told of what ran, without a gap.
pub(crate) fn certain(machine: &Machine) -> &[u32] {
    let [segment] = machine.trace().etm().segments() else { panic!("gaps") };
    &machine.truth().addresses.as_ref().unwrap()[..segment.told as usize]
}
