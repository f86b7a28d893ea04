//! What written words, and conditions over them, come to.

use crate::language::Comparison;
use crate::language::Condition;
use crate::language::Word;
use crate::language::WordKind;
use crate::language::WordPart;
use crate::project::frame::Frame;
use crate::project::pattern::Pattern;
use crate::project::pattern::escape;
use crate::project::pattern::is_pattern;
use crate::project::secret;
use crate::project::value::Atom;
use crate::project::value::Value;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;

/// More words than this are no value: a project of millions of steps has fewer.
const MAX_WORDS: usize = 5_000_000;

/// A word put together is at most so long, bytes.
const MAX_WORD: usize = 1 << 20;

/// All words that one word comes to are at most so long together, bytes.
const MAX_BYTES: usize = 256 << 20;

impl<'d> Vars<'d> {
    /// Compiles a pattern's source, or reports what is wrong with it.
    pub fn pattern(&self, source: &str, span: Span) -> Option<Pattern> {
        Pattern::compile(source)
            .map_err(|error| {
                self.report(
                    Diagnostic::error(&mistakes::INVALID_PATH, span, error.to_string())
                        .help("put the word in quotes if its characters are meant as they stand"),
                );
            })
            .ok()
    }

    /// The words of a clause or a definition.
    pub fn words(&self, words: &[Word], frame: &Frame<'_>) -> Option<Value> {
        if let [word] = words {
            return self.word(word, frame);
        }
        let mut atoms = Vec::with_capacity(words.len());
        for word in words {
            let value = self.word(word, frame)?;
            self.check_count(atoms.len() + value.atoms.len(), word.span)?;
            atoms.extend(value.atoms.iter().cloned());
        }
        Some(Value {
            atoms: atoms.into(),
            list: true,
        })
    }

    /// A word that must come to exactly one.
    pub fn single(&self, word: &Word, frame: &Frame<'_>) -> Option<Atom> {
        let value = self.word(word, frame)?;
        match &*value.atoms {
            [atom] => Some(atom.clone()),
            atoms => {
                self.report(
                    Diagnostic::error(
                        &mistakes::NOT_ONE_WORD,
                        word.span,
                        format!("one word is needed here, but this comes to {}", atoms.len()),
                    )
                    .help(
                        "`.first` takes the first of a list, `.joined(\" \")` makes one word of it",
                    ),
                );
                None
            }
        }
    }

    /// The text of a word that stands for itself: no variables, no quotes, no pattern.
    pub fn literal(&self, word: &Word) -> Option<&'d str> {
        let text = self.description.sources.slice(word.span);
        (word.kind == WordKind::Plain && !is_pattern(text)).then_some(text)
    }

    /// The pattern's source of a word without variables and quotes.
    pub fn plain_source(&self, word: &Word) -> Option<&'d str> {
        let text = self.description.sources.slice(word.span);
        (word.kind == WordKind::Plain && !text.contains('\\')).then_some(text)
    }

    /// What one written word comes to.
    pub fn word(&self, word: &Word, frame: &Frame<'_>) -> Option<Value> {
        match &word.kind {
            WordKind::Plain => {
                let text = self.description.sources.slice(word.span);
                Some(Value {
                    atoms: [plain(text)].into(),
                    list: false,
                })
            }
            WordKind::Mixed(parts) => match &parts[..] {
                [WordPart::Var(reference)] => self.reference(reference, frame),
                parts => self.product(parts, frame),
            },
        }
    }

    /// One word for each word of the list in it.
    fn product(&self, parts: &[WordPart], frame: &Frame<'_>) -> Option<Value> {
        let mut values = Vec::with_capacity(parts.len());
        let mut many: Option<(usize, Span)> = None;
        for (at, part) in parts.iter().enumerate() {
            let WordPart::Var(reference) = part else {
                values.push(None);
                continue;
            };
            let value = self.reference(reference, frame)?;
            if value.atoms.len() != 1 {
                if let Some((_, first)) = many {
                    self.report(
                        Diagnostic::error(
                            &mistakes::TWO_LISTS,
                            reference.span,
                            "two lists stand in one word",
                        )
                        .also(first, "the first list")
                        .help("make one of them a single word, with `.first` or `.joined(\"…\")`"),
                    );
                    return None;
                }
                many = Some((at, reference.span));
            }
            values.push(Some(value));
        }
        let count = many.map_or(1, |(at, _)| {
            values[at].as_ref().map_or(1, |v| v.atoms.len())
        });
        self.check_size(parts, &values, count)?;
        let atoms = (0..count).map(|index| {
            let mut text = String::new();
            let mut source = String::new();
            let mut is_active = false;
            for (part, value) in parts.iter().zip(&values) {
                match (part, value) {
                    (WordPart::Text { text: part, quoted }, _) => {
                        text.push_str(part);
                        if *quoted {
                            source.push_str(&escape(part));
                        } else {
                            is_active |= is_pattern(part);
                            source.push_str(&part.replace('\\', "\\\\"));
                        }
                    }
                    (WordPart::Var(_), Some(value)) => {
                        let atom = &value.atoms[if value.atoms.len() == 1 { 0 } else { index }];
                        text.push_str(&atom.text);
                        is_active |= atom.pattern.is_some();
                        source.push_str(&atom.source());
                    }
                    (WordPart::Var(_), None) => {}
                }
            }
            Atom {
                text: text.into(),
                pattern: is_active.then(|| source.into()),
            }
        });
        Some(Value {
            atoms: atoms.collect(),
            list: many.is_some(),
        })
    }

    /// Refuses more words than any project needs, before they are put together.
    pub(super) fn check_count(&self, count: usize, span: Span) -> Option<()> {
        if count <= MAX_WORDS {
            return Some(());
        }
        self.report(
            Diagnostic::error(
                &mistakes::TOO_MANY_WORDS,
                span,
                format!("this comes to more than {MAX_WORDS} words"),
            )
            .help("a variable that is put in twice doubles its words each time"),
        );
        None
    }

    /// The same for the bytes of words that are put together from several parts.
    fn check_size(&self, parts: &[WordPart], values: &[Option<Value>], count: usize) -> Option<()> {
        let (mut one, mut all) = (0usize, 0usize);
        for (part, value) in parts.iter().zip(values) {
            let (longest, sum) = match (part, value) {
                (WordPart::Text { text, .. }, _) => (text.len(), text.len().saturating_mul(count)),
                (_, Some(value)) if value.atoms.len() == count && count != 1 => (
                    value.texts().map(str::len).max().unwrap_or(0),
                    value.texts().map(str::len).sum(),
                ),
                (_, Some(value)) => {
                    let length = value.texts().next().map_or(0, str::len);
                    (length, length.saturating_mul(count))
                }
                (_, None) => (0, 0),
            };
            one = one.saturating_add(longest);
            all = all.saturating_add(sum);
        }
        if one <= MAX_WORD && all <= MAX_BYTES {
            return Some(());
        }
        let span = parts.iter().find_map(|part| match part {
            WordPart::Var(reference) => Some(reference.span),
            WordPart::Text { .. } => None,
        });
        self.report(
            Diagnostic::error(
                &mistakes::TOO_MANY_WORDS,
                span.unwrap_or_default(),
                format!(
                    "this comes to a word of more than {} KiB, or to more than {} MiB of words",
                    MAX_WORD >> 10,
                    MAX_BYTES >> 20
                ),
            )
            .help("a variable that is put in twice doubles its length each time"),
        );
        None
    }

    // ---- conditions ----------------------------------------------------------------------------

    /// A value's words for a comparison: of a secret what it holds.
    fn plain_texts<'v>(&self, value: &'v Value) -> Vec<std::borrow::Cow<'v, str>> {
        let plain = |text| {
            secret::filled(text, |name| self.environment.secret(name)).unwrap_or(text.into())
        };
        value.texts().map(plain).collect()
    }

    /// Whether a condition holds.
    pub fn condition(&self, condition: &Condition, frame: &Frame<'_>) -> Option<bool> {
        Some(match condition {
            Condition::And(left, right) => {
                self.condition(left, frame)? && self.condition(right, frame)?
            }
            Condition::Or(left, right) => {
                self.condition(left, frame)? || self.condition(right, frame)?
            }
            Condition::Not(inner) => !self.condition(inner, frame)?,
            Condition::Compare(left, how, right) => {
                let span = |words: &[Word]| words.first().map(|word| word.span);
                let places = [span(left), span(right)];
                let (left, right) = (self.words(left, frame)?, self.words(right, frame)?);
                let (left, right) = (self.plain_texts(&left), self.plain_texts(&right));
                match compare(*how, &left, &right) {
                    Ok(holds) => holds,
                    Err(no_number) => {
                        let span = places[usize::from(no_number.is_right)];
                        self.report(no_number.at(span.unwrap_or_default()));
                        return None;
                    }
                }
            }
        })
    }
}

/// A comparison of numbers of which one is none.
pub struct NoNumber {
    /// Whether it is the one on the right.
    pub is_right: bool,
    /// What stands there.
    pub text: String,
    /// The word of the comparison.
    how: Comparison,
}

impl NoNumber {
    /// What is said of it at a place.
    #[must_use]
    pub fn at(&self, span: Span) -> Diagnostic {
        let how = self.how.written();
        Diagnostic::error(&mistakes::NOT_A_NUMBER, span, format!("`{}` is no number, and `{how}` compares numbers", self.text))
            .help("compare one number with one number, such as `@{size} above 100`; words are compared by `before`")
    }
}

/// Whether a comparison of words holds.
///
/// # Errors
/// When numbers are compared, and one side is not one number.
pub fn compare<T: AsRef<str> + PartialEq + Ord>(
    how: Comparison,
    left: &[T],
    right: &[T],
) -> Result<bool, NoNumber> {
    let number = |words: &[T], is_right: bool| match words {
        [word]
            if word
                .as_ref()
                .trim()
                .parse::<f64>()
                .is_ok_and(|number| !number.is_nan()) =>
        {
            Ok(word.as_ref().trim().parse::<f64>().unwrap_or_default())
        }
        words => Err(NoNumber {
            is_right,
            text: words
                .iter()
                .map(AsRef::as_ref)
                .collect::<Vec<&str>>()
                .join(" "),
            how,
        }),
    };
    Ok(match how {
        Comparison::Is => left == right,
        Comparison::IsNot => left != right,
        Comparison::Has => right.iter().all(|wanted| left.contains(wanted)),
        Comparison::Before => left < right,
        Comparison::Above => number(left, false)? > number(right, true)?,
        Comparison::Below => number(left, false)? < number(right, true)?,
    })
}

fn plain(text: &str) -> Atom {
    Atom {
        text: text.into(),
        pattern: is_pattern(text).then(|| {
            if text.contains('\\') {
                text.replace('\\', "\\\\").into()
            } else {
                text.into()
            }
        }),
    }
}
