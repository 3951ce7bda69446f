//! How often a sampled share lies in its interval: of this recording, and of what the program does in the long run.
//!
//! `VERDICT_RECORDINGS=300 cargo test --release -p weltblick --test verdicts study -- --nocapture` prints the table of
//! `docs/guide/evidence.md`.

use super::{FIRMWARE, judged, recordings};
use crate::chance::Chance;
use crate::life::{Habit, Life};
use crate::recording::{Fault, Recording};
use crate::truth;
use weltblick_core::image::Image;

/// How a program's work comes and goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Family {
    /// Stretches much shorter than from one sample to the next, without memory.
    Independent,
    /// Equally long in every period, which is none of the samples'.
    Periodic,
    /// Periodic, each period up to a tenth longer or shorter.
    Jittered,
    /// Stretches of so many samples on average, between half and one and a half times that.
    Bursts(u64),
    /// Busy and idle for the same time by turns, give or take a fiftieth.
    Alternating,
    /// From a twentieth to half of the time.
    Drifting,
    /// Once in two thousand samples.
    Rare,
    /// In a fixed phase behind an interrupt whose period is that of four samples, or nearly.
    InStep,
}

const FAMILIES: [Family; 10] = [
    Family::Independent,
    Family::Periodic,
    Family::Jittered,
    Family::Bursts(3),
    Family::Bursts(30),
    Family::Bursts(300),
    Family::Alternating,
    Family::Drifting,
    Family::Rare,
    Family::InStep,
];

const SAMPLING: u64 = 2048;

/// About so long: without memory.
fn without_memory(chance: &mut Chance, mean: u64) -> u64 {
    let uniform = (chance.next() >> 11) as f64 / (1_u64 << 53) as f64;
    1 + (-(1.0 - uniform).ln() * mean as f64) as u64
}

/// Around a mean, by a part of it.
fn about(chance: &mut Chance, mean: u64, part: f64) -> u64 {
    let by = (mean as f64 * part) as u64;
    chance.within(mean - by, mean + by + 1)
}

impl Family {
    /// A life, and the share of time that such a program works in the long run.
    fn live(self, chance: &mut Chance) -> (Life, Option<f64>) {
        if self == Self::InStep {
            return (Life::new(chance, Habit::KeepsStep), None);
        }
        let end = chance.within(6_000_000, 12_000_000);
        let share = 0.02 + 0.001 * chance.within(0, 400) as f64;
        let parts = |whole: u64| {
            let busy = (whole as f64 * share) as u64 + 1;
            (busy, whole - busy)
        };
        let (busy, idle) = match self {
            Self::Independent => parts(600),
            Self::Periodic | Self::Jittered => parts(chance.within(9_000, 90_000)),
            Self::Bursts(samples) => {
                let busy = samples * SAMPLING;
                (busy, (busy as f64 * (1.0 - share) / share) as u64)
            }
            Self::Alternating => (3 * SAMPLING + SAMPLING / 3, 3 * SAMPLING + SAMPLING / 3),
            Self::Drifting => (SAMPLING, SAMPLING),
            Self::Rare => (SAMPLING / 2, 1000 * SAMPLING),
            Self::InStep => unreachable!(),
        };
        let (mut sine, mut at) = (Vec::new(), chance.within(0, busy + idle));
        while at < end {
            let (on, off) = match self {
                Self::Independent => (without_memory(chance, busy), without_memory(chance, idle)),
                Self::Periodic => (busy, idle),
                Self::Jittered => (busy, about(chance, busy + idle, 0.1).saturating_sub(busy) + 1),
                Self::Bursts(_) | Self::Rare => {
                    (about(chance, busy, 0.5), without_memory(chance, idle))
                }
                Self::Alternating => (about(chance, busy, 0.02), about(chance, idle, 0.02)),
                Self::Drifting => {
                    let now = 0.05 + 0.45 * at as f64 / end as f64;
                    let busy = (2.0 * SAMPLING as f64 * now) as u64;
                    (
                        without_memory(chance, busy),
                        without_memory(chance, 2 * SAMPLING - busy.min(2 * SAMPLING - 1)),
                    )
                }
                Self::InStep => unreachable!(),
            };
            sine.push(at..(at + on).min(end));
            at += on + off.max(1);
        }
        let long_run = (self != Self::Drifting).then(|| busy as f64 / (busy + idle) as f64);
        (Life::working(chance, sine, SAMPLING, end), long_run)
    }
}

#[test]
fn study_of_share_intervals() {
    let image = Image::parse(FIRMWARE).unwrap();
    let rounds = recordings().max(24);
    println!(
        "| program | recordings | its own share inside | that of the long run | width | judged |"
    );
    println!("|---|---|---|---|---|---|");
    for family in FAMILIES {
        let (mut inside, mut long_inside, mut long, mut width, mut judged_at_all) =
            (0_u64, 0, 0, 0.0, 0);
        for number in 0..rounds {
            let seed = FAMILIES.iter().position(|other| *other == family).unwrap() as u64;
            let mut chance = Chance::new(number * 1024 + seed * 17 + 3);
            let (life, long_run) = family.live(&mut chance);
            let recording = Recording::of(&life, Fault::Clean, &mut chance);
            let budget = "[function.sine]\nself_share = '<= 50 %'\n";
            let judgement = judged(&recording, life.sampling, &image, budget).remove(0);
            let truly = truth::share(&life, &recording.window);
            let [low, high] = [judgement.observed_low, judgement.observed_high].map(Option::unwrap);
            let holds = |share: f64| low <= share && share <= high;
            inside += u64::from(holds(truly));
            long_inside += u64::from(long_run.is_some_and(holds));
            long += u64::from(long_run.is_some());
            width += high - low;
            judged_at_all += u64::from(judgement.objections.is_empty());
        }
        let part = |count: u64, of: u64| match of {
            0 => "none".to_owned(),
            of => format!("{:.1} %", 100.0 * count as f64 / of as f64),
        };
        println!(
            "| {family:?} | {rounds} | {} | {} | {:.1} % | {} |",
            part(inside, rounds),
            part(long_inside, long),
            100.0 * width / rounds as f64,
            part(judged_at_all, rounds),
        );
        // Few recordings scatter: three standard deviations.
        let least = 0.93 * rounds as f64 - 3.0 * (0.05 * rounds as f64).sqrt();
        let least = if rounds >= 300 { 0.93 * rounds as f64 } else { least };
        assert!(inside as f64 >= least, "{family:?}: {inside} of {rounds}");
    }
}
