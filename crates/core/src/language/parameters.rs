//! The parameters of a `task`.

use crate::language::names::RESERVED;
use crate::language::names::is_name;
use crate::language::parser::Parser;
use crate::language::syntax::Name;
use crate::language::syntax::Parameter;
use crate::language::syntax::Word;
use crate::language::syntax::WordKind;
use crate::text::Diagnostic;
use crate::text::mistakes;

impl Parser<'_> {
    pub fn parameters(&mut self, words: &[Word]) -> Vec<Parameter> {
        let mut parameters: Vec<Parameter> = Vec::new();
        let mut at = 0;
        while let Some(word) = words.get(at) {
            at += 1;
            let Some(mut parameter) = self.parameter(word) else {
                continue;
            };
            if self.has_choices(&words[at..]) {
                at += 2;
                let choices = words[at..].iter().enumerate();
                let ends =
                    |&(index, _): &(usize, &Word)| self.is_other_parameter(&words[at + index..]);
                let count = choices
                    .clone()
                    .find(ends)
                    .map_or(words.len() - at, |(index, _)| index);
                parameter.choices = words[at..at + count].to_vec();
                at += count;
                self.check_choices(&parameter);
            }
            if RESERVED.contains(&&*parameter.name.text) {
                self.lexer.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::RESERVED_NAME,
                        parameter.name.span,
                        format!("`{}` has a meaning of its own", parameter.name.text),
                    )
                    .help("choose another name for the parameter"),
                );
            }
            if let Some(earlier) = parameters
                .iter()
                .find(|p| p.name.text == parameter.name.text)
            {
                self.lexer.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::REPEATED_PARAMETER,
                        parameter.name.span,
                        format!("the parameter `{}` stands here twice", parameter.name.text),
                    )
                    .also(earlier.name.span, "first here")
                    .help("choose another name"),
                );
                continue;
            }
            if let Some(rest) = parameters.iter().find(|p| p.rest) {
                self.lexer.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::PARAMETER_ORDER,
                        parameter.name.span,
                        format!(
                            "`{}` stands behind one that takes all the rest",
                            parameter.name.text
                        ),
                    )
                    .also(rest.name.span, "takes the rest")
                    .help("let the one that takes the rest be the last"),
                );
            }
            let optional_before = parameters.iter().find(|p| !p.is_required());
            if let (Some(optional), true) = (optional_before, parameter.is_required()) {
                self.lexer.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::PARAMETER_ORDER,
                        parameter.name.span,
                        format!(
                            "`{}` must be given, but stands behind one that need not",
                            parameter.name.text
                        ),
                    )
                    .also(optional.name.span, "has a value of its own")
                    .help("put the parameters that must be given first"),
                );
            }
            parameters.push(parameter);
        }
        parameters
    }

    /// `name` or `name=default`; the default is the rest of the word, quotes and all.
    fn parameter(&mut self, word: &Word) -> Option<Parameter> {
        let written = self.lexer.slice(word.span);
        let (name, default) = match written.find('=') {
            Some(at) => (&written[..at], Some(at + 1)),
            None => (written, None),
        };
        let plain = name.strip_suffix('…').or_else(|| name.strip_suffix("..."));
        let rest = plain.is_some() && default.is_none();
        let name = plain.filter(|_| rest).unwrap_or(name);
        let start = word.span.start as usize;
        if !is_name(name) {
            self.lexer.diagnostics.push(
                Diagnostic::error(&mistakes::INVALID_NAME, word.span, format!("`{written}` can't be a parameter"))
                    .help("write `name`, `name=value` for one that need not be given, `name one of words`, or `name…` for all the rest"),
            );
            return None;
        }
        let default = default.map(|at| {
            let end = word.span.end as usize;
            if start + at < end {
                self.lexer.word(start + at, end).0
            } else {
                Word {
                    span: self.lexer.span(end, end),
                    kind: WordKind::Mixed(Vec::new()),
                }
            }
        });
        Some(Parameter {
            name: Name {
                text: name.into(),
                span: self.lexer.span(start, start + name.len()),
            },
            default,
            choices: Vec::new(),
            rest,
        })
    }

    /// Whether the words of a parameter stand there: `one of`.
    fn has_choices(&self, words: &[Word]) -> bool {
        matches!(words, [one, of, ..] if self.is(one, "one") && self.is(of, "of"))
    }

    /// Whether another parameter begins behind the words of one.
    fn is_other_parameter(&self, words: &[Word]) -> bool {
        let [word, behind @ ..] = words else {
            return false;
        };
        let written = self.lexer.slice(word.span);
        let name = written.split_once('=').map(|(name, _)| name);
        let is_rest = written.ends_with('…') || written.ends_with("...");
        name.is_some_and(is_name) || is_rest || self.has_choices(behind)
    }

    fn check_choices(&mut self, parameter: &Parameter) {
        let wrong = if parameter.choices.is_empty() {
            "`one of` is not followed by words"
        } else if parameter.default.is_some() || parameter.rest {
            "`one of` stands behind a plain name"
        } else {
            return;
        };
        self.lexer.diagnostics.push(
            Diagnostic::error(&mistakes::UNREADABLE_CHOICES, parameter.name.span, wrong)
                .help("write for example `task flash board one of uno mega`; the first is taken when none is given"),
        );
    }
}
