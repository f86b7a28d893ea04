//! The words of a Python or R script, as far as its paths are told by them.

/// The language of a script.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Dialect {
    /// Python 3.
    Python,
    /// R.
    R,
}

/// A word of a script.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ScriptToken {
    /// A name, with the dots in it.
    Name(String),
    /// A text as it is meant.
    Text(String),
    /// A text that is put together when it runs.
    Computed,
    /// The end of a line that ends a statement.
    Line,
    /// `=`, and R's `<-`.
    Assign,
    /// Any other character.
    Mark(char),
}

/// The words of a script; a mistake in it is passed over.
pub fn tokens(text: &str, dialect: Dialect) -> Vec<ScriptToken> {
    let chars: Vec<char> = text.chars().collect();
    let mut scanner = Scanner {
        chars: &chars,
        at: 0,
        depth: 0,
        dialect,
        tokens: Vec::new(),
    };
    while scanner.at < chars.len() {
        scanner.step();
    }
    scanner.tokens
}

struct Scanner<'s> {
    chars: &'s [char],
    at: usize,
    /// Brackets that are open.
    depth: usize,
    dialect: Dialect,
    tokens: Vec<ScriptToken>,
}

impl Scanner<'_> {
    fn peek(&self, ahead: usize) -> char {
        self.chars.get(self.at + ahead).copied().unwrap_or('\0')
    }

    fn step(&mut self) {
        let c = self.peek(0);
        match c {
            '#' => {
                while self.at < self.chars.len() && self.peek(0) != '\n' {
                    self.at += 1;
                }
            }
            '\n' => {
                self.at += 1;
                if self.depth == 0 && self.tokens.last() != Some(&ScriptToken::Line) {
                    self.tokens.push(ScriptToken::Line);
                }
            }
            '\\' if self.peek(1) == '\n' => self.at += 2,
            c if c.is_whitespace() => self.at += 1,
            '"' | '\'' => self.text(""),
            c if c.is_alphabetic() || c == '_' => self.name(),
            c if c.is_ascii_digit() => {
                while self.peek(0).is_alphanumeric() || matches!(self.peek(0), '.' | '_') {
                    self.at += 1;
                }
                self.tokens.push(ScriptToken::Mark('0'));
            }
            _ => self.mark(c),
        }
    }

    fn mark(&mut self, c: char) {
        let next = self.peek(1);
        let is_pair =
            next == '=' && matches!(c, '=' | '!' | '<' | '>' | '+' | '-' | '*' | '/' | ':');
        if c == '<' && next == '-' && self.dialect == Dialect::R {
            self.at += 2;
            self.tokens.push(ScriptToken::Assign);
            return;
        }
        if is_pair {
            self.at += 2;
            self.tokens.push(ScriptToken::Mark('~'));
            return;
        }
        match c {
            '(' | '[' | '{' => self.depth += 1,
            ')' | ']' | '}' => self.depth = self.depth.saturating_sub(1),
            _ => {}
        }
        self.at += 1;
        self.tokens.push(match c {
            '=' => ScriptToken::Assign,
            c => ScriptToken::Mark(c),
        });
    }

    fn name(&mut self) {
        let begin = self.at;
        while self.peek(0).is_alphanumeric()
            || self.peek(0) == '_'
            || self.peek(0) == '.' && (self.peek(1).is_alphabetic() || self.peek(1) == '_')
        {
            self.at += 1;
        }
        let name: String = self.chars[begin..self.at].iter().collect();
        let is_prefix = self.dialect == Dialect::Python
            && name.len() <= 2
            && name.chars().all(|c| "rRbBuUfFtT".contains(c));
        if is_prefix && matches!(self.peek(0), '"' | '\'') {
            self.text(&name.to_lowercase());
        } else {
            self.tokens.push(ScriptToken::Name(name));
        }
    }

    /// A text from its quote on.
    fn text(&mut self, prefix: &str) {
        let quote = self.peek(0);
        let is_long =
            self.dialect == Dialect::Python && self.peek(1) == quote && self.peek(2) == quote;
        let is_raw = prefix.contains('r');
        self.at += if is_long { 3 } else { 1 };
        let mut text = String::new();
        while self.at < self.chars.len() {
            let c = self.peek(0);
            let ends = match is_long {
                true => c == quote && self.peek(1) == quote && self.peek(2) == quote,
                false => c == quote || c == '\n' && self.dialect == Dialect::Python,
            };
            if ends {
                self.at += if is_long { 3 } else { 1 };
                break;
            }
            if c == '\\' && !is_raw {
                self.at += 1;
                match self.peek(0) {
                    '\n' => {}
                    'n' => text.push('\n'),
                    't' => text.push('\t'),
                    c => text.push(c),
                }
            } else {
                text.push(c);
            }
            self.at += 1;
        }
        let is_computed = prefix.contains(['f', 't']) && text.contains('{');
        self.tokens.push(match is_computed {
            true => ScriptToken::Computed,
            false => ScriptToken::Text(text),
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(text: &str, dialect: Dialect) -> String {
        let all = tokens(text, dialect);
        let all = all.iter().map(|token| match token {
            ScriptToken::Name(name) => name.clone(),
            ScriptToken::Text(text) => format!("{text:?}"),
            ScriptToken::Computed => "computed".to_owned(),
            ScriptToken::Line => ";".to_owned(),
            ScriptToken::Assign => ":=".to_owned(),
            ScriptToken::Mark(c) => c.to_string(),
        });
        all.collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn scripts_fall_into_words() {
        let python = "x = open(r'a\\b', # why\n  mode=\"w\")\nf\"{x}/y\" == '''it's'''\na.b.c[0]";
        assert_eq!(
            shown(python, Dialect::Python),
            "x := open ( \"a\\\\b\" , mode := \"w\" ) ; computed ~ \"it's\" ; a.b.c [ 0 ]"
        );
        assert_eq!(
            shown("d <- read.csv(\"a.csv\") # no\nx <= 1", Dialect::R),
            "d := read.csv ( \"a.csv\" ) ; x ~ 0"
        );
        assert_eq!(shown("'open", Dialect::Python), "\"open\"");
    }
}
