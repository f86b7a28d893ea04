//! `let`, and the forms of its value.

use crate::language::names::RESERVED;
use crate::language::names::is_name;
use crate::language::parser::Parser;
use crate::language::parser::SourceRange;
use crate::language::syntax::Name;
use crate::language::syntax::Word;
use crate::language::syntax::WordKind;
use crate::language::value_syntax::Let;
use crate::language::value_syntax::LetHow;
use crate::language::value_syntax::ValueSyntax;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

impl Parser<'_> {
    pub fn top_let(&mut self, range: SourceRange, behind: usize, span: Span) -> Option<Let> {
        let mut words = self.words(range, behind);
        let whole = words.last().map_or(span, |last| span.to(last.span));
        let when = self.take_when(&mut words);
        let (name, how, rest) = self.let_head(&words, span)?;
        if RESERVED.contains(&&*name.text) {
            self.lexer.diagnostics.push(
                Diagnostic::error(
                    &mistakes::RESERVED_NAME,
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
                Diagnostic::error(
                    &mistakes::INCOMPLETE_LET,
                    span,
                    "`let` is not followed by a name",
                )
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
        let wrong = Diagnostic::error(
            &mistakes::INCOMPLETE_LET,
            second.map_or(name.span, |word| word.span),
            format!(
                "`let {}` is not followed by `=`, `+=` or `one of`",
                name.text
            ),
        )
        .help(format!("write `let {} = words`", name.text));
        self.lexer.diagnostics.push(match second {
            Some(second) => wrong.perhaps(second.span.part(0, 0), "= "),
            None => wrong,
        });
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
                Diagnostic::error(
                    &mistakes::LET_WITHOUT_SPACES,
                    word.span,
                    "the `=` of a `let` stands between spaces",
                )
                .help(format!("write `let {name} {operator} {value}`"))
                .instead(word.span, format!("{name} {operator} {value}"))
            }
            None => Diagnostic::error(
                &mistakes::INVALID_NAME,
                word.span,
                format!("`{written}` can't be a variable's name"),
            )
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
            "only" => {
                words.remove(0);
                self.only(words, keyword)
            }
            "value" => {
                words.remove(0);
                self.file_value(words, keyword)
            }
            "lines" => {
                words.remove(0);
                let what = "a file, each line of which is a word";
                self.one_word(keyword, words, "lines", what)
                    .map(ValueSyntax::FileLines)
            }
            "table" => {
                words.remove(0);
                self.column(words, keyword)
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
            Diagnostic::error(&mistakes::INCOMPLETE_LET, keyword, "`match` does not have its three parts")
                .help("write `match PATTERN into PATTERN : words`, the colon between spaces, such as `match src/<u>.c into out/<u>.o : @{sources}`"),
        );
        None
    }

    fn only(&mut self, words: Vec<Word>, keyword: Span) -> Option<ValueSyntax> {
        let colon = words.iter().position(|word| self.is(word, ":"));
        if let Some(at) = colon.filter(|&at| at > 0) {
            let mut patterns = words;
            let words = patterns.split_off(at + 1);
            patterns.pop();
            return Some(ValueSyntax::Only { patterns, words });
        }
        self.lexer.diagnostics.push(
            Diagnostic::error(&mistakes::INCOMPLETE_LET, keyword, "`only` does not have its two parts")
                .help("write `only PATTERN… : words`, the colon between spaces, such as `only *.c *.h : @{sources}`"),
        );
        None
    }

    fn file_value(&mut self, words: Vec<Word>, keyword: Span) -> Option<ValueSyntax> {
        let mut words = words.into_iter();
        if let (Some(file), true) = (words.next(), words.len() > 0) {
            let key = words.collect();
            return Some(ValueSyntax::FileValue { file, key });
        }
        self.lexer.diagnostics.push(
            Diagnostic::error(&mistakes::INCOMPLETE_LET, keyword, "`value` is not followed by a file and a key").help(
                "write for example `value params.toml model.rate`; a key that has dots in it goes in quotes",
            ),
        );
        None
    }

    fn column(&mut self, mut words: Vec<Word>, keyword: Span) -> Option<ValueSyntax> {
        let rows = self.take_where(&mut words)?;
        if let [file, take, column] = &words[..]
            && self.is(take, "take")
        {
            return Some(ValueSyntax::Column {
                file: file.clone(),
                take: column.clone(),
                rows,
            });
        }
        self.lexer.diagnostics.push(
            Diagnostic::error(&mistakes::INCOMPLETE_LET, keyword, "`table` does not have a file, `take` and a column")
                .help("write for example `table samples.csv take file`, and behind it `where group is control` for some of the rows"),
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
}
