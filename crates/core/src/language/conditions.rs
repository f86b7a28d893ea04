//! Conditions: comparisons joined by `and`, `or` and `not`, after `when` and after a table's `where`.

use crate::language::parser::Parser;
use crate::language::syntax::Word;
use crate::language::value_syntax::Comparison;
use crate::language::value_syntax::Condition;
use crate::language::value_syntax::RowCondition;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

/// Conditions nested deeper than this are refused, so that no text can exhaust the stack.
const MAX_CONDITION: usize = 64;

/// What ends a value in a condition.
const KEYWORDS: [&str; 9] = [
    "is", "has", "before", "above", "below", "not", "and", "or", "when",
];

impl Parser<'_> {
    /// Takes `when CONDITION` off the end. `None` when it is there and wrong.
    pub fn take_when(&mut self, words: &mut Vec<Word>) -> Option<Option<Condition>> {
        let Some((keyword, behind)) = self.take_behind(words, "when") else {
            return Some(None);
        };
        self.condition(&behind, keyword).map(Some)
    }

    /// Takes `where CONDITION` off the end. `None` when it is there and wrong.
    pub fn take_where(&mut self, words: &mut Vec<Word>) -> Option<Option<RowCondition>> {
        let Some((span, behind)) = self.take_behind(words, "where") else {
            return Some(None);
        };
        let condition = self.condition(&behind, span)?;
        Some(Some(RowCondition { span, condition }))
    }

    /// Takes the words behind the first unquoted `keyword` off the end, and it.
    fn take_behind(&self, words: &mut Vec<Word>, keyword: &str) -> Option<(Span, Vec<Word>)> {
        let at = words.iter().position(|word| self.is(word, keyword))?;
        let behind = words.split_off(at + 1);
        Some((words.pop()?.span, behind))
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
                    &mistakes::UNREADABLE_CONDITION,
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
        // What is written in one word; `is not` is told from `is` behind it.
        let one = |how: &&Comparison| self.take(how.written());
        let mut how = Comparison::ALL.iter().find(one).copied();
        if how == Some(Comparison::Is) && self.take("not") {
            how = Some(Comparison::IsNot);
        }
        match how {
            Some(how) => Ok(Condition::Compare(left, how, self.right_operand()?)),
            None => Err(self.wrong("is not followed by a comparison")),
        }
    }

    fn operand(&mut self) -> Result<Vec<Word>, Wrong> {
        let start = self.at;
        self.skip_to_keyword(start)
    }

    /// A value behind a comparison, where no other comparison can stand: `above` is a word there.
    fn right_operand(&mut self) -> Result<Vec<Word>, Wrong> {
        let start = self.at;
        let mut comparisons = Comparison::ALL.iter();
        comparisons.find(|how| self.take(how.written()));
        self.skip_to_keyword(start)
    }

    fn skip_to_keyword(&mut self, start: usize) -> Result<Vec<Word>, Wrong> {
        while let Some(word) = self.words.get(self.at)
            && !KEYWORDS.iter().any(|keyword| self.parser.is(word, keyword))
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
            Diagnostic::error(&mistakes::UNREADABLE_CONDITION, self.last, format!("`{written}` {what}")).help(
                "a condition is `A is B`, `A is not B`, `A has B`, `A before B`, `A above N` or `A below N`, joined by `and`, `or`, `not`",
            ),
        )
    }
}
