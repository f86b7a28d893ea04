//! The words of a line: white space separates, quotes keep together, `@{…}` puts in.

use crate::language::lines::offset;
use crate::language::names::SELECTORS;
use crate::language::names::name_length;
use crate::language::syntax::Name;
use crate::language::syntax::Piece;
use crate::language::syntax::Select;
use crate::language::syntax::VarRef;
use crate::language::syntax::Word;
use crate::language::syntax::WordKind;
use crate::language::syntax::WordPart;
use crate::text::Diagnostic;
use crate::text::SourceId;
use crate::text::Span;
use crate::text::mistakes;
use crate::text::nearest;

/// Reads words out of one text.
pub struct WordLexer<'a> {
    pub source: SourceId,
    pub text: &'a str,
    pub diagnostics: Vec<Diagnostic>,
    /// Where a script's pieces are gathered, so that each list takes no more room than it needs.
    pub piece_buffer: Vec<Piece>,
}

impl<'a> WordLexer<'a> {
    /// A span of this source.
    pub fn span(&self, start: usize, end: usize) -> Span {
        Span {
            source: self.source,
            start: offset(start),
            end: offset(end),
        }
    }

    /// The text of a span of this source.
    pub fn slice(&self, span: Span) -> &'a str {
        &self.text[span.start as usize..span.end as usize]
    }

    /// Adds the words between two offsets of one line. Gives the place of the comment behind them,
    /// if there is one.
    pub fn words(&mut self, start: usize, end: usize, out: &mut Vec<Word>) -> Option<usize> {
        let bytes = self.text.as_bytes();
        let mut at = start;
        loop {
            while at < end && is_separator(bytes[at]) {
                at += 1;
            }
            if at >= end {
                return None;
            }
            if bytes[at] == b'#' {
                return Some(at);
            }
            let (word, next) = self.word(at, end);
            self.refuse_invisible(&word);
            out.push(word);
            at = next;
        }
    }

    /// The word that starts at `start`; gives the offset behind it.
    pub fn word(&mut self, start: usize, end: usize) -> (Word, usize) {
        let bytes = self.text.as_bytes();
        let stop = bytes[start..end]
            .iter()
            .position(|&b| is_separator(b) || matches!(b, b'"' | b'\'' | b'@'))
            .map_or(end, |at| start + at);
        if stop == end || is_separator(bytes[stop]) {
            let word = Word {
                span: self.span(start, stop),
                kind: WordKind::Plain,
            };
            return (word, stop);
        }
        self.mixed_word(start, end)
    }

    /// White space other than blanks and tabs separates nothing and cannot be seen: refused outside
    /// quotes.
    fn refuse_invisible(&mut self, word: &Word) {
        let text = self.slice(word.span);
        if text.is_ascii() {
            return;
        }
        let hidden = |text: &str| {
            text.chars()
                .find(|&c| c.is_whitespace() || matches!(c, '\u{200b}'..='\u{200f}' | '\u{feff}'))
        };
        let found = match &word.kind {
            WordKind::Plain => hidden(text),
            WordKind::Mixed(parts) => parts.iter().find_map(|part| match part {
                WordPart::Text {
                    text,
                    quoted: false,
                } => hidden(text),
                _ => None,
            }),
        };
        if let Some(c) = found {
            let place = word
                .span
                .of(self.slice(word.span), c.encode_utf8(&mut [0; 4]));
            self.diagnostics.push(
                Diagnostic::error(
                    &mistakes::INVISIBLE_CHARACTER,
                    word.span,
                    format!(
                        "an invisible character, U+{:04X}, stands in this word",
                        u32::from(c)
                    ),
                )
                .help("type a plain space to separate words, or put the word in quotes")
                .perhaps(place, if c.is_whitespace() { " " } else { "" }),
            );
        }
    }

    fn mixed_word(&mut self, start: usize, end: usize) -> (Word, usize) {
        let mut parts = Vec::new();
        let mut text = String::new();
        let mut at = start;
        while at < end && !is_separator(self.text.as_bytes()[at]) {
            let rest = &self.text[at..end];
            if rest.starts_with("@@{") {
                text.push_str("@{");
                at += 3;
            } else if rest.starts_with("@{") {
                push_text(&mut parts, &mut text, false);
                at = self.variable(at, end, &mut parts);
            } else if rest.starts_with('\'') {
                push_text(&mut parts, &mut text, false);
                at = self.single_quoted(at, end, &mut parts);
            } else if rest.starts_with('"') {
                push_text(&mut parts, &mut text, false);
                at = self.double_quoted(at, end, &mut parts);
            } else {
                let c = rest.chars().next().unwrap_or('\0');
                text.push(c);
                at += c.len_utf8();
            }
        }
        push_text(&mut parts, &mut text, false);
        let word = Word {
            span: self.span(start, at),
            kind: WordKind::Mixed(parts),
        };
        (word, at)
    }

    fn single_quoted(&mut self, start: usize, end: usize, parts: &mut Vec<WordPart>) -> usize {
        let inner = &self.text[start + 1..end];
        let close = inner.find('\'').unwrap_or_else(|| {
            self.unclosed(start, end, "'");
            inner.len()
        });
        parts.push(WordPart::Text {
            text: inner[..close].to_owned(),
            quoted: true,
        });
        (start + 1 + close + 1).min(end)
    }

    fn double_quoted(&mut self, start: usize, end: usize, parts: &mut Vec<WordPart>) -> usize {
        let before = parts.len();
        let mut text = String::new();
        let mut at = start + 1;
        loop {
            let rest = &self.text[at..end];
            let Some(c) = rest.chars().next() else {
                self.unclosed(start, end, "\"");
                break;
            };
            if c == '"' {
                at += 1;
                break;
            } else if rest.starts_with("@@{") {
                text.push_str("@{");
                at += 3;
            } else if rest.starts_with("@{") {
                push_text(parts, &mut text, true);
                at = self.variable(at, end, parts);
            } else if c == '\\' {
                at = self.escape(at, end, &mut text);
            } else {
                text.push(c);
                at += c.len_utf8();
            }
        }
        // `""` is a word too.
        if !text.is_empty() || parts.len() == before {
            parts.push(WordPart::Text { text, quoted: true });
        }
        at
    }

    fn escape(&mut self, at: usize, end: usize, text: &mut String) -> usize {
        let next = self.text[at + 1..end].chars().next();
        let resolved = match next {
            Some('n') => '\n',
            Some('t') => '\t',
            Some(c @ ('"' | '\\' | '@')) => c,
            _ => {
                let shown = next.map_or_else(|| "\\".to_owned(), |c| format!("\\{c}"));
                let length = 1 + next.map_or(0, char::len_utf8);
                self.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::UNKNOWN_ESCAPE,
                        self.span(at, at + length),
                        format!("`{shown}` is no escape"),
                    )
                    .help(r#"inside "…" there are \" \\ \n \t and \@; write `\\` for a backslash, or use '…', which has no escapes"#)
                    .perhaps(self.span(at, at + 1), r"\\"),
                );
                text.push('\\');
                return at + 1;
            }
        };
        text.push(resolved);
        at + 2
    }

    fn unclosed(&mut self, start: usize, end: usize, quote: &str) {
        self.diagnostics.push(
            Diagnostic::error(
                &mistakes::OPEN_QUOTE,
                self.span(start, end),
                format!("the quote {quote} is not closed on its line"),
            )
            .help(format!("add {quote} where the word ends")),
        );
    }

    fn variable(&mut self, at: usize, end: usize, parts: &mut Vec<WordPart>) -> usize {
        let (reference, next) = self.var_ref(at, end);
        parts.extend(reference.map(WordPart::Var));
        next
    }

    /// `@{…}` at `start`. Gives the offset behind it, also when it is wrong.
    pub fn var_ref(&mut self, start: usize, end: usize) -> (Option<VarRef>, usize) {
        let mut scan = Scan {
            text: &self.text[..end],
            at: start + 2,
        };
        let result = self.var_inner(&mut scan, start);
        match result {
            Ok(mut reference) => {
                reference.span = self.span(start, scan.at);
                (Some(reference), scan.at)
            }
            Err(diagnostic) => {
                self.diagnostics.push(*diagnostic);
                let next = self.text[start..end]
                    .find('}')
                    .map_or(end, |n| start + n + 1);
                (None, next)
            }
        }
    }

    fn var_inner(&self, scan: &mut Scan<'a>, start: usize) -> Result<VarRef, Box<Diagnostic>> {
        let wrong = |at: usize, title: String| {
            Box::new(Diagnostic::error(
                &mistakes::UNREADABLE_REFERENCE,
                self.span(start, at.clamp(start + 2, scan_end(self.text, start))),
                title,
            ))
        };
        scan.spaces();
        let mut name = self.name_at(scan);
        let mut raw = false;
        if &*name.text == "raw" && scan.spaces() {
            let real = self.name_at(scan);
            if !real.text.is_empty() {
                name = real;
                raw = true;
            }
        }
        if name.text.is_empty() {
            return Err(Box::new(
                wrong(
                    scan.at,
                    "`@{` is not followed by a variable's name".to_owned(),
                )
                .help("write `@{name}`; for a literal `@{` write `@@{`"),
            ));
        }
        let mut select = Vec::new();
        while scan.take(".") {
            select.push(self.selector(scan, start)?);
        }
        scan.spaces();
        if !scan.take("}") {
            return Err(Box::new(
                wrong(scan.at, format!("`@{{{}` has no closing `}}`", name.text))
                    .help("write `@{name}` or `@{name.part}`"),
            ));
        }
        Ok(VarRef {
            span: Span::default(),
            raw,
            name,
            select,
        })
    }

    /// A name, with the folders of a part in front of it where they stand there.
    fn name_at(&self, scan: &mut Scan<'a>) -> Name {
        let mut length = name_length(scan.rest());
        while length > 0 && scan.rest()[length..].starts_with('/') {
            let more = name_length(&scan.rest()[length + 1..]);
            if more == 0 {
                break;
            }
            length += 1 + more;
        }
        let text = &scan.rest()[..length];
        let span = self.span(scan.at, scan.at + length);
        scan.at += length;
        Name {
            text: text.into(),
            span,
        }
    }

    fn selector(&self, scan: &mut Scan<'a>, start: usize) -> Result<Select, Box<Diagnostic>> {
        let rest = scan.rest();
        let length = rest
            .find(|c: char| !c.is_alphanumeric() && c != '_')
            .unwrap_or(rest.len());
        let word = &rest[..length];
        let span = self.span(scan.at, scan.at + length);
        scan.at += length;
        Ok(match word {
            "dir" => Select::Dir,
            "name" => Select::Name,
            "stem" => Select::Stem,
            "ext" => Select::Ext,
            "first" => Select::First,
            "rest" => Select::Rest,
            "count" => Select::Count,
            "joined" => return self.joined(scan, start),
            number if number.bytes().all(|b| b.is_ascii_digit()) && !number.is_empty() => {
                match number.parse() {
                    Ok(number) if number > 0 => Select::Nth(number),
                    _ => {
                        return Err(Box::new(
                            Diagnostic::error(
                                &mistakes::UNKNOWN_PART,
                                span,
                                format!("there is no word number `{number}`"),
                            )
                            .help("words are counted from 1"),
                        ));
                    }
                }
            }
            _ => {
                let wrong = Diagnostic::error(
                    &mistakes::UNKNOWN_PART,
                    span,
                    format!("`.{word}` is no part of a value"),
                );
                return Err(Box::new(match nearest(word, SELECTORS.iter().copied()) {
                    Some(near) => wrong
                        .help(format!("did you mean `.{near}`?"))
                        .instead(span, near),
                    None => wrong.help(
                        "the parts are .dir .name .stem .ext .first .rest .count .joined(\",\") and .1, .2, …",
                    ),
                }));
            }
        })
    }

    fn joined(&self, scan: &mut Scan<'a>, start: usize) -> Result<Select, Box<Diagnostic>> {
        let wrong = |at: usize| {
            Box::new(
                Diagnostic::error(
                    &mistakes::UNREADABLE_REFERENCE,
                    self.span(start, at.max(start + 2)),
                    "`.joined` is not followed by a separator in brackets and quotes",
                )
                .help("write `.joined(\",\")`"),
            )
        };
        if !scan.take("(") {
            return Err(wrong(scan.at));
        }
        let quote = if scan.take("\"") {
            '"'
        } else if scan.take("'") {
            '\''
        } else {
            return Err(wrong(scan.at));
        };
        let mut separator = String::new();
        loop {
            let mut chars = scan.rest().chars();
            let Some(c) = chars.next() else {
                return Err(wrong(scan.at));
            };
            scan.at += c.len_utf8();
            match c {
                c if c == quote => break,
                '\\' if quote == '"' => {
                    let next = chars.next().unwrap_or('\\');
                    scan.at += next.len_utf8().min(scan.rest().len());
                    separator.push(match next {
                        'n' => '\n',
                        't' => '\t',
                        other => other,
                    });
                }
                c => separator.push(c),
            }
        }
        if !scan.take(")") {
            return Err(wrong(scan.at));
        }
        Ok(Select::Joined(separator))
    }
}

fn scan_end(text: &str, start: usize) -> usize {
    text[start..].find('\n').map_or(text.len(), |n| start + n)
}

struct Scan<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Scan<'a> {
    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn take(&mut self, expected: &str) -> bool {
        let found = self.rest().starts_with(expected);
        if found {
            self.at += expected.len();
        }
        found
    }

    /// Skips spaces; whether there were any.
    fn spaces(&mut self) -> bool {
        let count = self.rest().bytes().take_while(|&b| b == b' ').count();
        self.at += count;
        count > 0
    }
}

fn is_separator(byte: u8) -> bool {
    byte == b' ' || byte == b'\t' || byte == b'\r'
}

fn push_text(parts: &mut Vec<WordPart>, text: &mut String, quoted: bool) {
    if !text.is_empty() {
        parts.push(WordPart::Text {
            text: std::mem::take(text),
            quoted,
        });
    }
}
