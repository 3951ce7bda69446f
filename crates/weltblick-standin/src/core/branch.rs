//! Which instructions an instruction trace tells of, and what of them.

use super::instruction::{Alu, Instruction, Op};
use super::registers::Registers;

/// What an instruction does to the program flow when it executes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Branch {
    /// Nothing that a trace would tell.
    None,
    /// A branch to a fixed address, or a barrier that fetches anew.
    Direct {
        /// It branches.
        taken: bool,
        /// It leaves a return address.
        link: bool,
    },
    /// A branch to where a register or memory says.
    Indirect {
        /// It branches: the condition of its IT block holds.
        taken: bool,
        /// It leaves a return address.
        link: bool,
    },
}

/// What the instruction will do, with the registers as they are before it. `barrier`: it is an `isb`.
#[must_use]
pub fn branch(regs: &Registers, instruction: Instruction, barrier: bool) -> Branch {
    let passes = regs.it == 0 || regs.holds(regs.it >> 4);
    let direct = |holds: bool, link| Branch::Direct { taken: passes && holds, link };
    let indirect = |link| Branch::Indirect { taken: passes, link };
    match instruction.op {
        Op::Branch { .. } => direct(true, false),
        Op::BranchLink { .. } => direct(true, true),
        Op::BranchIf { condition, .. } => direct(regs.holds(condition), false),
        Op::CompareBranch { rn, nonzero, .. } => {
            direct((regs.r[usize::from(rn)] != 0) == nonzero, false)
        }
        Op::BranchRegister { link, .. } => indirect(link),
        Op::TableBranch { .. } => indirect(false),
        Op::Load { rt: 15, .. } => indirect(false),
        Op::LoadMany { list, .. } if list >> 15 == 1 => indirect(false),
        Op::Alu { alu: Alu::Mov | Alu::Add, rd: 15, .. } => indirect(false),
        Op::Barrier if barrier => direct(true, false),
        _ => Branch::None,
    }
}
