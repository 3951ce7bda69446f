//! Names of the numbered files that one stream is kept in.

/// The file of a stream's segment: `swo.000003.bin`.
#[must_use]
pub fn segment_file(stream: &str, number: u32) -> String {
    format!("{stream}.{number:06}.bin")
}

/// The number of a stream's segment; `None` if the file is none.
#[must_use]
pub fn segment_number(stream: &str, file: &str) -> Option<u32> {
    let digits = file.strip_prefix(stream)?.strip_prefix('.')?.strip_suffix(".bin")?;
    (digits.len() >= 6 && digits.bytes().all(|digit| digit.is_ascii_digit()))
        .then(|| digits.parse().ok())?
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_numbers_agree() {
        for number in [0, 7, 999_999, 1_000_000] {
            assert_eq!(segment_number("swo", &segment_file("swo", number)), Some(number));
        }
        for other in ["swo.bin", "swo.1.bin", "swo.00000x.bin", "port.000001.bin", "swo.+00001.bin"]
        {
            assert_eq!(segment_number("swo", other), None, "{other}");
        }
    }
}
