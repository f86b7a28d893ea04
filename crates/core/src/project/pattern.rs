//! File patterns: `*`, `?`, `**`, `[abc]`, `{a,b}` and holes `<name>`, `<path**>`.
//!
//! A pattern is compiled from its *source*, a text in which a backslash makes the next character
//! literal (see [`escape`]). Alternatives are multiplied out into variants first, so that matching
//! only knows a flat row of tokens. A hole takes as little as it can, from the left, and at least
//! one character; the same hole twice must take the same text. No wildcard takes a `.` at the start
//! of a name, so hidden files are matched only by patterns that say so.

use std::borrow::Cow;

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

struct Matcher<'a> {
    tokens: &'a [Token],
    path: &'a str,
    captures: &'a mut Captures,
    /// Which holes have a text already; only kept where one stands twice.
    taken: Vec<bool>,
    failed: Vec<bool>,
    /// Whether the path may end in the middle of the pattern: is there any way on from here?
    partial: bool,
}

impl Matcher<'_> {
    fn run(&mut self, token: usize, at: usize) -> bool {
        if self.partial && at == self.path.len() {
            return true;
        }
        let Some(current) = self.tokens.get(token) else {
            return at == self.path.len();
        };
        let memo = token * (self.path.len() + 1) + at;
        if self.failed.get(memo) == Some(&true) {
            return false;
        }
        let found = self.step(current, token, at);
        if !found && let Some(slot) = self.failed.get_mut(memo) {
            *slot = true;
        }
        found
    }

    fn step(&mut self, current: &Token, token: usize, at: usize) -> bool {
        let rest = &self.path[at..];
        match current {
            Token::Literal(text) => {
                if rest.starts_with(text.as_str()) {
                    return self.run(token + 1, at + text.len());
                }
                self.partial && text.starts_with(rest)
            }
            Token::One => rest.chars().next().is_some_and(|c| {
                c != '/' && !self.hidden(at) && self.run(token + 1, at + c.len_utf8())
            }),
            Token::Class { negated, ranges } => rest.chars().next().is_some_and(|c| {
                c != '/'
                    && !self.hidden(at)
                    && ranges.iter().any(|&(from, to)| from <= c && c <= to) != *negated
                    && self.run(token + 1, at + c.len_utf8())
            }),
            // A wildcard at the start of a hidden name does not even take nothing of it.
            Token::Any => !self.hidden(at) && self.stretch(token, at, at, false, None),
            Token::Deep => !self.hidden(at) && self.stretch(token, at, at, true, None),
            Token::Hole(hole) => self.hole(token, at, false, *hole),
            Token::DeepHole(hole) => self.hole(token, at, true, *hole),
            Token::Folders => self.folders(token, at),
        }
    }

    /// Whether a hidden name starts here.
    fn hidden(&self, at: usize) -> bool {
        self.path.as_bytes().get(at) == Some(&b'.')
            && (at == 0 || self.path.as_bytes()[at - 1] == b'/')
    }

    fn hole(&mut self, token: usize, at: usize, deep: bool, hole: usize) -> bool {
        if self.taken.get(hole) == Some(&true) {
            let (start, end) = self.captures[hole];
            let text = &self.path[start..end];
            return self.path[at..].starts_with(text) && self.run(token + 1, at + text.len());
        }
        let Some(first) = self.path[at..].chars().next() else {
            return false;
        };
        if first == '/' || self.hidden(at) {
            return false;
        }
        self.stretch(token, at, at + first.len_utf8(), deep, Some(hole))
    }

    /// Takes as little as possible from `start`, at least up to `from`.
    fn stretch(
        &mut self,
        token: usize,
        start: usize,
        from: usize,
        deep: bool,
        hole: Option<usize>,
    ) -> bool {
        let mut end = from;
        loop {
            if self.partial && end == self.path.len() {
                return true;
            }
            let slash_end = hole.is_some() && self.path[..end].ends_with('/');
            if !slash_end {
                let kept = hole.map(|hole| self.captures[hole]);
                if let Some(hole) = hole {
                    self.captures[hole] = (start, end);
                    self.mark(hole, true);
                }
                if self.run(token + 1, end) {
                    return true;
                }
                if let (Some(hole), Some(kept)) = (hole, kept) {
                    self.captures[hole] = kept;
                    self.mark(hole, false);
                }
            }
            let Some(next) = self.path[end..].chars().next() else {
                return false;
            };
            if (next == '/' && !deep) || self.hidden(end) {
                return false;
            }
            end += next.len_utf8();
        }
    }

    fn mark(&mut self, hole: usize, taken: bool) {
        if let Some(slot) = self.taken.get_mut(hole) {
            *slot = taken;
        }
    }

    fn folders(&mut self, token: usize, at: usize) -> bool {
        let mut at = at;
        loop {
            if self.run(token + 1, at) {
                return true;
            }
            if self.hidden(at) {
                return false;
            }
            match self.path[at..].find('/') {
                Some(slash) => at += slash + 1,
                None => return self.partial,
            }
        }
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

/// Multiplies `{a,b}` out; inner ones too.
fn alternatives(source: &str) -> Result<Vec<String>, PatternError> {
    let mut open = vec![source.to_owned()];
    let mut done = Vec::new();
    while let Some(text) = open.pop() {
        match first_braces(&text)? {
            None => done.push(text),
            Some((start, end)) => {
                for middle in split_alternatives(&text[start + 1..end]).into_iter().rev() {
                    open.push(format!("{}{middle}{}", &text[..start], &text[end + 1..]));
                }
            }
        }
        if done.len() + open.len() > MAX_VARIANTS {
            return Err(PatternError::TooMany);
        }
    }
    Ok(done)
}

fn first_braces(text: &str) -> Result<Option<(usize, usize)>, PatternError> {
    let mut start = None;
    let mut depth = 0;
    let mut escaped = false;
    for (at, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '{' => {
                start = start.or(Some(at));
                depth += 1;
            }
            '}' if depth > 0 => {
                depth -= 1;
                if depth == 0 {
                    return Ok(start.map(|start| (start, at)));
                }
            }
            _ => {}
        }
    }
    match start {
        Some(_) => Err(PatternError::Unclosed('{')),
        None => Ok(None),
    }
}

fn split_alternatives(text: &str) -> Vec<&str> {
    let mut parts = Vec::new();
    let (mut start, mut depth, mut escaped) = (0, 0, false);
    for (at, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&text[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&text[start..]);
    parts
}

fn compile_variant(source: &str, holes: &mut Vec<String>) -> Result<Variant, PatternError> {
    let mut tokens: Vec<Token> = Vec::new();
    let mut rest = source;
    let mut seen: Vec<usize> = Vec::new();
    let mut repeats = false;
    while let Some(c) = rest.chars().next() {
        let at_name_start =
            source.len() == rest.len() || source[..source.len() - rest.len()].ends_with('/');
        let mut used = c.len_utf8();
        match c {
            '\\' => {
                let literal = rest[1..].chars().next().unwrap_or('\\');
                push_literal(&mut tokens, literal);
                used = 1 + rest[1..].chars().next().map_or(0, char::len_utf8);
            }
            '*' if rest.starts_with("**/") && at_name_start => {
                tokens.push(Token::Folders);
                used = 3;
            }
            '*' if rest.starts_with("**") => {
                tokens.push(Token::Deep);
                used = 2;
            }
            '*' => tokens.push(Token::Any),
            '?' => tokens.push(Token::One),
            '[' => {
                let (token, length) = class(rest)?;
                tokens.push(token);
                used = length;
            }
            '<' => {
                let end = rest.find('>').ok_or(PatternError::Unclosed('<'))?;
                let inner = &rest[1..end];
                let (name, deep) = match inner.strip_suffix("**") {
                    Some(name) => (name, true),
                    None => (inner, false),
                };
                let hole = hole_number(name, holes)?;
                repeats |= seen.contains(&hole);
                seen.push(hole);
                tokens.push(if deep {
                    Token::DeepHole(hole)
                } else {
                    Token::Hole(hole)
                });
                used = end + 1;
            }
            c => push_literal(&mut tokens, c),
        }
        rest = &rest[used..];
        if tokens.len() > MAX_TOKENS {
            return Err(PatternError::TooLong);
        }
    }
    Ok(Variant { tokens, repeats })
}

fn hole_number(name: &str, holes: &mut Vec<String>) -> Result<usize, PatternError> {
    if !crate::language::is_name(name) || holes.len() >= 64 {
        return Err(PatternError::HoleName(name.to_owned()));
    }
    if let Some(known) = holes.iter().position(|hole| hole == name) {
        return Ok(known);
    }
    holes.push(name.to_owned());
    Ok(holes.len() - 1)
}

fn push_literal(tokens: &mut Vec<Token>, c: char) {
    match tokens.last_mut() {
        Some(Token::Literal(text)) => text.push(c),
        _ => tokens.push(Token::Literal(c.to_string())),
    }
}

/// `[abc]`, `[a-z]`, `[!abc]` at the start of a text, and how long it is.
fn class(text: &str) -> Result<(Token, usize), PatternError> {
    let mut chars = text.char_indices().skip(1).peekable();
    let negated = chars.next_if(|&(_, c)| c == '!').is_some();
    let mut ranges: Vec<(char, char)> = Vec::new();
    let mut first = true;
    while let Some((at, c)) = chars.next() {
        let c = match c {
            ']' if !first => return Ok((Token::Class { negated, ranges }, at + 1)),
            '\\' => chars.next().map_or('\\', |(_, c)| c),
            c => c,
        };
        first = false;
        let mut ahead = chars.clone();
        if ahead.next().is_some_and(|(_, c)| c == '-')
            && let Some((_, to)) = ahead.next()
            && to != ']'
        {
            chars = ahead;
            ranges.push((c, to));
        } else {
            ranges.push((c, c));
        }
    }
    Err(PatternError::Unclosed('['))
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
