//! Values: lists of words, and the parts of them that `@{name.part}` takes.

use std::sync::Arc;

use crate::language::Select;
use crate::project::pattern::escape;
use crate::project::pattern::unescape;

/// One word of a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Atom {
    /// Its text.
    pub text: Arc<str>,
    /// When characters of it stood outside quotes and mean a pattern: the pattern's source.
    pub pattern: Option<Arc<str>>,
}

impl Atom {
    /// A word that is literal throughout.
    #[must_use]
    pub fn literal(text: impl Into<Arc<str>>) -> Self {
        Self {
            text: text.into(),
            pattern: None,
        }
    }

    /// Its pattern's source, literal characters escaped.
    #[must_use]
    pub fn source(&self) -> std::borrow::Cow<'_, str> {
        match &self.pattern {
            Some(pattern) => pattern.as_ref().into(),
            None => escape(&self.text),
        }
    }
}

/// What a variable holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Value {
    /// The words.
    pub atoms: Arc<[Atom]>,
    /// Whether it was written as a list. A list of one word stays a list where that shows.
    pub list: bool,
}

/// A value has so many words, and a part of it was asked for that is not there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("it has {}", words(*.0))]
pub struct TooFewWords(pub usize);

fn words(count: usize) -> String {
    match count {
        0 => "no words".to_owned(),
        1 => "one word".to_owned(),
        count => format!("{count} words"),
    }
}

impl Value {
    /// A single word.
    #[must_use]
    pub fn word(text: impl Into<Arc<str>>) -> Self {
        Self {
            atoms: [Atom::literal(text)].into(),
            list: false,
        }
    }

    /// A list of literal words.
    pub fn list<T: Into<Arc<str>>>(words: impl IntoIterator<Item = T>) -> Self {
        Self {
            atoms: words.into_iter().map(Atom::literal).collect(),
            list: true,
        }
    }

    /// The words' texts.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.atoms.iter().map(|atom| &*atom.text)
    }

    /// The part that a selector takes.
    ///
    /// # Errors
    /// How many words there are, when there is no such part.
    pub fn select(&self, select: &Select) -> Result<Self, TooFewWords> {
        let single = |atom: Atom| Self {
            atoms: [atom].into(),
            list: false,
        };
        Ok(match select {
            Select::Dir => self.each(folder_of),
            Select::Name => self.each(name_of),
            Select::Stem => self.each(|text| split_name(name_of(text)).0),
            Select::Ext => self.each(|text| split_name(name_of(text)).1),
            Select::First => single(self.nth(1)?),
            Select::Nth(number) => single(self.nth(*number)?),
            Select::Rest => Self {
                atoms: self.atoms.iter().skip(1).cloned().collect(),
                list: true,
            },
            Select::Count => single(Atom::literal(self.atoms.len().to_string())),
            Select::Joined(separator) => {
                let texts: Vec<&str> = self.texts().collect();
                single(Atom::literal(texts.join(separator)))
            }
        })
    }

    fn each(&self, part: impl Fn(&str) -> &str) -> Self {
        let atoms = self.atoms.iter().map(|atom| match &atom.pattern {
            None => Atom::literal(part(&atom.text)),
            Some(pattern) => {
                let source = part(pattern);
                Atom {
                    text: unescape(source).into(),
                    pattern: Some(source.into()),
                }
            }
        });
        Self {
            atoms: atoms.collect(),
            list: self.list,
        }
    }

    fn nth(&self, number: u32) -> Result<Atom, TooFewWords> {
        let index = number as usize - 1;
        self.atoms
            .get(index)
            .cloned()
            .ok_or(TooFewWords(self.atoms.len()))
    }
}

/// A path's folder, `.` when it has none.
#[must_use]
pub fn folder_of(path: &str) -> &str {
    let path = path.strip_suffix('/').unwrap_or(path);
    match path.rfind('/') {
        Some(0) => "/",
        Some(at) => &path[..at],
        None => ".",
    }
}

/// A path's last component.
#[must_use]
pub fn name_of(path: &str) -> &str {
    let path = path.strip_suffix('/').unwrap_or(path);
    &path[path.rfind('/').map_or(0, |at| at + 1)..]
}

/// A name's stem and extension; a dot at its start does not begin an extension.
fn split_name(name: &str) -> (&str, &str) {
    match name.rfind('.') {
        Some(at) if at > 0 => (&name[..at], &name[at + 1..]),
        _ => (name, ""),
    }
}

#[cfg(test)]
mod tests {
    use super::Value;
    use crate::language::Select;

    fn texts(value: &Value) -> Vec<&str> {
        value.texts().collect()
    }

    #[test]
    fn parts_of_names() {
        let value = Value::list(["out/a.tar.gz", "b", "/c", ".hidden", "d/"]);
        let part = |select| value.select(&select).unwrap();
        assert_eq!(texts(&part(Select::Dir)), ["out", ".", "/", ".", "."]);
        assert_eq!(
            texts(&part(Select::Name)),
            ["a.tar.gz", "b", "c", ".hidden", "d"]
        );
        assert_eq!(
            texts(&part(Select::Stem)),
            ["a.tar", "b", "c", ".hidden", "d"]
        );
        assert_eq!(texts(&part(Select::Ext)), ["gz", "", "", "", ""]);
        assert_eq!(texts(&part(Select::Count)), ["5"]);
        assert_eq!(texts(&part(Select::Nth(2))), ["b"]);
        assert_eq!(texts(&part(Select::Rest)).len(), 4);
        assert_eq!(
            texts(&part(Select::Joined("+".into()))),
            ["out/a.tar.gz+b+/c+.hidden+d/"]
        );
        assert_eq!(value.select(&Select::Nth(6)), Err(super::TooFewWords(5)));
    }
}
