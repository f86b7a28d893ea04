//! Putting words into shell scripts: quoted as their place asks.
//!
//! A script comes as pieces of text with variables between them. [`fill`] walks the text as a POSIX
//! shell reads it, so that it knows of each variable whether it stands bare, inside `"…"` or `'…'`,
//! in a here-document or in a comment (the Shell Command Language, sections 2.2 "Quoting" and 2.7.4
//! "Here-Document", POSIX.1-2024):
//!
//! ```text
//! cc -I@{dirs} "@{name}" 'lit @{x}' <<END     bare, glued to `-I`: one word for each
//! plain @{y}                                  here-document: plain text
//! END
//! ```

use crate::language::Piece;
use crate::language::VarRef;
use crate::project::value::Value;

/// Interpreters whose scripts are read as shell scripts.
const SHELLS: &[&str] = &["sh", "bash", "dash", "ash", "ksh", "mksh", "zsh", "yash"];

/// Words that mean something to a shell where a command may stand.
const RESERVED: &[&str] = &[
    "if", "then", "else", "elif", "fi", "do", "done", "case", "esac", "while", "until", "for",
    "in", "function", "select", "time", "coproc",
];

/// Whether an interpreter reads shell scripts.
#[must_use]
pub fn is_shell(interpreter: &[String]) -> bool {
    let mut words = interpreter
        .iter()
        .map(|word| crate::project::value::name_of(word));
    let first = words.next().unwrap_or_default();
    let program = if first == "env" {
        words
            .find(|word| !word.starts_with('-') && !word.contains('='))
            .unwrap_or_default()
    } else {
        first
    };
    SHELLS.contains(&program)
}

/// A word as a shell reads it back unchanged.
#[must_use]
pub fn quote(word: &str) -> String {
    let plain = |c: char| {
        c.is_alphanumeric() || matches!(c, '_' | '-' | '.' | '/' | ':' | ',' | '@' | '%' | '+')
    };
    let option = word.starts_with('-');
    let safe = !word.is_empty()
        && word.chars().all(|c| plain(c) || (c == '=' && option))
        && !RESERVED.contains(&word);
    if safe {
        return word.to_owned();
    }
    format!("'{}'", word.replace('\'', r"'\''"))
}

/// Words quoted and put side by side.
pub fn quote_all<'a>(words: impl Iterator<Item = &'a str>) -> String {
    let quoted: Vec<String> = words.map(quote).collect();
    quoted.join(" ")
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Context {
    /// Commands: the top level.
    Commands,
    /// Commands inside `$(…)` or `(…)`.
    Paren,
    /// Commands inside backquotes.
    Back,
    /// `"…"`
    Double,
    /// `'…'`
    Single,
    /// `${…}`
    Brace,
    /// `$((…))`
    Arithmetic,
    /// `# …`
    Comment,
}

struct HereDocument {
    end: String,
    strip_tabs: bool,
    quoted: bool,
}

/// A part of one shell word that is being put together.
enum RunPart<'p> {
    Text(String),
    /// A bare variable: if it is a list, the whole word is repeated.
    Bare(&'p VarRef, Value),
}

struct Filler<'p> {
    out: String,
    run: Vec<RunPart<'p>>,
    contexts: Vec<Context>,
    waiting: Vec<HereDocument>,
    here: Option<HereDocument>,
    /// The text of the current here-document line, as long as no variable stands in it.
    here_line: Option<String>,
}

/// A script with its variables put in.
///
/// # Errors
/// The variable that is the second list in one word.
pub fn fill(
    pieces: &[Piece],
    mut value: impl FnMut(&VarRef) -> Option<Value>,
) -> Option<Result<String, &VarRef>> {
    let mut filler = Filler {
        out: String::new(),
        run: Vec::new(),
        contexts: vec![Context::Commands],
        waiting: Vec::new(),
        here: None,
        here_line: None,
    };
    for piece in pieces {
        let done = match piece {
            Piece::Text(text) => filler.text(text),
            Piece::Var(reference) => {
                let value = value(reference)?;
                filler.variable(reference, value);
                Ok(())
            }
        };
        if let Err(second) = done {
            return Some(Err(second));
        }
    }
    Some(filler.flush().map(|()| filler.out))
}

impl<'p> Filler<'p> {
    fn top(&self) -> Context {
        self.contexts.last().copied().unwrap_or(Context::Commands)
    }

    fn in_double(&self) -> bool {
        match self.top() {
            Context::Double => true,
            Context::Brace => {
                self.contexts.iter().rev().find(|&&c| c != Context::Brace) == Some(&Context::Double)
            }
            _ => false,
        }
    }

    fn push(&mut self, c: char) {
        match self.run.last_mut() {
            Some(RunPart::Text(text)) => text.push(c),
            _ => self.run.push(RunPart::Text(c.to_string())),
        }
    }

    fn push_text(&mut self, more: &str) {
        match self.run.last_mut() {
            Some(RunPart::Text(text)) => text.push_str(more),
            _ => self.run.push(RunPart::Text(more.to_owned())),
        }
    }

    /// Ends the current shell word.
    fn flush(&mut self) -> Result<(), &'p VarRef> {
        let run = std::mem::take(&mut self.run);
        let mut count = 1;
        let mut many = false;
        for part in &run {
            if let RunPart::Bare(reference, value) = part
                && value.atoms.len() != 1
            {
                if many {
                    return Err(reference);
                }
                many = true;
                count = value.atoms.len();
            }
        }
        for index in 0..count {
            if index > 0 {
                self.out.push(' ');
            }
            for part in &run {
                match part {
                    RunPart::Text(text) => self.out.push_str(text),
                    RunPart::Bare(reference, value) => {
                        let atom = if value.atoms.len() == 1 { 0 } else { index };
                        let text = &value.atoms[atom].text;
                        if reference.raw {
                            self.out.push_str(text);
                        } else {
                            self.out.push_str(&quote(text));
                        }
                    }
                }
            }
        }
        Ok(())
    }

    fn variable(&mut self, reference: &'p VarRef, value: Value) {
        let joined = || value.texts().collect::<Vec<_>>().join(" ");
        if let Some(here) = &self.here {
            let text = if here.quoted || reference.raw {
                joined()
            } else {
                escape(&joined(), &['\\', '$', '`'])
            };
            self.here_line = None;
            self.out.push_str(&text);
            return;
        }
        match self.top() {
            _ if reference.raw && value.atoms.len() != 1 => self.push_text(&joined()),
            Context::Comment => self.push_text(&joined().replace('\n', " ")),
            Context::Single => self.push_text(&joined().replace('\'', r"'\''")),
            _ if reference.raw => self.run.push(RunPart::Bare(reference, value)),
            _ if self.in_double() => self.push_text(&escape(&joined(), &['\\', '$', '`', '"'])),
            Context::Arithmetic => self.push_text(&joined()),
            _ => self.run.push(RunPart::Bare(reference, value)),
        }
    }

    fn text(&mut self, text: &str) -> Result<(), &'p VarRef> {
        let mut rest = text;
        while !rest.is_empty() {
            if self.here.is_some() {
                rest = self.here_text(rest);
                continue;
            }
            let used = self.step(rest)?;
            rest = &rest[used..];
        }
        Ok(())
    }

    /// Up to the end of a line of a here-document.
    fn here_text<'t>(&mut self, rest: &'t str) -> &'t str {
        let end = rest.find('\n').map_or(rest.len(), |at| at + 1);
        let (line, rest) = rest.split_at(end);
        self.out.push_str(line);
        if let Some(so_far) = &mut self.here_line {
            so_far.push_str(line);
        }
        if line.ends_with('\n') {
            let whole = self.here_line.replace(String::new());
            let ended = whole.is_some_and(|whole| {
                self.here.as_ref().is_some_and(|here| {
                    let line = whole.trim_end_matches('\n');
                    let line = if here.strip_tabs {
                        line.trim_start_matches('\t')
                    } else {
                        line
                    };
                    line == here.end
                })
            });
            if ended {
                self.here = if self.waiting.is_empty() {
                    None
                } else {
                    Some(self.waiting.remove(0))
                };
            }
        }
        rest
    }

    /// One lexical step in the text; gives the bytes it used.
    fn step(&mut self, rest: &str) -> Result<usize, &'p VarRef> {
        let Some(c) = rest.chars().next() else {
            return Ok(0);
        };
        let used = c.len_utf8();
        match self.top() {
            Context::Comment => {
                if c == '\n' {
                    self.contexts.pop();
                    return self.newline();
                }
                self.push(c);
            }
            Context::Single => {
                self.push(c);
                if c == '\'' {
                    self.contexts.pop();
                }
            }
            Context::Double => return Ok(self.quoted(c, rest)),
            Context::Brace => {
                if c == '}' {
                    self.push(c);
                    self.contexts.pop();
                } else if c == '\'' && !self.in_double() {
                    self.push(c);
                    self.contexts.push(Context::Single);
                } else if c == '"' && !self.in_double() {
                    self.push(c);
                    self.contexts.push(Context::Double);
                } else {
                    return Ok(self.quoted(c, rest));
                }
            }
            Context::Arithmetic => {
                if rest.starts_with("))") {
                    self.push_text("))");
                    self.contexts.pop();
                    return Ok(2);
                }
                self.push(c);
            }
            Context::Commands | Context::Paren | Context::Back => return self.commands(c, rest),
        }
        Ok(used)
    }

    /// What opens something inside `"…"` too: a backslash, `$(`, `${`, a backquote.
    fn quoted(&mut self, c: char, rest: &str) -> usize {
        if let Some(used) = self.substitution(rest) {
            return used;
        }
        self.push(c);
        if c == '"' && self.top() == Context::Double {
            self.contexts.pop();
        }
        c.len_utf8()
    }

    fn substitution(&mut self, rest: &str) -> Option<usize> {
        if let Some(behind) = rest.strip_prefix('\\') {
            let next = behind.chars().next();
            let used = 1 + next.map_or(0, char::len_utf8);
            self.push_text(&rest[..used]);
            return Some(used);
        }
        let (opening, context) = if rest.starts_with("$((") {
            ("$((", Context::Arithmetic)
        } else if rest.starts_with("$(") {
            ("$(", Context::Paren)
        } else if rest.starts_with("${") {
            ("${", Context::Brace)
        } else if rest.starts_with('`') {
            ("`", Context::Back)
        } else {
            return None;
        };
        self.push_text(opening);
        if context == Context::Back && self.top() == Context::Back {
            self.contexts.pop();
        } else {
            self.contexts.push(context);
        }
        Some(opening.len())
    }

    fn commands(&mut self, c: char, rest: &str) -> Result<usize, &'p VarRef> {
        if let Some(used) = self.substitution(rest) {
            return Ok(used);
        }
        let at_word_start = self.run.is_empty();
        match c {
            '\'' => {
                self.push(c);
                self.contexts.push(Context::Single);
            }
            '"' => {
                self.push(c);
                self.contexts.push(Context::Double);
            }
            '#' if at_word_start => {
                self.push(c);
                self.contexts.push(Context::Comment);
            }
            '\n' => return self.newline(),
            '<' if rest.starts_with("<<") && !rest.starts_with("<<<") => {
                self.flush()?;
                return Ok(self.here_operator(rest));
            }
            '<' if rest.starts_with("<<<") => {
                self.flush()?;
                self.out.push_str("<<<");
                return Ok(3);
            }
            '(' => {
                self.flush()?;
                self.out.push(c);
                self.contexts.push(Context::Paren);
            }
            ')' => {
                self.flush()?;
                self.out.push(c);
                if self.top() == Context::Paren {
                    self.contexts.pop();
                }
            }
            ' ' | '\t' | ';' | '&' | '|' | '<' | '>' => {
                self.flush()?;
                self.out.push(c);
            }
            c => self.push(c),
        }
        Ok(c.len_utf8())
    }

    fn newline(&mut self) -> Result<usize, &'p VarRef> {
        self.flush()?;
        self.out.push('\n');
        if !self.waiting.is_empty() {
            self.here = Some(self.waiting.remove(0));
            self.here_line = Some(String::new());
        }
        Ok(1)
    }

    /// `<<END`, `<<-END`, `<< 'END'`.
    fn here_operator(&mut self, rest: &str) -> usize {
        let mut used = 2;
        let strip_tabs = rest[used..].starts_with('-');
        used += usize::from(strip_tabs);
        used += rest[used..]
            .bytes()
            .take_while(|&b| b == b' ' || b == b'\t')
            .count();
        let word = &rest[used..];
        let length = word
            .find(|c: char| {
                c.is_whitespace() || matches!(c, ';' | '&' | '|' | '<' | '>' | '(' | ')')
            })
            .unwrap_or(word.len());
        let word = &word[..length];
        let end: String = word
            .chars()
            .filter(|c| !matches!(c, '\'' | '"' | '\\'))
            .collect();
        if !end.is_empty() {
            self.waiting.push(HereDocument {
                quoted: end.len() != word.len(),
                end,
                strip_tabs,
            });
        }
        used += length;
        self.out.push_str(&rest[..used]);
        used
    }
}

fn escape(text: &str, special: &[char]) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if special.contains(&c) {
            out.push('\\');
        }
        out.push(c);
    }
    out
}
