//! Matching a path against a row of tokens, with the holes' texts.
//!
//! A wildcard tries every stretch; where nothing was taken before decides, a place that failed once is not
//! tried again, so that no pattern takes more than the path's length times its own.

use crate::project::pattern::Captures;
use crate::project::pattern::Token;

/// One match under way.
pub struct Matcher<'a> {
    pub tokens: &'a [Token],
    pub path: &'a str,
    pub captures: &'a mut Captures,
    /// Which holes have a text already; only kept where one stands twice.
    pub taken: Vec<bool>,
    pub failed: Vec<bool>,
    /// Whether the path may end in the middle of the pattern: is there any way on from here?
    pub partial: bool,
}

impl Matcher<'_> {
    /// Whether the path from a byte on fits the tokens from one on.
    pub fn run(&mut self, token: usize, at: usize) -> bool {
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
