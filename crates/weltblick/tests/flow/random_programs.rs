//! Programs made at random: run on the stand-in, traced by its encoder, followed by the decoder.

use crate::etmv3::follow;
use crate::executed::{Executed, compare};
use crate::recording::{ETM, FAST, Told};
use object::write::{Object, StandardSection, Symbol, SymbolSection};
use object::{Architecture, BinaryFormat, Endianness, SymbolFlags, SymbolKind, SymbolScope};
use proptest::collection::vec;
use proptest::prelude::*;
use weltblick_core::flow::Gap;
use weltblick_core::image::Image;
use weltblick_standin::machine::Setup;
use weltblick_standin::trace::etmv4::{Etm, Manners, TailChain};
use weltblick_standin::trace::{Fitted, etmv3};
use weltblick_standin::{Machine, Program};

/// Something that a function does.
#[derive(Debug, Clone)]
pub(crate) enum Item {
    /// Arithmetic that changes flags and registers.
    Arithmetic(u16),
    /// A branch forward over so many items, if a condition holds.
    Skip { condition: u16, over: usize },
    /// The same by a register that is zero, or not.
    SkipByRegister { nonzero: bool, register: u16, over: usize },
    /// A jump forward.
    Jump(usize),
    /// A loop back over so many items, while a counter lasts.
    Loop(usize),
    /// A call of a function further down.
    Call(usize),
    /// The same as the last that a function does: that one returns for both.
    TailCall(usize),
    /// An instruction that runs if a condition holds; it may be a return.
    If { condition: u16, returns: bool },
    /// One of two ways, through a table.
    Table(u16),
    /// A barrier.
    Barrier,
    /// A call of the supervisor.
    Supervisor,
}

pub(crate) fn item() -> impl Strategy<Value = Item> {
    let arithmetic = prop_oneof![
        (0_u16..4, any::<u8>()).prop_map(|(rd, n)| 0x2000 | rd << 8 | u16::from(n)),
        (0_u16..4, any::<u8>()).prop_map(|(rd, n)| 0x3000 | rd << 8 | u16::from(n)),
        (0_u16..4, any::<u8>()).prop_map(|(rd, n)| 0x2800 | rd << 8 | u16::from(n)),
        (0_u16..4, 0_u16..4).prop_map(|(rd, rm)| 0x4040 | rm << 3 | rd),
        (0_u16..4, 0_u16..4, 0_u16..32).prop_map(|(rd, rm, n)| n << 6 | rm << 3 | rd),
    ];
    prop_oneof![
        6 => arithmetic.prop_map(Item::Arithmetic),
        3 => (0_u16..14, 0_usize..5).prop_map(|(condition, over)| Item::Skip { condition, over }),
        2 => (any::<bool>(), 0_u16..4, 0_usize..5)
            .prop_map(|(nonzero, register, over)| Item::SkipByRegister { nonzero, register, over }),
        1 => (0_usize..4).prop_map(Item::Jump),
        1 => (1_usize..4).prop_map(Item::Loop),
        2 => (1_usize..4).prop_map(Item::Call),
        1 => (1_usize..4).prop_map(Item::TailCall),
        2 => (0_u16..14, any::<bool>()).prop_map(|(condition, returns)| Item::If { condition, returns }),
        1 => (0_u16..2).prop_map(Item::Table),
        1 => Just(Item::Barrier),
        1 => Just(Item::Supervisor),
    ]
}

impl Item {
    /// Halfwords.
    fn length(&self) -> usize {
        match self {
            Self::Arithmetic(_) | Self::Skip { .. } | Self::SkipByRegister { .. } => 1,
            Self::Jump(_) | Self::Supervisor => 1,
            Self::Loop(_) | Self::Call(_) | Self::If { .. } | Self::Barrier => 2,
            Self::TailCall(_) => 4,
            // The choice, the branch, the table, and one more instruction on the first way.
            Self::Table(_) => 5,
        }
    }
}

const PUSH: u16 = 0xb510;
pub(crate) const POP: u16 = 0xbd10;

/// A program.
#[derive(Debug)]
pub(crate) struct Assembled {
    pub(crate) code: Vec<u16>,
    /// Where its functions begin, in halfwords.
    pub(crate) starts: Vec<usize>,
}

/// Functions one after the other: `push {r4, lr}`, a counter, the items, `pop {r4, pc}`. The last one is
/// the handler of every exception; the first one begins anew for ever.
pub(crate) fn assemble(functions: &[Vec<Item>]) -> Assembled {
    let mut starts = Vec::new();
    let mut at = 32;
    for items in functions {
        starts.push(at);
        at += 3 + items.iter().map(Item::length).sum::<usize>();
    }
    let thumb = |place: usize| (2 * place + 1) as u32;
    let (first, handler) = (starts[0], starts[functions.len() - 1]);
    let vectors = (0..16).map(|number| match number {
        0 => 0x2000_8000,
        1 => thumb(first),
        _ => thumb(handler),
    });
    let mut code: Vec<u16> =
        vectors.flat_map(|word: u32| [word as u16, (word >> 16) as u16]).collect();
    for (number, items) in functions.iter().enumerate() {
        code.extend([PUSH, 0x2504]); // movs r5, #4
        let mut places = vec![code.len()];
        for item in items {
            places.push(places[places.len() - 1] + item.length());
        }
        for (place, item) in items.iter().enumerate() {
            let here = code.len();
            assert_eq!(here, places[place]);
            let ahead = |over: usize| places[(place + 1 + over).min(items.len())];
            let distance = |to: usize, from: usize| to as i64 - (from as i64 + 2);
            match *item {
                Item::Arithmetic(half) => code.push(half),
                Item::Skip { condition, over } => {
                    code.push(0xd000 | condition << 8 | distance(ahead(over), here) as u8 as u16);
                }
                Item::SkipByRegister { nonzero, register, over } => {
                    let far = distance(ahead(over), here);
                    // Only forwards: the next instruction but one is the nearest.
                    let half =
                        0xb100 | u16::from(nonzero) << 11 | (far.max(0) as u16) << 3 | register;
                    code.push(if far < 0 { 0xbf00 } else { half });
                }
                Item::Jump(over) => {
                    code.push(0xe000 | distance(ahead(over), here) as u16 & 0x7ff);
                }
                Item::Loop(back) => {
                    let to = places[place.saturating_sub(back)];
                    code.push(0x3d01); // subs r5, #1
                    code.push(0xd100 | distance(to, here + 1) as u8 as u16);
                }
                // Never the handler, and never back: no recursion.
                Item::Call(further) if number + further + 1 < functions.len() => {
                    let far = distance(starts[number + further], here) as u32;
                    code.push(0xf000 | (far >> 11) as u16 & 0x7ff);
                    code.push(0xf800 | far as u16 & 0x7ff);
                }
                // The first function was called by nobody.
                Item::TailCall(further) if number > 0 && number + further + 1 < functions.len() => {
                    let far = distance(starts[number + further], here + 2) as u32;
                    code.extend([0xe8bd, 0x4010]); // pop.w {r4, lr}
                    code.push(0xf000 | (far >> 11) as u16 & 0x3ff);
                    code.push(0xb800 | far as u16 & 0x7ff);
                }
                Item::Call(_) | Item::TailCall(_) => code.extend(vec![0xbf00; item.length()]),
                Item::If { condition, returns } => {
                    code.push(0xbf08 | condition << 4);
                    // The first function was called by nobody.
                    code.push(if returns && number > 0 { POP } else { 0x3001 });
                }
                Item::Table(way) => {
                    code.push(0x2600 | way); // movs r6, #way
                    code.extend([0xe8df, 0xf006]); // tbb [pc, r6]
                    code.push(0x0201); // one halfword further, or two
                    code.push(0x3101);
                }
                Item::Barrier => code.extend([0xf3bf, 0x8f6f]),
                // The handler itself must not call it: that would be a fault.
                Item::Supervisor if number + 1 == functions.len() => code.push(0xbf00),
                Item::Supervisor => code.push(0xdf00),
            }
        }
        code.push(if number == 0 {
            0xe000 | (starts[0] as i64 + 1 - code.len() as i64 - 2) as u16 & 0x7ff
        } else {
            POP
        });
    }
    Assembled { code, starts }
}

/// An ELF file of it; a relocatable one begins at address 0.
fn image(Assembled { code, starts }: &Assembled) -> Image {
    let mut file = Object::new(BinaryFormat::Elf, Architecture::Arm, Endianness::Little);
    let text = file.section_id(StandardSection::Text);
    let bytes: Vec<u8> = code.iter().flat_map(|half| half.to_le_bytes()).collect();
    file.append_section_data(text, &bytes, 4);
    let ends = starts.iter().skip(1).copied().chain([code.len()]);
    for (number, (start, end)) in starts.iter().zip(ends).enumerate() {
        file.add_symbol(Symbol {
            name: format!("function_{number}").into_bytes(),
            value: 2 * *start as u64 + 1,
            size: 2 * (end - start) as u64,
            kind: SymbolKind::Text,
            scope: SymbolScope::Linkage,
            weak: false,
            section: SymbolSection::Section(text),
            flags: SymbolFlags::None,
        });
    }
    Image::parse(&file.write().unwrap()).unwrap()
}

/// A machine with these functions, and SysTick interrupts at any place, more urgent than the supervisor's
/// handler.
pub(crate) fn machine(assembled: &Assembled, link_bit_rate: u64, tick: u32) -> (Image, Machine) {
    let code = assembled.code.iter().flat_map(|half| half.to_le_bytes()).collect();
    let setup = Setup { link_bit_rate, ..Setup::default() };
    let mut machine = Machine::new(&Program::from_bytes(0, code), setup).unwrap();
    machine.keep_addresses();
    for (address, value) in [
        (0xe000_e014, tick),
        (0xe000_ed1c, 0x80 << 24),
        (0xe000_e010, 0b111),
        (0xe000_edfc, 1 << 24),
    ] {
        machine.poke(address, 4, value).unwrap();
    }
    (image(assembled), machine)
}

fn manners() -> impl Strategy<Value = etmv3::Manners> {
    let flag = any::<bool>;
    (flag(), flag(), flag(), flag(), flag()).prop_map(
        |(cancels, sync_is_target, return_after_address, folds, original_branches)| {
            etmv3::Manners {
                cancels,
                sync_is_target,
                return_after_address,
                folds,
                original_branches,
            }
        },
    )
}

/// Every instruction of a program is found, with these `TRCCONFIGR` and `TRCSYNCPR`.
fn is_found(
    functions: &[Vec<Item>],
    [config, sync]: [u32; 2],
    manners: Manners,
    bit_rate: u64,
    tick: u32,
) {
    let (image, mut machine) = machine(&assemble(functions), bit_rate, tick);
    machine.trace_mut().fit(Fitted::Etmv4(Etm::new(manners)));
    for (address, value) in [
        (ETM + 0x010, config),
        (ETM + 0x034, sync),
        (ETM + 0x038, 8),
        (ETM + 0x080, 1 | 1 << 9),
        (ETM + 0x004, 1),
    ] {
        machine.poke(address, 4, value).unwrap();
    }
    // Programs may come to a stop of their own: what ran before counts.
    machine.run(60_000);
    let bytes = machine.take_trace();
    let mut executed = Executed::new(&image);
    Told::Etmv4(config).follow(&image, &[], (&bytes, 0), &mut executed);
    let only_overflows = executed.gaps.iter().all(|(_, gap)| *gap == Gap::Overflow);
    assert!(only_overflows, "{:?}", executed.gaps);
    compare(&machine, &executed, 0);
}

/// A tail-chained exception may carry an address that lies right behind where a thread's last call returns to:
/// the handler that ends did not go there.
#[test]
fn a_handler_does_not_return_to_where_a_thread_called() {
    let functions =
        [vec![Item::Call(1), Item::Supervisor], vec![], vec![], vec![], vec![Item::Jump(0)]];
    let manners = Manners { tail_chain: TailChain::StackedAfter, overflow_synchronises: false };
    is_found(&functions, [1 | 1 << 4 | 1 << 11 | 1 << 12, 8], manners, FAST, 85);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn every_instruction_of_any_program_is_found(
        functions in vec(vec(item(), 0..14), 2..7),
        config in prop::sample::select(vec![1_u32, 1 | 1 << 3, 1 | 1 << 12, 1 | 1 << 4 | 1 << 11 | 1 << 12]),
        sync in prop::sample::select(vec![0_u32, 8, 10]),
        tail_chain in prop::sample::select(vec![
            TailChain::ReturnValue, TailChain::Stacked, TailChain::StackedAfter,
        ]),
        bit_rate in prop::sample::select(vec![10_000_000_000_u64, 100_000_000, 20_000_000]),
        overflow_synchronises: bool,
        tick in 40_u32..900,
    ) {
        let manners = Manners { tail_chain, overflow_synchronises };
        is_found(&functions, [config, sync], manners, bit_rate, tick);
    }

    #[test]
    fn every_instruction_of_any_program_is_found_by_atoms(
        functions in vec(vec(item(), 0..14), 2..7),
        etmcr in prop::sample::select(vec![0_u32, 1 << 8, 1 << 12, 1 << 12 | 1 << 28]),
        sync in prop::sample::select(vec![0_u32, 128, 1024]),
        manners in manners(),
        bit_rate in prop::sample::select(vec![10_000_000_000_u64, 200_000_000, 40_000_000]),
        tick in 40_u32..900,
    ) {
        let (image, mut machine) = machine(&assemble(&functions), bit_rate, tick);
        machine.trace_mut().fit(Fitted::Etmv3(etmv3::Etm::new(manners)));
        for (address, value) in [(ETM + 0x020, 0x6f), (ETM + 0x1e0, sync), (ETM, etmcr)] {
            machine.poke(address, 4, value).unwrap();
        }
        machine.run(60_000);
        let bytes = machine.take_trace();
        let executed = follow(&image, etmcr, manners.original_branches, &bytes);
        let only_overflows = executed.gaps.iter().all(|(_, gap)| *gap == Gap::Overflow);
        prop_assert!(only_overflows, "{:?}", executed.gaps);
        compare(&machine, &executed, 1);
    }
}
