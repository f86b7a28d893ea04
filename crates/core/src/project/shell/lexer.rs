//! Where in a shell script one is: what a POSIX shell has open at each character (Shell Command Language,
//! POSIX.1-2024, sections 2.2 "Quoting", 2.6 "Word Expansions", 2.7.4 "Here-Document", 2.9.4 "Compound
//! Commands"), with what bash and zsh add to it.
//!
//! The lexer takes a script piece by piece and never looks ahead of what it was given, since words are put in
//! between. Where shells differ, or where it would have to know more than a lexer knows, it says so
//! ([`ShellLexer::doubt`]), and no word is put in there.

use crate::project::shell::here_document::EndWord;
use crate::project::shell::here_document::HereDocument;
use crate::project::shell::level::Level;
use crate::project::shell::level::ShellKind;

/// What the lexer did with a character.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ShellStep {
    /// It belongs to a word.
    Word,
    /// It ends the word before it.
    Delimiter,
}

#[derive(Debug)]
pub struct ShellLexer {
    pub(super) levels: Vec<Level>,
    pub(super) waiting: Vec<HereDocument>,
    pub(super) here: Option<HereDocument>,
    /// How many levels were open when the here-document began.
    pub(super) here_depth: usize,
    /// The line of the here-document so far, as the shell will see it.
    pub(super) here_line: String,
    pub(super) end_word: Option<EndWord>,
    /// The plain text of the word so far; none when it has quotes or variables in it.
    pub(super) word: Option<String>,
    /// Whether a word was begun.
    pub(super) in_word: bool,
    /// Whether the word has a substitution in it, with words of its own.
    pub(super) spans_substitution: bool,
    /// Whether a backslash stands in front of what comes next, or a `$` that none stands in front of.
    pub(super) escaped: bool,
    pub(super) dollar: bool,
    /// The last two characters.
    pub(super) before: [char; 2],
    /// Why nothing can be told any more.
    pub(super) lost: Option<&'static str>,
}

impl ShellLexer {
    pub fn new() -> Self {
        Self {
            levels: vec![Level::of(ShellKind::Top)],
            waiting: Vec::new(),
            here: None,
            here_depth: 0,
            here_line: String::new(),
            end_word: None,
            word: Some(String::new()),
            in_word: false,
            spans_substitution: false,
            escaped: false,
            dollar: false,
            before: ['\n'; 2],
            lost: None,
        }
    }

    pub(super) fn level(&mut self) -> &mut Level {
        let last = self.levels.len() - 1;
        &mut self.levels[last]
    }

    /// What is open innermost.
    pub fn kind(&self) -> ShellKind {
        self.levels
            .last()
            .map_or(ShellKind::Top, |level| level.kind)
    }

    /// The here-document whose text comes next.
    pub fn here_text(&self) -> Option<&HereDocument> {
        self.here
            .as_ref()
            .filter(|_| self.levels.len() == self.here_depth)
    }

    /// Whether a here-document is open, also when a substitution in it is.
    pub fn here(&self) -> Option<&HereDocument> {
        self.here.as_ref()
    }

    /// Whether a text stands inside `"…"`, also through `${…}`.
    pub fn is_in_double(&self) -> bool {
        let outer = self
            .levels
            .iter()
            .rev()
            .find(|level| level.kind != ShellKind::Brace);
        self.kind() == ShellKind::Double
            || (self.kind() == ShellKind::Brace
                && outer.is_some_and(|outer| outer.kind == ShellKind::Double))
    }

    /// The backquotes around: for each, from the inside, whether it stands in `"…"`.
    pub fn backquotes(&self) -> Vec<bool> {
        let mut found = Vec::new();
        for (at, level) in self.levels.iter().enumerate().rev() {
            if level.kind == ShellKind::Back {
                found.push(
                    self.levels[..at]
                        .iter()
                        .any(|outer| outer.kind == ShellKind::Double),
                );
            }
        }
        found
    }

    /// Why it can't be told how a word that comes next is read.
    pub fn doubt(&self) -> Option<&'static str> {
        if let Some(why) = self.lost {
            return Some(why);
        }
        if self.end_word.is_some() {
            return Some("it would be the end word of a here-document");
        }
        let literal = matches!(self.kind(), ShellKind::Single | ShellKind::Comment)
            || self.here_text().is_some_and(|here| here.quoted);
        if literal {
            return None;
        }
        if self.escaped {
            return Some("a backslash stands in front of it");
        }
        if self.dollar {
            return Some("a `$` stands in front of it");
        }
        if self.kind() == ShellKind::Ansi {
            return Some("not all shells know `$'…'`");
        }
        let backs = self.backquotes();
        if backs.len() > 1 || self.levels.iter().any(|level| level.has_backslash) {
            return Some(
                "it stands in backquotes in which something is escaped, and is read twice",
            );
        }
        if !backs.is_empty() && self.here.is_some() {
            return Some("it stands in backquotes in a here-document");
        }
        None
    }

    /// A variable's words stand here now.
    pub fn passed_variable(&mut self, text: &str) {
        if self.here.is_some() {
            self.here_line.push_str(text);
        }
        self.word = None;
        self.in_word = true;
        self.escaped = false;
        self.dollar = false;
        self.before = ['x'; 2];
        self.level().is_fresh = false;
        if self.kind() == ShellKind::Brace || self.kind() == ShellKind::Double {
            return;
        }
        if self.here.is_none() {
            self.level().at_command = false;
        }
    }

    /// Text of a here-document was put in.
    pub fn passed_here_text(&mut self, text: &str) {
        match text.rfind('\n') {
            Some(at) => self.here_line = text[at + 1..].to_owned(),
            None => self.here_line.push_str(text),
        }
        self.before = ['x'; 2];
        self.dollar = false;
    }

    /// Whether nothing is open, and all could be told.
    pub fn is_at_rest(&self) -> bool {
        self.levels.len() == 1
            && self.kind() == ShellKind::Top
            && self.here.is_none()
            && self.waiting.is_empty()
            && self.lost.is_none()
            && !self.escaped
    }

    /// How many things are open.
    pub fn depth(&self) -> usize {
        self.levels.len()
    }

    /// Whether the word so far has a substitution in it, which has words of its own.
    pub fn spans_substitution(&self) -> bool {
        self.spans_substitution
    }

    /// The line of a here-document so far.
    pub fn here_line(&self) -> &str {
        &self.here_line
    }

    /// Takes the next character of the script.
    pub fn take(&mut self, c: char) -> ShellStep {
        let is_dollar = c == '$' && !self.escaped;
        let depth = self.levels.len();
        let step = if self.end_word.is_some() {
            self.take_end_word(c)
        } else if self.here_text().is_some() {
            self.take_here(c);
            ShellStep::Word
        } else {
            self.track_here_line(c);
            self.take_plain(c)
        };
        self.before = [self.before[1], c];
        self.dollar = is_dollar;
        if self.levels.len() == depth {
            self.level().is_fresh = false;
        }
        step
    }

    pub(super) fn open_substitution(&mut self) {
        self.open(ShellKind::Paren);
        self.level().in_word = true;
    }

    pub(super) fn open(&mut self, kind: ShellKind) {
        self.levels.push(Level::of(kind));
        self.word = Some(String::new());
        self.in_word = false;
    }

    pub(super) fn close(&mut self) {
        if self.levels.len() > 1
            && let Some(level) = self.levels.pop()
        {
            self.spans_substitution |= matches!(
                level.kind,
                ShellKind::Paren | ShellKind::Back | ShellKind::Arithmetic
            );
        }
        // What was closed is part of a word.
        self.word = None;
        self.in_word = true;
    }

    pub(super) fn take_plain(&mut self, c: char) -> ShellStep {
        if std::mem::take(&mut self.escaped) {
            if self.kind() == ShellKind::Ansi && c == '\'' {
                self.lost = Some("shells read `\\'` in `$'…'` differently");
            }
            self.word = None;
            self.in_word = true;
            return ShellStep::Word;
        }
        match self.kind() {
            ShellKind::Comment => {
                if c == '\n' {
                    self.levels.pop();
                    return self.newline();
                }
                ShellStep::Word
            }
            ShellKind::Single => {
                if c == '\'' {
                    self.close();
                }
                ShellStep::Word
            }
            ShellKind::Ansi => {
                match c {
                    '\\' => self.escaped = true,
                    '\'' => self.close(),
                    _ => {}
                }
                ShellStep::Word
            }
            ShellKind::Double => {
                if c == '"' {
                    self.close();
                } else {
                    self.substitution(c);
                }
                ShellStep::Word
            }
            ShellKind::Brace => {
                match c {
                    '}' => self.close(),
                    '\'' if !self.is_in_double() => self.open(ShellKind::Single),
                    '"' if !self.is_in_double() => self.open(ShellKind::Double),
                    '"' => {
                        self.lost =
                            Some("a quote stands in `\"${…}\"`, which shells read differently");
                    }
                    c => {
                        self.substitution(c);
                    }
                }
                ShellStep::Word
            }
            ShellKind::Arithmetic => {
                self.arithmetic(c);
                ShellStep::Word
            }
            ShellKind::Top | ShellKind::Paren | ShellKind::Back => self.commands(c),
        }
    }

    /// What opens something inside `"…"` too. Whether it did.
    pub(super) fn substitution(&mut self, c: char) -> bool {
        match c {
            '\\' => {
                self.escaped = true;
                if let Some(back) = self
                    .levels
                    .iter_mut()
                    .rev()
                    .find(|level| level.kind == ShellKind::Back)
                {
                    back.has_backslash = true;
                }
            }
            '`' => self.backquote(),
            '(' if self.dollar => self.open_substitution(),
            '{' if self.dollar => self.open(ShellKind::Brace),
            _ => return false,
        }
        true
    }

    pub(super) fn backquote(&mut self) {
        match self
            .levels
            .iter()
            .rposition(|level| level.kind == ShellKind::Back)
        {
            // Whatever is open in it ends there too: a shell looks for the backquote first.
            Some(at) => {
                if at + 1 != self.levels.len() {
                    self.lost = Some("a backquote ends in the middle of something else");
                }
                self.levels.truncate(at + 1);
                self.close();
            }
            None => self.open(ShellKind::Back),
        }
    }

    pub(super) fn open_quote(&mut self, kind: ShellKind) {
        self.word = None;
        self.levels.push(Level::of(kind));
        self.in_word = true;
    }
}
