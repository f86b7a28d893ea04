//! Clauses that are a keyword with one word of a few behind it.

use crate::language::clauses::At;
use crate::language::parser::Parser;
use crate::language::syntax::ClauseKind;
use crate::language::syntax::SealHow;
use crate::language::syntax::StoreHow;
use crate::language::syntax::Word;
use crate::text::Diagnostic;

impl Parser<'_> {
    pub fn sealed(&mut self, at: At) -> Option<ClauseKind> {
        let words = self.words(at.range, at.behind);
        match &words[..] {
            [] => Some(ClauseKind::Sealed(SealHow::Plainly)),
            [word] if self.is(word, "strictly") => Some(ClauseKind::Sealed(SealHow::Strictly)),
            [word, ..] => {
                self.lexer.diagnostics.push(
                    Diagnostic::error(word.span, "`sealed` is not followed by this")
                        .help("write `sealed` alone, or `sealed strictly`"),
                );
                None
            }
        }
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
            Diagnostic::error(span, "`store` is followed by `always` or `never`")
                .help("`store always` keeps what took little time too, `store never` nothing"),
        );
        None
    }
}
