//! The debug block: DWT, ITM and their registers (DDI 0403E, C1).

use super::comparators::{self, Comparators};
use super::etb::Etb;
use super::fitted::Fitted;
use super::itm::{self, Encoded};
use super::link::Link;
use super::step::Step;
use crate::model::Model;

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
/// `TPIU_SPPR.TXMODE` of a parallel port.
const PARALLEL: u32 = 0;
/// The link counts ten bits a byte, as a serial wire has them.
const BITS_PER_BYTE: u64 = 10;
/// `TPIU_PSCR` after a reset: every 1024 bytes.
const RESET_FRAME_SYNC: u32 = 10;

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
    comparators: Comparators,
    /// Core cycles per second: what the port's divisor divides.
    core_clock: u64,
    /// `TPIU_ACPR`, once it is written.
    divisor: Option<u32>,
    /// `TPIU_SPPR`, `TPIU_FFCR`, `TPIU_CSPSR`.
    port: [u32; 3],
    /// `TPIU_PSCR`, where there is one: what paces the synchronisations of frames.
    frame_sync: Option<u32>,
    /// The cycle at which the counter was last set, and to what.
    counter_base: (u64, u32),
    next_sample: u64,
    next_sync: u64,
    /// Packets wait for their timestamp: the cycle of the last.
    stamp_due: Option<u64>,
    /// And that of the first.
    stamp_since: u64,
    /// The tick of the last timestamp.
    last_tick: u64,
    last_global: Option<u64>,
    /// Packets were dropped since the last overflow packet.
    overflowed: bool,
    /// The link could not take what an instruction can make, and has not emptied since.
    is_full: bool,
    /// How many packets were dropped in all.
    pub dropped: u64,
    /// How many packets were sent.
    pub sent: u64,
}

impl TraceUnit {
    /// A trace unit after reset: everything off.
    #[must_use]
    pub fn new(link: Link, core_clock: u64, model: Model) -> Self {
        Self {
            etm: model.instruction_trace(),
            frame_sync: model.is_v8().then_some(RESET_FRAME_SYNC),
            etb: Etb::default(),
            itm_tpr: 0,
            comparators: Comparators::new(model.is_v8()),
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
            stamp_since: 0,
            last_tick: 0,
            last_global: None,
            overflowed: false,
            is_full: false,
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
        self.comparators.matching(pc)
    }

    /// Whether a comparator watches data.
    #[must_use]
    pub fn watches(&self) -> bool {
        self.dwt_sends() && self.comparators.watch_data()
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
        for number in 0..comparators::COUNT {
            let sends = self.comparators.sends(number, address, write);
            let number = number as u8;
            if sends.code {
                self.emit(cycle, itm::data_pc(number, pc));
            }
            if sends.address {
                self.emit(cycle, itm::data_address(number, address as u16));
            }
            if sends.value {
                self.emit(cycle, itm::data_value(number, write, bytes, value));
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

    /// Whether the link takes what an instruction can make. Once it did not, it must have emptied first: to
    /// synchronise costs as much as it sends meanwhile, and a unit that went on at once would never recover.
    fn instruction_room(&mut self, cycle: u64) -> bool {
        if self.etb.is_on() {
            return true;
        }
        let needed = if self.is_full { self.link.capacity() } else { MOST_BYTES };
        let room = self.link.room_at(cycle, needed) <= cycle;
        self.is_full = !room;
        room
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

    /// Bits per second that a serial wire sends once its divisor is written; a parallel port has a clock of
    /// its own.
    #[must_use]
    pub fn bit_rate(&self) -> Option<u64> {
        let divisor = self.divisor.filter(|_| self.port[0] != PARALLEL)?;
        Some(self.core_clock / u64::from(divisor + 1))
    }

    /// How fast the port is. The pins of a parallel one carry two bits a core cycle each: its clock is the core's,
    /// and both edges count.
    fn set_pace(&mut self) {
        let rate = if self.port[0] == PARALLEL {
            let width = self.port[2].trailing_zeros().min(31) + 1;
            Some(self.core_clock * 2 * u64::from(width) * BITS_PER_BYTE / 8)
        } else {
            self.bit_rate()
        };
        if let Some(rate) = rate {
            self.link.set_rate(self.core_clock, rate.max(1));
        }
    }

    /// Bytes between synchronisations of frames (`TPIU_PSCR.PSCount`; assumed: below 7 there are none).
    fn pace_frame_sync(&mut self) {
        let power = self.frame_sync.filter(|power| (7..32).contains(power));
        self.link.synchronise_every(power.map(|power| 1 << power));
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
        let syncs = counts && (self.itm_synchronises() || self.counter_paces_frames());
        self.next_sync = match (syncs, self.sync_period(), self.next_sync) {
            // The first one goes out at once, so that whoever listens finds his feet.
            (true, Some(_), u64::MAX) => cycle,
            (true, Some(_), at) => at,
            _ => u64::MAX,
        };
    }

    const fn itm_synchronises(&self) -> bool {
        self.enabled() && self.itm_tcr & trace_control::SYNC_ON != 0
    }

    /// Frames are on, and their synchronisations go with the DWT's cycle counter.
    const fn counter_paces_frames(&self) -> bool {
        self.demcr & TRACE_ENABLE != 0 && self.framed() && self.frame_sync.is_none()
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
        if !self.itm_synchronises() {
            self.link.synchronise();
            return;
        }
        self.stamp(cycle);
        let sync = itm::synchronisation();
        if self.link.room_at(cycle, sync.as_slice().len() as u64) > cycle {
            // Tried again when there is room: a synchronisation is never dropped for good.
            self.next_sync = cycle + 64;
            return;
        }
        if self.counter_paces_frames() {
            self.link.synchronise();
        }
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
        let is_stamped = self.itm_tcr & trace_control::TIMESTAMPS_ON != 0;
        if is_stamped && self.stamp_due.replace(cycle).is_none() {
            self.stamp_since = cycle;
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
        // Synchronous: it dates all that waited, none of which had to.
        let delayed = u8::from(at > self.stamp_since);
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
            0xe000_1020..=0xe000_105c => self.comparators.read(address - 0xe000_1020),
            0xe004_0004 => self.port[2],
            0xe004_0010 => self.divisor.unwrap_or(0),
            0xe004_00f0 => self.port[0],
            0xe004_0304 => self.port[1],
            0xe004_0308 => self.frame_sync.unwrap_or(0),
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
            0xe004_0004 => {
                self.port[2] = value;
                self.set_pace();
            }
            0xe004_0010 => {
                self.divisor = Some(value & 0xffff);
                self.set_pace();
            }
            0xe004_00f0 => {
                self.port[0] = value & 0b11;
                self.set_pace();
            }
            0xe004_0304 => {
                self.port[1] = value;
                self.link.set_formatter(value & FRAMES_ON != 0);
                self.pace_frame_sync();
            }
            0xe004_0308 if self.frame_sync.is_some() => {
                self.frame_sync = Some(value & 0x1f);
                self.pace_frame_sync();
            }
            0xe000_0000..=0xe000_0fff | 0xe004_0000..=0xe004_0fff => {}
            0xe000_1020..=0xe000_105c => self.comparators.write(address - 0xe000_1020, value),
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
