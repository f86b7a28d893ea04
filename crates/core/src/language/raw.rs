//! Raw text after a keyword's colon: no quoting, no escapes, only `@{…}` is looked for.

use crate::language::lines::SourceLine;
use crate::language::syntax::Piece;
use crate::language::words::WordLexer;
use crate::text::Span;

/// The lines of one raw text: what stands behind the colon, and the lines below it.
pub struct RawText {
    /// Offsets of the text behind the colon, on the colon's line.
    pub behind: (usize, usize),
    /// The lines below, with the last blank ones left out.
    pub below: Vec<SourceLine>,
}

impl RawText {
    /// Whether nothing was written.
    pub fn is_empty(&self) -> bool {
        self.behind.0 == self.behind.1 && self.below.iter().all(|line| line.is_blank())
    }

    /// From its first character to its last.
    pub fn span(&self, lexer: &WordLexer<'_>) -> Span {
        let first_below = self.below.iter().find(|line| !line.is_blank());
        let start = if self.behind.0 < self.behind.1 {
            self.behind.0
        } else {
            first_below.map_or(self.behind.0, |line| line.text as usize)
        };
        let end = self
            .below
            .last()
            .map_or(self.behind.1, |line| line.end as usize)
            .max(start);
        lexer.span(start, end)
    }

    /// The text's lines without their common indentation.
    fn ranges(&self, text: &str) -> Vec<(usize, usize)> {
        let common = common_indent(text, &self.below);
        let mut ranges = Vec::with_capacity(self.below.len() + 1);
        if self.behind.0 < self.behind.1 {
            ranges.push(self.behind);
        }
        ranges.extend(self.below.iter().map(|line| {
            let end = line.end as usize;
            if line.is_blank() {
                (end, end)
            } else {
                (line.start as usize + common, end)
            }
        }));
        ranges
    }

    /// As text and variables. A text of several lines ends with a line end, as a script file does.
    pub fn pieces(&self, lexer: &mut WordLexer<'_>) -> Vec<Piece> {
        let mut pieces = std::mem::take(&mut lexer.piece_buffer);
        let mut text = String::new();
        let ranges = self.ranges(lexer.text);
        let several = ranges.len() > 1;
        for (start, end) in ranges {
            raw_line(lexer, start, end, &mut text, &mut pieces);
            if several {
                text.push('\n');
            }
        }
        if !text.is_empty() {
            pieces.push(Piece::Text(text));
        }
        let mut exact = Vec::with_capacity(pieces.len());
        exact.append(&mut pieces);
        lexer.piece_buffer = pieces;
        exact
    }

    /// As text alone, for `about:`: lines joined, `@{` is nothing special.
    pub fn plain(&self, text: &str) -> String {
        let lines: Vec<&str> = self
            .ranges(text)
            .into_iter()
            .map(|(start, end)| text[start..end].trim_end())
            .collect();
        lines.join("\n").trim().to_owned()
    }
}

fn raw_line(
    lexer: &mut WordLexer<'_>,
    start: usize,
    end: usize,
    text: &mut String,
    pieces: &mut Vec<Piece>,
) {
    let mut at = start;
    while let Some(found) = memchr::memchr(b'@', &lexer.text.as_bytes()[at..end]) {
        let here = at + found;
        text.push_str(&lexer.text[at..here]);
        let rest = &lexer.text[here..end];
        if rest.starts_with("@@{") {
            text.push_str("@{");
            at = here + 3;
        } else if rest.starts_with("@{") {
            let (reference, next) = lexer.var_ref(here, end);
            if let Some(reference) = reference {
                if !text.is_empty() {
                    pieces.push(Piece::Text(std::mem::take(text)));
                }
                pieces.push(Piece::Var(reference));
            }
            at = next;
        } else {
            text.push('@');
            at = here + 1;
        }
    }
    text.push_str(&lexer.text[at..end]);
}

/// Length in bytes of the longest white space that all lines begin with.
pub fn common_indent(text: &str, lines: &[SourceLine]) -> usize {
    let mut common: Option<&str> = None;
    for line in lines.iter().filter(|line| !line.is_blank()) {
        let indent = line.indent(text);
        common = Some(match common {
            None => indent,
            Some(so_far) => {
                let same = so_far
                    .bytes()
                    .zip(indent.bytes())
                    .take_while(|(a, b)| a == b)
                    .count();
                &so_far[..same]
            }
        });
    }
    common.map_or(0, str::len)
}
