//! Secrets: values that go through the whole program as a placeholder, and are filled in where a process is
//! started, and nowhere else.
//!
//! A placeholder is the name of the environment variable that holds the value, between two characters of a
//! private-use area. So whatever is printed, compared or written down has the name at most. A shell recipe
//! gets `${NAME}`, which its shell looks up; the environment of a recipe gets the value; what is compared
//! has a digest of it that only this user can make.

use std::borrow::Cow;

const OPEN: char = '\u{10FD00}';
const CLOSE: char = '\u{10FD01}';

/// What people see of a secret.
pub const SHOWN: &str = "•••";

/// A secret's place in a text, by the environment variable that holds it.
#[must_use]
pub fn placeholder(variable: &str) -> String {
    format!("{OPEN}{variable}{CLOSE}")
}

/// Whether a text has a secret in it.
#[must_use]
pub fn is_in(text: &str) -> bool {
    // No other character in use begins with this byte.
    memchr::memchr(0xF4, text.as_bytes()).is_some() && text.contains(OPEN)
}

/// A text cut at its secrets: each piece is a text, or the variable of a secret.
pub fn pieces(text: &str) -> impl Iterator<Item = Result<&str, &str>> {
    let mut rest = text;
    std::iter::from_fn(move || {
        if rest.is_empty() {
            return None;
        }
        if let Some(inner) = rest.strip_prefix(OPEN)
            && let Some((name, behind)) = inner.split_once(CLOSE)
        {
            rest = behind;
            return Some(Err(name));
        }
        let from = rest.chars().next().map_or(0, char::len_utf8);
        let end = rest[from..].find(OPEN).map_or(rest.len(), |at| from + at);
        let (piece, behind) = rest.split_at(end);
        rest = behind;
        Some(Ok(piece))
    })
}

/// A text with its secrets filled in; `None` when one has no value.
#[must_use]
pub fn filled<'t>(text: &'t str, value: impl Fn(&str) -> Option<String>) -> Option<Cow<'t, str>> {
    if !is_in(text) {
        return Some(Cow::Borrowed(text));
    }
    let mut out = String::with_capacity(text.len());
    for piece in pieces(text) {
        match piece {
            Ok(piece) => out.push_str(piece),
            Err(variable) => out.push_str(&value(variable)?),
        }
    }
    Some(Cow::Owned(out))
}

/// A text as people see it.
#[must_use]
pub fn shown(text: &str) -> Cow<'_, str> {
    filled(text, |_| Some(SHOWN.to_owned())).unwrap_or(Cow::Borrowed(SHOWN))
}

/// Takes secrets out of a stream of bytes, whatever pieces they come in.
#[derive(Debug, Default)]
pub struct Redactor {
    secrets: Vec<Vec<u8>>,
    /// The end of what came, when it may be the beginning of a secret.
    held: Vec<u8>,
}

impl Redactor {
    /// Takes these out. What is shorter than three bytes can't be told from other text.
    #[must_use]
    pub fn new(secrets: &[String]) -> Self {
        let long = secrets.iter().filter(|secret| secret.len() >= 3);
        let mut secrets: Vec<Vec<u8>> = long
            .map(|secret| crate::world::names::to_bytes(secret).into_owned())
            .collect();
        // A secret may begin with another one.
        secrets.sort_by_key(|secret| std::cmp::Reverse(secret.len()));
        Self {
            secrets,
            held: Vec::new(),
        }
    }

    /// Whether there is anything to take out.
    #[must_use]
    pub fn is_idle(&self) -> bool {
        self.secrets.is_empty()
    }

    /// What may be passed on when these bytes came.
    pub fn take(&mut self, bytes: &[u8]) -> Vec<u8> {
        self.held.extend_from_slice(bytes);
        self.pass_on(false)
    }

    /// What was held back, at the end of the stream.
    pub fn finish(&mut self) -> Vec<u8> {
        self.pass_on(true)
    }

    fn pass_on(&mut self, at_end: bool) -> Vec<u8> {
        let all = std::mem::take(&mut self.held);
        let mut out = Vec::with_capacity(all.len());
        let mut at = 0;
        while at < all.len() {
            let rest = &all[at..];
            let may_go_on =
                |secret: &Vec<u8>| secret.len() > rest.len() && secret.starts_with(rest);
            if !at_end && self.secrets.iter().any(may_go_on) {
                self.held = rest.to_vec();
                return out;
            }
            if let Some(secret) = self.secrets.iter().find(|secret| rest.starts_with(secret)) {
                out.extend_from_slice(SHOWN.as_bytes());
                at += secret.len();
            } else {
                out.push(all[at]);
                at += 1;
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_cut_at_its_secrets() {
        let text = format!("Bearer {}!", placeholder("TOKEN"));
        assert!(is_in(&text) && !is_in("Bearer"));
        assert_eq!(shown(&text), "Bearer •••!");
        let value = |name: &str| (name == "TOKEN").then(|| "abc".to_owned());
        assert_eq!(filled(&text, value).as_deref(), Some("Bearer abc!"));
        assert_eq!(filled(&text, |_| None), None);
    }

    #[test]
    fn secrets_are_taken_out_however_they_come() {
        let secrets = ["hush".to_owned(), "hush hush".to_owned()];
        let text = b"say hush hush and hush, hus";
        for size in 1..text.len() {
            let mut redactor = Redactor::new(&secrets);
            let mut out = Vec::new();
            for piece in text.chunks(size) {
                out.extend(redactor.take(piece));
            }
            out.extend(redactor.finish());
            let out = String::from_utf8(out).unwrap();
            assert_eq!(out, "say ••• and •••, hus", "in pieces of {size}");
        }
    }
}
