use super::*;
use crate::image::{Image, Variables};
use crate::time::Frequency;
use proptest::prelude::*;

const ELF: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");
const TARGET: &str = r#"
format = 1
name = "wave-buoy"
core = "cortex-m3"
core_clock = "48 MHz"
[link]
kind = "uart"
bit_rate = "2 Mbit/s"
[observe]
pc_sample_period = 4096
ports = 0x1
text = "300 B/s"
[[observe.interrupt]]
name = "SysTick"
rate = "1 kHz"
"#;

const WANTED: [Wanted; 1] = [Wanted { share: 0.05, within: 0.005 }];

fn described(text: &str) -> Description {
    Description::parse("target.toml", text).unwrap_or_else(|fault| panic!("{fault}"))
}

fn refused(text: &str) -> String {
    plan(&described(text), None, &WANTED).unwrap_err().to_string()
}

#[test]
fn registers_of_the_chip_come_before_and_after_those_of_the_core() {
    let chip = r#"
[[register]]
name = "SYSCON_TRACECLKDIV"
address = 0x40000304
value = 1
purpose = "the trace port has a clock"
[[register]]
name = "LAST"
address = 0x4000_0308
value = 0
when = "after"
[[register]]
name = "IOCON_PIO0_10"
address = 0x40001028
value = 0x6
mask = 0x7
when = "before"
"#;
    let report = plan(&described(&format!("{TARGET}{chip}")), None, &WANTED).unwrap();
    let names: Vec<&str> = report.registers.iter().map(|r| r.name.as_str()).collect();
    assert_eq!(names[..3], ["SYSCON_TRACECLKDIV", "IOCON_PIO0_10", "DEMCR"]);
    assert_eq!(names.last(), Some(&"LAST"));
    let pin = &report.registers[1];
    assert_eq!((pin.address, pin.value, pin.mask), (0x4000_1028, 6, 7));
    // What is planned is written, and read again.
    let applied = Applied::new(&described(&format!("{TARGET}{chip}")), &report);
    let again = Applied::parse("plan.toml", &applied.to_toml()).unwrap();
    assert_eq!(again.writes, applied.writes);
    assert_eq!((again.writes[1].value, again.writes[1].mask), (6, 7));
    for (wrong, why) in [
        ("address = 0x40000302\nvalue = 1", "must be a multiple of 4"),
        ("address = 0x40000304\nvalue = 6\nmask = 3", "has bits that `mask` leaves alone"),
        ("address = 0x40000304\nvalue = 6\nwhen = 'befor'", "did you mean `before`"),
        ("address = 0x40000304", "needs the key `value`"),
        ("address = 0x140000304\nvalue = 1", "must fit 32 bits"),
    ] {
        let text = format!("{TARGET}[[register]]\nname = 'X'\n{wrong}\n");
        let fault = Description::parse("target.toml", &text).unwrap_err().to_string();
        assert!(fault.contains(why), "{fault}");
    }
}

#[test]
fn writes_the_registers_that_the_manual_asks_for() {
    let report = plan(&described(TARGET), None, &WANTED).unwrap();
    let written: Vec<(&str, u64, u32)> =
        report.registers.iter().map(|r| (r.name.as_str(), r.address, r.value)).collect();
    assert_eq!(
        written,
        [
            ("DEMCR", 0xe000_edfc, 0x0100_0000),
            ("TPIU_SPPR", 0xe004_00f0, 2),
            ("TPIU_ACPR", 0xe004_0010, 23),
            ("TPIU_FFCR", 0xe004_0304, 0x100),
            ("ITM_LAR", 0xe000_0fb0, 0xc5ac_ce55),
            ("ITM_TER", 0xe000_0e00, 1),
            ("ITM_TPR", 0xe000_0e40, 0b1110),
            ("ITM_TCR", 0xe000_0e80, 0x0001_000f),
            ("DWT_CYCCNT", 0xe000_1004, 0x0fff_ffff),
            ("DWT_CTRL", 0xe000_1000, 0x0001_1607),
        ]
    );
    assert!(report.link.as_ref().unwrap().fits && report.proposal.is_none());
    assert_eq!(report.measuring[0].samples, 7299);
}

#[test]
fn proposes_the_next_period_that_fits() {
    let report = plan(&described(&TARGET.replace("4096", "256")), None, &WANTED).unwrap();
    assert!(
        report.link.as_ref().unwrap().overflows
            && report.link.as_ref().unwrap().headroom.unwrap() < 0.0,
        "{:?}",
        report.link
    );
    let proposal = report.proposal.unwrap();
    let fitting = TARGET.replace("4096", &proposal.pc_sample_period.to_string());
    assert!(plan(&described(&fitting), None, &WANTED).unwrap().link.unwrap().fits);
    let before = if proposal.pc_sample_period > 1024 {
        proposal.pc_sample_period - 1024
    } else {
        proposal.pc_sample_period - 64
    };
    let shorter = TARGET.replace("4096", &before.to_string());
    assert!(!plan(&described(&shorter), None, &WANTED).unwrap().link.unwrap().fits);
}

#[test]
fn watches_variables_at_fixed_addresses_only() {
    let image = Image::parse(ELF).unwrap();
    let variables = Variables::parse(ELF).unwrap();
    let program = Program { image: &image, variables: &variables, measured: None };
    let one = variables.all().iter().find(|v| v.size == 4 && v.address >= 0x2000_0000).unwrap();
    let watching = |name: &str| {
        let text = format!("{TARGET}[[observe.variable]]\nname = '{name}'\nrate = '100 Hz'\n");
        plan(&described(&text), Some(program), &WANTED)
    };
    let report = watching(&one.name).unwrap();
    assert_eq!(report.watches[0].address, one.address);
    let find = |name: &str| report.registers.iter().find(|r| r.name == name).unwrap().value;
    assert_eq!(u64::from(find("DWT_COMP0")), one.address);
    assert_eq!((find("DWT_MASK0"), find("DWT_FUNCTION0")), (2, 0b1101));
    assert!(watching("no_such_thing").unwrap_err().to_string().contains("no variable"));
    let large = variables.all().iter().find(|v| v.size > 4).unwrap();
    assert!(watching(&large.name).unwrap_err().to_string().contains("watches 1, 2 or 4"));
    let five = (0..5).fold(TARGET.to_owned(), |text, _| {
        format!("{text}[[observe.variable]]\nname = '0x20000000'\nrate = '1 Hz'\n")
    });
    assert!(refused(&five).contains("has 4 comparators"));
}

/// A capture names values as the description does, so budgets name them once.
#[test]
fn signals_of_a_description_go_into_the_capture() {
    let text = format!(
        "{TARGET}[[observe.variable]]\nname = '0x20000000'\nrate = '100 Hz'\n\
         [signal.level]\nvariable = '0x20000000'\nscale = 0.1\nunit = 'V'\n\
         [signal.height]\nquantity = 3\nunit = 'mm'\n"
    );
    let description = described(&text);
    let applied = Applied::new(&description, &plan(&description, None, &WANTED).unwrap());
    let named = |name: &str| applied.signals.iter().find(|signal| signal.name == name).unwrap();
    let (level, height) = (named("level"), named("height"));
    assert_eq!(applied.signals.len(), 2);
    assert_eq!((level.comparator, level.scale), (Some(0), 0.1));
    assert_eq!((height.quantity, height.comparator), (Some(3), None));
    let fixed = text.replace("quantity = 3", "comparator = 3");
    let fault = Description::parse("target.toml", &fixed).unwrap_err().to_string();
    assert!(fault.contains("a plan chooses comparators itself"), "{fault}");
}

#[test]
fn says_why_it_cannot_be_done() {
    let with = |from: &str, to: &str| refused(&TARGET.replace(from, to));
    assert!(with("4096", "4000").contains("the next is 4096"));
    assert!(with("cortex-m3", "cortex-m0+").contains("has no ITM"));
    assert!(with("2 Mbit/s", "30 Mbit/s").contains("-20.0 % off"));
    assert!(with("core_clock = \"48 MHz\"", "").contains("--core-clock"));
    let counters = TARGET.replace("ports", "event_counters = ['cycle']\nports");
    assert!(refused(&counters).contains("share POSTCNT"));
    assert!(refused("format = 1\ncore = 'cortex-m3'\ncore_clock = '1 MHz'\n[link]\nkind = 'uart'\nbit_rate = '1 Mbit/s'\n").contains("nothing is to be observed"));
}

#[test]
fn warns_of_samples_that_beat() {
    let beating = TARGET.replace("4096", "16384").replace("48 MHz", "49.152 MHz");
    let report = plan(&described(&beating), None, &WANTED).unwrap();
    assert!(report.doubts.iter().any(|doubt| doubt.contains("3 places of SysTick")), "{report:?}");
}

#[test]
fn sets_up_instruction_trace() {
    let image = Image::parse(ELF).unwrap();
    let variables = Variables::parse(ELF).unwrap();
    let program = Program { image: &image, variables: &variables, measured: None };
    let text = TARGET.replace(
        "kind = \"uart\"\nbit_rate = \"2 Mbit/s\"",
        "kind = 'port'\nwidth = 4\nport_clock = '24 MHz'",
    ) + "[observe.instructions]\nstart = 'wave_filter'\nstop = '0x08000100'\n";
    for (core, names) in
        [("cortex-m7", ["TRCVIPCSSCTLR", "TRCPRGCTLR"]), ("cortex-m4", ["ETMTESSEICR", "ETMCR"])]
    {
        let described = described(&text.replace("cortex-m3", core));
        let report = plan(&described, Some(program), &WANTED).unwrap();
        let written = |name: &str| report.registers.iter().rev().find(|r| r.name == name);
        assert_eq!(written(names[0]).unwrap().value, 0x0002_0001, "{core}");
        assert!(written(names[1]).is_some());
        assert!(
            report.link.as_ref().unwrap().formatter && written("TPIU_FFCR").unwrap().value == 0x102
        );
        assert_eq!(written("TPIU_CSPSR").unwrap().value, 1 << 3);
    }
}

/// A micro trace buffer of 4 KiB.
const MTB: &str = "format = 1\ncore = 'cortex-m0+'\ncore_clock = '16 MHz'\nmtb_base = 0xf0000000\n[link]\nkind = 'buffer'\nsize = '4 KiB'\n[observe.instructions]\nbits_per_instruction = '12'\n";

/// An error and what it comes from.
fn whole(error: &dyn std::error::Error) -> String {
    let chain = std::iter::successors(Some(error), |error| error.source());
    chain.map(ToString::to_string).collect::<Vec<_>>().join(": ")
}

#[test]
fn puts_a_micro_trace_buffer_where_the_program_leaves_room() {
    let image = Image::parse(ELF).unwrap();
    let variables = Variables::parse(ELF).unwrap();
    let program = Program { image: &image, variables: &variables, measured: None };
    let at = |buffer: &str, size: &str, program| {
        let text = MTB
            .replace("mtb_base", &format!("mtb_buffer = '{buffer}'\nmtb_base"))
            .replace("4 KiB", size);
        plan(&described(&text), program, &WANTED).map(|report| {
            let position = report.registers.iter().find(|r| r.name == "MTB_POSITION").unwrap();
            (position.value, report.doubts.iter().any(|doubt| doubt.contains("overwrites")))
        })
    };
    assert_eq!(at("0x20001000", "4 KiB", None), Ok((0x1000, false)));
    for (buffer, size, program, part) in [
        ("0x20000800", "4 KiB", None, "aligned(4096)"),
        ("0x1fff0000", "4 KiB", None, "lies below its RAM"),
        ("0x20001000", "3 KiB", None, "a power of two"),
        ("ticks", "4 KiB", None, "give --image"),
        ("ticks", "4 KiB", Some(program), "has 4 bytes"),
        ("tocks", "4 KiB", Some(program), "did you mean `ticks`?"),
    ] {
        let error = whole(&at(buffer, size, program).unwrap_err());
        assert!(error.contains(part), "{buffer}, {size}: {error}");
    }
    // Without a place of its own it takes whatever the program keeps there.
    let report = plan(&described(MTB), Some(program), &WANTED).unwrap();
    assert!(report.doubts.iter().any(|doubt| doubt.contains("for one")), "{:?}", report.doubts);
}

#[test]
fn an_earlier_recording_says_which_ranges_stretch_a_buffer() {
    let image = Image::parse(ELF).unwrap();
    let variables = Variables::parse(ELF).unwrap();
    let range = |name: &str| image.function(image.functions_named(name)[0]).range.clone();
    let function = |name: &str, share| (name.to_owned(), range(name), share);
    let functions = vec![function("spectrum_power", 0.08), function("wave_filter", 0.02)];
    let measured = Measured { asleep: 0.8, functions };
    let lasts = |text: &str, measured| {
        let program = Program { image: &image, variables: &variables, measured };
        plan(&described(text), Some(program), &WANTED).unwrap().buffer.unwrap()
    };
    let etm = "format = 1\ncore = 'cortex-m33'\ncore_clock = '16 MHz'\n[link]\nkind = 'buffer'\nsize = '4 KiB'\n[observe.instructions]\n";
    let (blind, seeing) = (lasts(etm, None), lasts(etm, Some(&measured)));
    let close = |a: f64, b: f64| (a / b - 1.0).abs() < 1e-9;
    // The core sleeps four fifths of the time, and is in a function a part of the rest.
    assert!(close(seeing.lasts.ns, 5.0 * blind.lasts.ns));
    let rows: Vec<_> =
        seeing.stretches.iter().map(|row| (row.inside.as_str(), row.share)).collect();
    assert!(rows[0].0 == "spectrum_power" && close(rows[0].1, 0.4), "{rows:?}");
    assert!(close(seeing.stretches[1].lasts.ns, 10.0 * seeing.lasts.ns));
    // What the plan narrows already counts, where the target does it itself.
    let narrowed = |text: &str, key: &str| {
        let text = format!("{text}{key} = ['wave_filter']\n");
        lasts(&text, Some(&measured)).lasts.ns
    };
    assert!(close(narrowed(etm, "inside"), 10.0 * seeing.lasts.ns));
    assert!(close(narrowed(etm, "exclude"), seeing.lasts.ns / 0.9));
    let mtb = lasts(MTB, Some(&measured));
    assert!(mtb.stretches.is_empty() && close(narrowed(MTB, "inside"), mtb.lasts.ns));
    assert!(blind.stretches.is_empty());
    assert!(blind.advice.iter().any(|advice| advice.contains("--measured")), "{:?}", blind.advice);
}

#[test]
fn narrows_instruction_trace_to_ranges_where_comparators_can() {
    let image = Image::parse(ELF).unwrap();
    let variables = Variables::parse(ELF).unwrap();
    let program = Program { image: &image, variables: &variables, measured: None };
    let planned = |core: &str, narrow: &str| {
        let text = format!(
            "{}[observe.instructions]\n{narrow}\n",
            TARGET.replace(
                "kind = \"uart\"\nbit_rate = \"2 Mbit/s\"",
                "kind = 'buffer'\nsize = '4 KiB'"
            )
        );
        plan(&described(&text.replace("cortex-m3", core)), Some(program), &WANTED).unwrap()
    };
    let value = |report: &PlanReport, name: &str| {
        report.registers.iter().rev().find(|r| r.name == name).map(|r| r.value)
    };
    let report = planned("cortex-m33", "inside = ['wave_filter']");
    assert_eq!(value(&report, "TRCVICTLR"), Some(1 << 9 | 2));
    assert_eq!(value(&report, "TRCRSCTLR2"), Some(1 << 16 | 0b10));
    let filter = image.function(image.functions_named("wave_filter")[0]).range.clone();
    assert_eq!(value(&report, "DWT_COMP0"), Some(filter.start as u32));
    assert_eq!(value(&report, "DWT_COMP1"), Some((filter.end - 1) as u32 & !1));
    assert_eq!(value(&report, "DWT_FUNCTION1"), Some(0b0011));
    let report = planned("cortex-m4", "exclude = ['0x08000100..0x08000200']");
    assert_eq!(value(&report, "ETMTEEVR"), Some(1 << 14 | 0x20));
    assert_eq!(
        (value(&report, "DWT_MASK0"), value(&report, "DWT_COMP0")),
        (Some(8), Some(0x0800_0100))
    );
    let report = planned(
        "cortex-m4",
        "inside = ['wave_filter', 'ticks']".replace("ticks", "filter.c").as_str(),
    );
    assert!(
        report.doubts.iter().any(|doubt| doubt.contains("one range at a time")),
        "{:?}",
        report.doubts
    );
}

#[test]
fn plans_buffers_and_rings() {
    let report = plan(&described(MTB), None, &WANTED).unwrap();
    let masters: Vec<_> = report.registers.iter().filter(|r| r.name == "MTB_MASTER").collect();
    let writes: Vec<_> = masters.iter().map(|r| (r.address, r.value, r.mask)).collect();
    assert_eq!(writes, [(0xf000_0004, 8, u32::MAX), (0xf000_0004, 1 << 31, 1 << 31)]);
    assert!(report.doubts.iter().any(|doubt| doubt.contains("overwrites RAM from 0x20000000")));
    let lasts = report.buffer.unwrap().lasts.ns;
    assert!((lasts - 4096.0 * 8.0 / 12.0 * 1.4 / 16e6 * 1e9).abs() < 1.0, "{lasts}");
    let ring = Ring {
        symbol: "x".into(),
        rate: 1000.0,
        mark_bytes: 16,
        holds: std::time::Duration::from_millis(500),
    };
    assert_eq!(plan_ring(&ring, None).unwrap().bytes_needed, 8192 + RING_HEADER);
}

#[test]
fn what_is_applied_can_be_read_again() {
    let description = described(TARGET);
    let report = plan(&description, None, &WANTED).unwrap();
    let applied = Applied::new(&description, &report);
    let text = applied.to_toml();
    assert_eq!(Applied::parse("plan.toml", &text).unwrap_or_else(|f| panic!("{f}")), applied);
    let narrowed = described(MTB);
    let report = plan(&narrowed, None, &WANTED).unwrap();
    let with_unit = Applied::new(&narrowed, &report);
    assert_eq!(with_unit.unit.map(|unit| (unit.kind, unit.used)), Some((InstructionTrace::Mtb, 0)));
    let unit_text = with_unit.to_toml();
    assert_eq!(
        Applied::parse("plan.toml", &unit_text).unwrap_or_else(|f| panic!("{f}")),
        with_unit
    );
    for (from, to, part) in [
        ("kind = \"mtb\"", "kind = \"mtp\"", "`kind` is `etmv3`"),
        ("armv6-m", "armv5", "armv7-m"),
        ("base = 0xf0000000", "base = 0xf0000010", "a multiple of 0x1000"),
        ("comparator_count = 2", "comparator_count = 2000", "a small number"),
    ] {
        assert!(unit_text.contains(from), "{unit_text}");
        let fault = Applied::parse("plan.toml", &unit_text.replace(from, to)).unwrap_err();
        assert!(fault.to_string().contains(part), "{fault}");
    }
    let fault = Applied::parse("plan.toml", &text.replace("address", "adress")).unwrap_err();
    assert!(fault.message.contains("did you mean `address`?"), "{fault}");
}

proptest! {
    #[test]
    fn any_text_is_read_or_refused(text in "[a-z0-9=\\[\\]\"' .\n_-]{0,200}") {
        let _ = Description::parse("t", &text);
        let _ = Applied::parse("p", &text);
    }

    #[test]
    fn any_bit_rate_is_met_or_refused(clock in 1e5_f64..1e9, rate in 1.0_f64..1e9) {
        let clock = Frequency::from_hertz(clock).unwrap();
        if let Ok(divisor) = divide(clock, rate) {
            prop_assert!((clock.hertz() / f64::from(divisor.divisor) / rate - 1.0).abs() <= 0.02 + 1e-9);
        }
    }
}

proptest! {
    #[test]
    fn any_plan_adds_up(
        period in 1_u64..16,
        rate in 1.0_f64..1e5,
        bit_rate in 1e5_f64..2e7,
        asleep in 0.0_f64..1.0,
        manchester in any::<bool>(),
        formatter in any::<bool>(),
    ) {
        let clock = Frequency::from_hertz(48e6).unwrap();
        let observe = Observe {
            pc_sample_period: Some(1024 * period),
            asleep,
            interrupts: vec![Interrupt { name: "a".into(), rate }],
            ..Observe::default()
        };
        let link =
            if manchester { Link::Manchester { bit_rate } } else { Link::Uart { bit_rate } };
        let description = Description {
            core: "cortex-m4".parse().ok(),
            core_clock: Some(clock),
            link: Some(link),
            formatter,
            observe,
            ..Description::default()
        };
        let Ok(report) = plan(&description, None, &WANTED) else { return Ok(()) };
        let sum: f64 = report.sources.iter().map(|row| row.bytes_per_second).sum();
        prop_assert!((sum - report.link.as_ref().unwrap().bytes_per_second).abs() < 1e-6 * sum);
        let headroom = report.link.as_ref().unwrap().headroom.unwrap();
        prop_assert!((1.0 - headroom - sum / report.link.as_ref().unwrap().capacity.unwrap()).abs() < 1e-9);
        // What overflows for certain does not fit, and what does not fit may get a proposal that does.
        prop_assert!(!(report.link.as_ref().unwrap().overflows && report.link.as_ref().unwrap().fits));
        prop_assert!(report.link.as_ref().unwrap().overflows <= (headroom < 0.0));
        if let Some(proposal) = report.proposal {
            prop_assert!(!report.link.as_ref().unwrap().fits && proposal.headroom > headroom);
            prop_assert!(proposal.pc_sample_period > 1024 * period);
        }
        let dropped = report.link.as_ref().unwrap().dropped.unwrap();
        prop_assert!((0.0..=1.0).contains(&dropped), "{dropped}");
    }
}

#[test]
fn a_unit_that_is_set_up_is_narrowed_while_it_is_off() {
    let unit = |kind, architecture| TraceUnit {
        kind,
        architecture,
        base: 0xe004_3000,
        comparators: 4,
        used: 1,
    };
    let narrow = Narrow { start: Some(0x100), stop: Some(0x200), ..Narrow::default() };
    for (kind, architecture, switch, off) in [
        (InstructionTrace::Etm4, Architecture::V8, "TRCPRGCTLR", 0),
        (InstructionTrace::Etm3, Architecture::V7, "ETMCR", 1 << 10),
        (InstructionTrace::Mtb, Architecture::V8Base, "MTB_MASTER", 0),
    ] {
        let unit = unit(kind, architecture);
        let (writes, left) = narrowing(&unit, &narrow);
        assert_eq!(left, Left::default(), "{switch}");
        let (first, last) = (&writes[0], &writes[writes.len() - 1]);
        assert_eq!((first.name.as_str(), first.value), (switch, off));
        assert!(last.name == switch && last.value != off, "{last:?}");
        // Comparator 0 watches a variable: it is left alone.
        assert!(writes.iter().all(|write| !write.name.ends_with("COMP0")), "{switch}");
        assert!(writes.iter().any(|write| write.name == "DWT_COMP2" && write.value == 0x200));
        assert_eq!(narrowing(&unit, &Narrow::default()).0, []);
    }
    let old = unit(InstructionTrace::Mtb, Architecture::V6);
    let (writes, left) = narrowing(&old, &narrow);
    assert!(writes.is_empty() && left.points.is_some());
}

#[test]
fn a_ring_alone_needs_no_link_and_its_size_is_a_power_of_two() {
    let ring = "format = 1\ncore = 'cortex-m0+'\ncore_clock = '64 MHz'\n[ring]\nsymbol = 'mark_ring'\n\
                rate = '2 kHz'\nholds = '500 ms'\n";
    let report = plan(&described(ring), None, &WANTED).unwrap();
    assert!(report.link.is_none() && report.buffer.is_none() && report.registers.is_empty());
    assert_eq!(report.ring.unwrap().bytes_needed, 16_384 + RING_HEADER);
    assert!(report.checklist[0].contains("every 500 ms at least"), "{:?}", report.checklist);
}

#[test]
fn frames_synchronise_as_each_edition_of_the_port_can() {
    let of = |core: &str| {
        let text = format!(
            "format = 1\ncore = '{core}'\ncore_clock = '48 MHz'\n[link]\nkind = 'port'\nwidth = 4\n\
             port_clock = '24 MHz'\n[observe.instructions]\n"
        );
        let plan = plan(&described(&text), None, &WANTED).unwrap();
        let names = plan.registers.iter().map(|r| (r.name.clone(), r.value));
        names.filter(|(name, _)| name.starts_with("DWT") || name == "TPIU_PSCR").collect::<Vec<_>>()
    };
    let paced = [("DWT_CYCCNT".to_owned(), 0x0fff_ffff), ("DWT_CTRL".to_owned(), 1 | 1 << 10)];
    assert_eq!((of("cortex-m3"), of("cortex-m7")), (paced.to_vec(), paced.to_vec()));
    assert_eq!(of("cortex-m33"), [("TPIU_PSCR".to_owned(), 10)]);
}
