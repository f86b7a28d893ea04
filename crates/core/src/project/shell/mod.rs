//! Shell scripts: which interpreters read them, and words that a shell reads back unchanged.
//!
//! How words are put into a script is in [`fill`].

mod commands;
mod fill;
mod here_document;
mod level;
mod lexer;

use std::borrow::Cow;

use crate::project::secret;
use crate::project::shell::lexer::ShellLexer;
use crate::project::value::name_of;

pub use fill::Refusal;
pub use fill::fill;

/// Interpreters whose scripts are read as shell scripts.
const SHELLS: &[&str] = &[
    "sh", "bash", "dash", "ash", "ksh", "mksh", "zsh", "yash", "rbash",
];

/// Words that mean something to a shell where a command may stand.
const RESERVED: &[&str] = &[
    "if",
    "then",
    "else",
    "elif",
    "fi",
    "do",
    "done",
    "case",
    "esac",
    "while",
    "until",
    "for",
    "in",
    "function",
    "select",
    "time",
    "coproc",
    "foreach",
    "end",
    "repeat",
    "nocorrect",
];

/// Whether an interpreter reads shell scripts. It may stand behind whatever starts it: `nice -n 5 sh`,
/// `timeout 5 bash`, `env A=b dash`, `busybox sh`.
#[must_use]
pub fn is_shell(interpreter: &[String]) -> bool {
    interpreter
        .iter()
        .any(|word| SHELLS.contains(&name_of(word)))
}

/// Whether nothing is open at the end of a script: no quotes, no brackets, no here-document, no line that goes on.
#[must_use]
pub fn is_complete(script: &str) -> bool {
    let mut lexer = ShellLexer::new();
    for c in script.chars().chain(['\n']) {
        lexer.take(c);
    }
    lexer.is_at_rest() && !script.trim_end().ends_with('\\')
}

/// Whether a character means nothing to any shell, wherever it stands in a word.
fn is_plain(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '-' | '.' | '/' | ':' | '@' | '%' | '+')
}

/// A word as a shell reads it back unchanged, for people to read and to type.
#[must_use]
pub fn quote(word: &str) -> String {
    let option = word.starts_with('-');
    let safe = !word.is_empty()
        && word
            .chars()
            .all(|c| is_plain(c) || c == ',' || (c == '=' && option))
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

/// A word as it is put into a script where a word is read: quoted unless every shell reads it as it stands,
/// also within braces that the script has around it. Secrets are looked up by the shell.
fn protect(word: &str) -> Cow<'_, str> {
    if secret::is_in(word) {
        let piece = |piece: Result<&str, &str>| match piece {
            Ok(text) => protect(text).into_owned(),
            Err(variable) => format!("\"${{{variable}}}\""),
        };
        return secret::pieces(word).map(piece).collect::<String>().into();
    }
    let option = word.starts_with('-');
    let safe = !word.is_empty()
        && word.chars().all(|c| is_plain(c) || (c == '=' && option))
        && !RESERVED.contains(&word);
    if safe {
        return Cow::Borrowed(word);
    }
    Cow::Owned(format!("'{}'", word.replace('\'', r"'\''")))
}
