//! What can speak against a figure: as data, with what it does to the bounds, why, and what would help.

/// What a doubt does to the bounds of a figure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// The true figure may be more than was seen.
    Above,
    /// It may be less.
    Below,
    /// It may be anything.
    Both,
    /// What was seen is what happened, but it says nothing of the firmware left to itself: it may break a
    /// budget, and meets none.
    MeetsNothing,
    /// Nothing more: whoever measured it has counted what is unknown for and against already.
    Counted,
}

/// A part of a recording, in nanoseconds since it began.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Interval {
    /// The first moment.
    pub from_ns: f64,
    /// The last moment.
    pub until_ns: f64,
}

impl Interval {
    /// Its first and last moment, for the middle of a sentence.
    fn aside(within: Option<Self>) -> String {
        let words = Self::in_words(within);
        if words.is_empty() { words } else { words + "," }
    }

    /// As points that every command takes.
    fn in_words(within: Option<Self>) -> String {
        let point = |ns: f64| format!("{:.6}s", ns.max(0.0) / 1e9);
        match within.map(|Self { from_ns, until_ns }| [from_ns, until_ns].map(point)) {
            None => String::new(),
            Some([from, until]) if from == until => format!(", at {from}"),
            Some([from, until]) => format!(", from {from} to {until}"),
        }
    }
}

/// On what a figure rests: what touches none of that says nothing about it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rests {
    /// On how many ticks lie between events.
    pub ticks: bool,
    /// On how long a tick is.
    pub clock: bool,
    /// On exceptions: with one more or one less it would be another.
    pub exceptions: bool,
}

/// Something that speaks against a figure.
#[derive(Debug, Clone, PartialEq)]
pub enum Doubt {
    // Of a recording.
    /// So many samples lie outside the image.
    OtherImage {
        /// How many.
        samples: u64,
    },
    /// Packets of an instruction trace and the image contradict each other.
    ImageContradicted,
    /// Only what came between points in the code was recorded.
    BetweenPoints,
    /// A debugger stopped the core.
    Stopped,
    /// Entries, exits and returns do not fit each other.
    Contradictions {
        /// How often.
        count: u64,
    },
    /// The tick interrupt's known period contradicts the stated clock.
    Clock {
        /// By how much times are off, as a part of them.
        off: f64,
    },
    /// Not all of the time was recorded, or it is not known how long the recording is.
    TimeLost,
    /// There are no timestamps.
    NoTimestamps,

    // Of samples.
    /// Samples are missing, and nothing bounds how many.
    SamplesUncounted,
    /// Time that no sample covers.
    UnwatchedTime {
        /// As a part of all time.
        part: f64,
    },
    /// Samples keep step with something periodic.
    InStep {
        /// With what.
        with: String,
        /// With every how many of its starts.
        every: u32,
        /// The largest part of that period in which no sample ever fell.
        unvisited: f64,
    },
    /// The recording has so few intervals of samples that nothing says how samples depend on each other.
    FewSamples {
        /// Samples.
        samples: u64,
    },
    /// The core was stopped for each sample.
    StoppedForSamples,
    /// The capture left the function's code out, or part of it.
    LeftOut,

    // Of runs.
    /// So many runs had begun before the recording did.
    OpenAtStart {
        /// How many.
        count: u64,
    },
    /// So many runs had not ended when the recording did.
    OpenAtEnd {
        /// How many.
        count: u64,
    },
    /// Spans of one number began again before they had ended.
    Overlapping {
        /// How often.
        count: u64,
    },
    /// What is known of lateness is known against the grid of a period: even the earliest starts may have waited.
    GridMayWait,
    /// Runs that lie on no grid.
    OffGrid {
        /// How many.
        runs: u64,
    },
    /// Only runs that followed another handler have a bound on how long they waited.
    ChainedOnly,
    /// Of so many runs nothing says when they were requested.
    Unrequested {
        /// How many.
        runs: u64,
    },
    /// Of so many activations nothing says when the task was ready.
    Unready {
        /// How many.
        activations: u64,
    },
    /// Only turns on the core are known.
    Turns,
    /// Of some activations it is not known whether handlers ran meanwhile.
    HandlersUnknown,
    /// Handlers that ran meanwhile are in it.
    WithHandlers,
    /// A stack is seen at switches only.
    SeenAtSwitches,
    /// A stack pointer lay outside its stack.
    StackLeft,

    /// A number was used again for something else.
    NumberReused,

    // Of values.
    /// A variable has no known value before it was first written.
    UnknownBefore,
    /// Something was lost while values, or stacks, were looked at.
    ValuesLost {
        /// In how many places.
        places: u64,
    },
    /// It was polled.
    Polled,
    /// Only reads were looked at.
    ReadsOnly,
    /// Some accesses have no number.
    PartialValues,
    /// There are more signals than are kept.
    TooManySignals,

    // Of executed code.
    /// Cycle counts and timestamps of an instruction trace disagree.
    TimesDisagree {
        /// In so many intervals between timestamps.
        places: u64,
    },
    /// Samples lie in handlers of which nothing says that they run.
    Unannounced {
        /// So many.
        samples: u64,
        /// From the first place to the last, where that is known.
        within: Option<Interval>,
    },
    /// Samples are not as far apart as is stated.
    Period {
        /// But so many times as far.
        factor: f64,
    },
    /// What only the core itself can say comes from several files by turns.
    SeveralCores,
    /// At the beginning or the end of the recording a core has no event for longer than ever between two of its own.
    CoreSilent {
        /// Which.
        core: u8,
        /// From when to when, if that is known.
        within: Option<Interval>,
    },
    /// Other code of the image has the same address.
    Overlaid,
    /// Debug information that says in which files functions are is missing.
    DeclarationsMissing {
        /// The files that have it.
        files: String,
    },
    /// So many packets of an event trace end long after their events.
    StampsWrapped {
        /// Packets.
        packets: u64,
        /// From the first place to the last, where that is known.
        within: Option<Interval>,
    },
    /// Packets that share a timestamp cannot be of one tick, though the source's settings say so.
    NotOneTick {
        /// So often.
        times: u64,
        /// From the first place to the last, where that is known.
        within: Option<Interval>,
    },
    /// So many bytes at the beginning could not be read.
    Head {
        /// Bytes.
        bytes: u64,
    },
    /// Instructions are missing in so many places.
    InstructionsMissing {
        /// Places.
        places: u64,
    },
    /// The core clock changed while this was recorded.
    ClockChanged {
        /// So often.
        times: u64,
        /// From the first place to the last, where that is known.
        within: Option<Interval>,
    },
    /// Local timestamps fell behind global ones.
    ClockStopped {
        /// In so many places.
        places: u64,
        /// From the first place to the last, where that is known.
        within: Option<Interval>,
    },
    /// A task was stated to be ready while it ran: for another activation, or for none.
    ReadyWhileRunning {
        /// So often.
        times: u64,
    },
    /// Whole numbers of so many bits are rounded.
    Rounded,
    /// A buffer that kept the end says nothing of what it overwrote.
    KeptTheEnd,
    /// What ran behind the last synchronisation is a part of it.
    Unconfirmed,
    /// The trace synchronises too seldom to find out in time what is wrong in it.
    SeldomSynchronised,
}

const STATE_REQUEST: &str =
    "let the firmware state when the hardware asked (wb_requested in weltblick_marks.h)";
/// What helps where something is missing.
pub(crate) const LOSE_NOTHING: &str =
    "lose nothing: trace less, sample more slowly, or widen the link or its buffers";
/// What helps where bounds lie on either side of a limit, and nothing is missing.
pub(crate) const SHARPEN: &str = "the true figure lies between the bounds, on either side of the limit: sharpen the timestamps (a smaller prescaler, no overflow)";

impl Doubt {
    /// A stable word for programs.
    #[must_use]
    pub const fn code(&self) -> &'static str {
        match self {
            Self::OtherImage { .. } => "other_image",
            Self::ImageContradicted => "image_contradicted",
            Self::BetweenPoints => "between_points",
            Self::Stopped => "stopped",
            Self::Contradictions { .. } => "contradictions",
            Self::Clock { .. } => "clock",
            Self::TimeLost => "time_lost",
            Self::NoTimestamps => "no_timestamps",
            Self::SamplesUncounted => "samples_uncounted",
            Self::UnwatchedTime { .. } => "unwatched_time",
            Self::InStep { .. } => "in_step",
            Self::FewSamples { .. } => "few_samples",
            Self::StoppedForSamples => "stopped_for_samples",
            Self::NumberReused => "number_reused",
            Self::UnknownBefore => "unknown_before",
            Self::LeftOut => "left_out",
            Self::OpenAtStart { .. } => "open_at_start",
            Self::OpenAtEnd { .. } => "open_at_end",
            Self::Overlapping { .. } => "overlapping",
            Self::GridMayWait => "grid_may_wait",
            Self::OffGrid { .. } => "off_grid",
            Self::ChainedOnly => "chained_only",
            Self::Unrequested { .. } => "unrequested",
            Self::Unready { .. } => "unready",
            Self::Turns => "turns",
            Self::HandlersUnknown => "handlers_unknown",
            Self::WithHandlers => "with_handlers",
            Self::SeenAtSwitches => "seen_at_switches",
            Self::StackLeft => "stack_left",
            Self::ValuesLost { .. } => "values_lost",
            Self::Polled => "polled",
            Self::ReadsOnly => "reads_only",
            Self::PartialValues => "partial_values",
            Self::TooManySignals => "too_many_signals",
            Self::TimesDisagree { .. } => "times_disagree",
            Self::Unannounced { .. } => "unannounced",
            Self::Period { .. } => "period",
            Self::ClockChanged { .. } => "clock_changed",
            Self::ClockStopped { .. } => "clock_stopped",
            Self::SeveralCores => "several_cores",
            Self::CoreSilent { .. } => "core_silent",
            Self::Overlaid => "overlaid",
            Self::DeclarationsMissing { .. } => "declarations_missing",
            Self::Head { .. } => "head",
            Self::NotOneTick { .. } => "not_one_tick",
            Self::StampsWrapped { .. } => "stamps_wrapped",
            Self::InstructionsMissing { .. } => "instructions_missing",
            Self::ReadyWhileRunning { .. } => "ready_while_running",
            Self::Rounded => "rounded",
            Self::KeptTheEnd => "kept_the_end",
            Self::Unconfirmed => "unconfirmed",
            Self::SeldomSynchronised => "seldom_synchronised",
        }
    }

    /// From the first place in the recording to the last, where that is known.
    #[must_use]
    pub const fn within(&self) -> Option<Interval> {
        match self {
            Self::Unannounced { within, .. }
            | Self::StampsWrapped { within, .. }
            | Self::NotOneTick { within, .. }
            | Self::ClockChanged { within, .. }
            | Self::ClockStopped { within, .. }
            | Self::CoreSilent { within, .. } => *within,
            _ => None,
        }
    }

    /// Whether it speaks against what rests on this.
    #[must_use]
    pub const fn touches(&self, rests: Rests) -> bool {
        match self {
            Self::Clock { .. } | Self::Period { .. } => rests.clock,
            Self::ClockChanged { .. }
            | Self::ClockStopped { .. }
            | Self::StampsWrapped { .. }
            | Self::NotOneTick { .. } => rests.ticks,
            Self::Unannounced { .. } => rests.exceptions,
            _ => true,
        }
    }

    /// What it does to the bounds of a figure that it speaks against.
    #[must_use]
    pub const fn effect(&self) -> Effect {
        match self {
            Self::Stopped => Effect::MeetsNothing,
            Self::OpenAtStart { .. }
            | Self::OpenAtEnd { .. }
            | Self::GridMayWait
            | Self::ChainedOnly
            | Self::Unrequested { .. }
            | Self::Unready { .. }
            | Self::OffGrid { .. }
            | Self::Turns
            | Self::HandlersUnknown
            | Self::SeenAtSwitches
            | Self::StackLeft => Effect::Above,
            Self::WithHandlers => Effect::Below,
            Self::OtherImage { .. }
            | Self::ImageContradicted
            | Self::BetweenPoints
            | Self::Contradictions { .. }
            | Self::Clock { .. }
            | Self::TimeLost
            | Self::NoTimestamps
            | Self::SamplesUncounted
            | Self::StoppedForSamples
            | Self::TimesDisagree { .. }
            | Self::Unannounced { .. }
            | Self::Period { .. }
            | Self::ClockChanged { .. }
            | Self::ClockStopped { .. }
            | Self::Overlaid
            | Self::DeclarationsMissing { .. }
            | Self::SeveralCores
            | Self::CoreSilent { .. }
            | Self::Head { .. }
            | Self::StampsWrapped { .. }
            | Self::NotOneTick { .. }
            | Self::ReadyWhileRunning { .. }
            | Self::SeldomSynchronised
            | Self::NumberReused
            | Self::Overlapping { .. } => Effect::Both,
            Self::UnwatchedTime { .. }
            | Self::InStep { .. }
            | Self::FewSamples { .. }
            | Self::LeftOut
            | Self::KeptTheEnd
            | Self::Rounded
            | Self::InstructionsMissing { .. }
            | Self::Unconfirmed
            | Self::ValuesLost { .. }
            | Self::Polled
            | Self::ReadsOnly
            | Self::PartialValues
            | Self::UnknownBefore
            | Self::TooManySignals => Effect::Counted,
        }
    }

    /// Why it speaks against a figure.
    #[must_use]
    pub fn why(&self) -> String {
        match self {
            Self::OtherImage { samples } => format!("{samples} samples lie outside the image"),
            Self::ImageContradicted => "packets and image contradict each other".into(),
            Self::BetweenPoints => "only what came between points in the code was recorded: a share of that is none of all time".into(),
            Self::Stopped => "the core was stopped while this was recorded: an intrusive measurement meets no budget".into(),
            Self::Contradictions { count } => format!(
                "entries and exits of handlers contradict each other ({count}): packets were lost, and nothing says where"
            ),
            Self::Clock { off } => format!(
                "the stated clock is off by {:.1} % by the tick interrupt's known period",
                100.0 * off
            ),
            Self::TimeLost => "time was lost with bytes: how long the recording is nobody knows".into(),
            Self::NoTimestamps => "the trace has no timestamps: nothing says that samples cover all of the time".into(),
            Self::SamplesUncounted => "samples are missing, and nothing says how many".into(),
            Self::UnwatchedTime { part } => {
                format!("no sample covers {} of the time", percent(*part))
            }
            Self::InStep { with, every, unvisited } => {
                let period = match every {
                    1 => format!("the period of {with}"),
                    every => format!("{every} periods of {with}"),
                };
                format!(
                    "samples keep step with {with}: no sample falls into {} of {period}",
                    percent(*unvisited)
                )
            }
            Self::FewSamples { samples } => format!(
                "{samples} samples are too few to say how they depend on each other"
            ),
            Self::StoppedForSamples => "the core was stopped for each sample: what keeps step with stopping and going on is seen too often, or never".into(),
            Self::NumberReused => "its number was used for something else, too".into(),
            Self::UnknownBefore => "what it was before it was first written is unknown".into(),
            Self::LeftOut => "the capture left its code out, or part of it".into(),
            Self::OpenAtStart { count: 1 } => "one had begun before the recording: how long it took is unknown".into(),
            Self::OpenAtStart { count } => format!(
                "{count} had begun before the recording: how long they took is unknown"
            ),
            Self::OpenAtEnd { count: 1 } => "one had not ended when the recording did".into(),
            Self::OpenAtEnd { count } => format!("{count} had not ended when the recording did"),
            Self::Overlapping { count } => format!(
                "{count} began again before they had ended: which end belongs to which is unknown"
            ),
            Self::GridMayWait => "even the earliest starts may have waited".into(),
            Self::OffGrid { runs } => {
                format!("{runs} runs lie on no grid: how late they were is unknown")
            }
            Self::ChainedOnly => "of the other runs nothing says when they were requested".into(),
            Self::Unrequested { runs } => {
                format!("of {runs} runs nothing says when they were requested")
            }
            Self::Unready { activations } => {
                format!("of {activations} activations nothing says when the task was ready")
            }
            Self::Turns => "an activation that was pre-empted counts as several turns on the core".into(),
            Self::HandlersUnknown => "of some activations it is not known whether handlers ran meanwhile".into(),
            Self::WithHandlers => "with the handlers that ran meanwhile".into(),
            Self::SeenAtSwitches => "seen at switches only: in between it may have been deeper".into(),
            Self::StackLeft => "the stack pointer lay outside the stack".into(),
            Self::ValuesLost { places: 1 } => "something is missing in one place".into(),
            Self::ValuesLost { places } => format!("something is missing in {places} places"),
            Self::Polled => "it was polled: between two reads it may have been anything".into(),
            Self::ReadsOnly => "only reads of it were looked at: what was written between them is not known".into(),
            Self::PartialValues => "some accesses have no number: only a part of it, or none".into(),
            Self::TooManySignals => "there are more signals than are kept".into(),
            Self::TimesDisagree { places } => format!(
                "cycle counts and timestamps of the instruction trace disagree in {places} places: packets vanished there"
            ),
            Self::Unannounced { samples, within } => format!(
                "{samples} samples{} lie in handlers of which no packet says that they run: exceptions were not traced all the time, or other code calls them",
                Interval::aside(*within)
            ),
            Self::Period { factor } => format!(
                "by the timestamps samples are {} times as far apart as their period is stated: that, the prescaler or the clock is wrong",
                (factor * 100.0).round() / 100.0
            ),
            Self::ClockChanged { times, within } => format!(
                "the core clock changed while this was recorded ({times} times{}): ticks are not of one length",
                Interval::in_words(*within)
            ),
            Self::ClockStopped { places, within } => format!(
                "local timestamps fell behind global ones in {places} places{}: their clock stood still there, or changed",
                Interval::in_words(*within)
            ),
            Self::SeveralCores => "interrupts, or turns of tasks, come from several files by turns: they may be those of several cores".into(),
            Self::CoreSilent { core, within } => format!(
                "core {core} has no events{}, longer than ever between two of its own: its file may be cut, or begin late",
                Interval::in_words(*within)
            ),
            Self::Overlaid => "other code of the image has the same address: which of the two was there is not known".into(),
            Self::DeclarationsMissing { files } => format!(
                "debug information is missing ({files}): a function may count for a file that its own only includes"
            ),
            Self::StampsWrapped { packets, within } => format!(
                "{packets} packets{} of the event trace end so long after their events that short timestamps may have wrapped unseen",
                Interval::aside(*within)
            ),
            Self::NotOneTick { times, within } => format!(
                "packets share a timestamp and cannot be of one tick ({times} times{}), though `timestamp_dates_group` says that they are",
                Interval::in_words(*within)
            ),
            Self::Head { bytes } => format!(
                "{bytes} bytes at the beginning could not be read, or have no time: what happened then is unknown"
            ),
            Self::InstructionsMissing { places: 1 } => "instructions are missing in one place".into(),
            Self::InstructionsMissing { places } => {
                format!("instructions are missing in {places} places")
            }
            Self::ReadyWhileRunning { times } => format!(
                "it was stated to be ready while it ran ({times} times): for another activation, or for none"
            ),
            Self::Rounded => "whole numbers above 2^53 are rounded".into(),
            Self::KeptTheEnd => "the buffer kept the end of the trace: what it overwrote is unknown".into(),
            Self::Unconfirmed => {
                "what ran after the last synchronisation is unconfirmed".into()
            }
            Self::SeldomSynchronised => {
                "the trace synchronises too seldom: what ran is not confirmed".into()
            }
        }
    }

    /// What would help.
    #[must_use]
    pub fn advice(&self) -> String {
        match self {
            Self::OtherImage { .. } => "use the image that was on the target".into(),
            Self::ImageContradicted => {
                "use the image that was on the target, or a recording without damage".into()
            }
            Self::BetweenPoints => "record all of it, without `--window`".into(),
            Self::NumberReused => {
                "give each a number of its own, or judge a window in which it is one (`--within`)".into()
            }
            Self::UnknownBefore => "start the recording before it is first written, or let the firmware write it at once".into(),
            Self::Stopped | Self::StoppedForSamples => "measure with the target's own trace".into(),
            Self::Clock { .. } => {
                "correct `core_clock` (or the timestamp clock): `inspect` says what it should be".into()
            }
            // A target that drops packets says so.
            Self::Contradictions { .. } => {
                "lose no bytes on the way to the file: check what receives the trace, and the line".into()
            }
            Self::TimeLost
            | Self::TooManySignals
            | Self::HandlersUnknown
            | Self::ValuesLost { .. } => LOSE_NOTHING.into(),
            Self::NoTimestamps | Self::SamplesUncounted => {
                "turn local timestamps on and state the sampling period, or lose nothing".into()
            }
            Self::UnwatchedTime { .. } => "let the cycle counter run in sleep (a debug register of most chips), sample all the time, or correct the sampling period".into(),
            Self::InStep { .. } => "record again with a sampling period that shares no factor with it; two captures with coprime periods that agree decide".into(),
            Self::FewSamples { .. } => "measure longer, or sample more often".into(),
            Self::LeftOut => "record it without `inside` and `exclude`".into(),
            Self::OpenAtStart { .. } => "start the recording before the target runs, or judge a window in which none is cut (`--within`)".into(),
            Self::OpenAtEnd { .. } => "measure on until it ends".into(),
            Self::Overlapping { .. } => {
                "give spans that run side by side, or inside each other, numbers of their own".into()
            }
            Self::GridMayWait => {
                format!("{STATE_REQUEST}, or let the budget be content: by = \"grid\"")
            }
            Self::OffGrid { .. } | Self::ChainedOnly => STATE_REQUEST.into(),
            Self::Unrequested { .. } => {
                "let the firmware state each, first thing in the handler".into()
            }
            Self::Unready { .. } => "let the kernel state each (wb_task_ready)".into(),
            Self::Turns => {
                "let the kernel state its tasks (weltblick_marks.h), or judge load".into()
            }
            Self::WithHandlers => "trace exceptions, too".into(),
            Self::SeenAtSwitches => {
                "let the firmware state the deepest (wb_task_stack_used)".into()
            }
            Self::StackLeft => "look into it: the task has left its stack".into(),
            Self::Polled => "watch it with a comparator (`plan --watch`)".into(),
            Self::ReadsOnly => "trace its writes".into(),
            Self::PartialValues => "trace addresses too, or watch the part".into(),
            Self::TimesDisagree { .. } => {
                "lose nothing: trace less, or give the trace unit a wider port".into()
            }
            Self::Unannounced { .. } => {
                "trace exceptions all the time (DWT_CTRL.EXCTRCENA), or judge a window in which they are traced".into()
            }
            Self::Period { .. } => {
                "correct `pc_sample_period` or `timestamp_prescaler` by what was written into DWT_CTRL and ITM_TCR".into()
            }
            Self::ClockChanged { .. } => {
                "judge a window in which the clock is one (`--within`), or record without the change".into()
            }
            Self::ClockStopped { .. } => {
                "let the core's clock run in sleep (a debug register of most chips)".into()
            }
            Self::SeveralCores => {
                "read the files of each core by themselves, or let events name their core and say which one with `where`".into()
            }
            Self::CoreSilent { .. } => {
                "copy all files of the trace whole, and let the tracer write out the packets of all cores before; or judge the time in which all were recorded (`--within`)".into()
            }
            Self::Overlaid => {
                "link it to an address of its own for the measurement".into()
            }
            Self::DeclarationsMissing { .. } => {
                "put the files beside the image, or name their folder with `--debug-info`".into()
            }
            Self::StampsWrapped { .. } => {
                "let the tracer write longer timestamps, or an event of its own before they wrap twice".into()
            }
            Self::NotOneTick { .. } => {
                "take `timestamp_dates_group` out of the source's settings".into()
            }
            Self::Head { .. } => {
                "judge it from its first timestamp on (`--within 0s..`), or start the recording before the target runs".into()
            }
            Self::InstructionsMissing { .. } => {
                "lose nothing: trace less, or give the trace unit a wider port".into()
            }
            Self::ReadyWhileRunning { .. } => {
                "let the kernel state an activation when the one before has ended".into()
            }
            Self::Rounded => "choose a limit that is farther off".into(),
            Self::KeptTheEnd => "record all of it, or read the buffer out before it wraps".into(),
            Self::Unconfirmed => "measure longer".into(),
            Self::SeldomSynchronised => {
                "let the trace unit synchronise every few kilobytes (`TRCSYNCPR`, `ETMSYNCFR`)".into()
            }
        }
    }
}

fn percent(part: f64) -> String {
    let percent = 100.0 * part;
    if percent >= 10.0 { format!("{percent:.0} %") } else { format!("{percent:.2} %") }
}
