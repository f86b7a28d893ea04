//! What stands behind `needs … each`: its words, and the holes that they name.

use crate::language::Word;
use crate::language::WordKind;
use crate::language::WordPart;
use crate::language::word_names;
use crate::project::clauses::Clauses;
use crate::project::description::PartId;
use crate::project::frame::Frame;
use crate::project::pattern::Pattern;
use crate::project::values::Vars;

/// The names that a target's `each` give, in order of appearance.
pub fn hole_names<'d>(vars: &Vars<'d>, part: PartId, clauses: &Clauses<'d>) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    let mut add = |name: &str| {
        if !names.iter().any(|known| known == name) {
            names.push(name.to_owned());
        }
    };
    for each in &clauses.each {
        each.names.iter().for_each(|name| add(&name.text));
    }
    for (word, _) in each_words(clauses) {
        let own = |name: &str| clauses.lets.iter().any(|own| &*own.name.text == name);
        let value = if word_names(word).any(own) {
            None
        } else {
            vars.word(word, &Frame::of(part))
        };
        match value {
            Some(value) => value
                .atoms
                .iter()
                .for_each(|atom| source_holes(&atom.source(), &mut add)),
            None => written_text(vars, word, &mut |text| source_holes(text, &mut add)),
        }
    }
    names
}

/// The words behind `needs … each`, each with what its group leaves out.
pub fn each_words<'a>(clauses: &'a Clauses<'_>) -> impl Iterator<Item = (&'a Word, &'a [Word])> {
    clauses.needs.iter().flat_map(|group| {
        let each = group.items.iter().filter(|item| item.each);
        each.map(|item| (&item.word, &*group.except))
    })
}

fn source_holes(source: &str, add: &mut impl FnMut(&str)) {
    if let Ok(pattern) = Pattern::compile(source) {
        pattern.holes().iter().for_each(|hole| add(hole));
    }
}

/// The unquoted texts of a word.
fn written_text(vars: &Vars<'_>, word: &Word, found: &mut impl FnMut(&str)) {
    match &word.kind {
        WordKind::Plain => found(vars.description.sources.slice(word.span)),
        WordKind::Mixed(parts) => {
            for part in parts {
                if let WordPart::Text {
                    text,
                    quoted: false,
                } = part
                {
                    found(text);
                }
            }
        }
    }
}
