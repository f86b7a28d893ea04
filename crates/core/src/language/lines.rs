//! The lines of a text and how far each is indented.

use std::cmp::Ordering;

/// One physical line, by byte offsets into the text.
#[derive(Clone, Copy, Debug)]
pub struct SourceLine {
    /// Start of the line.
    pub start: u32,
    /// First byte that is neither space nor tab.
    pub text: u32,
    /// Byte after the last, without the line end (`\n` or `\r\n`).
    pub end: u32,
}

impl SourceLine {
    /// Whether it holds white space alone.
    pub fn is_blank(self) -> bool {
        self.text == self.end
    }

    /// Whether it holds a comment alone.
    pub fn is_comment(self, text: &str) -> bool {
        text.as_bytes().get(self.text as usize) == Some(&b'#') && !self.is_blank()
    }

    /// Its indentation as written.
    pub fn indent(self, text: &str) -> &str {
        &text[self.start as usize..self.text as usize]
    }
}

/// Cuts a text into lines. A byte order mark at the start belongs to no line.
pub fn split(text: &str) -> Vec<SourceLine> {
    let start = if text.starts_with('\u{feff}') { 3 } else { 0 };
    split_between(text, start, text.len())
}

/// Cuts a stretch of a text into lines.
pub fn split_between(text: &str, mut start: usize, end: usize) -> Vec<SourceLine> {
    let bytes = &text.as_bytes()[..end];
    let mut lines = Vec::with_capacity((end - start) / 24 + 1);
    while start < bytes.len() {
        let newline = memchr::memchr(b'\n', &bytes[start..]).map_or(bytes.len(), |at| start + at);
        let mut end = newline;
        if end > start && bytes[end - 1] == b'\r' {
            end -= 1;
        }
        let indent = bytes[start..end]
            .iter()
            .position(|&b| b != b' ' && b != b'\t')
            .unwrap_or(end - start);
        lines.push(SourceLine {
            start: offset(start),
            text: offset(start + indent),
            end: offset(end),
        });
        start = newline + 1;
    }
    lines
}

/// A byte offset as the spans hold it; texts are shorter than 4 GiB.
pub fn offset(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(u32::MAX)
}

/// How deep `inner` is indented against `outer`. Indentations can be ordered only when one begins
/// with the other: eight spaces are neither more nor less than a tab.
pub fn compare_indent(inner: &str, outer: &str) -> Option<Ordering> {
    if inner == outer {
        Some(Ordering::Equal)
    } else if inner.starts_with(outer) {
        Some(Ordering::Greater)
    } else if outer.starts_with(inner) {
        Some(Ordering::Less)
    } else {
        None
    }
}
