//! The debug block: DWT, ITM and their registers (DDI 0403E, C1).

use super::etb::Etb;
use super::fitted::Fitted;
use super::itm::{self, Encoded};
use super::link::Link;
use super::step::Step;

/// `DWT_CTRL` bits.
mod control {
    pub(super) const COUNTER_ON: u32 = 1;
    pub(super) const TAP_1024: u32 = 1 << 9;
    pub(super) const SAMPLES_ON: u32 = 1 << 12;
    pub(super) const EXCEPTIONS_ON: u32 = 1 << 16;
}

/// `ITM_TCR` bits.
mod trace_control {
    pub(super) const ON: u32 = 1;
    pub(super) const TIMESTAMPS_ON: u32 = 1 << 1;
    pub(super) const SYNC_ON: u32 = 1 << 2;
    pub(super) const DWT_ON: u32 = 1 << 3;
    pub(super) const GLOBAL_ON: u32 = 0b11 << 10;
}

/// `DWT_FUNCTION` of the comparators (DDI 0403E, table C1-14): which accesses, and what is sent.
mod function {
    /// The accessing instruction.
    pub(super) const CODE: u32 = 0b0001;
    /// The value, or value and instruction, of any access.
    pub(super) const ANY: [u32; 2] = [0b0010, 0b0011];
    /// The same of reads.
    pub(super) const READ: [u32; 2] = [0b1100, 0b1110];
    /// The same of writes.
    pub(super) const WRITE: [u32; 2] = [0b1101, 0b1111];
    /// An instruction: other units see it.
    pub(super) const INSTRUCTION: u32 = 0b1000;
    /// The offset of the address too.
    pub(super) const EMIT_RANGE: u32 = 1 << 5;
}

/// Registers of the buffer on the chip: one CoreSight component.
const ETB: u32 = 0xe004_2000;
const ETB_END: u32 = 0xe004_2fff;
/// Bytes that one instruction or exception can make: atoms that wait, a synchronisation, addresses.
const MOST_BYTES: u64 = 80;
/// The instruction trace unit.
const ETM: u32 = 0xe004_1000;
const ETM_END: u32 = 0xe004_1fff;
/// The ITM's trace ID in formatter frames.
const ITM_SOURCE: u8 = 1;
/// `TPIU_FFCR.EnFCont`.
const FRAMES_ON: u32 = 1 << 1;

/// One comparator of the DWT.
#[derive(Debug, Clone, Copy, Default)]
struct Comparator {
    compare: u32,
    mask: u32,
    function: u32,
}

impl Comparator {
    const fn holds(&self, address: u32) -> bool {
        (address ^ self.compare) >> (self.mask & 0x1f) == 0
    }
}

/// `DEMCR.TRCENA`.
const TRACE_ENABLE: u32 = 1 << 24;

/// The trace unit of a running core.
#[derive(Debug, Clone)]
pub struct TraceUnit {
    link: Link,
    etm: Fitted,
    /// What takes the trace instead of the port, while it is on.
    etb: Etb,
    demcr: u32,
    dwt_ctrl: u32,
    itm_tcr: u32,
    itm_ter: u32,
    itm_tpr: u32,
    comparators: [Comparator; 4],
    /// Core cycles per second: what the port's divisor divides.
    core_clock: u64,
    /// `TPIU_ACPR`, once it is written.
    divisor: Option<u32>,
    /// `TPIU_SPPR`, `TPIU_FFCR`, `TPIU_CSPSR`.
    port: [u32; 3],
    /// The cycle at which the counter was last set, and to what.
    counter_base: (u64, u32),
    next_sample: u64,
    next_sync: u64,
    /// A packet waits for its timestamp since this cycle.
    stamp_due: Option<u64>,
    /// The tick of the last timestamp.
    last_tick: u64,
    last_global: Option<u64>,
    /// Packets were dropped since the last overflow packet.
    overflowed: bool,
    /// How many packets were dropped in all.
    pub dropped: u64,
    /// How many packets were sent.
    pub sent: u64,
}

impl TraceUnit {
    /// A trace unit after reset: everything off.
    #[must_use]
    pub fn new(link: Link, core_clock: u64) -> Self {
        Self {
            etm: Fitted::default(),
            etb: Etb::default(),
            itm_tpr: 0,
            comparators: [Comparator { compare: 0, mask: 0, function: 0 }; 4],
            core_clock,
            divisor: None,
            port: [2, 0x100, 1],
            link,
            demcr: 0,
            dwt_ctrl: 0,
            itm_tcr: 0,
            itm_ter: 0,
            counter_base: (0, 0),
            next_sample: u64::MAX,
            next_sync: u64::MAX,
            stamp_due: None,
            last_tick: 0,
            last_global: None,
            overflowed: false,
            dropped: 0,
            sent: 0,
        }
    }

    /// The cycle of the next sample or synchronisation.
    #[must_use]
    pub const fn due(&self) -> u64 {
        if self.next_sample < self.next_sync { self.next_sample } else { self.next_sync }
    }

    /// The core executed `pc` up to `cycle`; `None`: it slept.
    pub fn advance(&mut self, cycle: u64, pc: Option<u32>) {
        while self.due() < cycle {
            let at = self.due();
            if self.next_sync == at {
                self.synchronise(at);
                continue;
            }
            self.next_sample += self.sample_period();
            let packet = match pc {
                Some(pc) => itm::pc_sample(pc),
                None => itm::asleep(),
            };
            self.emit(at, packet);
        }
    }

    /// An exception was entered (1), left (2) or returned to (3).
    pub fn exception(&mut self, cycle: u64, number: u16, function: u8) {
        if self.dwt_sends() && self.dwt_ctrl & control::EXCEPTIONS_ON != 0 {
            self.emit(cycle, itm::exception(number, function));
        }
    }

    /// Which comparators watch the instruction at `pc`, one bit each.
    #[must_use]
    pub fn matching(&self, pc: u32) -> u32 {
        if self.demcr & TRACE_ENABLE == 0 {
            return 0;
        }
        let watches = |comparator: &Comparator| {
            comparator.function & 0xf == function::INSTRUCTION && comparator.holds(pc)
        };
        (0..)
            .zip(&self.comparators)
            .filter(|(_, c)| watches(c))
            .fold(0, |bits, (n, _)| bits | 1 << n)
    }

    /// Whether a comparator watches data.
    #[must_use]
    pub fn watches(&self) -> bool {
        self.dwt_sends()
            && self.comparators.iter().any(|comparator| {
                ![0, function::INSTRUCTION].contains(&(comparator.function & 0xf))
            })
    }

    /// The instruction at `pc` accessed data.
    pub fn accessed(
        &mut self,
        cycle: u64,
        pc: u32,
        address: u32,
        bytes: u32,
        value: u32,
        write: bool,
    ) {
        for number in 0..self.comparators.len() {
            let comparator = self.comparators[number];
            let [value_only, with_code] = if write { function::WRITE } else { function::READ };
            let code = comparator.function & 0xf;
            if !comparator.holds(address) || code == 0 || code == function::INSTRUCTION {
                continue;
            }
            let comparator_number = number as u8;
            let sends_value =
                code == value_only || code == with_code || function::ANY.contains(&code);
            let sends_code =
                code == function::CODE || code == with_code || code == function::ANY[1];
            if sends_code {
                self.emit(cycle, itm::data_pc(comparator_number, pc));
            }
            if sends_value && comparator.function & function::EMIT_RANGE != 0 {
                self.emit(cycle, itm::data_address(comparator_number, address as u16));
            }
            if sends_value {
                self.emit(cycle, itm::data_value(comparator_number, write, bytes, value));
            }
        }
    }

    /// The instruction trace unit.
    #[must_use]
    pub const fn etm(&self) -> &Fitted {
        &self.etm
    }

    /// Builds another instruction trace unit in, or one with other manners.
    pub fn fit(&mut self, etm: Fitted) {
        self.etm = etm;
    }

    /// An instruction was executed while the instruction trace unit listens.
    pub(crate) fn executed(&mut self, step: &Step) {
        let room = self.instruction_room(step.cycle);
        self.etm.executed(step, room);
        self.send_instructions(step.cycle);
    }

    /// An exception is entered; execution would go on at `returns_to`.
    pub(crate) fn handler_entered(
        &mut self,
        cycle: u64,
        number: u16,
        returns_to: u32,
        handler: u32,
    ) {
        let room = self.instruction_room(cycle);
        self.etm.entered(cycle, number, returns_to, handler, room);
        self.send_instructions(cycle);
    }

    /// The end of a handler led into another one.
    pub(crate) fn handler_chained(
        &mut self,
        cycle: u64,
        number: u16,
        addresses: [u32; 2],
        handler: u32,
    ) {
        let room = self.instruction_room(cycle);
        self.etm.chained(cycle, number, addresses, handler, room);
        self.send_instructions(cycle);
    }

    /// A handler ended, and execution goes on at `address`.
    pub(crate) fn handler_returned(&mut self, cycle: u64, address: u32) {
        let room = self.instruction_room(cycle);
        self.etm.returned(cycle, address, room);
        self.send_instructions(cycle);
    }

    fn instruction_room(&self, cycle: u64) -> bool {
        self.etb.is_on() || self.link.room_at(cycle, MOST_BYTES) <= cycle
    }

    fn send_instructions(&mut self, cycle: u64) {
        let bytes = self.etm.take();
        if bytes.is_empty() {
            return;
        }
        let source = self.etm.trace_id();
        if self.etb.is_on() {
            self.fill_buffer();
            self.etb.take(source, &bytes);
        } else {
            self.link.send(cycle, source, &bytes);
        }
    }

    /// Bits per second that the port sends once its divisor is written.
    #[must_use]
    pub fn bit_rate(&self) -> Option<u64> {
        Some(self.core_clock / u64::from(self.divisor? + 1))
    }

    /// Whether frames are on.
    #[must_use]
    pub const fn framed(&self) -> bool {
        self.port[1] & FRAMES_ON != 0
    }

    /// Nothing leaves the port for so many cycles.
    pub fn stall(&mut self, cycle: u64, cycles: u64) {
        self.link.stall(cycle, cycles);
    }

    /// Takes the bytes that were sent so far; the trace goes on.
    pub fn take(&mut self) -> Vec<u8> {
        self.fill_buffer();
        self.link.take()
    }

    /// The buffer on the chip takes what would go to the port.
    fn fill_buffer(&mut self) {
        if self.etb.is_on() {
            let bytes = self.link.take();
            self.etb.take(((self.itm_tcr >> 16) & 0x7f) as u8, &bytes);
        }
    }

    /// Ends the run: the last timestamp goes out. Takes all bytes that were sent.
    pub fn finish(&mut self) -> Vec<u8> {
        self.stamp(u64::MAX);
        self.etm.finish();
        self.send_instructions(0);
        self.link.finish();
        self.link.take()
    }

    const fn enabled(&self) -> bool {
        self.demcr & TRACE_ENABLE != 0 && self.itm_tcr & trace_control::ON != 0
    }

    const fn dwt_sends(&self) -> bool {
        self.enabled() && self.itm_tcr & trace_control::DWT_ON != 0
    }

    const fn sample_period(&self) -> u64 {
        let tap = if self.dwt_ctrl & control::TAP_1024 != 0 { 1024 } else { 64 };
        tap * ((self.dwt_ctrl >> 1 & 0xf) as u64 + 1)
    }

    const fn sync_period(&self) -> Option<u64> {
        match self.dwt_ctrl >> 10 & 0b11 {
            1 => Some(1 << 24),
            2 => Some(1 << 26),
            3 => Some(1 << 28),
            _ => None,
        }
    }

    const fn prescaler(&self) -> u64 {
        [1, 4, 16, 64][(self.itm_tcr >> 8 & 0b11) as usize]
    }

    /// Settings changed: what is due when.
    fn rearm(&mut self, cycle: u64) {
        let counts = self.dwt_ctrl & control::COUNTER_ON != 0;
        let samples = counts && self.dwt_sends() && self.dwt_ctrl & control::SAMPLES_ON != 0;
        self.next_sample = match (samples, self.next_sample) {
            (false, _) => u64::MAX,
            (true, u64::MAX) => cycle + self.sample_period(),
            (true, at) => at,
        };
        let syncs = counts && self.enabled() && self.itm_tcr & trace_control::SYNC_ON != 0;
        self.next_sync = match (syncs, self.sync_period(), self.next_sync) {
            // The first one goes out at once, so that whoever listens finds his feet.
            (true, Some(_), u64::MAX) => cycle,
            (true, Some(_), at) => at,
            _ => u64::MAX,
        };
    }

    /// Synchronisations go with the cycle counter: at each change of the tapped bit.
    fn move_sync(&mut self, cycle: u64) {
        if let (Some(period), true) = (self.sync_period(), self.next_sync != u64::MAX) {
            self.next_sync = cycle + period - u64::from(self.counter_base.1) % period;
        }
    }

    /// A register of the buffer. What was sent before it is switched on went to the port.
    fn write_buffer(&mut self, offset: u32, value: u32) {
        self.fill_buffer();
        self.etb.set_register(offset, value);
        if self.etb.is_on() {
            // The trace bus is as wide as the core is fast.
            self.link.set_rate(self.core_clock, 40 * self.core_clock);
        }
    }

    fn synchronise(&mut self, cycle: u64) {
        self.next_sync = cycle + self.sync_period().unwrap_or(u64::MAX / 2);
        self.stamp(cycle);
        let sync = itm::synchronisation();
        if self.link.room_at(cycle, sync.as_slice().len() as u64) > cycle {
            // Tried again when there is room: a synchronisation is never dropped for good.
            self.next_sync = cycle + 64;
            return;
        }
        self.link.synchronise();
        self.link.send(cycle, ITM_SOURCE, sync.as_slice());
        if self.itm_tcr & trace_control::GLOBAL_ON != 0 {
            self.global_timestamp(cycle);
        }
    }

    fn global_timestamp(&mut self, cycle: u64) {
        let wrapped = self.last_global.is_none_or(|last| last >> 26 != cycle >> 26);
        let low = itm::global_timestamp_low(cycle, self.last_global.is_none(), wrapped);
        let high = itm::global_timestamp_high(cycle, false);
        if self.link.room_at(cycle, 10) > cycle {
            return;
        }
        self.link.send(cycle, ITM_SOURCE, low.as_slice());
        if wrapped {
            self.link.send(cycle, ITM_SOURCE, high.as_slice());
        }
        self.last_global = Some(cycle);
    }

    /// Sends a packet, or drops it if the buffer has no room.
    fn emit(&mut self, cycle: u64, packet: Encoded) {
        self.stamp(cycle);
        let bytes = packet.as_slice();
        let needed = bytes.len() as u64 + u64::from(self.overflowed);
        if self.link.room_at(cycle, needed) > cycle {
            self.overflowed = true;
            self.dropped += 1;
            return;
        }
        if std::mem::take(&mut self.overflowed) {
            self.link.send(cycle, ITM_SOURCE, itm::overflow().as_slice());
        }
        self.link.send(cycle, ITM_SOURCE, bytes);
        self.sent += 1;
        if self.itm_tcr & trace_control::TIMESTAMPS_ON != 0 {
            // The timestamp dates the last packet of the group exactly if it follows at once.
            self.stamp_due = Some(cycle);
        }
    }

    /// Sends the timestamp that is due, if it can go out before `cycle`. Its value is the time at
    /// which it goes out: later than its packets if the buffer was full.
    fn stamp(&mut self, cycle: u64) {
        let Some(due) = self.stamp_due else { return };
        if due == cycle {
            return; // more packets of the same cycle: one timestamp for all
        }
        let at = self.link.room_at(due, 5);
        if at >= cycle {
            return;
        }
        self.stamp_due = None;
        let tick = at / self.prescaler();
        let mut delta = tick - self.last_tick;
        // A quiet stretch longer than 28 bits is told in pieces.
        while delta > 0x0fff_ffff {
            self.link.send(at, ITM_SOURCE, itm::local_timestamp(0x0fff_ffff, 0).as_slice());
            delta -= 0x0fff_ffff;
        }
        let delayed = u8::from(at > due);
        self.link.send(at, ITM_SOURCE, itm::local_timestamp(delta as u32, delayed).as_slice());
        self.last_tick = tick;
    }

    /// Reads a register of the ITM, DWT, trace port or `DEMCR`; `None` if it is not one of them.
    #[allow(clippy::match_overlapping_arm, reason = "special registers before their block")]
    #[must_use]
    pub fn read(&mut self, address: u32, cycle: u64) -> Option<u32> {
        Some(match address {
            ETM..=ETM_END => self.etm.read(address - ETM),
            ETB..=ETB_END => {
                self.fill_buffer();
                self.etb.register(address - ETB)
            }
            // A stimulus port reads as 1 when it can take a write.
            0xe000_0000..=0xe000_007c => u32::from(self.link.room_at(cycle, 10) <= cycle),
            0xe000_0e00 => self.itm_ter,
            0xe000_0e40 => self.itm_tpr,
            0xe000_0e80 => self.itm_tcr,
            0xe000_0000..=0xe000_0fff => 0,
            // Four comparators are built in.
            0xe000_1000 => self.dwt_ctrl | 4 << 28,
            0xe000_1004 => self.counter(cycle),
            0xe000_1020..=0xe000_105c => {
                let comparator = &self.comparators[(address - 0xe000_1020) as usize / 16];
                match address & 0xc {
                    0x0 => comparator.compare,
                    0x4 => comparator.mask,
                    0x8 => comparator.function,
                    _ => 0,
                }
            }
            0xe004_0004 => self.port[2],
            0xe004_0010 => self.divisor.unwrap_or(0),
            0xe004_00f0 => self.port[0],
            0xe004_0304 => self.port[1],
            0xe000_1000..=0xe000_1fff | 0xe004_0000..=0xe004_0fff => 0,
            0xe000_edfc => self.demcr,
            _ => return None,
        })
    }

    /// The cycle counter.
    #[must_use]
    pub const fn counter(&self, cycle: u64) -> u32 {
        if self.dwt_ctrl & control::COUNTER_ON == 0 {
            return self.counter_base.1;
        }
        self.counter_base.1.wrapping_add((cycle - self.counter_base.0) as u32)
    }

    /// Writes a register; `None` if it is not one of them.
    #[allow(clippy::match_overlapping_arm, reason = "special registers before their block")]
    pub fn write(&mut self, address: u32, bytes: u32, value: u32, cycle: u64) -> Option<()> {
        match address {
            ETM..=ETM_END => {
                self.etm.write(address - ETM, value);
                self.send_instructions(cycle);
            }
            ETB..=ETB_END => self.write_buffer(address - ETB, value),
            0xe000_0000..=0xe000_007f => {
                let port = (address >> 2 & 0x1f) as u8;
                if self.enabled() && self.itm_ter >> port & 1 == 1 {
                    self.emit(cycle, itm::stimulus(port, bytes, value));
                }
            }
            0xe000_0e00 => self.itm_ter = value,
            0xe000_0e40 => self.itm_tpr = value & 0xf,
            0xe000_0e80 => self.itm_tcr = value,
            0xe004_0004 => self.port[2] = value,
            0xe004_0010 => {
                let divisor = value & 0xffff;
                self.divisor = Some(divisor);
                let rate = (self.core_clock / u64::from(divisor + 1)).max(1);
                self.link.set_rate(self.core_clock, rate);
            }
            0xe004_00f0 => self.port[0] = value & 0b11,
            0xe004_0304 => {
                self.port[1] = value;
                self.link.set_formatter(value & FRAMES_ON != 0);
            }
            0xe000_0000..=0xe000_0fff | 0xe004_0000..=0xe004_0fff => {}
            0xe000_1020..=0xe000_105c => {
                let comparator = &mut self.comparators[(address - 0xe000_1020) as usize / 16];
                match address & 0xc {
                    0x0 => comparator.compare = value,
                    0x4 => comparator.mask = value,
                    0x8 => comparator.function = value,
                    _ => {}
                }
            }
            0xe000_1000 => {
                self.counter_base = (cycle, self.counter(cycle));
                self.dwt_ctrl = value & 0x007f_ffff;
            }
            0xe000_1004 => {
                self.counter_base = (cycle, value);
                self.move_sync(cycle);
            }
            0xe000_1000..=0xe000_1fff => {}
            0xe000_edfc => self.demcr = value,
            _ => return None,
        }
        self.rearm(cycle);
        Some(())
    }
}
