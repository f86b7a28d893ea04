//! `let`, its value forms, and conditions.

use crate::language::names::RESERVED;
use crate::language::names::is_name;
use crate::language::parser::Parser;
use crate::language::parser::SourceRange;
use crate::language::syntax::Condition;
use crate::language::syntax::Let;
use crate::language::syntax::LetHow;
use crate::language::syntax::Name;
use crate::language::syntax::ValueSyntax;
use crate::language::syntax::Word;
use crate::language::syntax::WordKind;
use crate::text::Diagnostic;
use crate::text::Span;

/// Conditions nested deeper than this are refused, so that no text can exhaust the stack.
const MAX_CONDITION: usize = 64;

impl Parser<'_> {
    pub fn top_let(&mut self, range: SourceRange, behind: usize, span: Span) -> Option<Let> {
        let mut words = self.words(range, behind);
        let whole = words.last().map_or(span, |last| span.to(last.span));
        let when = self.take_when(&mut words);
        let (name, how, rest) = self.let_head(&words, span)?;
        if RESERVED.contains(&&*name.text) {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    name.span,
                    format!("`{}` has a meaning of its own", name.text),
                )
                .help("choose another name for the variable"),
            );
            return None;
        }
        let rest = rest.to_vec();
        let value = self.value(how, rest, name.span)?;
        Some(Let {
            name,
            how,
            value,
            when: when?,
            span: whole,
        })
    }

    fn let_head<'w>(
        &mut self,
        words: &'w [Word],
        span: Span,
    ) -> Option<(Name, LetHow, &'w [Word])> {
        let Some(first) = words.first() else {
            self.lexer.diagnostics.push(
                Diagnostic::error(span, "`let` is not followed by a name")
                    .help("write `let name = words`"),
            );
            return None;
        };
        let Some(name) = self.name_of(first) else {
            self.bad_let_name(first);
            return None;
        };
        let second = words.get(1);
        let third = words.get(2);
        if second.is_some_and(|word| self.is(word, "=")) {
            return Some((name, LetHow::Set, &words[2..]));
        }
        if second.is_some_and(|word| self.is(word, "+=")) {
            return Some((name, LetHow::Add, &words[2..]));
        }
        if second.is_some_and(|word| self.is(word, "one"))
            && third.is_some_and(|word| self.is(word, "of"))
        {
            return Some((name, LetHow::OneOf, &words[3..]));
        }
        self.lexer.diagnostics.push(
            Diagnostic::error(
                second.map_or(name.span, |word| word.span),
                format!(
                    "`let {}` is not followed by `=`, `+=` or `one of`",
                    name.text
                ),
            )
            .help(format!("write `let {} = words`", name.text)),
        );
        None
    }

    fn bad_let_name(&mut self, word: &Word) {
        let written = self.lexer.slice(word.span);
        let split = written
            .split_once('=')
            .filter(|(name, _)| is_name(name.trim_end_matches('+')));
        let diagnostic = match split {
            Some((name, value)) => {
                let (name, operator) = match name.strip_suffix('+') {
                    Some(name) => (name, "+="),
                    None => (name, "="),
                };
                Diagnostic::error(word.span, "the `=` of a `let` stands between spaces")
                    .help(format!("write `let {name} {operator} {value}`"))
            }
            None => Diagnostic::error(word.span, format!("`{written}` can't be a variable's name"))
                .help("a name has letters, digits, `_` and `-`, and starts with a letter or `_`"),
        };
        self.lexer.diagnostics.push(diagnostic);
    }

    fn value(&mut self, how: LetHow, mut words: Vec<Word>, name: Span) -> Option<ValueSyntax> {
        if how == LetHow::OneOf {
            let words = self.some_words(
                name,
                words,
                "one of",
                "the words to choose from; the first is the default",
            )?;
            return Some(ValueSyntax::Words(words));
        }
        let Some(first) = words.first().filter(|word| word.kind == WordKind::Plain) else {
            return Some(ValueSyntax::Words(words));
        };
        let keyword = first.span;
        match self.lexer.slice(keyword) {
            "files" => {
                words.remove(0);
                let (patterns, except) = self.split_at(words, "except");
                let patterns =
                    self.some_words(keyword, patterns, "files", "patterns, such as `src/*.c`")?;
                Some(ValueSyntax::Files {
                    patterns,
                    except: except.unwrap_or_default(),
                })
            }
            "env" => {
                words.remove(0);
                let (name, or) = self.split_at(words, "or");
                let name = self.one_word(keyword, name, "env", "the name of an environment variable, then `or` and its value when it is not set")?;
                Some(ValueSyntax::Env { name, or })
            }
            "output" => {
                words.remove(0);
                self.some_words(keyword, words, "output", "a command and its arguments")
                    .map(ValueSyntax::Output)
            }
            "secret" => {
                words.remove(0);
                self.one_word(
                    keyword,
                    words,
                    "secret",
                    "the name of an environment variable that holds it",
                )
                .map(ValueSyntax::Secret)
            }
            "match" => {
                words.remove(0);
                self.match_into(words, keyword)
            }
            _ => Some(ValueSyntax::Words(words)),
        }
    }

    fn match_into(&mut self, words: Vec<Word>, keyword: Span) -> Option<ValueSyntax> {
        if words.len() >= 4 && self.is(&words[1], "into") && self.is(&words[3], ":") {
            let mut words = words.into_iter();
            let from = words.next()?;
            let into = words.nth(1)?;
            return Some(ValueSyntax::Match {
                from,
                into,
                words: words.skip(1).collect(),
            });
        }
        self.lexer.diagnostics.push(
            Diagnostic::error(keyword, "`match` does not have its three parts")
                .help("write `match PATTERN into PATTERN : words`, the colon between spaces, such as `match src/<u>.c into out/<u>.o : @{sources}`"),
        );
        None
    }

    /// Words before and behind the first unquoted `keyword`.
    fn split_at(&self, mut words: Vec<Word>, keyword: &str) -> (Vec<Word>, Option<Vec<Word>>) {
        match words.iter().position(|word| self.is(word, keyword)) {
            Some(at) => {
                let behind = words.split_off(at + 1);
                words.pop();
                (words, Some(behind))
            }
            None => (words, None),
        }
    }

    pub fn name_of(&self, word: &Word) -> Option<Name> {
        let text = self.lexer.slice(word.span);
        (word.kind == WordKind::Plain && is_name(text)).then(|| Name {
            text: text.into(),
            span: word.span,
        })
    }

    /// Takes `when CONDITION` off the end. `None` when it is there and wrong.
    fn take_when(&mut self, words: &mut Vec<Word>) -> Option<Option<Condition>> {
        let Some(at) = words.iter().position(|word| self.is(word, "when")) else {
            return Some(None);
        };
        let behind = words.split_off(at + 1);
        let keyword = words.pop()?.span;
        self.condition(&behind, keyword).map(Some)
    }

    /// A condition over words; `keyword` is the place of its `when`.
    pub fn condition(&mut self, words: &[Word], keyword: Span) -> Option<Condition> {
        let mut reader = ConditionReader {
            parser: self,
            words,
            at: 0,
            last: keyword,
            depth: 0,
        };
        match reader.either() {
            Ok(condition) => Some(condition),
            Err(diagnostic) => {
                self.lexer.diagnostics.push(*diagnostic);
                None
            }
        }
    }
}

struct ConditionReader<'p, 'a, 'w> {
    parser: &'p Parser<'a>,
    words: &'w [Word],
    at: usize,
    last: Span,
    depth: usize,
}

type Wrong = Box<Diagnostic>;

impl ConditionReader<'_, '_, '_> {
    fn take(&mut self, keyword: &str) -> bool {
        let found = self
            .words
            .get(self.at)
            .is_some_and(|word| self.parser.is(word, keyword));
        if found {
            self.last = self.words[self.at].span;
            self.at += 1;
        }
        found
    }

    fn either(&mut self) -> Result<Condition, Wrong> {
        let mut left = self.both()?;
        while self.take("or") {
            left = Condition::Or(Box::new(left), Box::new(self.both()?));
        }
        Ok(left)
    }

    fn both(&mut self) -> Result<Condition, Wrong> {
        let mut left = self.negated()?;
        while self.take("and") {
            left = Condition::And(Box::new(left), Box::new(self.negated()?));
        }
        Ok(left)
    }

    fn negated(&mut self) -> Result<Condition, Wrong> {
        self.depth += 1;
        if self.depth > MAX_CONDITION {
            return Err(Box::new(
                Diagnostic::error(
                    self.last,
                    format!("this condition has more than {MAX_CONDITION} parts"),
                )
                .help("put some of it into a variable"),
            ));
        }
        if self.take("not") {
            return Ok(Condition::Not(Box::new(self.negated()?)));
        }
        self.comparison()
    }

    fn comparison(&mut self) -> Result<Condition, Wrong> {
        let left = self.operand()?;
        if self.take("has") {
            return Ok(Condition::Has(left, self.operand()?));
        }
        if self.take("is") {
            if self.take("not") {
                return Ok(Condition::IsNot(left, self.operand()?));
            }
            return Ok(Condition::Is(left, self.operand()?));
        }
        Err(self.wrong("is not followed by `is`, `is not` or `has`"))
    }

    fn operand(&mut self) -> Result<Vec<Word>, Wrong> {
        let start = self.at;
        while let Some(word) = self.words.get(self.at)
            && !["is", "has", "not", "and", "or", "when"]
                .iter()
                .any(|keyword| self.parser.is(word, keyword))
        {
            self.last = word.span;
            self.at += 1;
        }
        if self.at == start {
            return Err(self.wrong("is not followed by a value"));
        }
        Ok(self.words[start..self.at].to_vec())
    }

    fn wrong(&self, what: &str) -> Wrong {
        let written = self.parser.lexer.slice(self.last);
        Box::new(
            Diagnostic::error(self.last, format!("`{written}` {what}")).help(
                "a condition is `A is B`, `A is not B` or `A has B`, joined by `and`, `or`, `not`",
            ),
        )
    }
}
