//! Variables whose values need each other in a circle, found without working any of them out: also those
//! that nothing uses yet.
//!
//! Only what is needed in any case counts: a definition without `when`, and the words of conditions.

use std::collections::HashMap;

use crate::language::Let;
use crate::language::ValueSyntax as Written;
use crate::language::Word;
use crate::language::condition_words;
use crate::language::value_words;
use crate::language::word_names;
use crate::project::description::PartId;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::mistakes;

type Definition<'d> = (PartId, &'d str);

#[derive(Clone, Copy, PartialEq, Eq)]
enum VisitState {
    Open,
    Done,
}

/// Reports every circle once.
pub fn report(vars: &Vars<'_>) {
    let mut seen: HashMap<Definition<'_>, VisitState> = HashMap::new();
    let mut starts: Vec<Definition<'_>> = vars
        .declared()
        .map(|(part, name, _)| (part, name))
        .collect();
    starts.sort_unstable();
    for start in starts {
        // Each frame: a name, those that it needs, and the next of them.
        let mut stack: Vec<(Definition<'_>, Vec<Definition<'_>>, usize)> = Vec::new();
        enter(vars, start, &mut seen, &mut stack);
        while let Some((name, needs, next)) = stack.last_mut() {
            let Some(&needed) = needs.get(*next) else {
                seen.insert(*name, VisitState::Done);
                stack.pop();
                continue;
            };
            *next += 1;
            match seen.get(&needed) {
                None => enter(vars, needed, &mut seen, &mut stack),
                Some(VisitState::Done) => {}
                Some(VisitState::Open) => {
                    let first = stack
                        .iter()
                        .position(|frame| frame.0 == needed)
                        .unwrap_or(0);
                    let circle: Vec<Definition<'_>> =
                        stack[first..].iter().map(|frame| frame.0).collect();
                    describe(vars, &circle);
                }
            }
        }
    }
}

fn enter<'d>(
    vars: &Vars<'d>,
    name: Definition<'d>,
    seen: &mut HashMap<Definition<'d>, VisitState>,
    stack: &mut Vec<(Definition<'d>, Vec<Definition<'d>>, usize)>,
) {
    if seen.contains_key(&name) {
        return;
    }
    seen.insert(name, VisitState::Open);
    stack.push((name, needs(vars, name), 0));
}

/// The variables that a variable's value needs in any case.
fn needs<'d>(vars: &Vars<'d>, (part, name): Definition<'d>) -> Vec<Definition<'d>> {
    let folder = &vars.description.parts[part.index()].folder;
    let Some((_, definitions)) = vars.home(part, name) else {
        return Vec::new();
    };
    if vars.is_set_outside(folder, name) {
        return Vec::new();
    }
    let mut found = Vec::new();
    for definition in definitions {
        let mut words: Vec<&Word> = Vec::new();
        match &definition.when {
            Some(when) => words.extend(condition_words(when)),
            None => words.extend(needed_words(definition)),
        }
        for needed in words.into_iter().flat_map(word_names) {
            if let Some((home, definitions)) = vars.home(part, needed) {
                // The name as the definition has it lives as long as the description.
                found.push((home, &*definitions[0].name.text));
            }
        }
    }
    found
}

fn needed_words(definition: &Let) -> Vec<&Word> {
    match &definition.value {
        // What stands behind `or` is only needed without the variable.
        Written::Env { name, .. } => vec![name],
        value => value_words(value),
    }
}

fn describe(vars: &Vars<'_>, circle: &[Definition<'_>]) {
    let place = |&(part, name): &Definition<'_>| {
        let definitions = vars.home(part, name).map(|(_, definitions)| definitions);
        definitions
            .map(|definitions| definitions[0].name.span)
            .unwrap_or_default()
    };
    let Some(first) = circle.first() else { return };
    let mut diagnostic = Diagnostic::error(
        &mistakes::VALUE_IN_A_CIRCLE,
        place(first),
        format!("the value of `{}` needs itself", first.1),
    )
    .help("take the circle out of the `let`s it is made from");
    for other in circle.iter().skip(1).take(8) {
        diagnostic = diagnostic.also(place(other), format!("through `{}`", other.1));
    }
    vars.report(diagnostic);
}
