//! Variables of a part that depend on the holes of whoever uses them: `let opt = -O0 when @{mode} is debug`, where `mode`
//! is no variable. They are worked out where they are used, as if they stood there.

use std::collections::HashSet;

use crate::language::Clause;
use crate::language::ClauseKind;
use crate::language::Condition;
use crate::language::EachSource;
use crate::language::Let;
use crate::language::LetHow;
use crate::language::Word;
use crate::language::condition_words;
use crate::language::script_names;
use crate::language::value_words;
use crate::language::word_names;
use crate::language::word_references;
use crate::project::description::PartId;
use crate::project::values::Templates;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::text::nearest;

/// Finds them.
pub fn find<'d>(vars: &Vars<'d>) -> Templates<'d> {
    let declared: Vec<(PartId, &'d str, Vec<&'d Let>)> = vars
        .declared()
        .map(|(part, name, lets)| (part, name, lets.to_vec()))
        .collect();
    let mut found = Templates::new();
    // What uses one is one: again until no more are found.
    loop {
        let before: usize = found.values().map(Vec::len).sum();
        for (part, name, lets) in &declared {
            let folder = &vars.description.parts[part.index()].folder;
            if vars.is_set_outside(folder, name) {
                continue;
            }
            let mut free: Vec<&'d str> = Vec::new();
            for used in lets.iter().flat_map(|definition| names_in(definition)) {
                match vars.home(*part, used) {
                    Some((home, lets)) => {
                        let known = (home, &*lets[0].name.text);
                        if known != (*part, *name) {
                            free.extend(found.get(&known).into_iter().flatten());
                        }
                    }
                    None if vars.is_known(*part, used) => {}
                    None => free.push(used),
                }
            }
            free.sort_unstable();
            free.dedup();
            if !free.is_empty() {
                found.insert((*part, name), free);
            }
        }
        if found.values().map(Vec::len).sum::<usize>() == before {
            return found;
        }
    }
}

/// The names that a definition mentions.
fn names_in(definition: &Let) -> impl Iterator<Item = &str> {
    let when = definition.when.iter().flat_map(condition_words);
    let words = value_words(&definition.value).into_iter().chain(when);
    words.flat_map(word_names)
}

/// A target or a task that may mention variables that depend on holes.
pub struct TemplateUser<'u, 'd> {
    /// The part it stands in.
    pub part: PartId,
    /// Its clauses.
    pub clauses: &'d [Clause],
    /// What else it says.
    pub words: &'u [&'d Word],
    /// Its holes or parameters.
    pub names: &'u [&'u str],
    /// Its first line.
    pub span: Span,
}

impl<'d> Vars<'d> {
    /// The definitions of a variable that depends on holes, as seen from a part; what it uses of its kind first.
    fn template_lets(&self, part: PartId, name: &str, found: &mut Vec<&'d Let>) {
        let Some((home, lets)) = self.home(part, name) else {
            return;
        };
        let is_known = |found: &[&Let]| found.iter().any(|known| std::ptr::eq(*known, lets[0]));
        if !self.templates.contains_key(&(home, &*lets[0].name.text)) || is_known(found) {
            return;
        }
        let lets = lets.to_vec();
        for used in lets.iter().flat_map(|definition| names_in(definition)) {
            if used != name {
                self.template_lets(home, used, found);
            }
        }
        if !is_known(found) {
            found.extend(lets);
        }
    }

    /// Whether there are variables that depend on holes.
    pub(super) fn has_templates(&self) -> bool {
        !self.templates.is_empty()
    }

    /// Puts the variables that depend on holes, and that a target or a task mentions, in front of its own. `None` when
    /// it has not the names that they need, which is reported.
    pub(super) fn add_templates(
        &self,
        user: &TemplateUser<'_, 'd>,
        own_lets: &mut Vec<&'d Let>,
    ) -> Option<()> {
        let TemplateUser { part, names, .. } = *user;
        let mut mentioned: HashSet<&str> = HashSet::new();
        for clause in user.clauses {
            clause_names(&clause.kind, &mut |name| {
                mentioned.insert(name);
            });
        }
        mentioned.extend(user.words.iter().flat_map(|word| word_names(word)));
        let own: Vec<&str> = own_lets.iter().map(|own| &*own.name.text).collect();
        let mut mentioned: Vec<&str> = mentioned.into_iter().collect();
        mentioned.sort_unstable();
        let mut lets = Vec::new();
        for name in mentioned.iter().filter(|name| !names.contains(name)) {
            // One of its own that is set for good hides it.
            let hides = |own: &&&Let| &*own.name.text == *name && own.how != LetHow::Add;
            if own_lets.iter().find(hides).is_none() {
                self.template_lets(part, name, &mut lets);
            }
        }
        for definition in &lets {
            let is_known = |name: &str| {
                names.contains(&name) || own.contains(&name) || self.is_known(part, name)
            };
            if let Some(missing) = names_in(definition).find(|name| !is_known(name)) {
                self.missing_hole(definition, missing, names, user.span);
                return None;
            }
        }
        if !lets.is_empty() {
            lets.append(own_lets);
            *own_lets = lets;
        }
        Some(())
    }

    fn missing_hole(&self, definition: &Let, missing: &str, names: &[&str], owner: Span) {
        let words = value_words(&definition.value).into_iter();
        let mut words = words.chain(definition.when.iter().flat_map(condition_words));
        let word = words.find(|word| word_names(word).any(|name| name == missing));
        let span = word.map_or(definition.span, |word| word.span);
        let known = self.declared().map(|(_, name, _)| name);
        let near = nearest(missing, known.chain(names.iter().copied()));
        let help = match near {
            Some(near) => format!("did you mean `@{{{near}}}`?"),
            None => format!(
                "set it with `let {missing} = …`, or give it there: as a hole `<{missing}>`, by `each {missing} in …`, or as a task's parameter"
            ),
        };
        let wrong = Diagnostic::error(
            &mistakes::UNKNOWN_VARIABLE,
            span,
            format!("there is no variable `{missing}` here"),
        )
        .also(
            owner,
            format!(
                "uses `{}`, and has no hole or parameter `{missing}`",
                definition.name.text
            ),
        )
        .help(help);
        let reference = word.and_then(|word| {
            word_references(word).find(|reference| &*reference.name.text == missing)
        });
        self.report(match (near, reference) {
            (Some(near), Some(reference)) => wrong.instead(reference.name.span, near),
            _ => wrong,
        });
    }

    /// Whether the clauses of a target mention a variable that depends on holes.
    pub fn mentions_template(&self, part: PartId, clauses: &'d [Clause]) -> bool {
        if self.templates.is_empty() {
            return false;
        }
        let mut mentions = false;
        for clause in clauses {
            clause_names(&clause.kind, &mut |name| {
                let home = self.home(part, name);
                mentions |= home.is_some_and(|(home, lets)| {
                    self.templates.contains_key(&(home, &*lets[0].name.text))
                });
            });
        }
        mentions
    }
}

/// All names that a clause mentions.
fn clause_names<'c>(clause: &'c ClauseKind, found: &mut dyn FnMut(&'c str)) {
    let words = |words: &mut dyn Iterator<Item = &'c Word>, found: &mut dyn FnMut(&'c str)| {
        words.flat_map(word_names).for_each(found);
    };
    let condition = |condition: &'c Condition, found: &mut dyn FnMut(&'c str)| {
        condition_words(condition)
            .flat_map(word_names)
            .for_each(found);
    };
    match clause {
        ClauseKind::Needs(groups) => {
            let items = groups.iter().flat_map(|group| &group.items);
            words(&mut items.map(|item| &item.word), found);
            words(&mut groups.iter().flat_map(|group| &group.except), found);
        }
        ClauseKind::After(list)
        | ClauseKind::GivenEnv(list)
        | ClauseKind::GivenOutput(list)
        | ClauseKind::Env(_, list)
        | ClauseKind::FinallyTasks(list)
        | ClauseKind::Steps(list) => words(&mut list.iter(), found),
        ClauseKind::Each(each) => match &each.from {
            EachSource::Words(list) => words(&mut list.iter(), found),
            EachSource::Table { file, rows } => {
                words(&mut [file].into_iter(), found);
                if let Some(rows) = rows {
                    condition(&rows.condition, found);
                }
            }
        },
        ClauseKind::EnvFile(env) => words(&mut [&env.file].into_iter(), found),
        ClauseKind::Learn(_, file) => words(&mut file.iter().map(|file| &**file), found),
        ClauseKind::Let(definition) => names_in(definition).for_each(found),
        ClauseKind::In(word)
        | ClauseKind::Limit(word)
        | ClauseKind::On(word)
        | ClauseKind::Retry(word) => {
            words(&mut [word].into_iter(), found);
        }
        ClauseKind::When(when) => condition(when, found),
        ClauseKind::Takes(taken) => words(&mut taken.iter().map(|(_, word)| word), found),
        ClauseKind::Finally(script) | ClauseKind::Ready(script) | ClauseKind::Recipe(script) => {
            script_names(script).for_each(|(name, _)| found(name));
            words(&mut script.with.iter().flatten(), found);
        }
        ClauseKind::About(_)
        | ClauseKind::Manner(_)
        | ClauseKind::Terminal
        | ClauseKind::Remember
        | ClauseKind::Stays
        | ClauseKind::Sealed(_)
        | ClauseKind::Store(_) => {}
    }
}
