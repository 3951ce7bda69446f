//! Limits and budget files. Verdicts on real recordings stand in the program's tests.

use super::limit::Limit;
use super::*;
use crate::time::Unit;
use proptest::prelude::*;

#[test]
fn limits_hold_where_they_say() {
    for (text, unit, inside, outside, edge_margin) in [
        ("<= 18 %", Unit::Share, 0.18, 0.181, 0.0),
        ("< 18 %", Unit::Share, 0.179, 0.18, 0.0),
        (">= 40 %", Unit::Share, 0.4, 0.399, 0.0),
        ("> 10", Unit::Count, 10.5, 10.0, 0.0),
        ("1 ms +- 2 %", Unit::Time, 0.001_019, 0.001_021, 0.0),
        ("50 % +- 5 %", Unit::Share, 0.549, 0.56, 0.0),
        (">= 10_000 samples", Unit::Count, 10_000.0, 9_999.0, 0.0),
    ] {
        let limit = Limit::parse(text, unit).unwrap();
        assert!(limit.holds_for_all(inside, inside), "{text} at {inside}");
        assert!(limit.fails_for_all(outside, outside), "{text} at {outside}");
        assert!(!limit.holds_for_all(inside.min(outside), inside.max(outside)), "{text}");
        assert!(!limit.fails_for_all(inside.min(outside), inside.max(outside)), "{text}");
        assert!(limit.margin(inside) >= edge_margin && limit.margin(outside) <= 0.0, "{text}");
    }
}

#[test]
fn an_interval_around_a_band_neither_holds_nor_fails() {
    let limit = Limit::parse("1 ms +- 10 %", Unit::Time).unwrap();
    assert!(!limit.fails_for_all(0.5e-3, 2e-3) && !limit.holds_for_all(0.5e-3, 2e-3));
    assert!(limit.fails_for_all(1.2e-3, 2e-3) && limit.fails_for_all(0.1e-3, 0.8e-3));
}

#[test]
fn margins_are_parts_of_the_limit() {
    let limit = Limit::parse("<= 20 %", Unit::Share).unwrap();
    assert!((limit.margin(0.15) - 0.25).abs() < 1e-12);
    assert!((limit.margin(0.30) + 0.5).abs() < 1e-12);
    let none = Limit::parse("<= 0 %", Unit::Share).unwrap();
    assert!((none.margin(0.1) + 0.1).abs() < 1e-12, "nothing to be a part of");
}

#[test]
fn reads_a_file_in_its_order() {
    let text = "\
[sleep]
share = '>= 40 %'
[function.wave_filter]
self_share = { limit = '<= 18 %', over = '>= 10000 samples' }
[function.\"src/dsp.c#clamp\"]
self_share = '<= 1 %'
[recording]
samples = '>= 20000'
";
    let file = BudgetFile::parse("budgets.toml", text).unwrap();
    let seen: Vec<(usize, &str, &str)> =
        file.budgets.iter().map(|b| (b.line, b.subject.as_str(), b.key.as_str())).collect();
    assert_eq!(
        seen,
        [
            (2, "sleep", "share"),
            (4, "function.wave_filter", "self_share"),
            (6, "function.src/dsp.c#clamp", "self_share"),
            (8, "recording", "samples"),
        ]
    );
    assert_eq!(file.budgets[1].condition.over, Some(10_000));
}

proptest! {
    #[test]
    fn any_text_is_an_answer(text in any::<String>()) {
        let _ = BudgetFile::parse("any", &text).map_err(|fault| fault.to_string());
    }

    #[test]
    fn any_limit_is_an_answer(text in "[<>=+0-9. %a-z-]{0,16}") {
        if let Ok(limit) = Limit::parse(&text, Unit::Share) {
            // Holding for all and failing for all exclude each other.
            prop_assert!(!(limit.holds_for_all(0.2, 0.3) && limit.fails_for_all(0.2, 0.3)));
        }
    }
}

mod verdicts {
    use super::*;
    use crate::event::{Event, LossReason, Origin, Position, Sink as _};
    use crate::image::Image;
    use crate::measure::cadence::Cadences;
    use crate::measure::profile::{Conduct, Context, SampleCounts};
    use crate::measure::recording::Recording;
    use crate::measure::timing::{Clocks, Timing};
    use crate::time::{Frequency, Window};

    const FIRMWARE: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");
    const PERIOD: u64 = 1000;

    /// A recording: sample by sample asleep or not, then so many samples missing, with timestamps
    /// or without.
    struct Case {
        asleep: Vec<bool>,
        missing: u64,
        timestamps: bool,
        /// Where the core is when it does not sleep.
        pc: u64,
        /// Cycles from sample to sample; the capture states [`PERIOD`].
        apart: u64,
        conduct: Conduct,
        image: Vec<u8>,
    }

    impl Case {
        fn new(asleep: Vec<bool>) -> Self {
            Self {
                asleep,
                missing: 0,
                timestamps: true,
                pc: 0x0800_0100,
                apart: PERIOD,
                conduct: Conduct::default(),
                image: FIRMWARE.to_vec(),
            }
        }

        fn judge(&self, budgets: &str) -> Vec<Judgement> {
            let mut counted = (SampleCounts::default(), Recording::default(), Cadences::default());
            let at = |cycle| {
                Position::new(Origin(0), 0, self.timestamps.then_some(Window::exact(cycle)))
            };
            let mut cycle = 0;
            for &asleep in &self.asleep {
                cycle += self.apart;
                let event = if asleep { Event::Asleep } else { Event::Sample { pc: self.pc } };
                self.conduct.ranges.filtering(&mut counted).event(at(cycle), &event);
            }
            if self.missing > 0 {
                let lost = Event::Lost { bytes: 0..0, why: LossReason::Overflow };
                counted.event(at(cycle + self.missing * PERIOD), &lost);
            }
            let image = Image::parse(&self.image).unwrap();
            let clock = Frequency::from_hertz(1e6);
            let context = Context {
                image: &image,
                timing: Timing {
                    recording: &counted.1,
                    clocks: Clocks {
                        stated_period: Some(PERIOD),
                        core_clock: clock,
                        timestamp_clock: clock,
                        tick_period: None,
                    },
                },
                cadences: &counted.2,
                cut: 0,
                confidence: 0.95,
                conduct: self.conduct.clone(),
            };
            let file = BudgetFile::parse("budgets.toml", budgets).unwrap();
            judge(&file, &counted.0, None, None, &context).unwrap().budgets
        }

        fn sleep(&self, limit: &str) -> Judgement {
            self.judge(&format!("[sleep]\nshare = \"{limit}\"")).remove(0)
        }
    }

    /// Every `every`th sample awake.
    fn regular(samples: usize, every: usize) -> Vec<bool> {
        (0..samples).map(|number| number % every != 0).collect()
    }

    /// Two sections at one address: which of them was there when a sample fell on it, nothing says.
    #[test]
    fn code_that_is_laid_over_other_code_has_no_share() {
        use object::write::{Object, StandardSection, Symbol, SymbolSection};
        use object::{
            Architecture, BinaryFormat, Endianness, SymbolFlags, SymbolKind, SymbolScope,
        };
        let mut file = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
        let text = file.section_id(StandardSection::Text);
        let other = file.add_section(Vec::new(), b".overlay".to_vec(), object::SectionKind::Text);
        for (section, bytes) in [(text, 64), (other, 16)] {
            file.append_section_data(section, &[0x00, 0xbf].repeat(bytes / 2), 4);
        }
        for (name, value, size) in [("laid_over", 1, 16), ("alone", 33, 16)] {
            file.add_symbol(Symbol {
                name: name.into(),
                value,
                size,
                kind: SymbolKind::Text,
                scope: SymbolScope::Linkage,
                weak: false,
                section: SymbolSection::Section(text),
                flags: SymbolFlags::None,
            });
        }
        let mut case = Case { image: file.write().unwrap(), ..Case::new(regular(10_000, 4)) };
        let budget = |name: &str| format!("[function.{name}]\nself_share = '<= 50 %'\n");
        for (name, pc, verdict) in
            [("laid_over", 4, Verdict::Undecided), ("alone", 36, Verdict::Met)]
        {
            case.pc = pc;
            let judgement = case.judge(&budget(name)).remove(0);
            assert_eq!(judgement.verdict, verdict, "{name}: {}", judgement.evidence);
            let is_told =
                judgement.evidence.contains("other code of the image has the same address");
            assert_eq!(is_told, verdict == Verdict::Undecided);
        }
    }

    #[test]
    fn clear_cases_are_clear() {
        let case = Case::new(regular(10_000, 4));
        assert_eq!(case.sleep(">= 70 %").verdict, Verdict::Met);
        assert_eq!(case.sleep(">= 80 %").verdict, Verdict::Broken);
        let close = case.sleep(">= 75 %");
        assert_eq!(close.verdict, Verdict::Undecided);
        assert!(close.advice.unwrap().contains("lies at the limit"));
    }

    #[test]
    fn an_intrusive_recording_meets_nothing_but_may_break() {
        let mut case = Case::new(regular(10_000, 4));
        case.conduct.intrusive = true;
        let met = case.sleep(">= 70 %");
        assert_eq!(met.verdict, Verdict::Undecided);
        assert!(met.evidence.contains("intrusive"), "{met:?}");
        assert_eq!(case.sleep(">= 80 %").verdict, Verdict::Broken);
    }

    #[test]
    fn a_share_between_points_is_none_of_all_time() {
        let mut case = Case::new(regular(10_000, 4));
        case.conduct.between_points = true;
        for limit in [">= 70 %", ">= 80 %"] {
            let judgement = case.sleep(limit);
            assert_eq!(judgement.verdict, Verdict::Undecided);
            assert!(judgement.evidence.contains("none of all time"), "{judgement:?}");
        }
    }

    #[test]
    fn code_that_was_left_out_is_not_free_of_time() {
        let image = Image::parse(FIRMWARE).unwrap();
        let filter = image.function(image.functions_named("wave_filter")[0]).range.clone();
        let mut case = Case::new(regular(10_000, 4));
        case.pc = filter.start;
        let judge = |case: &Case, limit: &str| {
            case.judge(&format!("[function.wave_filter]\nself_share = \"{limit}\"")).remove(0)
        };
        assert_eq!(judge(&case, "<= 30 %").verdict, Verdict::Met);
        // Asked for: nothing changes. Half of it left out: any sample elsewhere may be its own.
        case.conduct.ranges.inside = vec![filter.clone()];
        assert_eq!(judge(&case, "<= 30 %").verdict, Verdict::Met);
        case.conduct.ranges.inside[0].start += 2;
        let left_out = judge(&case, "<= 20 %");
        assert_eq!(left_out.verdict, Verdict::Undecided, "{left_out:?}");
        assert!(left_out.evidence.contains("left its code out"), "{left_out:?}");
        // Even if all of them were its own, it would hold.
        assert_eq!(judge(&case, "<= 30 %").verdict, Verdict::Met);
    }

    #[test]
    fn dependent_samples_decide_later_than_independent_ones() {
        // The same share, once evenly spread and once in long stretches.
        let stretches: Vec<bool> = (0..10_000).map(|number| number / 500 % 4 != 0).collect();
        assert_eq!(Case::new(regular(10_000, 4)).sleep(">= 72 %").verdict, Verdict::Met);
        let judgement = Case::new(stretches).sleep(">= 72 %");
        assert_eq!(judgement.verdict, Verdict::Undecided);
        assert!(judgement.measure_longer_ns.unwrap() > 0.0);
        assert!(judgement.evidence.contains("independent"));
    }

    #[test]
    fn more_budgets_make_each_verdict_harder() {
        let case = Case::new(regular(2_000, 4));
        let width = |judgement: &Judgement| {
            judgement.observed_high.unwrap() - judgement.observed_low.unwrap()
        };
        let alone = width(&case.sleep(">= 70 %"));
        let many: String = ["wave_filter", "main", "idle", "checksum", "square_root"]
            .iter()
            .map(|name| format!("[function.{name}]\nself_share = '<= 90 %'\n"))
            .collect();
        let together = case.judge(&format!("{many}[sleep]\nshare = '>= 70 %'\n"));
        let sleep = together.iter().find(|judgement| judgement.budget == "sleep.share").unwrap();
        assert!(width(sleep) > 1.1 * alone);
    }

    #[test]
    fn a_function_that_was_never_sampled_has_an_upper_bound_all_the_same() {
        let case = Case::new(regular(1_000, 4));
        let judgement = case.judge("[function.square_root]\nself_share = '<= 2 %'").remove(0);
        assert_eq!((judgement.verdict, judgement.observed), (Verdict::Met, Some(0.0)));
        let strict = case.judge("[function.square_root]\nself_share = '<= 0.01 %'").remove(0);
        assert_eq!(strict.verdict, Verdict::Undecided, "no samples are no proof");
    }

    #[test]
    fn an_overflow_without_timestamps_leaves_everything_undecided() {
        let case = Case { missing: 5, timestamps: false, ..Case::new(regular(10_000, 4)) };
        for limit in [">= 1 %", ">= 99 %"] {
            let judgement = case.sleep(limit);
            assert_eq!(judgement.verdict, Verdict::Undecided, "{limit}");
            assert!(judgement.advice.unwrap().contains("timestamps"));
        }
    }

    #[test]
    fn samples_outside_the_image_leave_everything_undecided() {
        let case = Case { pc: 0x1fff_0000, ..Case::new(regular(10_000, 4)) };
        assert_eq!(case.sleep(">= 1 %").verdict, Verdict::Undecided);
    }

    #[test]
    fn sleep_that_no_sample_sees_is_not_called_absent() {
        let case = Case::new(vec![false; 1_000]);
        assert_eq!(case.sleep(">= 10 %").verdict, Verdict::Broken, "no gap: it never slept");
        // Awake samples only, but twice as much time as they cover.
        let case = Case { apart: 2 * PERIOD, ..case };
        assert_eq!(case.sleep(">= 10 %").verdict, Verdict::Undecided);
        // A share of the time awake is no share of all time: neither broken nor met.
        for limit in ["<= 50 %", ">= 50 %"] {
            let budget = format!("[function.task_ended]\nself_share = '{limit}'");
            assert_eq!(case.judge(&budget)[0].verdict, Verdict::Undecided, "{limit}");
        }
    }

    #[test]
    fn samples_of_unknown_addresses_may_be_any_function_s() {
        let mut counted = (SampleCounts::default(), Recording::default(), Cadences::default());
        // More distinct addresses than are told apart, all of them in the image's memory range.
        for number in 0..140_000_u64 {
            let time = Some(Window::exact(PERIOD * number));
            let position = Position::new(Origin(0), 0, time);
            counted.event(position, &Event::Sample { pc: 0x1000_0000 + 2 * number });
        }
        let unknown = counted.0.batches().count(SampleCounts::BEYOND) as f64;
        assert!(unknown > 8_000.0);
        let image = Image::parse(FIRMWARE).unwrap();
        let context = Context {
            image: &image,
            timing: Timing {
                recording: &counted.1,
                clocks: Clocks {
                    stated_period: Some(PERIOD),
                    core_clock: None,
                    timestamp_clock: None,
                    tick_period: None,
                },
            },
            cadences: &counted.2,
            cut: 0,
            confidence: 0.95,
            conduct: crate::measure::profile::Conduct::default(),
        };
        let file = BudgetFile::parse("b", "[function.main]\nself_share = '<= 1 %'").unwrap();
        let report = judge(&file, &counted.0, None, None, &context).unwrap();
        assert!(report.budgets[0].observed_high.unwrap() > unknown / 140_000.0);
        assert_ne!(report.verdict, Verdict::Met);
    }

    #[test]
    fn an_empty_recording_decides_nothing() {
        let case = Case::new(Vec::new());
        assert_eq!(case.sleep(">= 0 %").verdict, Verdict::Undecided);
        let samples = case.judge("[recording]\nsamples = '>= 1'").remove(0);
        assert_eq!(samples.verdict, Verdict::Undecided);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]

        /// The worst bug is a false verdict: whatever the missing samples were, a verdict stands.
        #[test]
        fn no_verdict_depends_on_what_is_missing(
            asleep in proptest::collection::vec(proptest::bool::weighted(0.7), 50..800),
            missing in 0_u64..300,
            limit in 0_u32..101,
        ) {
            let hits = asleep.iter().filter(|&&asleep| asleep).count() as f64;
            let n = asleep.len() as f64;
            let case = Case { missing, ..Case::new(asleep) };
            let (worst, best) =
                (hits / (n + missing as f64), (hits + missing as f64) / (n + missing as f64));
            let share = f64::from(limit) / 100.0;
            match case.sleep(&format!(">= {limit} %")).verdict {
                Verdict::Met => prop_assert!(worst >= share, "{worst} {share}"),
                Verdict::Broken => prop_assert!(best < share, "{best} {share}"),
                Verdict::Undecided => {}
            }
            match case.sleep(&format!("<= {limit} %")).verdict {
                Verdict::Met => prop_assert!(best <= share, "{best} {share}"),
                Verdict::Broken => prop_assert!(worst > share, "{worst} {share}"),
                Verdict::Undecided => {}
            }
        }
    }
}

mod times {
    use super::*;
    use crate::event::{Event, LossReason, Origin, Position, Sink as _, Statement, Stop};
    use crate::image::Image;
    use crate::measure::cadence::Cadences;
    use crate::measure::cadence::SysTicks;
    use crate::measure::inspection::Unannounced;
    use crate::measure::interrupts::InterruptFigures;
    use crate::measure::known::{Facts, against_times};
    use crate::measure::profile::{Conduct, Context, SampleCounts};
    use crate::measure::recording::Recording;
    use crate::measure::span::StatedSpans;
    use crate::measure::tasks::{Settings, TaskFigures, Tracking};
    use crate::measure::timing::{Clocks, Timing};
    use crate::time::{Frequency, Window};

    const FIRMWARE: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");

    /// What is missing after the second round.
    #[derive(Clone, Copy)]
    enum Lacks {
        Nothing,
        /// Events, for so long.
        Events(u64),
        /// A packet, and nothing tells.
        Silently,
    }

    /// A handler, a task and a span of 10 us each, three times; then each begins once more, and the
    /// recording ends so many cycles later.
    fn judged(budgets: &str, later: u64, lacks: Lacks) -> (Verdict, String) {
        let settings = Settings { keep: 0, window: 100_000, each: false };
        let (tasks, interrupts) = (TaskFigures::new(settings), InterruptFigures::new(0));
        let tracking = Tracking::beside(1.0, tasks, interrupts);
        let spans = StatedSpans::new(0);
        let mut sink = ((tracking, spans), Recording::default());
        let mut tell = |time: u64, event: Event| {
            let time = Some(Window::exact(time));
            sink.event(Position::new(Origin(0), 0, time), &event);
        };
        let stated = Event::Stated;
        tell(0, stated(Statement::Runs { task: 9, stack_pointer: None }));
        for round in 0..4 {
            let at = 1000 * round;
            tell(at + 100, Event::Entered { exception: 16 });
            if round < 3 {
                tell(at + 110, Event::Left { exception: 16 });
                tell(at + 110, Event::Resumed { exception: 0 });
                tell(at + 200, stated(Statement::Ready { task: 1 }));
                tell(at + 200, stated(Statement::SpanBegan { span: 1 }));
                tell(at + 200, stated(Statement::Runs { task: 1, stack_pointer: None }));
                tell(at + 210, stated(Statement::SpanEnded { span: 1 }));
                tell(at + 210, stated(Statement::Stops { task: 1, why: Stop::Sleeps }));
                tell(at + 210, stated(Statement::Runs { task: 9, stack_pointer: None }));
            }
            match lacks {
                Lacks::Events(gap) if round == 1 => {
                    let (bytes, why) = (0..0, LossReason::Overflow);
                    tell(at + 210 + gap, Event::Lost { bytes, why });
                    tell(at + 210 + gap, Event::Asleep);
                }
                Lacks::Silently if round == 1 => {
                    tell(at + 300, Event::Entered { exception: 17 });
                    tell(at + 310, Event::Resumed { exception: 0 });
                }
                _ => {}
            }
        }
        tell(3100, stated(Statement::Ready { task: 1 }));
        tell(3100, stated(Statement::SpanBegan { span: 1 }));
        tell(3100 + later, Event::Asleep);
        let ((tracking, mut spans), recording) = sink;
        spans.finish();
        let (tasks, mut interrupts) = tracking.finish_both_at(recording.end());
        interrupts.finish();
        interrupts.ended_at(recording.last_moment());
        let image = Image::parse(FIRMWARE).unwrap();
        let clock = Frequency::from_hertz(1e6);
        let tasks = [(USUAL_WINDOW, tasks)];
        let clocks = Clocks {
            stated_period: Some(1000),
            core_clock: clock,
            timestamp_clock: clock,
            tick_period: None,
        };
        let timing = Timing { recording: &recording, clocks };
        let timings = Timings {
            interrupts: &interrupts,
            tasks: &tasks,
            spans: &spans,
            signals: None,
            image: Some(&image),
            facts: Facts {
                exceptions: true,
                slipped: false,
                against: against_times(
                    &timing,
                    &SysTicks::default(),
                    interrupts.contradictions(),
                    &Unannounced::default(),
                    &Conduct::default(),
                ),
                ..Facts::of(&timing)
            },
            confirmed: None,
        };
        let context = Context {
            image: &image,
            timing,
            cadences: &Cadences::default(),
            cut: 0,
            confidence: 0.95,
            conduct: Conduct::default(),
        };
        let file = BudgetFile::parse("budgets.toml", budgets).unwrap();
        let report =
            judge(&file, &SampleCounts::default(), Some(&timings), None, &context).unwrap();
        let Judgement { verdict, evidence, .. } = report.budgets[0].clone();
        (verdict, evidence)
    }

    #[test]
    fn what_never_ended_keeps_a_maximum_from_being_met() {
        for subject in ["interrupt.16", "task.1", "span.1"] {
            let budget =
                format!("[{}]\nelapsed.max = '<= 20 us'", subject.replace('.', ".\"") + "\"");
            let (verdict, evidence) = judged(&budget, 5, Lacks::Nothing);
            assert_eq!(verdict, Verdict::Met, "{subject}: {evidence}");
            let (verdict, evidence) = judged(&budget, 500, Lacks::Nothing);
            // Of a task it is not known how long it had been ready.
            let certain = if subject == "task.1" { Verdict::Undecided } else { Verdict::Broken };
            assert_eq!(verdict, certain, "{subject}: {evidence}");
            assert!(evidence.contains("had not ended"), "{evidence}");
        }
        // How often it began is known all the same.
        assert_eq!(
            judged("[interrupt.\"16\"]\ncount = '<= 4'", 500, Lacks::Nothing).0,
            Verdict::Met
        );
    }

    #[test]
    fn a_gap_hides_nothing_that_is_longer_than_itself() {
        let verdict = |budget: &str, gap| judged(budget, 5, Lacks::Events(gap));
        for subject in ["interrupt", "task", "span"] {
            let number = if subject == "interrupt" { 16 } else { 1 };
            let budget = format!("[{subject}.\"{number}\"]\n");
            let elapsed = |limit| budget.clone() + "elapsed.max = '<= " + limit + " us'";
            let (met, evidence) = verdict(&elapsed("20"), 8);
            assert_eq!(met, Verdict::Met, "{subject}: {evidence}");
            assert!(evidence.contains("in one place, none longer than 8.00 us"), "{evidence}");
            assert_eq!(verdict(&elapsed("20"), 500).0, Verdict::Undecided, "{subject}");
            assert_eq!(verdict(&elapsed("9"), 500).0, Verdict::Broken, "{subject}");
            let (met, evidence) = verdict(&elapsed("501"), 500);
            assert_eq!(met, Verdict::Met, "{subject}: {evidence}");
            // However many started there: the mean from start to start only falls.
            let period = |limit| budget.clone() + "period.mean = '" + limit + " us'";
            assert_eq!(verdict(&period("<= 1001"), 500).0, Verdict::Met, "{subject}");
            assert_eq!(verdict(&period(">= 900"), 500).0, Verdict::Undecided, "{subject}");
            let longest = budget.clone() + "period.max = '<= 1001 us'";
            assert_eq!(verdict(&longest, 500).0, Verdict::Met, "{subject}");
            let (mean, half) = (budget.clone() + "elapsed.mean", budget + "elapsed.p50");
            let (met, evidence) = verdict(&(mean + " = '<= 250 us'"), 400);
            assert_eq!(met, Verdict::Met, "{subject}: {evidence}");
            // Three are known to be short; forty longer ones fit into the gap.
            assert_eq!(verdict(&(half + " = '<= 10 us'"), 400).0, Verdict::Undecided, "{subject}");
        }
    }

    #[test]
    fn where_packets_vanish_in_silence_nothing_is_met() {
        for budget in [
            "[interrupt.\"16\"]\nelapsed.max = '<= 1 s'",
            "[task.\"1\"]\nelapsed.max = '<= 1 s'",
            "[task.\"1\"]\nperiod.mean = '>= 1 us'",
            "[task.\"1\"]\nload.max = '<= 100 %'",
            "[task.\"1\"]\ncount = '<= 1000'",
            "[span.\"1\"]\nelapsed.p50 = '<= 1 s'",
        ] {
            assert_eq!(
                judged(budget, 5, Lacks::Nothing).0 == Verdict::Met,
                !budget.contains("load")
            );
            let (verdict, evidence) = judged(budget, 5, Lacks::Silently);
            assert_eq!(verdict, Verdict::Undecided, "{budget}: {evidence}");
        }
    }
}
