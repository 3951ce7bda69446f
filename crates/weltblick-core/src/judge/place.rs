//! Points that are one place in the code, and its address.

use crate::document::nearest;
use crate::image::{FunctionId, Image, ends_with_path};
use crate::point::Point;
use std::ops::Range;
use thiserror::Error;

/// Why a point is no single place in the code.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NoPlace {
    /// A time, a byte, an event.
    #[error(
        "`{0}` is no place in the code: write a function, file.c#function, file.c:120 or 0x08001234"
    )]
    NotCode(String),
    /// A name, and nothing to look it up in.
    #[error("`{0}` is looked up in the image: give --image, or addresses")]
    NoImage(String),
    /// A range that holds nothing.
    #[error("`{text}` is empty: it goes from {start:#010x} to {end:#010x}")]
    Empty {
        /// What was written.
        text: String,
        /// Its start.
        start: u64,
        /// Its end.
        end: u64,
    },
    /// No such function, or several.
    #[error("{0}")]
    NoFunction(String),
    /// No instruction belongs to the line.
    #[error("no instruction of the image belongs to {file}:{line}{hint}")]
    NoLine {
        /// The file.
        file: String,
        /// The line.
        line: u32,
        /// The next line that has instructions.
        hint: String,
    },
}

/// The point that names a function.
pub(super) fn function_point(name: &str) -> Result<Point, String> {
    let point: Point = name.parse().map_err(|error: crate::point::PointError| error.to_string())?;
    match point {
        Point::Function { .. } | Point::Address(_) => Ok(point),
        _ => Err(format!("`{name}` is no function: write wave_filter or src/dsp.c#clamp")),
    }
}

/// The address of a place in the code: of a function's or a line's first instruction.
///
/// # Errors
///
/// Why there is no single one.
pub fn address_of(point: &Point, image: &Image) -> Result<u64, NoPlace> {
    match point {
        Point::Address(address) => Ok(*address & !1),
        Point::Function { .. } => function_of(point, image)
            .map(|id| image.function(id).range.start)
            .map_err(NoPlace::NoFunction),
        Point::Line { file, line } => {
            let lines = image.lines_of(file);
            if let Some(address) = lines.iter().filter(|(_, l)| l == line).map(|(a, _)| *a).min() {
                return Ok(address);
            }
            let next = lines.iter().map(|(_, line)| *line).filter(|later| later > line).min();
            let hint = match next {
                Some(next) => format!("; the next one with code is {file}:{next}"),
                None if lines.is_empty() => "; it has no such file, or no line data".into(),
                None => String::new(),
            };
            Err(NoPlace::NoLine { file: file.clone(), line: *line, hint })
        }
        other => Err(NoPlace::NotCode(other.to_string())),
    }
}

/// The code that a text means: `A..B` (half open, each side a place in the code), a function, or
/// every function of a file.
///
/// # Errors
///
/// Why it means none.
pub fn ranges_of(text: &str, image: Option<&Image>) -> Result<Vec<Range<u64>>, NoPlace> {
    let parsed = |text: &str| -> Result<Point, NoPlace> {
        text.parse().map_err(|_| NoPlace::NotCode(text.to_owned()))
    };
    let image = || image.ok_or_else(|| NoPlace::NoImage(text.to_owned()));
    if let Some((start, end)) = text.split_once("..") {
        let at = |text: &str| match parsed(text)? {
            Point::Address(address) => Ok(address & !1),
            point => address_of(&point, image()?),
        };
        let (start, end) = (at(start)?, at(end)?);
        return if start < end {
            Ok(std::iter::once(start..end).collect())
        } else {
            Err(NoPlace::Empty { text: text.to_owned(), start, end })
        };
    }
    let point = parsed(text)?;
    if !matches!(point, Point::Function { .. } | Point::Address(_)) {
        return Err(NoPlace::NotCode(text.to_owned()));
    }
    let image = image()?;
    match function_of(&point, image) {
        Ok(id) => Ok(vec![image.function(id).range.clone()]),
        Err(why) => {
            let ranges = ranges_of_file(text, image);
            if ranges.is_empty() { Err(NoPlace::NoFunction(why)) } else { Ok(ranges) }
        }
    }
}

/// The functions of a source file, joined where they touch.
fn ranges_of_file(file: &str, image: &Image) -> Vec<Range<u64>> {
    let lines = image.lines_of(file);
    let functions = lines.iter().filter_map(|(address, _)| image.function_at(*address));
    let mut ranges: Vec<Range<u64>> = functions
        .filter(|&id| file_of(image, id).is_some_and(|path| ends_with_path(&path, file)))
        .map(|id| image.function(id).range.clone())
        .collect();
    ranges.sort_by_key(|range| (range.start, range.end));
    ranges.dedup_by(|next, before| {
        let touches = next.start <= before.end;
        if touches {
            before.end = before.end.max(next.end);
        }
        touches
    });
    ranges
}

/// The one function that a point means.
pub(super) fn function_of(point: &Point, image: &Image) -> Result<FunctionId, String> {
    match point {
        Point::Address(address) => image
            .function_at(*address)
            .ok_or_else(|| format!("no function of the image holds {address:#010x}")),
        Point::Function { file, name } => {
            let mut found = image.functions_named(name);
            if let Some(file) = file {
                found.retain(|&id| {
                    file_of(image, id).is_some_and(|path| ends_with_path(&path, file))
                });
            }
            match found.as_slice() {
                [only] => Ok(*only),
                [] => Err(unknown(name, file.as_deref(), image)),
                several => Err(ambiguous(name, several, image)),
            }
        }
        other => Err(format!("`{other}` is no function")),
    }
}

fn unknown(name: &str, file: Option<&str>, image: &Image) -> String {
    if image.functions().is_empty() {
        return "the image is stripped: it has no function names".into();
    }
    let place = file.map_or(String::new(), |file| format!(" in {file}"));
    let names = image.functions().iter().map(|function| function.name.as_str());
    let hint = nearest(name, names);
    format!("the image has no function `{name}`{place}{hint}")
}

fn ambiguous(name: &str, several: &[FunctionId], image: &Image) -> String {
    let choices: Vec<String> = several
        .iter()
        .map(|&id| match file_of(image, id) {
            Some(file) => format!("\"{file}#{name}\""),
            None => format!("\"{:#010x}\"", image.function(id).range.start),
        })
        .collect();
    format!("the image has {} functions `{name}`; write {}", several.len(), choices.join(" or "))
}

/// The source file of a function.
fn file_of(image: &Image, id: FunctionId) -> Option<String> {
    let frame = image.frames_at(image.function(id).range.start).pop()?;
    frame.location.map(|location| location.file)
}

#[cfg(test)]
mod tests {
    use super::*;

    const FIRMWARE: &[u8] = include_bytes!("../../../../demo/buoy/wave-buoy.elf");

    #[test]
    fn finds_functions_lines_and_addresses_or_says_why_not() {
        let image = Image::parse(FIRMWARE).unwrap();
        let at = |text: &str| address_of(&text.parse().unwrap(), &image);
        let filter = at("wave_filter").unwrap();
        assert_eq!(at("src/dsp/filter.c#wave_filter"), Ok(filter));
        assert_eq!(at("0x08000101"), Ok(0x0800_0100));
        // The function's own line leads to its first instruction.
        let location = image.location_at(filter).unwrap();
        let line = location.line.unwrap();
        let found = at(&format!("filter.c:{line}")).unwrap();
        assert_eq!(image.location_at(found), Some(location));
        for (text, part) in [
            ("wave_filtre", "did you mean `wave_filter`?"),
            ("filter.c:1", "the next one with code is filter.c:"),
            ("nowhere.c:1", "no such file"),
            ("filter.c:99999", "belongs to filter.c:99999"),
            ("12ms", "is no place in the code"),
            ("main.c#wave_filter", "has no function"),
        ] {
            let error = at(text).unwrap_err().to_string();
            assert!(error.contains(part), "{text}: {error}");
        }
    }
}
