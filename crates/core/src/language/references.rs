//! Which names a word, a script or a condition mentions.

use crate::language::Condition;
use crate::language::Piece;
use crate::language::Script;
use crate::language::ValueSyntax;
use crate::language::VarRef;
use crate::language::Word;
use crate::language::WordKind;
use crate::language::WordPart;
use crate::text::Span;

/// The variables in a word.
pub fn word_references(word: &Word) -> impl Iterator<Item = &VarRef> {
    let parts: &[WordPart] = match &word.kind {
        WordKind::Plain => &[],
        WordKind::Mixed(parts) => parts,
    };
    parts.iter().filter_map(|part| match part {
        WordPart::Var(reference) => Some(reference),
        WordPart::Text { .. } => None,
    })
}

/// The names of the variables in a word.
pub fn word_names(word: &Word) -> impl Iterator<Item = &str> {
    word_references(word).map(|reference| &*reference.name.text)
}

/// The names of the variables in a script.
pub fn script_names(script: &Script) -> impl Iterator<Item = (&str, Span)> {
    script.pieces.iter().filter_map(|piece| match piece {
        Piece::Var(reference) => Some((&*reference.name.text, reference.span)),
        Piece::Text(_) => None,
    })
}

/// All words of a condition.
pub fn condition_words(condition: &Condition) -> Box<dyn Iterator<Item = &Word> + '_> {
    match condition {
        Condition::And(left, right) | Condition::Or(left, right) => {
            Box::new(condition_words(left).chain(condition_words(right)))
        }
        Condition::Not(inner) => condition_words(inner),
        Condition::Compare(left, _, right) => Box::new(left.iter().chain(right)),
    }
}

/// All words of a value that is to be worked out, those of its rows' conditions too.
#[must_use]
pub fn value_words(value: &ValueSyntax) -> Vec<&Word> {
    match value {
        ValueSyntax::Words(words) | ValueSyntax::Output(words) => words.iter().collect(),
        ValueSyntax::Files { patterns, except } => patterns.iter().chain(except).collect(),
        ValueSyntax::Env { name, or } => [name].into_iter().chain(or.iter().flatten()).collect(),
        ValueSyntax::Secret(name) | ValueSyntax::FileLines(name) => vec![name],
        ValueSyntax::Match { from, into, words } => [from, into].into_iter().chain(words).collect(),
        ValueSyntax::Only { patterns, words } => patterns.iter().chain(words).collect(),
        ValueSyntax::FileValue { file, key } => [file].into_iter().chain(key).collect(),
        ValueSyntax::Column { file, take, rows } => {
            let rows = rows.iter();
            let rows = rows.flat_map(|rows| condition_words(&rows.condition));
            [file, take].into_iter().chain(rows).collect()
        }
    }
}
