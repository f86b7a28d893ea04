//! Clauses of one line: a keyword with one word of a few behind it, and `each`.

use crate::language::clauses::At;
use crate::language::names::RESERVED;
use crate::language::parser::Parser;
use crate::language::parser::SourceRange;
use crate::language::syntax::ClauseKind;
use crate::language::syntax::EachClause;
use crate::language::syntax::EachSource;
use crate::language::syntax::EnvFile;
use crate::language::syntax::Name;
use crate::language::syntax::SealHow;
use crate::language::syntax::StoreHow;
use crate::language::syntax::Word;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

impl Parser<'_> {
    pub fn sealed(&mut self, at: At) -> Option<ClauseKind> {
        let words = self.words(at.range, at.behind);
        match &words[..] {
            [] => Some(ClauseKind::Sealed(SealHow::Plainly)),
            [word] if self.is(word, "strictly") => Some(ClauseKind::Sealed(SealHow::Strictly)),
            [word, ..] => {
                self.lexer.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::INCOMPLETE_CLAUSE,
                        word.span,
                        "`sealed` is not followed by this",
                    )
                    .help("write `sealed` alone, or `sealed strictly`"),
                );
                None
            }
        }
    }

    pub fn each(&mut self, at: At) -> Option<ClauseKind> {
        let mut words = self.words(at.range, at.behind);
        let of = words.iter().position(|word| self.is(word, "in"));
        let Some(of) = of.filter(|&of| of > 0 && of + 1 < words.len()) else {
            self.lexer.diagnostics.push(
                Diagnostic::error(&mistakes::INCOMPLETE_CLAUSE, at.span, "`each` does not have a name, `in` and words").help(
                    "write for example `each year in 2024 2025`, or `each sample group in table samples.csv`; for files write `needs each PATTERN`",
                ),
            );
            return None;
        };
        let mut from = words.split_off(of + 1);
        words.pop();
        let mut names: Vec<Name> = Vec::new();
        for word in &words {
            names.push(self.each_name(word, &names)?);
        }
        if self.is(&from[0], "table") && from.len() > 1 {
            let keyword = from.remove(0).span;
            let rows = self.take_where(&mut from)?;
            let file = self.one_word(
                keyword,
                from,
                "table",
                "a file; `where CONDITION` may stand behind it",
            )?;
            let from = EachSource::Table { file, rows };
            return Some(ClauseKind::Each(Box::new(EachClause { names, from })));
        }
        if let Some(second) = names.get(1) {
            self.lexer.diagnostics.push(
                Diagnostic::error(&mistakes::NAMES_WITHOUT_TABLE, second.span, "several names take the columns of a table, and these are words")
                    .help("write `each A B in table FILE`, or an `each` for each name: every combination is a step"),
            );
            return None;
        }
        let from = EachSource::Words(from);
        Some(ClauseKind::Each(Box::new(EachClause { names, from })))
    }

    /// One of the names that an `each` gives.
    fn each_name(&mut self, word: &Word, before: &[Name]) -> Option<Name> {
        let Some(name) = self.name_of(word) else {
            let written = self.lexer.slice(word.span);
            self.lexer.diagnostics.push(
                Diagnostic::error(&mistakes::INVALID_NAME, word.span, format!("`{written}` can't be a name"))
                    .help("a name has letters, digits, `_` and `-`, and starts with a letter or `_`; a column with other characters is named with `_` in their places"),
            );
            return None;
        };
        let wrong = if before.iter().any(|known| known.text == name.text) {
            "stands here twice"
        } else if RESERVED.contains(&&*name.text) {
            "has a meaning of its own"
        } else {
            return Some(name);
        };
        self.lexer.diagnostics.push(
            Diagnostic::error(
                &mistakes::RESERVED_NAME,
                word.span,
                format!("`{}` {wrong}", name.text),
            )
            .help("choose another name"),
        );
        None
    }

    /// `env NAME = WORDS`, or `env file FILE`; below a target or a task, and at the left edge.
    pub fn env(&mut self, range: SourceRange, behind: usize, span: Span) -> Option<ClauseKind> {
        let mut words = self.words(range, behind);
        if words.len() > 1
            && self.is(&words[1], "=")
            && let Some(name) = self.name_of(&words[0])
        {
            return Some(ClauseKind::Env(name, words.split_off(2)));
        }
        if words.len() > 1 && self.is(&words[0], "file") {
            words.remove(0);
            let if_there = self.take_if_there(&mut words);
            let what = "a file with lines `NAME=value`; `if there` behind it lets it be missing";
            let file = self.one_word(span, words, "env file", what)?;
            return Some(ClauseKind::EnvFile(EnvFile { file, if_there }));
        }
        self.lexer.diagnostics.push(
            Diagnostic::error(
                &mistakes::INCOMPLETE_CLAUSE,
                span,
                "`env` does not have a name, `=` and words",
            )
            .help("write for example `env LANG = C`, the `=` between spaces, or `env file .env`"),
        );
        None
    }

    /// Takes `if there` off the end.
    pub fn take_if_there(&self, words: &mut Vec<Word>) -> bool {
        let is = match &words[..] {
            [.., first, second] => self.is(first, "if") && self.is(second, "there"),
            _ => false,
        };
        if is {
            words.truncate(words.len() - 2);
        }
        is
    }

    pub fn store(&mut self, at: At) -> Option<ClauseKind> {
        let words = self.words(at.range, at.behind);
        let how = |word: &Word| match self.lexer.slice(word.span) {
            "always" => Some(StoreHow::Always),
            "never" => Some(StoreHow::Never),
            _ => None,
        };
        if let [word] = &words[..]
            && let Some(how) = how(word)
        {
            return Some(ClauseKind::Store(how));
        }
        let wrong = words
            .iter()
            .find(|word| how(word).is_none())
            .or(words.get(1));
        let span = wrong.map_or(at.span, |word| word.span);
        self.lexer.diagnostics.push(
            Diagnostic::error(
                &mistakes::INCOMPLETE_CLAUSE,
                span,
                "`store` is followed by `always` or `never`",
            )
            .help("`store always` keeps what took little time too, `store never` nothing"),
        );
        None
    }
}
