//! TOML documents read strictly: every error points at a line, and unknown keys say what was meant.

use std::cell::RefCell;
use std::fmt;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeString, DeTable, DeValue};

/// What is wrong with a document, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// The document's name, as the user knows it.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
    /// What is wrong, and what would be right.
    pub message: String,
    /// The line, or the part of it that is meant, to be shown beneath.
    excerpt: String,
    /// Characters of the excerpt before those that are meant.
    indent: usize,
    /// How many characters of the excerpt are meant.
    marked: usize,
}

/// Characters of a line that are shown at most, and of them before what is meant.
const WIDEST: usize = 160;
const BEFORE: usize = 60;
/// Characters of a message: it may quote what somebody wrote.
const LONGEST_MESSAGE: usize = 1000;

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { file, line, column, message, excerpt, indent, marked } = self;
        writeln!(f, "{file}:{line}:{column}: {message}")?;
        let number = line.to_string();
        let (margin, indent) = (" ".repeat(number.len()), " ".repeat(*indent));
        writeln!(f, "  {number} | {excerpt}")?;
        write!(f, "  {margin} | {indent}{}", "^".repeat((*marked).max(1)))
    }
}

impl std::error::Error for Fault {}

/// A document's text and name: what faults are made from.
#[derive(Debug, Clone, Copy)]
pub struct Source<'a> {
    file: &'a str,
    text: &'a str,
}

impl<'a> Source<'a> {
    /// A document that the user knows as `file`.
    #[must_use]
    pub const fn new(file: &'a str, text: &'a str) -> Self {
        Self { file, text }
    }

    /// A fault at a range of bytes.
    #[must_use]
    pub fn fault(&self, at: Range<usize>, message: impl Into<String>) -> Fault {
        let start = floor_boundary(self.text, at.start);
        let line_start = self.text[..start].rfind('\n').map_or(0, |newline| newline + 1);
        let whole = self.text[line_start..].lines().next().unwrap_or("");
        let before = self.text[line_start..start].chars().count();
        let end = floor_boundary(self.text, at.end.max(start)).min(line_start + whole.len());
        let marked = self.text.get(start..end).map_or(1, |marked| marked.chars().count());
        // Of a line that fits no screen only what is around.
        let is_long = whole.chars().nth(WIDEST).is_some();
        let left_out = if is_long { before.saturating_sub(BEFORE) } else { 0 };
        let shown = whole.chars().skip(left_out).take(WIDEST);
        let message: String = message.into();
        Fault {
            file: self.file.to_owned(),
            line: self.text[..line_start].matches('\n').count() + 1,
            column: before + 1,
            message: match message.char_indices().nth(LONGEST_MESSAGE) {
                Some((end, _)) => format!("{}...", &message[..end]),
                None => message,
            },
            excerpt: shown.map(|c| if c.is_control() { ' ' } else { c }).collect(),
            indent: before - left_out,
            marked: marked.min((WIDEST + left_out).saturating_sub(before)),
        }
    }

    /// Parses the text.
    ///
    /// # Errors
    ///
    /// What the TOML parser says, at its place.
    pub fn parse(&self) -> Result<Spanned<DeTable<'a>>, Fault> {
        DeTable::parse(self.text).map_err(|error| {
            let at = error.span().unwrap_or(0..0);
            self.fault(at, error.message().trim().replace('\n', "; "))
        })
    }
}

fn floor_boundary(text: &str, at: usize) -> usize {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

/// A value and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct At<T> {
    /// The value.
    pub value: T,
    /// Its bytes in the document.
    pub span: Range<usize>,
}

/// A table that is read key by key; [`Table::finish`] then refuses the keys that nobody asked for.
#[derive(Debug)]
pub struct Table<'d> {
    source: Source<'d>,
    /// What to call it in messages: `[target]`.
    name: String,
    entries: &'d DeTable<'d>,
    span: Range<usize>,
    known: RefCell<Vec<&'static str>>,
}

impl<'d> Table<'d> {
    /// The root of a document.
    #[must_use]
    pub fn root(source: Source<'d>, parsed: &'d Spanned<DeTable<'d>>) -> Self {
        Self::new(source, "the document".into(), parsed.get_ref(), parsed.span())
    }

    fn new(source: Source<'d>, name: String, entries: &'d DeTable<'d>, span: Range<usize>) -> Self {
        Self { source, name, entries, span, known: RefCell::default() }
    }

    /// Where the table stands.
    #[must_use]
    pub fn span(&self) -> Range<usize> {
        self.span.clone()
    }

    /// A fault somewhere in this table's document.
    #[must_use]
    pub fn fault(&self, at: Range<usize>, message: impl Into<String>) -> Fault {
        self.source.fault(at, message)
    }

    fn value(&self, key: &'static str) -> Option<&'d Spanned<DeValue<'d>>> {
        self.known.borrow_mut().push(key);
        self.entries.get(key)
    }

    fn wrong_type(&self, key: &str, value: &Spanned<DeValue<'_>>, wanted: &str) -> Fault {
        let found = value.get_ref().type_str();
        self.fault(value.span(), format!("`{key}` must be {wanted}, not {found}"))
    }

    /// A text, if present.
    ///
    /// # Errors
    ///
    /// If it is something else.
    pub fn text(&self, key: &'static str) -> Result<Option<At<&'d str>>, Fault> {
        self.value(key).map(|value| self.as_text(key, value)).transpose()
    }

    fn as_text(&self, key: &str, value: &'d Spanned<DeValue<'d>>) -> Result<At<&'d str>, Fault> {
        match value.get_ref() {
            DeValue::String(text) => Ok(At { value: text.as_ref(), span: value.span() }),
            _ => Err(self.wrong_type(key, value, "a text in quotes")),
        }
    }

    /// A text that must be present.
    ///
    /// # Errors
    ///
    /// If it is missing or something else.
    pub fn required_text(&self, key: &'static str) -> Result<At<&'d str>, Fault> {
        self.text(key)?.ok_or_else(|| self.missing(key))
    }

    /// A fault for a key that must be there: it may stand there misspelt.
    #[must_use]
    pub fn missing(&self, key: &str) -> Fault {
        let known = self.known.borrow();
        let is_typo = |name: &str| !known.contains(&name) && strsim::osa_distance(name, key) <= 2;
        if let Some(typo) = self.entries.keys().find(|name| is_typo(name.get_ref())) {
            let message =
                format!("{} has no key `{}`; did you mean `{key}`?", self.name, typo.get_ref());
            return self.fault(typo.span(), message);
        }
        self.fault(self.span(), format!("{} needs the key `{key}`", self.name))
    }

    /// One text or a list of texts; empty if absent.
    ///
    /// # Errors
    ///
    /// If it is something else.
    pub fn texts(&self, key: &'static str) -> Result<Vec<At<&'d str>>, Fault> {
        match self.value(key) {
            None => Ok(Vec::new()),
            Some(value) => match value.get_ref() {
                DeValue::Array(list) => list.iter().map(|item| self.as_text(key, item)).collect(),
                _ => Ok(vec![self.as_text(key, value)?]),
            },
        }
    }

    /// Every key of a table whose keys are free, with its text, its whole number, or a list of these.
    ///
    /// # Errors
    ///
    /// If one is something else.
    pub fn labels(&self) -> Result<Vec<Labels<'d>>, Fault> {
        let label = |key: &str, value: &'d Spanned<DeValue<'d>>| match value.get_ref() {
            DeValue::Integer(number) if number.radix() == 10 => Ok(number.as_str().to_owned()),
            DeValue::String(text) => Ok(text.as_ref().to_owned()),
            _ => Err(self.wrong_type(key, value, "a text in quotes, a whole number, or a list")),
        };
        let entry = |(key, value): (&'d Spanned<DeString<'d>>, &'d Spanned<DeValue<'d>>)| {
            let name: &'d str = key.get_ref();
            let labels = match value.get_ref() {
                DeValue::Array(list) => {
                    list.iter().map(|item| label(name, item)).collect::<Result<_, _>>()?
                }
                _ => vec![label(name, value)?],
            };
            Ok((At { value: name, span: key.span() }, labels))
        };
        self.entries.iter().map(entry).collect()
    }

    /// A whole number that is not negative, if present; hexadecimal allowed.
    ///
    /// # Errors
    ///
    /// If it is something else or too large.
    pub fn integer(&self, key: &'static str) -> Result<Option<At<u64>>, Fault> {
        let Some(value) = self.value(key) else { return Ok(None) };
        let DeValue::Integer(number) = value.get_ref() else {
            return Err(self.wrong_type(key, value, "a whole number"));
        };
        match u64::from_str_radix(number.as_str(), number.radix()) {
            Ok(number) => Ok(Some(At { value: number, span: value.span() })),
            Err(_) => Err(self.fault(value.span(), format!("`{key}` must lie between 0 and 2^64"))),
        }
    }

    /// A finite number under `key`, with or without a fraction.
    ///
    /// # Errors
    ///
    /// If it is something else.
    pub fn number(&self, key: &'static str) -> Result<Option<At<f64>>, Fault> {
        let Some(value) = self.value(key) else { return Ok(None) };
        let written = match value.get_ref() {
            DeValue::Integer(number) if number.radix() == 10 => number.as_str(),
            DeValue::Float(number) => number.as_str(),
            _ => return Err(self.wrong_type(key, value, "a number")),
        };
        match written.parse::<f64>() {
            Ok(number) if number.is_finite() => Ok(Some(At { value: number, span: value.span() })),
            _ => Err(self.fault(value.span(), format!("`{key}` must be a finite number"))),
        }
    }

    /// The version of the form, under the key `format`.
    ///
    /// # Errors
    ///
    /// If it is missing, or another one.
    pub fn require_format(&self, known: u64) -> Result<(), Fault> {
        let format = self.integer("format")?.ok_or_else(|| self.missing("format"))?;
        if format.value == known {
            return Ok(());
        }
        let message =
            format!("format {} is unknown; this version reads format {known}", format.value);
        Err(self.fault(format.span, message))
    }

    /// Yes or no, if present.
    ///
    /// # Errors
    ///
    /// If it is something else.
    pub fn boolean(&self, key: &'static str) -> Result<Option<bool>, Fault> {
        let Some(value) = self.value(key) else { return Ok(None) };
        match value.get_ref() {
            DeValue::Boolean(yes) => Ok(Some(*yes)),
            _ => Err(self.wrong_type(key, value, "true or false")),
        }
    }

    /// A table inside this one, if present.
    ///
    /// # Errors
    ///
    /// If it is something else.
    pub fn table(&self, key: &'static str) -> Result<Option<Table<'d>>, Fault> {
        let Some(value) = self.value(key) else { return Ok(None) };
        self.as_table(key, format!("[{key}]"), value).map(Some)
    }

    fn as_table(
        &self,
        key: &str,
        name: String,
        value: &'d Spanned<DeValue<'d>>,
    ) -> Result<Table<'d>, Fault> {
        match value.get_ref() {
            DeValue::Table(entries) => Ok(Table::new(self.source, name, entries, value.span())),
            _ => Err(self.wrong_type(key, value, "a table")),
        }
    }

    /// A list of tables (`[[key]]`); empty if absent.
    ///
    /// # Errors
    ///
    /// If it is something else.
    pub fn tables(&self, key: &'static str) -> Result<Vec<Table<'d>>, Fault> {
        let Some(value) = self.value(key) else { return Ok(Vec::new()) };
        let DeValue::Array(list) = value.get_ref() else {
            return Err(self.fault(value.span(), format!("write [[{key}]]: there may be several")));
        };
        list.iter().map(|item| self.as_table(key, format!("[[{key}]]"), item)).collect()
    }

    /// The tables inside this one, by their free names: `[function.wave_filter]`.
    ///
    /// # Errors
    ///
    /// If one is no table.
    pub fn named_tables(&self) -> Result<Vec<(At<&'d str>, Table<'d>)>, Fault> {
        let kind = self.name.trim_matches(['[', ']']);
        let entry = |(key, value): (&'d Spanned<DeString<'d>>, &'d Spanned<DeValue<'d>>)| {
            let name: &'d str = key.get_ref();
            let table = self.as_table(name, format!("[{kind}.{name}]"), value)?;
            Ok((At { value: name, span: key.span() }, table))
        };
        self.entries.iter().map(entry).collect()
    }

    /// A text, or a table whose text `limit` says the same and more.
    ///
    /// # Errors
    ///
    /// If it is something else.
    pub fn text_or_table(&self, key: &'static str) -> Result<Option<TextOrTable<'d>>, Fault> {
        let Some(value) = self.value(key) else { return Ok(None) };
        Ok(Some(match value.get_ref() {
            DeValue::Table(_) => {
                TextOrTable::Table(self.as_table(key, format!("`{key}`"), value)?)
            }
            _ => TextOrTable::Text(self.as_text(key, value)?),
        }))
    }

    /// Refuses keys that nobody asked for.
    ///
    /// # Errors
    ///
    /// The first unknown key, with the nearest known spelling.
    pub fn finish(self) -> Result<(), Fault> {
        let known = self.known.borrow();
        for key in self.entries.keys() {
            let name: &str = key.get_ref();
            if !known.contains(&name) {
                let hint = nearest(name, known.iter().copied());
                let message = format!("{} has no key `{name}`{hint}", self.name);
                return Err(self.fault(key.span(), message));
            }
        }
        Ok(())
    }
}

/// A key, and its texts or numbers as they are written.
pub type Labels<'d> = (At<&'d str>, Vec<String>);

/// What [`Table::text_or_table`] found.
#[derive(Debug)]
pub enum TextOrTable<'d> {
    /// A text.
    Text(At<&'d str>),
    /// A table.
    Table(Table<'d>),
}

/// A few names in a sentence: `a, b and 4 others`.
///
/// ```
/// use weltblick_core::document::few;
/// assert_eq!(few(&["a", "b", "c"]), "a, b, c");
/// assert_eq!(few(&["a", "b", "c", "d"]), "a, b and 2 others");
/// ```
#[must_use]
pub fn few(names: &[&str]) -> String {
    match names {
        [one, two, more @ ..] if more.len() > 1 => {
            format!("{one}, {two} and {} others", more.len())
        }
        few => few.join(", "),
    }
}

/// How often something happened, in words.
#[must_use]
pub(crate) fn times(count: u64) -> String {
    if count == 1 { "once".to_owned() } else { format!("{count} times") }
}

/// The longest word that is compared with others: the time grows with the product of the lengths, and names may come
/// from a crafted file.
const LONGEST_SUGGESTED: usize = 128;

/// How many candidates are compared.
const MOST_COMPARED: usize = 1 << 16;

/// `; did you mean ...?`, else `; it has ...`: how an error about a word ends.
#[must_use]
pub fn nearest<'a>(word: &str, known: impl Iterator<Item = &'a str>) -> String {
    let known: Vec<&str> = known.collect();
    // As many letters differ at least as one is longer: what is half as long again is nothing like the word.
    let is_alike = |candidate: &&&str| {
        let (short, long) = (candidate.len().min(word.len()), candidate.len().max(word.len()));
        long <= LONGEST_SUGGESTED && long - short <= long / 2
    };
    let best = known
        .iter()
        .filter(is_alike)
        .take(MOST_COMPARED)
        .map(|candidate| (strsim::osa_distance(word, candidate), *candidate))
        .min()
        .filter(|(distance, candidate)| *distance <= candidate.len().max(word.len()) / 2);
    match best {
        Some((_, candidate)) => format!("; did you mean `{candidate}`?"),
        None if known.is_empty() || known.len() > 12 => String::new(),
        None => format!("; known: {}", known.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn suggests_what_is_like_the_word() {
        let known = ["wave_filter", "wave_height", "main"];
        let hint = |word: &str| nearest(word, known.into_iter());
        assert_eq!(hint("wave_fitler"), "; did you mean `wave_filter`?");
        assert_eq!(hint("x"), "; known: wave_filter, wave_height, main");
    }

    /// Each comparison of these would take a second, and memory for as many letters squared.
    #[test]
    fn names_without_end_are_not_compared() {
        let endless = "a".repeat(1 << 16);
        let known = vec![endless.as_str(); 10_000];
        assert_eq!(nearest(&endless[1..], known.into_iter()), "");
    }
}
