//! The vector table of M-profile cores: which handler each exception number points to.

use super::{Code, FunctionId, Functions, section_holding};

/// Exception numbers that the architecture knows: 16 system exceptions and 496 interrupts.
const MOST_VECTORS: usize = 512;

/// One entry of the vector table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Vector {
    /// Where it points, thumb bit clear.
    pub address: u64,
    /// The function there.
    pub handler: Option<FunctionId>,
}

/// The table, by exception number.
#[derive(Debug, Default)]
pub(super) struct Vectors {
    entries: Vec<Option<Vector>>,
}

impl Vectors {
    pub(super) fn get(&self, exception: u16) -> Option<&Vector> {
        self.entries.get(usize::from(exception))?.as_ref()
    }

    /// Reads a table from `bytes`: the initial stack pointer, then handlers with the thumb bit
    /// set. It ends at the first word that is neither zero nor the address of code. Its words are data: big-endian in
    /// a BE8 image, whose instructions are little-endian.
    ///
    /// `None` if the reset vector is not one: then there is no table here.
    pub(super) fn read(
        bytes: &[u8],
        is_little_endian: bool,
        code: &[Code],
        functions: &Functions,
    ) -> Option<Self> {
        let is_code = |word: u32| {
            let address = u64::from(word & !1);
            word & 1 == 1 && section_holding(code, address).is_some()
        };
        let words = bytes.chunks_exact(4).take(MOST_VECTORS);
        let mut entries = vec![None];
        for word in words.skip(1) {
            let word = [word[0], word[1], word[2], word[3]];
            let word = match is_little_endian {
                true => u32::from_le_bytes(word),
                false => u32::from_be_bytes(word),
            };
            if word == 0 {
                entries.push(None);
            } else if is_code(word) {
                let address = u64::from(word & !1);
                entries.push(Some(Vector { address, handler: functions.at(address) }));
            } else {
                break;
            }
        }
        entries.get(1)?.as_ref()?;
        Some(Self { entries })
    }
}

/// The architecture's name of a system exception (DDI 0403E, B1.5.2).
#[must_use]
pub const fn system_exception(number: u16) -> Option<&'static str> {
    Some(match number {
        0 => "thread",
        1 => "Reset",
        2 => "NMI",
        3 => "HardFault",
        4 => "MemManage",
        5 => "BusFault",
        6 => "UsageFault",
        7 => "SecureFault",
        11 => "SVCall",
        12 => "DebugMonitor",
        14 => "PendSV",
        15 => "SysTick",
        _ => return None,
    })
}

/// A handler's name without the ending that says that it is one.
pub(super) fn short_handler_name(name: &str) -> &str {
    const ENDINGS: [&str; 7] =
        ["_irq_handler", "_irqhandler", "_handler", "_isr", "irqhandler", "handler", "isr"];
    let lower = name.to_ascii_lowercase();
    let ending = ENDINGS.into_iter().find(|ending| lower.ends_with(ending));
    match ending.map(|ending| &name[..name.len() - ending.len()]) {
        Some(short) if !short.is_empty() => short,
        _ => name,
    }
}

#[cfg(test)]
mod tests {
    use super::short_handler_name;

    #[test]
    fn handlers_are_called_by_what_they_handle() {
        for (name, short) in [
            ("adc_ready_handler", "adc_ready"),
            ("ADC1_IRQHandler", "ADC1"),
            ("SysTick_Handler", "SysTick"),
            ("uart_isr", "uart"),
            ("handler", "handler"),
            ("wave_filter", "wave_filter"),
        ] {
            assert_eq!(short_handler_name(name), short);
        }
    }
}
