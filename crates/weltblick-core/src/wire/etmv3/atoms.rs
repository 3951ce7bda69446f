//! P-headers: what each of them says, with and without cycles.

use super::packet::Atoms;

/// The atoms of every header; `None` where it is no P-header. Without cycles, and with.
pub(super) static ATOMS: [[Option<Atoms>; 256]; 2] = {
    let mut table = [[None; 256]; 2];
    let mut header = 0;
    while header < 256 {
        table[0][header] = plain(header as u8);
        table[1][header] = cycle_accurate(header as u8);
        header += 1;
    }
    table
};

/// So many E atoms, and an N atom behind them if bit 6 is set.
const fn executed(header: u8, count: u8, cycles: u8) -> Atoms {
    let one_more = header >> 6 & 1;
    let bits = (1_u16 << count) - 1;
    Atoms { bits, count: count + one_more, cycles, cycle_each: cycles > 0 }
}

/// Two atoms in bits 3 (the first) and 2; a set bit is an N atom.
const fn two(header: u8, cycles: u8) -> Atoms {
    let bits = !(header >> 3 & 1 | (header >> 2 & 1) << 1) & 0b11;
    Atoms { bits: bits as u16, count: 2, cycles, cycle_each: false }
}

/// `1NEEEE00` and `1000FF10`.
const fn plain(header: u8) -> Option<Atoms> {
    let atoms = match header {
        0x82 | 0x86 | 0x8a | 0x8e => two(header, 0),
        0x80.. if header & 0b11 == 0 => executed(header, header >> 2 & 0xf, 0),
        _ => return None,
    };
    if atoms.count == 0 { None } else { Some(atoms) }
}

/// `10000000`, `1N0EEE00`, `1000FF10`, `1E1WWW00` and `10010F10`.
const fn cycle_accurate(header: u8) -> Option<Atoms> {
    Some(match header {
        0x80 => Atoms { bits: 0, count: 0, cycles: 1, cycle_each: false },
        0x82 | 0x86 | 0x8a | 0x8e => two(header, 1),
        0x92 | 0x96 => {
            let bits = !(header >> 2) & 1;
            Atoms { bits: bits as u16, count: 1, cycles: 0, cycle_each: false }
        }
        0x80.. if header & 0b10_0011 == 0 => executed(header, header >> 2 & 0b111, 1),
        0x80.. if header & 0b10_0011 == 0b10_0000 => {
            let one = header >> 6 & 1;
            let cycles = (header >> 2 & 0b111) + 1;
            Atoms { bits: one as u16, count: one, cycles, cycle_each: false }
        }
        _ => return None,
    })
}
