//! File patterns: `*`, `?`, `**`, `[abc]`, `{a,b}` and holes `<name>`, `<path**>`.
//!
//! A pattern is compiled from its *source*, a text in which a backslash makes the next character
//! literal (see [`escape`]). Alternatives are multiplied out into variants first, so that matching
//! only knows a flat row of tokens. A hole takes as little as it can, from the left, and at least
//! one character; the same hole twice must take the same text. No wildcard takes a `.` at the start
//! of a name, so hidden files are matched only by patterns that say so.

mod compile;
mod matcher;

use std::borrow::Cow;

use compile::alternatives;
use compile::compile_variant;
use matcher::Matcher;

/// More alternatives than this, multiplied out, are refused.
const MAX_VARIANTS: usize = 4096;

/// More parts than this are refused, since matching goes one call deeper for each.
const MAX_TOKENS: usize = 500;

/// Why a text is no pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PatternError {
    /// `[`, `{` or `<` without its end.
    Unclosed(char),
    /// `<…>` does not hold a name.
    HoleName(String),
    /// The alternatives multiply to too many.
    TooMany,
    /// It has more wildcards than any file name could need.
    TooLong,
}

impl std::fmt::Display for PatternError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Unclosed(open) => write!(f, "`{open}` is not closed in this pattern"),
            Self::HoleName(name) => write!(f, "`<{name}>` does not hold a name"),
            Self::TooMany => write!(
                f,
                "the alternatives of this pattern multiply to more than {MAX_VARIANTS}"
            ),
            Self::TooLong => write!(f, "this pattern has more than {MAX_TOKENS} parts"),
        }
    }
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Token {
    Literal(String),
    /// `*`
    Any,
    /// `?`
    One,
    /// `**/`: nothing, or folders with their last slash.
    Folders,
    /// `**` elsewhere: anything, across folders.
    Deep,
    Class {
        negated: bool,
        ranges: Vec<(char, char)>,
    },
    Hole(usize),
    DeepHole(usize),
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Variant {
    tokens: Vec<Token>,
    /// Whether a hole stands in it twice, so that a failure depends on what was taken before.
    repeats: bool,
}

/// A compiled pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern {
    variants: Vec<Variant>,
    holes: Vec<String>,
}

/// What the holes of a pattern took, in the order of [`Pattern::holes`], as byte ranges of the path.
pub type Captures = Vec<(usize, usize)>;

impl Pattern {
    /// Compiles a pattern's source.
    ///
    /// # Errors
    /// When brackets are not closed or a hole has no name.
    pub fn compile(source: &str) -> Result<Self, PatternError> {
        let mut holes = Vec::new();
        let mut variants = Vec::new();
        for alternative in alternatives(source)? {
            variants.push(compile_variant(&alternative, &mut holes)?);
        }
        Ok(Self { variants, holes })
    }

    /// The names of the holes, each once, in order of appearance.
    #[must_use]
    pub fn holes(&self) -> &[String] {
        &self.holes
    }

    /// What the holes take when the whole path matches. A hole that the matching variant does not
    /// have takes nothing.
    #[must_use]
    pub fn captures(&self, path: &str) -> Option<Captures> {
        let mut captures = vec![(0, 0); self.holes.len()];
        self.variants
            .iter()
            .any(|variant| variant.matches(path, &mut captures))
            .then_some(captures)
    }

    /// Whether the whole path matches.
    #[must_use]
    pub fn matches(&self, path: &str) -> bool {
        self.captures(path).is_some()
    }

    /// Whether there are wildcards beside the holes, so that it may match several files with the same in its holes.
    #[must_use]
    pub fn gathers(&self) -> bool {
        let fixed = |token: &Token| {
            matches!(
                token,
                Token::Literal(_) | Token::Hole(_) | Token::DeepHole(_)
            )
        };
        let mut tokens = self.variants.iter().flat_map(|variant| &variant.tokens);
        !tokens.all(fixed)
    }

    /// Whether it may match across folders, to any depth.
    #[must_use]
    pub fn crosses_folders(&self) -> bool {
        let deep =
            |token: &Token| matches!(token, Token::Folders | Token::Deep | Token::DeepHole(_));
        self.variants
            .iter()
            .any(|variant| variant.tokens.iter().any(deep))
    }

    /// The literal start that every match has.
    #[must_use]
    pub fn prefix(&self) -> &str {
        let first = self.variants[0].prefix();
        let mut length = first.len();
        for variant in &self.variants[1..] {
            let same = first
                .bytes()
                .zip(variant.prefix().bytes())
                .take_while(|(a, b)| a == b)
                .count();
            length = length.min(same);
        }
        while !first.is_char_boundary(length) {
            length -= 1;
        }
        &first[..length]
    }

    /// The folder that every match lies in: the prefix up to its last slash.
    #[must_use]
    pub fn folder(&self) -> &str {
        let prefix = self.prefix();
        &prefix[..prefix.rfind('/').map_or(0, |at| at + 1)]
    }

    /// Whether it may match a hidden name, or one in a hidden folder.
    #[must_use]
    pub fn names_hidden(&self) -> bool {
        self.variants.iter().any(|variant| {
            let mut at_start = true;
            variant.tokens.iter().any(|token| {
                let starts = std::mem::replace(&mut at_start, *token == Token::Folders);
                matches!(token, Token::Literal(text)
                    if text.contains("/.") || (starts && text.starts_with('.')))
            })
        })
    }

    /// For a walk: whether anything inside this folder, whose path ends with a slash, could match.
    #[must_use]
    pub fn may_hold(&self, folder: &str) -> bool {
        self.variants.iter().any(|variant| variant.may_hold(folder))
    }
}

impl Variant {
    fn prefix(&self) -> &str {
        match self.tokens.first() {
            Some(Token::Literal(text)) => text,
            _ => "",
        }
    }

    fn matches(&self, path: &str, captures: &mut Captures) -> bool {
        // A whole folder, told by its last slash, is no file in that folder with an empty name.
        let wants_folder =
            matches!(self.tokens.last(), Some(Token::Literal(text)) if text.ends_with('/'));
        if path.ends_with('/') && !wants_folder {
            return false;
        }
        let wild = self
            .tokens
            .iter()
            .filter(|token| !matches!(token, Token::Literal(_)))
            .count();
        // Failures are remembered only where trying again could grow out of hand.
        let memo = wild > 2 && !self.repeats;
        let mut matcher = Matcher {
            tokens: &self.tokens,
            path,
            captures,
            taken: vec![false; if self.repeats { 64 } else { 0 }],
            failed: if memo {
                vec![false; self.tokens.len() * (path.len() + 1)]
            } else {
                Vec::new()
            },
            partial: false,
        };
        matcher.run(0, 0)
    }

    fn may_hold(&self, folder: &str) -> bool {
        let mut captures = vec![(0, 0); 64];
        let mut matcher = Matcher {
            tokens: &self.tokens,
            path: folder,
            captures: &mut captures,
            taken: Vec::new(),
            failed: vec![false; self.tokens.len() * (folder.len() + 1)],
            partial: true,
        };
        matcher.run(0, 0)
    }
}

/// Makes every character that means something in a pattern literal.
#[must_use]
pub fn escape(text: &str) -> Cow<'_, str> {
    if !text.contains(is_special) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 4);
    for c in text.chars() {
        if is_special(c) {
            out.push('\\');
        }
        out.push(c);
    }
    Cow::Owned(out)
}

fn is_special(c: char) -> bool {
    matches!(
        c,
        '*' | '?' | '[' | ']' | '{' | '}' | '<' | '>' | '\\' | ','
    )
}

/// Whether a text that stands outside quotes is a pattern.
#[must_use]
pub fn is_pattern(text: &str) -> bool {
    text.bytes()
        .any(|b| matches!(b, b'*' | b'?' | b'[' | b'{' | b'<'))
}

/// A pattern's source with its holes filled: each `<name>` that `value` knows becomes literal text.
/// Gives the source, and whether anything of a pattern is left in it.
pub fn fill_holes<'v>(
    source: &str,
    mut value: impl FnMut(&str) -> Option<&'v str>,
) -> (String, bool) {
    let mut out = String::with_capacity(source.len() + 16);
    let mut left = false;
    let mut rest = source;
    while let Some(c) = rest.chars().next() {
        let mut used = c.len_utf8();
        match c {
            '\\' => {
                used = 1 + rest[1..].chars().next().map_or(0, char::len_utf8);
                out.push_str(&rest[..used]);
            }
            '<' => {
                let end = rest.find('>').map_or(rest.len(), |end| end + 1);
                let name = rest[1..end].trim_end_matches('>').trim_end_matches("**");
                match value(name) {
                    Some(text) => out.push_str(&escape(text)),
                    None => {
                        left = true;
                        out.push_str(&rest[..end]);
                    }
                }
                used = end;
            }
            c => {
                left |= matches!(c, '*' | '?' | '[' | '{');
                out.push(c);
            }
        }
        rest = &rest[used..];
    }
    (out, left)
}

/// The text that a pattern's source without wildcards stands for.
#[must_use]
pub fn unescape(source: &str) -> String {
    let mut out = String::with_capacity(source.len());
    let mut chars = source.chars();
    while let Some(c) = chars.next() {
        out.push(if c == '\\' {
            chars.next().unwrap_or('\\')
        } else {
            c
        });
    }
    out
}
