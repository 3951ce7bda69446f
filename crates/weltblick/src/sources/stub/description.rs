//! The documents that a stub tells of its target (*Debugging with GDB*, appendices E.17 and G).

use super::error::StubError;
use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};
use std::ops::Range;

/// Documents that include others do so at most so often.
const MOST_DOCUMENTS: usize = 16;
/// Elements that are looked at.
const MOST_ELEMENTS: usize = 20_000;

/// The number of the register `pc`; `fetch` gets a document by its name.
pub(super) fn pc_number(
    mut fetch: impl FnMut(&str) -> Result<String, StubError>,
) -> Result<Option<u32>, StubError> {
    let mut waiting = vec!["target.xml".to_owned()];
    let mut next = 0;
    for _ in 0..MOST_DOCUMENTS {
        if waiting.is_empty() {
            break;
        }
        let document = fetch(&waiting.remove(0))?;
        let mut included = Vec::new();
        let mut found = None;
        elements(&document, |element| match element.local_name().as_ref() {
            "include" => included.extend(attribute(element, "href")),
            "reg" => {
                let own = attribute(element, "regnum").and_then(|number| number.parse().ok());
                let number: u32 = own.unwrap_or(next);
                next = number.saturating_add(1);
                if attribute(element, "name").as_deref() == Some("pc") {
                    found.get_or_insert(number);
                }
            }
            _ => {}
        });
        if found.is_some() {
            return Ok(found);
        }
        waiting.splice(0..0, included);
    }
    Ok(None)
}

/// Where there is memory.
pub(super) fn memory_map(document: &str) -> Vec<Range<u64>> {
    let mut memory = Vec::new();
    elements(document, |element| {
        let number = |name| parse(&attribute(element, name)?);
        if element.local_name().as_ref() == "memory"
            && let (Some(start), Some(length)) = (number("start"), number("length"))
        {
            memory.push(start..start.saturating_add(length));
        }
    });
    memory
}

/// Calls `look` with every element; a damaged document ends early.
fn elements(document: &str, mut look: impl FnMut(&BytesStart<'_>)) {
    let mut reader = Reader::from_str(document);
    for _ in 0..MOST_ELEMENTS {
        match reader.read_event() {
            Ok(Event::Start(element) | Event::Empty(element)) => look(&element),
            Ok(Event::Eof) | Err(_) => break,
            Ok(_) => {}
        }
    }
}

fn attribute(element: &BytesStart<'_>, name: &str) -> Option<String> {
    let found = element.try_get_attribute(name).ok()??;
    Some(found.value.into_owned())
}

fn parse(number: &str) -> Option<u64> {
    match number.strip_prefix("0x") {
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        None => number.parse().ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_registers_across_included_documents() {
        let fetch = |name: &str| {
            Ok(match name {
                "target.xml" => {
                    "<target><architecture>arm</architecture><xi:include href=\"core.xml\"/></target>"
                }
                _ => "<feature><reg name='r0' bitsize='32'/><reg name='sp'/><reg name='pc'/></feature>",
            }
            .to_owned())
        };
        assert_eq!(pc_number(fetch).unwrap(), Some(2));
        assert_eq!(pc_number(|_| Ok("<reg name='pc' regnum='32'/>".into())).unwrap(), Some(32));
        // A document that includes itself ends too.
        assert_eq!(
            pc_number(|_| Ok("<include href='a'/><include href='b'/>".into())).unwrap(),
            None
        );
        assert_eq!(pc_number(|_| Ok("<<<".into())).unwrap(), None);
    }

    #[test]
    fn reads_memory_maps() {
        let map = "<memory-map><memory type='ram' start='0x20000000' length='0x100'/><memory start='x'/></memory-map>";
        assert_eq!(memory_map(map), vec![0x2000_0000..0x2000_0100]);
    }
}
