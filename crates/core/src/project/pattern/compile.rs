//! From a pattern's text to rows of tokens.

use crate::project::pattern::MAX_TOKENS;
use crate::project::pattern::MAX_VARIANTS;
use crate::project::pattern::PatternError;
use crate::project::pattern::Token;
use crate::project::pattern::Variant;

/// Multiplies `{a,b}` out; inner ones too.
pub fn alternatives(source: &str) -> Result<Vec<String>, PatternError> {
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

/// One row of tokens; holes that are new get the next numbers.
pub fn compile_variant(source: &str, holes: &mut Vec<String>) -> Result<Variant, PatternError> {
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
