//! Interrupt priorities, the system timer and the buoy's peripherals, register by register.

use weltblick_standin::nvic::{Nvic, PENDSV, SYSTICK, SysTick};
use weltblick_standin::peripheral::Peripherals;

fn enabled() -> Nvic {
    let mut nvic = Nvic::default();
    nvic.write(0x000, 4, 0xffff, 0);
    nvic
}

#[test]
fn the_most_urgent_enabled_request_is_next() {
    let mut nvic = Nvic::default();
    nvic.request(18, 5);
    assert_eq!(nvic.next(false, false, 0), None, "not enabled");
    nvic.write(0x000, 4, 0b111, 0);
    nvic.set_priorities(16, 4, 0x00_20_40_80);
    nvic.request(16, 6);
    assert_eq!(nvic.next(false, false, 0), Some(18), "priority 0x20 before 0x80");
    assert_eq!(nvic.enter(18), 5, "requested at 5");
    assert_eq!(nvic.next(false, false, 0), None, "less urgent than what runs");
    nvic.request(17, 7);
    assert_eq!(nvic.next(false, false, 0), None);
    nvic.leave(18);
    assert_eq!(nvic.next(false, false, 0), Some(17));
}

#[test]
fn masks_hold_back_what_they_say() {
    let mut nvic = enabled();
    nvic.set_priorities(16, 4, 0x40_40_40_40);
    nvic.request(16, 0);
    assert_eq!(nvic.next(true, false, 0), None, "PRIMASK");
    assert_eq!(nvic.next(false, true, 0), None, "FAULTMASK");
    assert_eq!(nvic.next(false, false, 0x40), None, "BASEPRI of the same level");
    assert_eq!(nvic.next(false, false, 0x50), Some(16), "BASEPRI below it");
    assert!(nvic.wakes(0), "a masked request wakes a sleeping core");
    nvic.request(3, 0);
    assert_eq!(nvic.next(true, false, 0), Some(3), "a hard fault passes PRIMASK");
}

#[test]
fn registers_show_and_change_the_state() {
    let mut nvic = enabled();
    nvic.write(0x100, 4, 0b101, 9);
    assert_eq!(nvic.read(0x100), 0b101);
    nvic.write(0x180, 4, 0b001, 10);
    assert_eq!((nvic.read(0x100), nvic.is_pending(18)), (0b100, true));
    nvic.write(0x300, 1, 0xff, 0);
    assert_eq!(nvic.read(0x300) & 0xff, 0xf0, "four bits of priority");
    nvic.write(0x080, 4, 0xffff, 0);
    assert_eq!(nvic.read(0x000), 0);
    nvic.request(PENDSV, 0);
    nvic.withdraw(PENDSV);
    assert!(!nvic.any_pending());
}

#[test]
fn the_system_timer_reloads_and_interrupts() {
    let mut timer = SysTick::default();
    timer.write(0x4, 999, 0);
    assert_eq!(timer.due(), u64::MAX, "off");
    timer.write(0x0, 0b11, 500);
    assert_eq!(timer.due(), 1500);
    assert_eq!(timer.read(0x8, 1400), 100, "counts down");
    assert!(!timer.advance(1499) && timer.advance(1500));
    assert_eq!(timer.due(), 2500);
    assert_eq!(timer.read(0x0, 1600) >> 16, 1, "COUNTFLAG");
    assert_eq!(timer.read(0x0, 1600) >> 16, 0, "cleared by reading");
    timer.write(0x0, 0b01, 2000);
    assert!(!timer.advance(10_000), "no interrupt asked for");
    assert_ne!(SYSTICK, PENDSV);
}

/// Runs peripherals to `cycle` and returns the lines that rose, with their times.
fn run(peripherals: &mut Peripherals, cycle: u64) -> Vec<(u64, u16)> {
    let mut lines = Vec::new();
    while peripherals.due() <= cycle {
        let due = peripherals.due();
        peripherals.advance(due, |line| lines.push((due, line)));
    }
    lines
}

#[test]
fn the_converter_delivers_samples_at_its_period() {
    let mut peripherals = Peripherals::new(1);
    assert_eq!(peripherals.due(), u64::MAX, "everything is off after reset");
    peripherals.write(0x4000_0004, 1000, 0).unwrap();
    peripherals.write(0x4000_0000, 1, 50).unwrap();
    assert_eq!(run(&mut peripherals, 3500), [(1050, 0), (2050, 0), (3050, 0)]);
    assert_eq!(peripherals.read(0x4000_0008, 0), Some(1), "a sample is ready");
    let sample = peripherals.read(0x4000_000c, 0).unwrap() as i32;
    assert!((-32_000..=32_000).contains(&sample));
    assert_eq!(peripherals.read(0x4000_0008, 0), Some(0), "reading it clears the status");
}

#[test]
fn the_modem_sends_byte_by_byte_and_acknowledges_a_line() {
    let mut peripherals = Peripherals::new(1);
    peripherals.write(0x4000_200c, 100, 0).unwrap();
    peripherals.write(0x4000_2008, 0b11, 0).unwrap();
    peripherals.write(0x4000_2000, u32::from(b'\n'), 0).unwrap();
    assert_eq!(peripherals.read(0x4000_2004, 0), Some(0), "busy");
    assert_eq!(run(&mut peripherals, 100), [(100, 2)]);
    assert_eq!(peripherals.read(0x4000_2004, 0), Some(1), "ready");
    let mut text = Vec::new();
    while peripherals.due() < u64::MAX {
        let due = peripherals.due();
        assert_eq!(run(&mut peripherals, due), [(due, 3)]);
        text.push(peripherals.read(0x4000_2000, 0).unwrap() as u8);
    }
    assert_eq!(text, b"+SENT\r\n");
}

#[test]
fn the_pulse_comes_near_its_period_and_is_captured() {
    let mut peripherals = Peripherals::new(1);
    peripherals.write(0x4000_300c, 1_000_000, 0).unwrap();
    peripherals.write(0x4000_3000, 1, 0).unwrap();
    let pulses = run(&mut peripherals, 20_000_000);
    for pair in pulses.windows(2) {
        let apart = pair[1].0 - pair[0].0;
        assert!(apart.abs_diff(1_000_021) <= 24, "{apart}");
    }
    let last = pulses.last().unwrap().0;
    assert_eq!(peripherals.read(0x4000_3004, 0), Some(last as u32));
}

#[test]
fn registers_that_are_not_there_do_not_answer() {
    let mut peripherals = Peripherals::new(1);
    assert_eq!(peripherals.read(0x4000_0010, 0), None);
    assert_eq!(peripherals.read(0x4000_5000, 0), None);
    assert_eq!(peripherals.write(0x4000_4000, 1, 0), None, "the battery cannot be written");
    assert!((3_600..3_800).contains(&peripherals.read(0x4000_4000, 0).unwrap()));
}
