//! Putting words into shell scripts: quoted as their place asks, or refused where that can't be told.
//!
//! ```text
//! cc -I@{dirs} "@{name}" 'lit @{x}' <<END     bare, glued to `-I`: one word for each
//! plain @{y} $(cat @{z})                      here-document: plain text, and commands in it
//! END
//! ```

use crate::language::Piece;
use crate::language::VarRef;
use crate::project::secret;
use crate::project::shell::level::ShellKind;
use crate::project::shell::lexer::ShellLexer;
use crate::project::shell::lexer::ShellStep;
use crate::project::shell::protect;
use crate::project::value::Value;

/// Why a variable was not put in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal<'p> {
    /// It is the second list in one word.
    SecondList(&'p VarRef),
    /// How the shell will read it can't be told; why not.
    Unsure(&'p VarRef, &'static str),
}

/// A part of one shell word that is being put together.
enum RunPart<'p> {
    Text(String),
    /// A bare variable, its words as they are put in: if it is a list, the whole word is repeated. And how
    /// much was open around it.
    Bare(&'p VarRef, Vec<String>, usize),
}

/// A list repeats its word, which then must not have words in it.
const WITH_SUBSTITUTION: &str = "it is a list, and stands in one word with a substitution";

struct Filler<'p> {
    lexer: ShellLexer,
    out: String,
    run: Vec<RunPart<'p>>,
}

/// A script with its variables put in; `None` when one has no value, which is reported.
///
/// # Errors
/// The variable that can't be put in.
pub fn fill(
    pieces: &[Piece],
    mut value: impl FnMut(&VarRef) -> Option<Value>,
) -> Option<Result<String, Refusal<'_>>> {
    let mut filler = Filler {
        lexer: ShellLexer::new(),
        out: String::new(),
        run: Vec::new(),
    };
    for (at, piece) in pieces.iter().enumerate() {
        let done = match piece {
            Piece::Text(text) => filler.text(text),
            Piece::Var(reference) => {
                let value = value(reference)?;
                let behind = match pieces.get(at + 1) {
                    Some(Piece::Text(text)) => Some(text.as_str()),
                    Some(Piece::Var(_)) => None,
                    None => Some(""),
                };
                filler.variable(reference, &value, behind)
            }
        };
        if let Err(refusal) = done {
            return Some(Err(refusal));
        }
    }
    Some(filler.flush().map(|()| filler.out))
}

impl<'p> Filler<'p> {
    fn push_text(&mut self, more: &str) {
        match self.run.last_mut() {
            Some(RunPart::Text(text)) => text.push_str(more),
            _ => self.run.push(RunPart::Text(more.to_owned())),
        }
    }

    /// Ends the current shell word.
    fn flush(&mut self) -> Result<(), Refusal<'p>> {
        let run = std::mem::take(&mut self.run);
        let mut count = 1;
        let mut many = false;
        for part in &run {
            if let RunPart::Bare(reference, words, depth) = part
                && words.len() != 1
            {
                if *depth < self.lexer.depth() {
                    return Err(Refusal::Unsure(reference, WITH_SUBSTITUTION));
                }
                if many {
                    return Err(Refusal::SecondList(reference));
                }
                many = true;
                count = words.len();
            }
        }
        for index in 0..count {
            if index > 0 {
                self.out.push(' ');
            }
            for part in &run {
                match part {
                    RunPart::Text(text) => self.out.push_str(text),
                    RunPart::Bare(_, words, _) => {
                        let at = if words.len() == 1 { 0 } else { index };
                        self.out.push_str(&words[at]);
                    }
                }
            }
        }
        Ok(())
    }

    fn text(&mut self, text: &str) -> Result<(), Refusal<'p>> {
        let mut encoded = [0; 4];
        for c in text.chars() {
            let was_here = self.lexer.here().is_some();
            let step = self.lexer.take(c);
            if step == ShellStep::Delimiter || was_here {
                self.flush()?;
                self.out.push(c);
            } else {
                self.push_text(c.encode_utf8(&mut encoded));
            }
        }
        Ok(())
    }

    /// Puts a variable in. `behind` is the text that follows it; none when another variable does.
    fn variable(
        &mut self,
        reference: &'p VarRef,
        value: &Value,
        behind: Option<&str>,
    ) -> Result<(), Refusal<'p>> {
        let joined = value.texts().collect::<Vec<_>>().join(" ");
        if reference.raw {
            return self.text(&joined);
        }
        let unsure = |why| Err(Refusal::Unsure(reference, why));
        if let Some(why) = self.lexer.doubt() {
            return unsure(why);
        }
        if let Some(here) = self.lexer.here_text() {
            let quoted = here.quoted;
            if quoted && secret::is_in(&joined) {
                return unsure("nothing is looked up in a here-document with a quoted end word");
            }
            if self.would_end(&joined, behind) {
                return unsure("it may be read as the end of the here-document");
            }
            let text = if quoted {
                joined
            } else {
                looked_up(
                    &joined,
                    |text| escape(text, &['\\', '$', '`']),
                    |name| format!("${{{name}}}"),
                )
            };
            self.flush()?;
            self.out.push_str(&text);
            self.lexer.passed_here_text(&text);
            return Ok(());
        }
        if self.lexer.here().is_some() && (joined.contains('\n') || self.would_end(&joined, behind))
        {
            return unsure("it may be read as the end of the here-document");
        }
        let text = match self.lexer.kind() {
            ShellKind::Comment => {
                self.push_text(&secret::shown(&joined).replace('\n', " "));
                return Ok(());
            }
            ShellKind::Single => looked_up(
                &joined,
                |text| text.replace('\'', r"'\''"),
                |name| format!("'\"${{{name}}}\"'"),
            ),
            ShellKind::Arithmetic if !is_number(&joined) => {
                return unsure("only a whole number can be put into arithmetic");
            }
            ShellKind::Arithmetic => joined.clone(),
            ShellKind::Brace if joined.contains(['}', '{', '\'', '"', '\\', '`']) => {
                return unsure("shells read quotes and brackets in `${…}` differently");
            }
            _ if self.lexer.is_in_double() => looked_up(
                &joined,
                |text| escape(text, &['\\', '$', '`', '"']),
                |name| format!("${{{name}}}"),
            ),
            _ => {
                let words = value.texts().map(|text| self.in_backquotes(&protect(text)));
                let words: Vec<String> = words.collect();
                if words.len() != 1 && self.lexer.spans_substitution() {
                    return unsure(WITH_SUBSTITUTION);
                }
                self.run
                    .push(RunPart::Bare(reference, words, self.lexer.depth()));
                self.lexer.passed_variable(&joined);
                return Ok(());
            }
        };
        let text = self.in_backquotes(&text);
        self.push_text(&text);
        self.lexer.passed_variable(&joined);
        Ok(())
    }

    /// A text as it is written inside the backquotes that are open, which take one level of escapes off.
    fn in_backquotes(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for in_double in self.lexer.backquotes() {
            let special: &[char] = if in_double {
                &['\\', '$', '`', '"']
            } else {
                &['\\', '$', '`']
            };
            text = escape(&text, special);
        }
        text
    }

    /// Whether a line that a text makes in a here-document may be the one that ends it.
    fn would_end(&self, text: &str, behind: Option<&str>) -> bool {
        let Some(here) = self.lexer.here() else {
            return false;
        };
        let whole = format!("{}{text}", self.lexer.here_line());
        let mut lines: Vec<&str> = whole.split('\n').collect();
        let last = lines.pop().unwrap_or_default();
        if lines.iter().any(|line| here.is_ended_by(line)) {
            return true;
        }
        match behind {
            // Another variable follows: whatever that holds, the line may become the end word.
            None => here.end.starts_with(last.trim_start_matches('\t')) || last.is_empty(),
            Some(behind) => {
                let rest = behind.split('\n').next().unwrap_or_default();
                let to_the_end = behind.len() == rest.len() && !behind.is_empty();
                let line = format!("{last}{rest}");
                here.is_ended_by(&line)
                    || (to_the_end && here.end.starts_with(line.trim_start_matches('\t')))
            }
        }
    }
}

/// A text with its secrets looked up by the shell.
fn looked_up(
    text: &str,
    plain: impl Fn(&str) -> String,
    look_up: impl Fn(&str) -> String,
) -> String {
    secret::pieces(text)
        .map(|piece| match piece {
            Ok(text) => plain(text),
            Err(variable) => look_up(variable),
        })
        .collect()
}

/// Whether a text is a whole number, which arithmetic reads as what it is.
fn is_number(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    !digits.is_empty() && digits.len() < 20 && digits.bytes().all(|byte| byte.is_ascii_digit())
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
