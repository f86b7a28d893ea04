//! The clauses of a `target` or a `task`.

use std::cmp::Ordering;

use crate::language::foreign_syntax;
use crate::language::lines::compare_indent;
use crate::language::parser::Parser;
use crate::language::parser::SourceRange;
use crate::language::syntax::Clause;
use crate::language::syntax::ClauseKind;
use crate::language::syntax::LearnHow;
use crate::language::syntax::Manner;
use crate::language::syntax::Name;
use crate::language::syntax::Script;
use crate::language::syntax::Word;
use crate::language::syntax::WordKind;
use crate::language::syntax::WordPart;
use crate::language::tidy::LineRole;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

/// Clauses that only one of the two kinds has.
const TARGET_ONLY: &[&str] = &[
    "each", "learn", "store", "always", "resumes", "guarded", "fleeting",
];
const TASK_ONLY: &[&str] = &["terminal", "remember", "stays", "ready", "steps"];

/// Clauses that may stand more than once.
const REPEATABLE: &[&str] = &["needs", "after", "each", "given", "let", "env", "takes"];

/// What a clause's parser is given: its lines, the offset behind its keyword, the keyword's place.
#[derive(Clone, Copy)]
pub struct At {
    pub range: SourceRange,
    pub behind: usize,
    pub span: Span,
}

impl<'a> Parser<'a> {
    pub fn clauses(
        &mut self,
        first: usize,
        end: usize,
        indent: &str,
        owner: &'static str,
    ) -> Vec<Clause> {
        let start = self.clause_buffer.len();
        let mut seen: Vec<(&'a str, Span)> = Vec::new();
        let mut at = first;
        while let Some(index) = self.next_content(at, end) {
            let line = self.lines[index];
            if compare_indent(line.indent(self.lexer.text), indent) != Some(Ordering::Equal) {
                // Behind the block's own words, and of the clauses none that it could continue.
                let clause =
                    (first..end).find(|&at| self.lines[at].indent(self.lexer.text) == indent);
                self.mixed_indent(index, clause.unwrap_or(index));
                at = index + 1;
                continue;
            }
            self.role(index, LineRole::Clause);
            let range = SourceRange {
                first: index,
                end: self.extent(index, end),
            };
            at = range.end;
            let (keyword, behind) = self.keyword(line);
            let span = self.lexer.span(line.text as usize, behind);
            self.check_keyword(keyword, span, owner, &mut seen);
            let kind = self.clause(
                keyword,
                At {
                    range,
                    behind,
                    span,
                },
                owner,
            );
            self.clause_buffer
                .extend(kind.map(|kind| Clause { span, kind }));
        }
        self.clause_buffer.drain(start..).collect()
    }

    fn check_keyword(
        &mut self,
        keyword: &'a str,
        span: Span,
        owner: &str,
        seen: &mut Vec<(&'a str, Span)>,
    ) {
        let wrong_owner = (owner == "target" && TASK_ONLY.contains(&keyword))
            || (owner == "task" && TARGET_ONLY.contains(&keyword));
        if wrong_owner {
            let other = if owner == "target" { "task" } else { "target" };
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::UNKNOWN_CLAUSE,
                    span,
                    format!("a {owner} has no `{keyword}`"),
                )
                .help(format!(
                    "`{keyword}` belongs to a {other}; leave it out here"
                )),
            );
        }
        if REPEATABLE.contains(&keyword) {
            return;
        }
        match seen.iter().find(|(earlier, _)| *earlier == keyword) {
            Some((_, earlier)) => self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::REPEATED_CLAUSE,
                    span,
                    format!("`{keyword}` stands here twice"),
                )
                .also(*earlier, "first here")
                .help("put both into one"),
            ),
            None => seen.push((keyword, span)),
        }
    }

    /// A clause that is one word.
    fn of_one_word(&mut self, keyword: &str, at: At) -> Option<ClauseKind> {
        let (what, kind): (_, fn(Word) -> ClauseKind) = match keyword {
            "in" => ("the folder to run in", ClauseKind::In),
            "limit" => ("a time, such as `90s` or `5m`", ClauseKind::Limit),
            "on" => ("the place where it runs, such as `cluster`", ClauseKind::On),
            _ => ("how often to try again, such as `2`", ClauseKind::Retry),
        };
        let words = self.words(at.range, at.behind);
        self.one_word(at.span, words, keyword, what).map(kind)
    }

    fn clause(&mut self, keyword: &str, at: At, owner: &str) -> Option<ClauseKind> {
        let At {
            range,
            behind,
            span,
        } = at;
        match keyword {
            "about" => self.about(at),
            "needs" => {
                let words = self.plain_words(at, "needs")?;
                self.check_needs_words(&words);
                Some(ClauseKind::Needs(self.groups(words, owner == "target")))
            }
            "after" => {
                let words = self.words(range, behind);
                self.some_words(span, words, "after", "files or tasks")
                    .map(ClauseKind::After)
            }
            "each" => self.each(at),
            "learn" => self.learn(at),
            "given" => self.given(at),
            "let" => self
                .top_let(range, behind, span)
                .map(|set| ClauseKind::Let(Box::new(set))),
            "env" => self.env(range, behind, span),
            "when" => {
                let words = self.words(range, behind);
                self.condition(&words, span)
                    .map(|when| ClauseKind::When(Box::new(when)))
            }
            "takes" => self.takes(at),
            "in" | "limit" | "retry" | "on" => self.of_one_word(keyword, at),
            "terminal" => self.alone(at, ClauseKind::Terminal),
            "remember" => self.alone(at, ClauseKind::Remember),
            "stays" => self.alone(at, ClauseKind::Stays),
            "ready" => self
                .script(at, "ready")
                .map(|script| ClauseKind::Ready(Box::new(script))),
            "always" => self.alone(at, ClauseKind::Manner(Manner::Always)),
            "resumes" => self.alone(at, ClauseKind::Manner(Manner::Resumes)),
            "guarded" => self.alone(at, ClauseKind::Manner(Manner::Guarded)),
            "fleeting" => self.alone(at, ClauseKind::Manner(Manner::Fleeting)),
            "sealed" => self.sealed(at),
            "store" => self.store(at),
            "steps" => {
                let words = self.words(range, behind);
                self.some_words(span, words, "steps", "tasks and targets, in order")
                    .map(ClauseKind::Steps)
            }
            "finally" => self.finally(at),
            "recipe" => self
                .script(at, "recipe")
                .map(|script| ClauseKind::Recipe(Box::new(script))),
            _ => {
                let line = self.lines[range.first];
                let written = &self.lexer.text[line.text as usize..line.end as usize];
                let diagnostic = foreign_syntax::unknown_clause(span, keyword, written, owner);
                self.lexer.diagnostics.push(diagnostic);
                None
            }
        }
    }

    /// Words that belong to other places.
    fn check_needs_words(&mut self, words: &[Word]) {
        let is_each = |word: &Word| self.is(word, "each");
        let each = words.first().is_some_and(is_each);
        for (at, word) in words.iter().enumerate().skip(1) {
            let help = if each && at == 2 && self.is(word, "in") {
                "write `each NAME in WORDS` as a clause of its own; what follows `needs each` is one pattern"
            } else {
                continue;
            };
            let written = self.lexer.slice(word.span).to_owned();
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::MISPLACED_WORD,
                    word.span,
                    format!("`{written}` has no meaning after `needs`"),
                )
                .help(help),
            );
        }
    }

    fn colon_at(&self, at: At) -> Option<usize> {
        (self.lexer.text.as_bytes().get(at.behind) == Some(&b':')).then_some(at.behind)
    }

    /// Words behind a keyword that takes no colon of its own.
    fn plain_words(&mut self, at: At, keyword: &str) -> Option<Vec<Word>> {
        if self.colon_at(at).is_some() {
            self.lexer.diagnostics.push(
                Diagnostic::error(&mistakes::MISSING_COLON, at.span, format!("`{keyword}` is not followed by a colon"))
                    .help(format!("write `{keyword}` and the words behind it; a colon stands only where raw text follows"))
                    .instead(self.lexer.span(at.behind, at.behind + 1), ""),
            );
            return None;
        }
        self.read_tokens(at.range, at.behind);
        let words = self.tokens.drain(..).collect();
        self.some_words(
            at.span,
            words,
            keyword,
            "files, or indented lines `label: files`",
        )
    }

    fn about(&mut self, at: At) -> Option<ClauseKind> {
        let Some(colon) = self.colon_at(at) else {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::MISSING_COLON,
                    at.span,
                    "`about` is not followed by a colon",
                )
                .help("write `about: text`")
                .instead(self.lexer.span(at.behind, at.behind), ":"),
            );
            return None;
        };
        let text = self.lexer.text;
        let raw = self.raw_lines(at.range, colon);
        Some(ClauseKind::About(raw.plain(text)))
    }

    fn script(&mut self, at: At, keyword: &str) -> Option<Script> {
        let (with, colon) = match self.colon_at(at) {
            Some(colon) => (None, colon),
            None => self.interpreter(at, keyword)?,
        };
        let line_end = self.lines[at.range.first].end as usize;
        let rest = self.lexer.text[colon + 1..line_end].trim();
        if rest == "|" || rest == ">" {
            let span = self.lexer.span(colon + 1, line_end);
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::SURPLUS_SIGN,
                    span,
                    format!("`{rest}` behind `{keyword}:` is taken as the script"),
                )
                .help("leave it out: indented lines below belong to the script as they are")
                .instead(span, ""),
            );
        }
        let raw = self.raw_lines(at.range, colon);
        if raw.is_empty() {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::MISSING_SCRIPT,
                    at.span,
                    format!("`{keyword}:` is not followed by a script"),
                )
                .help("write the command behind the colon, or below it, indented"),
            );
            return None;
        }
        let span = raw.span(&self.lexer);
        let pieces = raw.pieces(&mut self.lexer);
        Some(Script { with, span, pieces })
    }

    /// `finally: SCRIPT`, `finally with INTERPRETER: SCRIPT`, or `finally TASKS`
    fn finally(&mut self, at: At) -> Option<ClauseKind> {
        let rest = &self.lexer.text[at.behind..self.lines[at.range.first].end as usize];
        let first = rest.split_whitespace().next();
        if self.colon_at(at).is_some() || matches!(first, None | Some("with")) {
            let script = self.script(at, "finally")?;
            return Some(ClauseKind::Finally(Box::new(script)));
        }
        let words = self.words(at.range, at.behind);
        Some(ClauseKind::FinallyTasks(words))
    }

    /// `with INTERPRETER…:` up to the first word that ends with a colon.
    fn interpreter(&mut self, at: At, keyword: &str) -> Option<(Option<Vec<Word>>, usize)> {
        let end = self.lines[at.range.first].end as usize;
        let mut position = at.behind;
        let mut words = Vec::new();
        loop {
            let rest = &self.lexer.text[position..end];
            position += rest.len() - rest.trim_start().len();
            if position >= end {
                break;
            }
            let (mut word, next) = self.lexer.word(position, end);
            position = next;
            let written = self.lexer.slice(word.span);
            if take_colon(&mut word, written) {
                if !word.span.is_empty() {
                    words.push(word);
                }
                if words.len() > 1 && self.is(&words[0], "with") {
                    words.remove(0);
                    return Some((Some(words), next - 1));
                }
                break;
            }
            words.push(word);
        }
        let wrong = Diagnostic::error(
            &mistakes::MISSING_COLON,
            at.span,
            format!("`{keyword}` is not followed by a colon"),
        )
        .help(format!(
            "write `{keyword}: COMMAND`, or `{keyword} with INTERPRETER:` and the script"
        ));
        let with = words.first().is_some_and(|word| self.is(word, "with"));
        self.lexer.diagnostics.push(match with || words.is_empty() {
            true => wrong,
            false => wrong.perhaps(self.lexer.span(at.behind, at.behind), ":"),
        });
        None
    }

    fn learn(&mut self, at: At) -> Option<ClauseKind> {
        let mut words = self.words(at.range, at.behind);
        let mut how = LearnHow::Listing;
        if let Some(first) = words.first() {
            if self.is(first, "lines") {
                how = LearnHow::Lines;
            } else if self.is(first, "watched") {
                how = LearnHow::Watched;
            }
        }
        if how != LearnHow::Listing {
            words.remove(0);
        }
        if how == LearnHow::Watched {
            if words
                .first()
                .is_some_and(|word| self.is(word, "everywhere"))
            {
                words.remove(0);
                how = LearnHow::WatchedEverywhere;
            }
            if let Some(extra) = words.first() {
                self.lexer.diagnostics.push(
                    Diagnostic::error(&mistakes::SURPLUS_WORDS, extra.span, "`learn watched` takes no file")
                        .help("leave it out; `learn watched everywhere` also learns of files outside of the project"),
                );
            }
            return Some(ClauseKind::Learn(how, None));
        }
        let file = if words.is_empty() {
            None
        } else {
            self.one_word(at.span, words, "learn", "`lines` and one file at most")
        };
        Some(ClauseKind::Learn(how, file.map(Box::new)))
    }

    fn given(&mut self, at: At) -> Option<ClauseKind> {
        let mut words = self.words(at.range, at.behind);
        let kind = words
            .first()
            .map_or("", |word| self.lexer.slice(word.span))
            .to_owned();
        if words.len() > 1 {
            words.remove(0);
            match &*kind {
                "env" => return Some(ClauseKind::GivenEnv(words)),
                "output" => return Some(ClauseKind::GivenOutput(words)),
                _ => {}
            }
        }
        self.lexer.diagnostics.push(
            Diagnostic::error(
                &mistakes::INCOMPLETE_CLAUSE,
                at.span,
                "`given` is not followed by `env` or `output` and words",
            )
            .help("write `given env NAME`, or `given output COMMAND`"),
        );
        None
    }

    fn takes(&mut self, at: At) -> Option<ClauseKind> {
        let words = self.words(at.range, at.behind);
        let words = self.some_words(
            at.span,
            words,
            "takes",
            "amounts, such as `cores=2 memory=4G`",
        )?;
        let mut taken = Vec::new();
        for word in words {
            let written = self.lexer.slice(word.span);
            let split = written.find('=').filter(|&at| {
                crate::language::names::is_name(&written[..at]) && at + 1 < written.len()
            });
            let Some(equals) = split else {
                self.lexer.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::UNREADABLE_AMOUNT,
                        word.span,
                        format!("`{written}` is no amount"),
                    )
                    .help("write `name=amount` without spaces, such as `cores=2`"),
                );
                continue;
            };
            let start = word.span.start as usize;
            let end = word.span.end as usize;
            let name = Name {
                text: written[..equals].into(),
                span: self.lexer.span(start, start + equals),
            };
            taken.push((name, self.lexer.word(start + equals + 1, end).0));
        }
        Some(ClauseKind::Takes(taken))
    }

    fn alone(&mut self, at: At, kind: ClauseKind) -> Option<ClauseKind> {
        let words = self.words(at.range, at.behind);
        if let Some(extra) = words.first() {
            let keyword = self.lexer.slice(at.span);
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::SURPLUS_WORDS,
                    extra.span,
                    format!("`{keyword}` stands alone"),
                )
                .help("leave out what stands behind it"),
            );
        }
        Some(kind)
    }
}

/// Takes an unquoted colon off the end of a word.
fn take_colon(word: &mut Word, written: &str) -> bool {
    match &mut word.kind {
        WordKind::Plain if written.ends_with(':') => {}
        WordKind::Mixed(parts) => match parts.last_mut() {
            Some(WordPart::Text {
                text,
                quoted: false,
            }) if text.ends_with(':') => {
                text.pop();
                if text.is_empty() {
                    parts.pop();
                }
            }
            _ => return false,
        },
        WordKind::Plain => return false,
    }
    word.span.end -= 1;
    true
}
