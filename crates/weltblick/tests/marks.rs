//! The header for targets: every mark that it writes is the statement that is meant, on the trace port
//! and in a ring, and costs what the documentation says.

use weltblick_core::capture::{ItmSettings, Line, StreamSpec};
use weltblick_core::event::{
    Arguments, Event, Name, Number, Origin, Position, Sink, Statement, Stop, Thing,
};
use weltblick_core::image::{Image, Variables};
use weltblick_core::time::Window;
use weltblick_standin::machine::Setup;
use weltblick_standin::recording::TraceSetup;
use weltblick_standin::{Machine, Program};

const PORT: &[u8] = include_bytes!("firmware/marks-port.elf");
const RING: &[u8] = include_bytes!("firmware/marks-ring.elf");

#[derive(Default)]
struct Seen {
    statements: Vec<Statement>,
    undated: usize,
    last: Option<Window>,
    others: Vec<Event>,
}

impl Sink for Seen {
    fn event(&mut self, position: Position, event: &Event) {
        match event {
            Event::Stated(statement) => {
                self.statements.push(statement.clone());
                self.last = position.time;
                self.undated += usize::from(position.time.is_none());
            }
            other => self.others.push(other.clone()),
        }
    }
}

/// Before the first instruction, with the trace on or off.
fn started(elf: &[u8], traced: bool) -> Machine {
    let setup = Setup { link_bit_rate: 40_000_000, link_buffer: 4096, ..Setup::default() };
    let mut machine = Machine::new(&Program::parse(elf).unwrap(), setup).unwrap();
    let trace = TraceSetup { samples: false, ..TraceSetup::default() };
    for (address, value) in trace.registers() {
        // The cycle counter runs in any case.
        let on = traced || address == 0xe000_1000 || address == 0xe000_edfc;
        machine.poke(address, 4, if on { value } else { 0 }).unwrap();
    }
    machine
}

fn until_done(elf: &[u8], machine: &mut Machine) {
    let done = address(elf, "done");
    while machine.peek(done, 4).unwrap() == 0 {
        machine.step().unwrap();
    }
}

/// Runs until the firmware is done.
fn run(elf: &[u8], traced: bool) -> Machine {
    let mut machine = started(elf, traced);
    until_done(elf, &mut machine);
    machine
}

fn address(elf: &[u8], name: &str) -> u32 {
    Variables::parse(elf).unwrap().find(name).unwrap().address as u32
}

fn read(bytes: &[u8]) -> Seen {
    let settings = ItmSettings { marks_port: Some(16), ..ItmSettings::default() };
    let mut line = Line::new(&StreamSpec::itm(Vec::new(), settings), Origin(0));
    let mut seen = Seen::default();
    line.push(bytes, &mut (), &mut seen);
    line.finish(&mut (), &mut seen);
    seen
}

/// What the firmware states, with names and formats as texts of its image.
fn expected() -> Vec<Statement> {
    let task = 1;
    let named = |thing| Statement::Named(thing, Name::Told("filter".into()));
    let number = |number| Statement::Quantity { quantity: 4, number };
    let text = |words: &[u32]| Statement::Text { format: 0, arguments: Arguments::new(words) };
    vec![
        Statement::Created { task, priority: Some(7), stack: Some((0x2000_0100, 256)) },
        named(Thing::Task(1)),
        named(Thing::Object(2)),
        named(Thing::Span(3)),
        named(Thing::Quantity(4)),
        Statement::Ready { task },
        Statement::Runs { task, stack_pointer: None },
        Statement::Runs { task, stack_pointer: Some(0x2000_0180) },
        Statement::StackUsed { task, bytes: 128 },
        Statement::Takes { object: 2 },
        Statement::Gives { object: 2 },
        Statement::SpanBegan { span: 3 },
        Statement::SpanEnded { span: 3 },
        number(Number::Integer(-5)),
        number(Number::Float(1.5)),
        number(Number::Integer(-5_000_000_000)),
        number(Number::Float(-0.25)),
        Statement::Requested { cycles_ago: 100 },
        Statement::Requested { cycles_ago: 100_000 },
        Statement::Stops { task, why: Stop::Sleeps },
        Statement::Stops { task, why: Stop::Waits(2) },
        Statement::Stops { task, why: Stop::WaitsForSomething },
        Statement::Stops { task, why: Stop::Ended },
        text(&[]),
        text(&[7, 8]),
        text(&[1, 2, 3, 4, 5, 6, 7, 8]),
    ]
}

/// The statements, with names looked up and formats checked and taken out.
fn resolved(seen: &Seen, elf: &[u8]) -> Vec<Statement> {
    let image = Image::parse(elf).unwrap();
    let mut formats = Vec::new();
    let resolve = |statement: &Statement| match statement {
        Statement::Named(thing, Name::InImage(address)) => {
            Statement::Named(*thing, Name::Told(image.text_at(*address).unwrap().into()))
        }
        Statement::Text { format, arguments } => {
            formats.push(image.text_at(*format).unwrap());
            Statement::Text { format: 0, arguments: *arguments }
        }
        other => other.clone(),
    };
    let statements = seen.statements.iter().map(resolve).collect();
    assert_eq!(formats, ["ready", "%u and %u", "%u%u%u%u%u%u%u%u"]);
    statements
}

#[test]
fn every_mark_on_the_port_is_what_was_meant() {
    let mut machine = run(PORT, true);
    let seen = read(&machine.take_trace());
    assert_eq!(resolved(&seen, PORT), expected());
    assert_eq!((seen.undated, seen.others), (0, Vec::new()));
}

#[test]
fn every_mark_in_the_ring_is_what_was_meant() {
    let machine = &mut run(RING, false);
    let ring = address(RING, "weltblick_ring");
    let word = |machine: &mut Machine, offset: u32| machine.peek(ring + offset, 4).unwrap();
    assert_eq!(word(machine, 0), 0x4752_4257);
    let (size, written, dropped) = (word(machine, 8), word(machine, 12), word(machine, 24));
    assert_eq!((size, dropped), (1024, 0));
    let bytes: Vec<u8> =
        (0..written).map(|at| machine.peek(ring + 32 + at, 1).unwrap() as u8).collect();
    let seen = read(&bytes);
    assert_eq!(resolved(&seen, RING), expected());
    assert_eq!((seen.undated, seen.others), (0, Vec::new()));
}

/// Cycles by the stand-in's model, as `docs/formats/marks.md` states them.
#[test]
fn a_mark_costs_what_is_said() {
    for (elf, short, longest) in [(PORT, 4, 160), (RING, 160, 700)] {
        let mut machine = run(elf, false);
        let costs = address(elf, "cost");
        let cost: Vec<u32> = (0..26).map(|n| machine.peek(costs + 4 * n, 4).unwrap()).collect();
        println!("{cost:?}");
        // ready, runs, takes, gives, begins, ends, sleeps, ended: one halfword each.
        for at in [5, 6, 9, 10, 11, 12, 19, 22] {
            assert!(cost[at] <= short, "{at}: {cost:?}");
        }
        assert!(cost.iter().all(|cost| *cost <= longest), "{cost:?}");
    }
}

/// A pause that no single timestamp holds.
#[test]
fn a_ring_keeps_long_pauses() {
    const PAUSE: u32 = 0x3456_789a;
    const CYCLE_COUNTER: u32 = 0xe000_1004;
    let ring = address(RING, "weltblick_ring");
    let mut machine = started(RING, false);
    while machine.peek(ring + 12, 4).unwrap() == 0 {
        machine.step().unwrap();
    }
    let now = machine.peek(CYCLE_COUNTER, 4).unwrap();
    machine.poke(CYCLE_COUNTER, 4, now + PAUSE).unwrap();
    until_done(RING, &mut machine);
    let written = machine.peek(ring + 12, 4).unwrap();
    let bytes: Vec<u8> =
        (0..written).map(|at| machine.peek(ring + 32 + at, 1).unwrap() as u8).collect();
    let seen = read(&bytes);
    assert_eq!(seen.statements.len(), expected().len());
    let last = seen.last.expect("they have times").latest;
    assert!((u64::from(PAUSE)..u64::from(PAUSE) + 20_000).contains(&last), "{last:#x}");
}
