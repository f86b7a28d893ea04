//! Here-documents: their end words, and their lines as the shell will see them.

use crate::project::shell::level::ShellKind;
use crate::project::shell::lexer::ShellLexer;
use crate::project::shell::lexer::ShellStep;

/// A here-document that is being read, or waits for its first line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HereDocument {
    /// The line that ends it.
    pub end: String,
    pub(super) strip_tabs: bool,
    /// Whether nothing in it is expanded.
    pub quoted: bool,
}

impl HereDocument {
    /// Whether a line, without its end, ends it.
    pub fn is_ended_by(&self, line: &str) -> bool {
        let line = if self.strip_tabs {
            line.trim_start_matches('\t')
        } else {
            line
        };
        line == self.end
    }
}

/// Reads the word behind a `<<`.
#[derive(Clone, Debug)]
pub(super) struct EndWord {
    pub(super) text: String,
    pub(super) strip_tabs: bool,
    pub(super) quoted: bool,
    /// The quote that is open in it.
    pub(super) quote: Option<char>,
    pub(super) escaped: bool,
    pub(super) begun: bool,
}

impl ShellLexer {
    /// In a substitution inside a here-document its lines still count.
    pub(super) fn track_here_line(&mut self, c: char) {
        let Some(here) = &self.here else { return };
        if c != '\n' {
            self.here_line.push(c);
            return;
        }
        let ended = here.is_ended_by(&std::mem::take(&mut self.here_line));
        if ended {
            // The shell ends it there, whatever is open.
            self.lost = Some("a here-document ends in the middle of a substitution");
        }
    }

    pub(super) fn take_here(&mut self, c: char) {
        let Some(here) = &self.here else { return };
        let quoted = here.quoted;
        if c == '\n' {
            let ended = here.is_ended_by(&std::mem::take(&mut self.here_line));
            self.escaped = false;
            if ended {
                self.here = None;
                self.begin_here();
            }
            return;
        }
        self.here_line.push(c);
        if quoted {
            return;
        }
        if std::mem::take(&mut self.escaped) {
            return;
        }
        match c {
            '\\' => self.escaped = true,
            '`' => self.open(ShellKind::Back),
            '(' if self.dollar => self.open_substitution(),
            '{' if self.dollar => self.open(ShellKind::Brace),
            _ => {}
        }
    }

    pub(super) fn begin_here(&mut self) {
        if !self.waiting.is_empty() {
            self.here = Some(self.waiting.remove(0));
            self.here_depth = self.levels.len();
            self.here_line.clear();
        }
    }

    /// The word behind `<<`.
    pub(super) fn take_end_word(&mut self, c: char) -> ShellStep {
        let Some(word) = &mut self.end_word else {
            return ShellStep::Word;
        };
        if std::mem::take(&mut word.escaped) {
            word.text.push(c);
            return ShellStep::Word;
        }
        match (word.quote, c) {
            (Some(quote), c) if c == quote => word.quote = None,
            (Some('"'), '\\') => word.escaped = true,
            (Some(_), c) => word.text.push(c),
            (None, '<') if !word.begun => {
                // `<<<`: a word follows, and no document.
                self.end_word = None;
                self.in_word = false;
                return ShellStep::Delimiter;
            }
            (None, '-') if !word.begun && !word.strip_tabs => word.strip_tabs = true,
            (None, ' ' | '\t') if !word.begun => {}
            (None, '\'' | '"') => {
                word.quoted = true;
                word.begun = true;
                word.quote = Some(c);
            }
            (None, '\\') => {
                word.quoted = true;
                word.begun = true;
                word.escaped = true;
            }
            (None, c)
                if c.is_whitespace() || matches!(c, ';' | '&' | '|' | '<' | '>' | '(' | ')') =>
            {
                let document = HereDocument {
                    end: std::mem::take(&mut word.text),
                    strip_tabs: word.strip_tabs,
                    quoted: word.quoted,
                };
                if document.end.contains(['$', '`', '\n']) {
                    self.lost = Some("the end word of a here-document is more than a word");
                }
                self.end_word = None;
                self.waiting.push(document);
                self.in_word = false;
                self.word = Some(String::new());
                return self.take_plain(c);
            }
            (None, c) => {
                word.begun = true;
                word.text.push(c);
            }
        }
        ShellStep::Word
    }
}
