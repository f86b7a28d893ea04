//! Where the items of a text begin and end, without reading them.
//!
//! A description of very many targets in which one was changed need not be read as a whole: the others are told
//! by their lines.

use std::cmp::Ordering;

use xxhash_rust::xxh3::Xxh3;
use xxhash_rust::xxh3::xxh3_64;

use crate::language::lines::compare_indent;
use crate::language::lines::split_between;
use crate::language::parser::Parser;
use crate::text::SourceId;
use crate::text::Span;

/// An item of a text, not read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OutlineItem {
    /// Its lines.
    pub extent: Span,
    /// Whether it puts something in or says of which kind the file is: `include`, `language`.
    pub is_directive: bool,
    /// The XXH3 of its lines.
    pub digest: u64,
}

/// The items of a text; none when its lines can't be put in order.
#[must_use]
pub fn outline(source: SourceId, text: &str) -> Option<Vec<OutlineItem>> {
    let mut parser = Parser::new(source, text);
    let mut items = Vec::new();
    let mut at = 0;
    while let Some(first) = parser.next_content(at, parser.lines.len()) {
        let line = parser.lines[first];
        if line.start != line.text {
            return None;
        }
        let end = parser.extent(first, parser.lines.len());
        let extent = parser
            .lexer
            .span(line.start as usize, parser.lines[end - 1].end as usize);
        let (keyword, _) = parser.keyword(line);
        items.push(OutlineItem {
            extent,
            is_directive: matches!(keyword, "include" | "language"),
            digest: item_digest(text, extent),
        });
        at = end;
    }
    parser.lexer.diagnostics.is_empty().then_some(items)
}

/// The XXH3 of an item's lines.
#[must_use]
pub fn item_digest(text: &str, extent: Span) -> u64 {
    xxh3_64(&text.as_bytes()[extent.start as usize..extent.end as usize])
}

/// The XXH3 of a target's lines without those that only say how it is made and what it is for: what decides which
/// steps there are, and what they need. None when it is not laid out plainly.
#[must_use]
pub fn structure_digest(text: &str, extent: Span) -> Option<u64> {
    let lines = split_between(text, extent.start as usize, extent.end as usize);
    let mut parser = Parser::of_lines(extent.source, text, lines);
    let clauses = parser.shallowest(1, parser.lines.len())?;
    let mut hasher = Xxh3::new();
    let mut is_structure = true;
    for index in 0..parser.lines.len() {
        let line = parser.lines[index];
        if line.is_blank() {
            continue;
        }
        if index > 0 && !line.is_comment(text) {
            match compare_indent(line.indent(text), clauses)? {
                Ordering::Equal => {
                    let (keyword, _) = parser.keyword(line);
                    is_structure = !matches!(keyword, "recipe" | "about");
                }
                Ordering::Greater => {}
                Ordering::Less => return None,
            }
        }
        if is_structure {
            hasher.update(&text.as_bytes()[line.start as usize..line.end as usize]);
            hasher.update(b"\n");
        }
    }
    parser.lexer.diagnostics.clear();
    Some(hasher.digest())
}
