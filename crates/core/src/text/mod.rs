//! Sources, places in them, and diagnostics as data.
//!
//! Everything that reads a description speaks of places as [`Span`]s: byte ranges of a source that
//! is kept in [`Sources`]. A [`Diagnostic`] only holds spans and texts; how it looks on a terminal
//! is decided elsewhere.

mod byte_size;
mod diagnostic;
mod duration;
pub mod mistakes;
mod nearest;
mod visible;

pub use byte_size::byte_size;
pub use diagnostic::Diagnostic;
pub use diagnostic::Label;
pub use diagnostic::Replacement;
pub use diagnostic::Severity;
pub use duration::duration;
pub use nearest::nearest;
pub use visible::visible_white_space;

use std::sync::OnceLock;

/// Which source of [`Sources`] a span lies in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct SourceId(pub u32);

/// A byte range in one source; `start` and `end` lie on character borders, `end` is exclusive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Default)]
pub struct Span {
    /// The source the range lies in.
    pub source: SourceId,
    /// First byte.
    pub start: u32,
    /// Byte after the last.
    pub end: u32,
}

impl Span {
    /// The smallest range that covers both; both must lie in one source.
    #[must_use]
    pub fn to(self, other: Self) -> Self {
        Self {
            source: self.source,
            start: self.start.min(other.start),
            end: self.end.max(other.end),
        }
    }

    /// The range of so many bytes from an offset in it; within it in any case.
    #[must_use]
    pub fn part(self, offset: usize, length: usize) -> Self {
        let at = |offset: usize| {
            let offset = u32::try_from(offset).unwrap_or(u32::MAX);
            self.start.saturating_add(offset).min(self.end)
        };
        Self {
            source: self.source,
            start: at(offset),
            end: at(offset.saturating_add(length)),
        }
    }

    /// The first of some texts in it, of which it is the range of all; all of it when there is none.
    #[must_use]
    pub fn of(self, written: &str, part: &str) -> Self {
        written
            .find(part)
            .map_or(self, |offset| self.part(offset, part.len()))
    }

    /// Length in bytes.
    #[must_use]
    pub fn len(self) -> usize {
        (self.end - self.start) as usize
    }

    /// Whether it covers nothing.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.start == self.end
    }
}

/// One text that was read: a description file, or a text from the command line.
#[derive(Debug, Clone)]
pub struct Source {
    /// How a user would type its name: a path from the project's root, or a name such as
    /// `--let cflags`.
    pub name: String,
    /// The whole text.
    pub text: String,
    /// Where its lines begin; worked out when a place is first asked for.
    lines: OnceLock<Vec<u32>>,
}

impl Source {
    fn lines(&self) -> &[u32] {
        self.lines.get_or_init(|| {
            let behind = |at: usize| u32::try_from(at + 1).unwrap_or(u32::MAX);
            let ends = memchr::memchr_iter(b'\n', self.text.as_bytes());
            std::iter::once(0).chain(ends.map(behind)).collect()
        })
    }
}

/// All texts read in one run; spans point into them.
#[derive(Debug, Default, Clone)]
pub struct Sources {
    all: Vec<Source>,
}

/// A place as people count it: both from 1; the column counts characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Location {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
}

impl Sources {
    /// Keeps a text and gives it a number. Texts of 4 GiB and more cannot be addressed by spans and
    /// are cut at the last character border before.
    pub fn add(&mut self, name: impl Into<String>, text: impl Into<String>) -> SourceId {
        let mut text = text.into();
        if text.len() >= u32::MAX as usize {
            let mut cut = u32::MAX as usize - 1;
            while !text.is_char_boundary(cut) {
                cut -= 1;
            }
            text.truncate(cut);
        }
        let id = SourceId(u32::try_from(self.all.len()).unwrap_or(u32::MAX));
        self.all.push(Source {
            name: name.into(),
            text,
            lines: OnceLock::new(),
        });
        id
    }

    /// Puts a folder in front of all names.
    pub fn put_in_front(&mut self, folder: &str) {
        for source in &mut self.all {
            source.name.insert_str(0, folder);
        }
    }

    /// The source with this number.
    #[must_use]
    pub fn get(&self, id: SourceId) -> &Source {
        &self.all[id.0 as usize]
    }

    /// All sources, in the order in which they were read.
    pub fn iter(&self) -> impl Iterator<Item = (SourceId, &Source)> {
        (0..).map(SourceId).zip(&self.all)
    }

    /// The text a span covers.
    #[must_use]
    pub fn slice(&self, span: Span) -> &str {
        &self.get(span.source).text[span.start as usize..span.end as usize]
    }

    /// Line and column of a span's first byte.
    #[must_use]
    pub fn place(&self, span: Span) -> Location {
        let source = self.get(span.source);
        let line = source.lines().partition_point(|&start| start <= span.start);
        let line_start = source.lines()[line - 1] as usize;
        Location {
            line,
            column: source.text[line_start..span.start as usize].chars().count() + 1,
        }
    }

    /// `name:line` of a span, as a user would type it into an editor.
    #[must_use]
    pub fn name_and_line(&self, span: Span) -> String {
        format!("{}:{}", self.get(span.source).name, self.place(span).line)
    }
}
