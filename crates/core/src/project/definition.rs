//! What a definition comes to: words, a variable of the environment, what a command prints, files, a secret.

use crate::language::Let;
use crate::language::LetHow;
use crate::language::ValueSyntax as Written;
use crate::language::Word;
use crate::project::environment::OutputError;
use crate::project::folders::Unreadable;
use crate::project::frame::Frame;
use crate::project::overrides::Override;
use crate::project::paths::relative;
use crate::project::pattern::fill_holes;
use crate::project::pattern::unescape;
use crate::project::secret;
use crate::project::value::Atom;
use crate::project::value::Value;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

impl<'d> Vars<'d> {
    /// Refuses a value from outside that is none of a variable's words.
    pub(super) fn one_of(
        &self,
        name: &str,
        definitions: &[&'d Let],
        value: Value,
        span: Span,
        frame: &Frame<'_>,
    ) -> Option<Value> {
        let choices = definitions
            .iter()
            .rev()
            .find(|definition| definition.how == LetHow::OneOf);
        let Some(definition) = choices else {
            return Some(value);
        };
        let Written::Words(words) = &definition.value else {
            return Some(value);
        };
        let allowed = self.words(words, frame)?;
        let single = value.atoms.len() == 1;
        if single && allowed.texts().any(|text| text == &*value.atoms[0].text) {
            return Some(value);
        }
        let given: Vec<&str> = value.texts().collect();
        let list: Vec<&str> = allowed.texts().collect();
        self.report(
            Diagnostic::error(
                &mistakes::NOT_A_CHOICE,
                span,
                format!("`{}` is no value of `{name}`", given.join(" ")),
            )
            .also(definition.span, "the choices")
            .help(format!("it is one of: {}", list.join(", "))),
        );
        None
    }

    /// A value with the words behind it that `--let name+=words` adds.
    pub(super) fn added_outside(
        &self,
        name: &str,
        definitions: &[&'d Let],
        before: &Value,
        set: &Override,
        frame: &Frame<'_>,
    ) -> Option<Value> {
        if let Some(choices) = definitions.iter().find(|set| set.how == LetHow::OneOf) {
            self.report(
                Diagnostic::error(
                    &mistakes::NOTHING_TO_ADD_TO,
                    set.span,
                    format!("nothing can be added to `{name}`"),
                )
                .also(choices.span, "it is one of these")
                .help(format!("choose one: `--let {name}=…`")),
            );
            return None;
        }
        let more = self.words(&set.words, frame)?;
        Some(Value {
            atoms: before
                .atoms
                .iter()
                .chain(more.atoms.iter())
                .cloned()
                .collect(),
            list: true,
        })
    }

    /// What one `let` sets, in a frame of its own names.
    pub fn definition(&self, definition: &Let, frame: &Frame<'_>) -> Option<Value> {
        match &definition.value {
            Written::Words(words) if definition.how == LetHow::OneOf => {
                let value = self.words(words, frame)?;
                let first = value.atoms.first()?.clone();
                Some(Value {
                    atoms: [first].into(),
                    list: false,
                })
            }
            Written::Words(words) => self.words(words, frame),
            Written::Files { patterns, except } => self.files(patterns, except, frame),
            Written::Env { name, or } => self.env(definition, name, or.as_deref(), frame),
            Written::Output(command) => self.output(definition.span, command, frame),
            Written::Secret(name) => self.secret(definition, name, frame),
            Written::Match { from, into, words } => self.rewritten(from, into, words, frame),
            Written::Only { patterns, words } => self.picked(patterns, words, frame),
            Written::FileValue { file, key } => self.file_value(file, key, frame),
            Written::FileLines(file) => self.file_lines(file, frame),
            Written::Column { file, take, rows } => {
                self.file_column(file, take, rows.as_ref(), frame)
            }
        }
    }

    fn env(
        &self,
        definition: &Let,
        name: &Word,
        or: Option<&[Word]>,
        frame: &Frame<'_>,
    ) -> Option<Value> {
        let name_span = name.span;
        let name = self.single(name, frame)?;
        if let Some(text) = self.environment.env(&name.text) {
            let words: Vec<&str> = text.split_whitespace().collect();
            let list = words.len() != 1;
            return Some(Value {
                list,
                ..Value::list(words)
            });
        }
        let Some(or) = or else {
            self.report(
                Diagnostic::error(
                    &mistakes::UNSET_ENVIRONMENT,
                    name_span,
                    format!("the environment variable `{}` is not set", name.text),
                )
                .help(format!(
                    "set it, or say what holds without it: `let {} = env {} or …`",
                    definition.name.text, name.text
                )),
            );
            return None;
        };
        self.words(or, frame)
    }

    /// The words that a command prints.
    fn output(&self, span: Span, command: &[Word], frame: &Frame<'_>) -> Option<Value> {
        let command: Vec<String> = self
            .words(command, frame)?
            .texts()
            .map(str::to_owned)
            .collect();
        let folder = &self.description.parts[frame.part.index()].folder;
        match self.environment.output(&command, folder) {
            Ok(text) => Some(Value::list(text.split_whitespace())),
            // A command that only reads shows where the value would stand.
            Err(OutputError::NotAsked) => {
                Some(Value::list([format!("‹output of {}›", command.join(" "))]))
            }
            Err(how) => {
                self.report(
                    Diagnostic::error(
                        &mistakes::FAILED_COMMAND_VALUE,
                        span,
                        format!("`{}` {how}", command.join(" ")),
                    )
                    .help(
                        "the value of this variable is what the command prints; see that it runs",
                    ),
                );
                None
            }
        }
    }

    fn secret(&self, definition: &Let, name: &Word, frame: &Frame<'_>) -> Option<Value> {
        let variable = self.single(name, frame)?;
        let is_plain = !variable.text.is_empty()
            && variable
                .text
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || c == '_')
            && !variable.text.starts_with(|c: char| c.is_ascii_digit());
        if !is_plain {
            self.report(
                Diagnostic::error(
                    &mistakes::INVALID_ENVIRONMENT_NAME,
                    name.span,
                    format!(
                        "`{}` can't be the name of an environment variable",
                        variable.text
                    ),
                )
                .help(format!(
                    "write `let {} = secret NAME`",
                    definition.name.text
                )),
            );
            return None;
        }
        Some(Value::word(secret::placeholder(&variable.text)))
    }

    /// The value of a secret, by the environment variable that holds it; one that is not set is reported.
    pub fn secret_value(&self, variable: &str, span: Span) -> Option<String> {
        let value = self.environment.secret(variable);
        if value.is_none() {
            self.report(
                Diagnostic::error(
                    &mistakes::UNSET_ENVIRONMENT,
                    span,
                    format!(
                        "the environment variable `{variable}`, which holds a secret, is not set"
                    ),
                )
                .help(format!("set it for this run: `{variable}=… handloom …`")),
            );
        }
        value
    }

    /// A text as it is compared and written down: in a secret's place stands a digest that only this user
    /// can make.
    pub fn compared(&self, text: String, span: Span) -> Option<String> {
        if !secret::is_in(&text) {
            return Some(text);
        }
        let key = self.environment.secret_key();
        let digest = |variable: &str| {
            let value = self.secret_value(variable, span)?;
            let digest = blake3::keyed_hash(&key, value.as_bytes());
            Some(format!("{}{}", secret::SHOWN, &digest.to_hex()[..16]))
        };
        Some(secret::filled(&text, digest)?.into_owned())
    }

    fn rewritten(
        &self,
        from: &Word,
        into: &Word,
        words: &[Word],
        frame: &Frame<'_>,
    ) -> Option<Value> {
        let pattern = self.pattern(&self.single(from, frame)?.source(), from.span)?;
        let into_source = self.single(into, frame)?.source().into_owned();
        let words = self.words(words, frame)?;
        let mut atoms = Vec::with_capacity(words.atoms.len());
        let mut unmatched: Vec<&str> = Vec::new();
        for atom in words.atoms.iter() {
            let Some(captures) = pattern.captures(&atom.text) else {
                unmatched.push(&*atom.text);
                continue;
            };
            let (filled, left) = fill_holes(&into_source, |name| {
                let at = pattern.holes().iter().position(|hole| hole == name)?;
                Some(&atom.text[captures[at].0..captures[at].1])
            });
            if left {
                self.report(
                    Diagnostic::error(
                        &mistakes::UNFILLED_INTO,
                        into.span,
                        "this pattern has a hole or wildcard that the first one does not fill",
                    )
                    .also(from.span, "filled from here")
                    .help("use only holes of the first pattern"),
                );
                return None;
            }
            atoms.push(Atom::literal(unescape(&filled)));
        }
        if !unmatched.is_empty() {
            self.unmatched(from, &unmatched);
            return None;
        }
        Some(Value {
            atoms: atoms.into(),
            list: true,
        })
    }

    /// Reports words that a rewriting does not know what to do with.
    fn unmatched(&self, from: &Word, words: &[&str]) {
        const MOST: usize = 5;
        let mut shown: Vec<String> = words
            .iter()
            .take(MOST)
            .map(|word| format!("`{word}`"))
            .collect();
        if words.len() > MOST {
            shown.push(format!("and {} more", words.len() - MOST));
        }
        let pattern = self.description.sources.slice(from.span);
        self.report(
            Diagnostic::error(
                &mistakes::UNMATCHED_WORD,
                from.span,
                format!("{} does not match this pattern", shown.join(", ")),
            )
            .help(format!(
                "pick the words that do first: `let some = only {} : …`",
                stars(pattern)
            )),
        );
    }

    /// The words that match one of these patterns.
    fn picked(&self, patterns: &[Word], words: &[Word], frame: &Frame<'_>) -> Option<Value> {
        let mut wanted = Vec::new();
        for word in patterns {
            for atom in self.word(word, frame)?.atoms.iter() {
                wanted.push(self.pattern(&atom.source(), word.span)?);
            }
        }
        let words = self.words(words, frame)?;
        let atoms = words.atoms.iter();
        let atoms = atoms.filter(|atom| wanted.iter().any(|pattern| pattern.matches(&atom.text)));
        Some(Value {
            atoms: atoms.cloned().collect(),
            list: true,
        })
    }

    /// Reports a folder that can't be read; what a pattern matches is then not known.
    pub fn check_walk(&self, walked: Result<(), Unreadable>, span: Span) -> Option<()> {
        let Err(unreadable) = walked else {
            return Some(());
        };
        let folder = match unreadable.folder.as_str() {
            "" => "./",
            folder => folder,
        };
        self.report(
            Diagnostic::error(
                &mistakes::UNREADABLE_FOLDER,
                span,
                format!(
                    "the folder `{folder}`, in which this pattern looks, can't be read: {}",
                    unreadable.why
                ),
            )
            .help("let it be read, or make the pattern narrower, so that it does not look there"),
        );
        None
    }

    /// Sources that match, as paths from the part's folder.
    fn files(&self, patterns: &[Word], except: &[Word], frame: &Frame<'_>) -> Option<Value> {
        let folder = &self.description.parts[frame.part.index()].folder;
        let mut without = Vec::new();
        for word in except {
            for atom in self.word(word, frame)?.atoms.iter() {
                without
                    .push(self.pattern(&self.source_from_root(folder, &atom.source()), word.span)?);
            }
        }
        let mut found: Vec<String> = Vec::new();
        for word in patterns {
            for atom in self.word(word, frame)?.atoms.iter() {
                let pattern =
                    self.pattern(&self.source_from_root(folder, &atom.source()), word.span)?;
                let walked = self.folders.walk(&pattern, &mut |path| {
                    if !without.iter().any(|pattern| pattern.matches(path))
                        && !self.environment.leftover(path)
                    {
                        found.push(relative(path, folder));
                    }
                });
                self.check_walk(walked, word.span)?;
            }
        }
        found.sort_unstable();
        found.dedup();
        Some(Value::list(found))
    }
}

/// A pattern with a star in place of each hole.
fn stars(pattern: &str) -> String {
    let mut out = String::new();
    let mut rest = pattern;
    while let Some((before, behind)) = rest.split_once('<') {
        let Some((name, after)) = behind.split_once('>') else {
            break;
        };
        out.push_str(before);
        out.push_str(if name.ends_with("**") { "**" } else { "*" });
        rest = after;
    }
    out.push_str(rest);
    out
}
