//! What a decoder must know of the trace unit, from its registers.

/// Raw values of the registers that decide about packets, under the document's names.
///
/// The defaults are those of an M-profile trace unit: 32-bit addresses, no context ID, no
/// speculation, commits that are packets of their own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Settings {
    /// `TRCCONFIGR`.
    pub trcconfigr: u32,
    /// `TRCIDR0`.
    pub trcidr0: u32,
    /// `TRCIDR1`.
    pub trcidr1: u32,
    /// `TRCIDR2`.
    pub trcidr2: u32,
    /// `TRCIDR8`: how many elements may be speculative.
    pub trcidr8: u32,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            trcconfigr: 1,
            trcidr0: 0x2800_06a1,
            trcidr1: 0x4100_f400,
            trcidr2: 0x0000_0004,
            trcidr8: 0,
        }
    }
}

impl Settings {
    /// `COMMOPT` 0: cycle counts commit elements.
    #[must_use]
    pub const fn counts_commit(&self) -> bool {
        self.trcidr0 >> 29 & 1 == 0
    }

    /// Bytes of a context ID (`CIDSIZE`).
    #[must_use]
    pub const fn context_bytes(&self) -> usize {
        match self.trcidr2 >> 5 & 0x1f {
            0 => 0,
            _ => 4,
        }
    }

    /// Bytes of a virtual machine's ID (`VMIDSIZE`).
    #[must_use]
    pub const fn vmid_bytes(&self) -> usize {
        match self.trcidr2 >> 10 & 0x1f {
            0 => 0,
            1 => 1,
            2 => 2,
            _ => 4,
        }
    }

    /// `wfi` and `wfe` are told by atoms (`WFXMODE`).
    #[must_use]
    pub const fn waits_are_branches(&self) -> bool {
        self.trcidr2 >> 31 == 1
    }

    /// How many elements may not be committed at once (`MAXSPEC`).
    #[must_use]
    pub const fn speculation(&self) -> u32 {
        self.trcidr8
    }

    /// The return stack is on: returns to where calls said are atoms without an address.
    #[must_use]
    pub const fn return_stack(&self) -> bool {
        self.trcconfigr >> 12 & 1 == 1
    }

    /// Every taken branch says where it went, also where that is fixed (`BB`).
    #[must_use]
    pub const fn branch_broadcast(&self) -> bool {
        self.trcconfigr >> 3 & 1 == 1
    }

    /// Global timestamps are on (`TS`).
    #[must_use]
    pub const fn timestamps(&self) -> bool {
        self.trcconfigr >> 11 & 1 == 1
    }

    /// Cycle counts are on (`CCI`).
    #[must_use]
    pub const fn cycle_counts(&self) -> bool {
        self.trcconfigr >> 4 & 1 == 1
    }
}
