//! What a decoder must know of the trace unit, from its registers.

/// Raw values of the registers that decide about packets, under the document's names.
///
/// The defaults are those of trace units of Cortex-M3 and Cortex-M4 class cores: alternative branch
/// encoding, no context ID, 48-bit timestamps in binary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Settings {
    /// `ETMCR`.
    pub etmcr: u32,
    /// `ETMIDR`.
    pub etmidr: u32,
    /// `ETMCCER`.
    pub etmccer: u32,
}

impl Default for Settings {
    fn default() -> Self {
        Self { etmcr: 0, etmidr: 0x4114_f250, etmccer: 0x1854_1800 }
    }
}

impl Settings {
    /// P-headers tell cycles (`ETMCR`, cycle-accurate tracing).
    #[must_use]
    pub const fn cycle_accurate(&self) -> bool {
        self.etmcr >> 12 & 1 == 1
    }

    /// Every taken branch says where it went, also where that is fixed (`ETMCR`, branch output).
    #[must_use]
    pub const fn branch_broadcast(&self) -> bool {
        self.etmcr >> 8 & 1 == 1
    }

    /// Timestamps are on (`ETMCR`, timestamp enable).
    #[must_use]
    pub const fn timestamps(&self) -> bool {
        self.etmcr >> 28 & 1 == 1
    }

    /// Only data is traced (`ETMCR`, data-only mode).
    #[must_use]
    pub const fn data_only(&self) -> bool {
        self.etmcr >> 20 & 1 == 1
    }

    /// Bytes of a context ID (`ETMCR`, `ContextIDSize`).
    #[must_use]
    pub const fn context_bytes(&self) -> usize {
        match self.etmcr >> 14 & 0b11 {
            0 => 0,
            1 => 1,
            2 => 2,
            _ => 4,
        }
    }

    /// Branch packets have the alternative encoding (`ETMIDR`, branch packet encoding).
    #[must_use]
    pub const fn alternative_branches(&self) -> bool {
        self.etmidr >> 20 & 1 == 1
    }

    /// Bits of a timestamp (`ETMCCER`, timestamp size).
    #[must_use]
    pub const fn timestamp_bits(&self) -> u32 {
        if self.etmccer >> 29 & 1 == 1 { 64 } else { 48 }
    }

    /// Timestamps are in Gray code (`ETMCCER`, timestamp encoding).
    #[must_use]
    pub const fn gray_timestamps(&self) -> bool {
        self.etmccer >> 28 & 1 == 0
    }
}
