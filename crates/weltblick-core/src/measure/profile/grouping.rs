//! The naming half: categories to rows of functions, files, lines or addresses.

use super::attribution::Whose;
use super::counts::SampleCounts;
use crate::image::Image;
use crate::stats::{ShareEstimate, estimate_share};
use std::collections::BTreeMap;

/// What one row stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum By {
    /// A function; with `inlined`, a function inlined into another has a row of its own.
    Function {
        /// Whether inlined functions stand alone.
        inlined: bool,
    },
    /// A source file.
    File,
    /// A source line.
    Line,
    /// An instruction's address.
    Address,
    /// A task, of samples that are [`Attributed`](super::Attributed).
    Task,
    /// An interrupt, of samples that are [`Attributed`](super::Attributed).
    Interrupt,
}

/// What kind of time a row stands for. The order is the order of equal rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum RowKind {
    /// Code of the image.
    Code,
    /// Code of the image that no symbol or line names.
    Unnamed,
    /// The core slept.
    Asleep,
    /// Addresses outside the image.
    Outside,
    /// The core may not be observed.
    Unobservable,
    /// More distinct addresses than are told apart.
    Beyond,
    /// Code that nobody asked for.
    Elsewhere,
    /// Handlers, where rows are tasks.
    Handlers,
    /// The kernel, between tasks.
    Kernel,
    /// Thread mode, where rows are interrupts or nothing tells of tasks.
    Thread,
    /// Nothing tells whose it was.
    Unknown,
}

/// One row: what, and how large a share of all samples.
#[derive(Debug, Clone, PartialEq)]
pub struct Row {
    /// What kind of time.
    pub kind: RowKind,
    /// The function, where rows are functions or lie in one.
    pub function: Option<String>,
    /// The source file.
    pub file: Option<String>,
    /// The line in it.
    pub line: Option<u32>,
    /// The address, where rows are addresses.
    pub address: Option<u64>,
    /// The task's number, where rows are tasks.
    pub task: Option<u32>,
    /// The interrupt, where rows are interrupts.
    pub interrupt: Option<String>,
    /// Samples.
    pub samples: u64,
    /// Share of all samples, sleep included.
    pub estimate: ShareEstimate,
    /// The addresses of its samples; none where it is no code.
    pub(super) addresses: Vec<u64>,
    /// What its samples were counted as.
    pub(super) categories: Vec<usize>,
}

/// What rows are told apart by.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Key {
    kind: RowKind,
    function: Option<String>,
    file: Option<String>,
    line: Option<u32>,
    address: Option<u64>,
    task: Option<u32>,
    interrupt: Option<String>,
}

impl Key {
    const fn of(kind: RowKind) -> Self {
        let (function, file, line, address) = (None, None, None, None);
        Self { kind, function, file, line, address, task: None, interrupt: None }
    }
}

/// Groups what was counted, largest share first. Empty without samples.
#[must_use]
pub fn rows(counts: &SampleCounts, image: &Image, by: By, confidence: f64) -> Vec<Row> {
    let mut groups: BTreeMap<Key, (Vec<u64>, Vec<usize>)> = BTreeMap::new();
    for (kind, category) in [
        (RowKind::Asleep, SampleCounts::ASLEEP),
        (RowKind::Unobservable, SampleCounts::UNOBSERVABLE),
        (RowKind::Beyond, SampleCounts::BEYOND),
        (RowKind::Elsewhere, SampleCounts::ELSEWHERE),
    ] {
        groups.insert(Key::of(kind), (Vec::new(), vec![category]));
    }
    for (address, category) in counts.addresses() {
        let (addresses, categories) = groups.entry(key_of(address, image, by)).or_default();
        addresses.push(address);
        categories.push(category);
    }
    let mut rows: Vec<Row> =
        groups.into_iter().filter_map(|(key, found)| row(counts, key, found, confidence)).collect();
    // Stable: equal shares stay in the order of their keys.
    rows.sort_by_key(|row| std::cmp::Reverse(row.samples));
    rows
}

/// The row of some categories; `None` if none was ever sampled.
fn row(
    counts: &SampleCounts,
    key: Key,
    (addresses, categories): (Vec<u64>, Vec<usize>),
    confidence: f64,
) -> Option<Row> {
    let batches = counts.batches();
    let samples = categories.iter().map(|&category| batches.count(category)).sum();
    if samples == 0 {
        return None;
    }
    let per_batch = batches.per_batch(&categories);
    let size = batches.batch_size();
    let estimate = estimate_share(samples, batches.total(), &per_batch, size, confidence)?;
    let Key { kind, function, file, line, address, task, interrupt } = key;
    Some(Row {
        kind,
        function,
        file,
        line,
        address,
        task,
        interrupt,
        samples,
        estimate,
        addresses,
        categories,
    })
}

fn key_of(address: u64, image: &Image, by: By) -> Key {
    match by {
        By::Task => return task_key(Whose::of(address)),
        By::Interrupt => return interrupt_key(Whose::of(address), image),
        _ => {}
    }
    if !image.is_executable(address) {
        let outside = Key::of(RowKind::Outside);
        return match by {
            By::Address => Key { address: Some(address), ..outside },
            _ => outside,
        };
    }
    let key = match by {
        By::Function { inlined: false } => function_key(address, image),
        By::Function { inlined: true } => inlined_key(address, image),
        By::File => file_key(address, image),
        By::Line => line_key(address, image),
        By::Address => {
            let line = line_key(address, image);
            Key { kind: RowKind::Code, address: Some(address), ..line }
        }
        By::Task | By::Interrupt => unreachable!("they are told apart above"),
    };
    key.unwrap_unnamed()
}

impl Key {
    /// Code that nothing names is a row of its own kind.
    fn unwrap_unnamed(mut self) -> Self {
        let named = self.function.is_some() || self.file.is_some() || self.address.is_some();
        if !named {
            self.kind = RowKind::Unnamed;
        }
        self
    }
}

fn task_key(whose: Whose) -> Key {
    match whose {
        Whose::Task(task) => Key { task: Some(task), ..Key::of(RowKind::Code) },
        Whose::Handler(_) => Key::of(RowKind::Handlers),
        Whose::Kernel => Key::of(RowKind::Kernel),
        Whose::Thread => Key::of(RowKind::Thread),
        Whose::Unknown => Key::of(RowKind::Unknown),
    }
}

fn interrupt_key(whose: Whose, image: &Image) -> Key {
    match whose {
        Whose::Handler(number) => {
            let interrupt = Some(image.interrupt_name(number));
            Key { interrupt, ..Key::of(RowKind::Code) }
        }
        Whose::Task(_) | Whose::Kernel | Whose::Thread => Key::of(RowKind::Thread),
        Whose::Unknown => Key::of(RowKind::Unknown),
    }
}

fn function_key(address: u64, image: &Image) -> Key {
    let code = Key::of(RowKind::Code);
    let Some(id) = image.function_at(address) else { return code };
    let function = image.function(id);
    // Static functions of one name are told apart by their file, else by their address.
    let alone = image.functions_named(&function.name).len() == 1;
    let start = function.range.start;
    // The outermost frame: the first instruction may be inlined from elsewhere.
    let frame = image.frames_at(start).pop();
    let file = frame.and_then(|frame| frame.location).map(|location| location.file);
    let address = (!alone && file.is_none()).then_some(start);
    Key { function: Some(function.name.clone()), file, address, ..code }
}

fn inlined_key(address: u64, image: &Image) -> Key {
    // With one frame nothing is inlined here.
    match image.frames_at(address).as_slice() {
        [inlined, _, ..] if inlined.function.is_some() => Key {
            function: inlined.function.clone(),
            file: inlined.location.clone().map(|location| location.file),
            ..Key::of(RowKind::Code)
        },
        _ => function_key(address, image),
    }
}

fn file_key(address: u64, image: &Image) -> Key {
    let file = image.location_at(address).map(|location| location.file);
    Key { file, ..Key::of(RowKind::Code) }
}

fn line_key(address: u64, image: &Image) -> Key {
    let function = image.function_at(address).map(|id| image.function(id).name.clone());
    let location = image.location_at(address);
    let (file, line) = location.map_or((None, None), |at| (Some(at.file), at.line));
    Key { function, file, line, ..Key::of(RowKind::Code) }
}
