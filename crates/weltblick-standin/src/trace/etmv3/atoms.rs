//! Atoms as P-headers (IHI 0014, "P-headers").

/// An instruction: cycles that began since the one before, and whether its condition passed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Atom {
    pub(super) cycles: u64,
    pub(super) ran: bool,
}

/// Without cycles: the header of the first of them, and how many it says.
pub(super) fn plain(atoms: &[Atom]) -> (u8, usize) {
    let executed = atoms.iter().take(15).take_while(|atom| atom.ran).count();
    let fails_next = atoms.get(executed).is_some_and(|atom| !atom.ran);
    match atoms {
        [first, second, ..] if !first.ran => (two(*first, *second), 2),
        _ => (
            0x80 | (executed as u8) << 2 | u8::from(fails_next) << 6,
            executed + usize::from(fails_next),
        ),
    }
}

/// `1000FF10`.
fn two(first: Atom, second: Atom) -> u8 {
    0x82 | u8::from(!first.ran) << 3 | u8::from(!second.ran) << 2
}

/// With cycles. Takes cycles off the first atom where they need a header of their own.
pub(super) fn cycle_accurate(atoms: &mut [Atom]) -> (u8, usize) {
    match *atoms {
        [Atom { cycles: 0, ran }, ..] => (0x92 | u8::from(!ran) << 2, 1),
        [first @ Atom { cycles: 1, .. }, second @ Atom { cycles: 0, .. }, ..] => {
            (two(first, second), 2)
        }
        [Atom { cycles: 1, .. }, ..] => {
            // The last one may share its cycle with the one behind it: that is another header's.
            let single = |(place, atom): &(usize, &Atom)| {
                atom.cycles == 1
                    && atoms.get(place + 1).is_none_or(|next| next.cycles > 0 || *place == 0)
            };
            let run: Vec<&Atom> =
                atoms.iter().enumerate().take_while(single).map(|(_, atom)| atom).collect();
            let executed = run.iter().take(7).take_while(|atom| atom.ran).count();
            let fails_next = run.get(executed).is_some_and(|atom| !atom.ran);
            let header = 0x80 | (executed as u8) << 2 | u8::from(fails_next) << 6;
            (header, executed + usize::from(fails_next))
        }
        [Atom { cycles: cycles @ 2..=8, ran: true }, ..] => (0xe0 | (cycles as u8 - 1) << 2, 1),
        _ => {
            let cycles = (atoms[0].cycles - 1).min(8);
            atoms[0].cycles -= cycles;
            (idle(cycles), 0)
        }
    }
}

/// So many cycles, 1 to 8, and nothing else.
pub(super) const fn idle(cycles: u64) -> u8 {
    if cycles == 1 { 0x80 } else { 0xa0 | (cycles as u8 - 1) << 2 }
}
