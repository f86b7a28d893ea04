//! Lines to statements to the syntax tree.
//!
//! Indentation is looked at in one place, [`Parser::extent`]: which lines belong to the one above.
//! A statement's words are then read from its own line and from those that continue it.

use std::cmp::Ordering;

use crate::language::foreign_syntax;
use crate::language::lines;
use crate::language::lines::SourceLine;
use crate::language::lines::compare_indent;
use crate::language::names::TOP;
use crate::language::raw::RawText;
use crate::language::syntax::Clause;
use crate::language::syntax::ClauseKind;
use crate::language::syntax::File;
use crate::language::syntax::IncludeSyntax;
use crate::language::syntax::TopItem;
use crate::language::syntax::Word;
use crate::language::syntax::WordKind;
use crate::language::tidy::LineRole;
use crate::language::words::WordLexer;
use crate::text::Diagnostic;
use crate::text::SourceId;
use crate::text::Span;
use crate::text::mistakes;
use crate::text::visible_white_space;

/// What a text says, as far as it was understood.
#[derive(Debug)]
pub struct Parsed {
    /// The tree.
    pub file: File,
    /// Every mistake found, in order of place.
    pub diagnostics: Vec<Diagnostic>,
}

/// Reads a description.
#[must_use]
pub fn parse(source: SourceId, text: &str) -> Parsed {
    let mut parser = Parser::new(source, text);
    let file = parser.file();
    Parsed {
        file,
        diagnostics: parser.lexer.diagnostics,
    }
}

/// Reads one item alone, from its [extent](File::extents) in a text; none when nothing of it is understood.
#[must_use]
pub fn parse_item(text: &str, extent: Span) -> Option<TopItem> {
    item_of(text, extent).0
}

/// The same; none also when there is anything to say of it.
#[must_use]
pub fn parse_item_strictly(text: &str, extent: Span) -> Option<TopItem> {
    let (item, is_plain) = item_of(text, extent);
    item.filter(|_| is_plain)
}

/// An item, and whether nothing is to be said of it.
fn item_of(text: &str, extent: Span) -> (Option<TopItem>, bool) {
    let lines = lines::split_between(text, extent.start as usize, extent.end as usize);
    let mut parser = Parser::of_lines(extent.source, text, lines);
    let end = parser.lines.len();
    let item = parser.top_item(SourceRange { first: 0, end });
    (item, parser.lexer.diagnostics.is_empty())
}

/// Reads a text as the words of one value, as for `--let name=words`; line ends separate too.
#[must_use]
pub fn parse_words(source: SourceId, text: &str) -> (Vec<Word>, Vec<Diagnostic>) {
    let mut lexer = WordLexer {
        source,
        text,
        diagnostics: Vec::new(),
        piece_buffer: Vec::new(),
    };
    let mut tokens = Vec::new();
    for line in lines::split(text) {
        lexer.words(line.text as usize, line.end as usize, &mut tokens);
    }
    (tokens, lexer.diagnostics)
}

/// A run of lines, by index; the last is excluded.
#[derive(Clone, Copy, Debug)]
pub(super) struct SourceRange {
    pub first: usize,
    pub end: usize,
}

pub(super) struct Parser<'a> {
    pub lexer: WordLexer<'a>,
    pub lines: Vec<SourceLine>,
    /// What each line is, for laying out; not kept when only the tree is asked for.
    pub roles: Option<Vec<LineRole>>,
    pub tokens: Vec<Word>,
    /// Where clauses are gathered, so that each target's list takes no more room than it needs.
    pub clause_buffer: Vec<Clause>,
}

impl<'a> Parser<'a> {
    pub fn new(source: SourceId, text: &'a str) -> Self {
        Self::of_lines(source, text, lines::split(text))
    }

    pub fn of_lines(source: SourceId, text: &'a str, lines: Vec<SourceLine>) -> Self {
        Self {
            lexer: WordLexer {
                source,
                text,
                diagnostics: Vec::new(),
                piece_buffer: Vec::new(),
            },
            lines,
            roles: None,
            tokens: Vec::new(),
            clause_buffer: Vec::new(),
        }
    }

    pub fn file(&mut self) -> File {
        let mut file = File::default();
        let mut at = 0;
        while let Some(first) = self.next_content(at, self.lines.len()) {
            let line = self.lines[first];
            if line.start != line.text {
                self.stray_indent(first);
                at = first + 1;
                continue;
            }
            self.role(first, LineRole::Top);
            let range = SourceRange {
                first,
                end: self.extent(first, self.lines.len()),
            };
            if let Some(item) = self.top_item(range) {
                file.items.push(item);
                let end = self.lines[range.end - 1].end;
                file.extents
                    .push(self.lexer.span(line.start as usize, end as usize));
            }
            at = range.end;
        }
        file
    }

    fn top_item(&mut self, range: SourceRange) -> Option<TopItem> {
        let line = self.lines[range.first];
        let (keyword, behind) = self.keyword(line);
        let span = self.lexer.span(line.text as usize, behind);
        match keyword {
            "let" => self
                .top_let(range, behind, span)
                .map(|set| TopItem::Let(Box::new(set))),
            "default" => {
                let words = self.words(range, behind);
                self.some_words(
                    span,
                    words,
                    "default",
                    "the targets to make when none is named",
                )
                .map(TopItem::Default)
            }
            "target" => self.target(range, behind, span),
            "task" => self.task(range, behind, span),
            "include" => {
                let mut words = self.words(range, behind);
                let if_there = self.take_if_there(&mut words);
                let what = "a folder or a `.loom` file; `if there` behind it lets it be missing";
                let path = self.one_word(span, words, "include", what)?;
                Some(TopItem::Include(IncludeSyntax { path, if_there }))
            }
            "env" => match self.env(range, behind, span)? {
                ClauseKind::EnvFile(file) => Some(TopItem::EnvFile(file)),
                ClauseKind::Env(name, words) => Some(TopItem::Env(name, words)),
                _ => None,
            },
            "language" => {
                let words = self.words(range, behind);
                self.one_word(span, words, "language", "a number, now `language 1`")
                    .map(TopItem::Language)
            }
            "recipes" => self.recipes(range, behind, span),
            "supply" => self.supply(range, behind, span),
            "setting" => self.setting(range, behind, span),
            _ => {
                let statement = self.line_text(line);
                let diagnostic = foreign_syntax::unknown_top(span, keyword, statement, TOP);
                self.lexer.diagnostics.push(diagnostic);
                None
            }
        }
    }

    fn recipes(&mut self, range: SourceRange, behind: usize, span: Span) -> Option<TopItem> {
        let mut words = self.words(range, behind);
        if words.is_empty() || !self.is(&words[0], "with") {
            let diagnostic = Diagnostic::error(
                &mistakes::INCOMPLETE_LINE,
                span,
                "`recipes` is not followed by `with`",
            )
            .help("write `recipes with INTERPRETER…`, such as `recipes with bash -eu`");
            self.lexer.diagnostics.push(diagnostic);
            return None;
        }
        words.remove(0);
        self.some_words(
            span,
            words,
            "recipes with",
            "the interpreter, such as `bash -eu`",
        )
        .map(TopItem::Recipes)
    }

    fn supply(&mut self, range: SourceRange, behind: usize, span: Span) -> Option<TopItem> {
        let words = self.words(range, behind);
        if let [name, equals, amount] = &words[..]
            && self.is(equals, "=")
            && let Some(name) = self.name_of(name)
        {
            return Some(TopItem::Supply(name, amount.clone()));
        }
        let diagnostic = Diagnostic::error(
            &mistakes::INCOMPLETE_LINE,
            span,
            "`supply` takes a name, `=` and an amount",
        )
        .help("write for example `supply gpu = 1`");
        self.lexer.diagnostics.push(diagnostic);
        None
    }

    fn setting(&mut self, range: SourceRange, behind: usize, span: Span) -> Option<TopItem> {
        let mut words = self.words(range, behind);
        if words.len() > 2 && self.is(&words[1], "=") {
            let values = words.split_off(2);
            return Some(TopItem::Setting(words.swap_remove(0), values));
        }
        let diagnostic = Diagnostic::error(
            &mistakes::INCOMPLETE_LINE,
            span,
            "`setting` takes a name, `=` and words",
        )
        .help("write for example `setting recipes = watched`");
        self.lexer.diagnostics.push(diagnostic);
        None
    }

    // ---- lines -------------------------------------------------------------------------------

    /// The next line from `at` that is neither blank nor a comment.
    pub fn next_content(&mut self, at: usize, end: usize) -> Option<usize> {
        (at..end).find(|&index| {
            let line = self.lines[index];
            !line.is_blank() && !line.is_comment(self.lexer.text)
        })
    }

    /// The line behind the last that belongs to `first`: all that are indented deeper. Blank lines
    /// and comments between them belong to it, those behind the last do not.
    pub fn extent(&mut self, first: usize, end: usize) -> usize {
        let outer = self.lines[first].indent(self.lexer.text);
        let mut last = first + 1;
        for index in first + 1..end {
            let line = self.lines[index];
            if line.is_blank() {
                continue;
            }
            match compare_indent(line.indent(self.lexer.text), outer) {
                Some(Ordering::Greater) => last = index + 1,
                _ if line.is_comment(self.lexer.text) => {}
                Some(_) => break,
                None => {
                    self.mixed_indent(index, first);
                    last = index + 1;
                }
            }
        }
        last
    }

    /// The shallowest indentation among the lines of a block.
    pub fn shallowest(&self, first: usize, end: usize) -> Option<&'a str> {
        let text = self.lexer.text;
        self.lines[first..end]
            .iter()
            .filter(|line| !line.is_blank() && !line.is_comment(text))
            .map(|line| line.indent(text))
            .reduce(|least, indent| match compare_indent(indent, least) {
                Some(Ordering::Less) => indent,
                _ => least,
            })
    }

    fn stray_indent(&mut self, index: usize) {
        let line = self.lines[index];
        let span = self.lexer.span(line.text as usize, line.end as usize);
        self.lexer.diagnostics.push(
            Diagnostic::error(
                &mistakes::STRAY_INDENTATION,
                span,
                "this line is indented, but belongs to nothing above it",
            )
            .help(
                "start it at the left edge, or put the `target` or `task` it belongs to above it",
            ),
        );
    }

    pub fn mixed_indent(&mut self, index: usize, owner: usize) {
        let text = self.lexer.text;
        let (line, above) = (self.lines[index], self.lines[owner]);
        let span = self.lexer.span(line.start as usize, line.end as usize);
        let above_span = self.lexer.span(above.start as usize, above.end as usize);
        self.lexer.diagnostics.push(
            Diagnostic::error(
                &mistakes::MIXED_INDENTATION,
                span,
                "the indentation of this line can't be ordered against the line it may belong to",
            )
            .here(format!("`{}`", visible_white_space(line.indent(text))))
            .also(
                above_span,
                format!("`{}`", visible_white_space(above.indent(text))),
            )
            .help(
                "a space is `·` and a tab is `→` here: begin both lines with the same characters",
            ),
        );
    }

    /// The keyword at the start of a line and the offset behind it.
    pub fn keyword(&self, line: SourceLine) -> (&'a str, usize) {
        let start = line.text as usize;
        let rest = &self.lexer.text[start..line.end as usize];
        let length = rest
            .bytes()
            .position(|b| !b.is_ascii_alphabetic())
            .unwrap_or(rest.len());
        // `needs-x` or `let2` is no keyword with something behind it.
        let whole = rest[length..]
            .chars()
            .next()
            .is_none_or(|c| c.is_whitespace() || c == ':');
        if whole && length > 0 {
            return (&rest[..length], start + length);
        }
        let word = rest.find(char::is_whitespace).unwrap_or(rest.len());
        (&rest[..word], start + word)
    }

    fn line_text(&self, line: SourceLine) -> &'a str {
        &self.lexer.text[line.text as usize..line.end as usize]
    }

    pub fn role(&mut self, index: usize, role: LineRole) {
        if let Some(roles) = &mut self.roles {
            roles[index] = role;
        }
    }

    // ---- words -------------------------------------------------------------------------------

    /// Reads a statement's tokens into `self.tokens`: the rest of its line, and the lines that
    /// continue it.
    pub fn read_tokens(&mut self, range: SourceRange, behind: usize) {
        self.tokens.clear();
        let end = self.lines[range.first].end as usize;
        self.lexer.words(behind, end, &mut self.tokens);
        for index in range.first + 1..range.end {
            let line = self.lines[index];
            if line.is_blank() || line.is_comment(self.lexer.text) {
                continue;
            }
            self.role(index, LineRole::Continued);
            self.lexer
                .words(line.text as usize, line.end as usize, &mut self.tokens);
        }
    }

    /// A statement's words.
    pub fn words(&mut self, range: SourceRange, behind: usize) -> Vec<Word> {
        self.read_tokens(range, behind);
        let words: Vec<Word> = self.tokens.drain(..).collect();
        for word in &words {
            self.check_foreign_syntax(word);
        }
        words
    }

    /// Refuses what another language's habit put into a word.
    pub fn check_foreign_syntax(&mut self, word: &Word) {
        if let Some(diagnostic) = foreign_syntax::dollar(word, self.lexer.slice(word.span)) {
            self.lexer.diagnostics.push(diagnostic);
        }
    }

    /// Whether a word is this keyword, unquoted.
    pub fn is(&self, word: &Word, keyword: &str) -> bool {
        word.kind == WordKind::Plain && self.lexer.slice(word.span) == keyword
    }

    /// The raw text behind a colon at `colon`: its place on the colon's line, and the lines below.
    pub fn raw_lines(&mut self, range: SourceRange, colon: usize) -> RawText {
        let end = self.lines[range.first].end as usize;
        let rest = &self.lexer.text[colon + 1..end];
        let start = (colon + 1 + rest.len() - rest.trim_start().len()).min(end);
        self.role(range.first, LineRole::RawHead { colon });
        let text = self.lexer.text;
        let outer = self.lines[range.first].indent(text);
        let mut below = Vec::with_capacity(range.end - range.first);
        for index in range.first + 1..range.end {
            let line = self.lines[index];
            let deeper = compare_indent(line.indent(text), outer) == Some(Ordering::Greater);
            // A comment at the clause's own depth comments the description; it is no part of the text.
            if deeper || line.is_blank() {
                self.role(index, LineRole::Raw);
                below.push(line);
            }
        }
        RawText {
            behind: (start, (start + rest.trim().len()).min(end)),
            below,
        }
    }

    pub fn some_words(
        &mut self,
        span: Span,
        words: Vec<Word>,
        keyword: &str,
        what: &str,
    ) -> Option<Vec<Word>> {
        if words.is_empty() {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::INCOMPLETE_LINE,
                    span,
                    format!("`{keyword}` is not followed by anything"),
                )
                .help(format!("it takes {what}")),
            );
            return None;
        }
        Some(words)
    }

    pub fn one_word(
        &mut self,
        span: Span,
        words: Vec<Word>,
        keyword: &str,
        what: &str,
    ) -> Option<Word> {
        let mut words = self.some_words(span, words, keyword, what)?;
        if let Some(second) = words.get(1) {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::SURPLUS_WORDS,
                    second.span,
                    format!("`{keyword}` takes one word"),
                )
                .help(format!(
                    "it takes {what}; a word with spaces goes in quotes"
                )),
            );
        }
        Some(words.swap_remove(0))
    }
}
