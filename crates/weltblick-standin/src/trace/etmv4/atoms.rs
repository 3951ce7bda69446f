//! Atoms as headers: as many as fit.

/// The pattern of four that has a header each (format 4).
const FOURS: [[bool; 4]; 4] =
    [[false, true, true, true], [false; 4], [false, true, false, true], [true, false, true, false]];
/// The same of five (format 5), and the headers.
const FIVES: [(u8, [bool; 5]); 4] = [
    (0xf5, [false, true, true, true, true]),
    (0xd5, [false; 5]),
    (0xd6, [false, true, false, true, false]),
    (0xd7, [true, false, true, false, true]),
];

/// The header that takes most of the oldest atoms, and how many it takes.
pub(super) fn pack(atoms: &[bool]) -> (u8, usize) {
    let run = atoms.iter().take(24).take_while(|&&taken| taken).count();
    // Format 6: three or more, then one more of either kind.
    if (3..24).contains(&run) && atoms.get(run) == Some(&false) {
        return (0xe0 | (run - 3) as u8, run + 1);
    }
    if run >= 4 {
        return (0xc0 | (run - 4) as u8, run);
    }
    if let Some((header, _)) = FIVES.iter().find(|(_, pattern)| atoms.starts_with(pattern)) {
        return (*header, 5);
    }
    if let Some(number) = FOURS.iter().position(|pattern| atoms.starts_with(pattern)) {
        return (0xdc | number as u8, 4);
    }
    let bit = |place: usize| u8::from(atoms[place]) << place;
    match atoms.len() {
        1 => (0xf6 | bit(0), 1),
        2 => (0xd8 | bit(0) | bit(1), 2),
        _ => (0xf8 | bit(0) | bit(1) | bit(2), 3),
    }
}
