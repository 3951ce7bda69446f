//! Packets of an instruction trace in words.

use super::{etmv3, etmv4};
use weltblick_core::capture::Instructions;
use weltblick_core::image::Image;

/// What a packet is called, and what it says.
pub(super) fn describe(packet: &Instructions, image: Option<&Image>) -> (&'static str, String) {
    match packet {
        Instructions::Etmv3(packet) => etmv3::describe(packet, image),
        Instructions::Etmv4(packet) => etmv4::describe(packet, image),
    }
}

/// E for an atom of a branch that was taken or an instruction that ran, N for the others, the oldest
/// first.
pub(super) fn letters(bits: u32, count: u8) -> String {
    (0..count).map(|place| if bits >> place & 1 == 1 { 'E' } else { 'N' }).collect()
}
