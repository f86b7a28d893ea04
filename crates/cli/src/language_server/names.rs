//! Which names stand where in a description, and which of them are the same: variables, a target's or task's own names, tasks.

use std::collections::HashSet;

use handloom_core::language::ClauseKind;
use handloom_core::language::EachSource;
use handloom_core::language::Group;
use handloom_core::language::Let;
use handloom_core::language::Piece;
use handloom_core::language::Script;
use handloom_core::language::TopItem;
use handloom_core::language::VarRef;
use handloom_core::language::Word;
use handloom_core::language::WordKind;
use handloom_core::language::WordPart;
use handloom_core::language::condition_words;
use handloom_core::language::target_of;
use handloom_core::language::value_words;
use handloom_core::project::Description;
use handloom_core::project::PartId;
use handloom_core::text::Span;

/// What a name stands for.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Named {
    /// A variable of a part.
    Variable(PartId, String),
    /// A name that only one target or task has: a hole, a label, a parameter, a `let` of its own. The item counts from the first of
    /// its part.
    Own(PartId, usize, String),
    /// A task, by its name from the root.
    Task(String),
}

/// A name at a place.
#[derive(Clone, Debug)]
pub struct Occurrence {
    /// The name alone.
    pub span: Span,
    /// What it stands for.
    pub named: Named,
    /// Whether it is given here.
    pub is_definition: bool,
}

/// All names of a description.
pub struct NameIndex<'d> {
    pub(super) description: &'d Description,
    /// The variables that each part has.
    pub(super) variables: Vec<HashSet<&'d str>>,
    /// All tasks, by their names from the root.
    pub(super) tasks: HashSet<String>,
    /// Where names stand.
    pub occurrences: Vec<Occurrence>,
}

/// The item that is being read.
struct ItemScope<'d> {
    part: PartId,
    item: usize,
    own: HashSet<&'d str>,
}

impl<'d> NameIndex<'d> {
    /// Reads all of a description.
    pub fn of(description: &'d Description) -> Self {
        let mut index = Self {
            description,
            variables: Vec::new(),
            tasks: HashSet::new(),
            occurrences: Vec::new(),
        };
        for part in &description.parts {
            let mut variables = HashSet::new();
            for item in &part.items {
                match item {
                    TopItem::Let(definition) => {
                        variables.insert(&*definition.name.text);
                    }
                    TopItem::Task(task) => {
                        index
                            .tasks
                            .insert(format!("{}{}", part.folder, task.name.text));
                    }
                    _ => {}
                }
            }
            index.variables.push(variables);
        }
        for (number, part) in (0..).zip(&description.parts) {
            for (item, top) in part.items.iter().enumerate() {
                let mut place = ItemScope {
                    part: PartId(number),
                    item,
                    own: HashSet::new(),
                };
                index.item(top, &mut place);
            }
        }
        index
    }

    fn add(&mut self, span: Span, named: Named, is_definition: bool) {
        self.occurrences.push(Occurrence {
            span,
            named,
            is_definition,
        });
    }

    fn item(&mut self, item: &'d TopItem, place: &mut ItemScope<'d>) {
        match item {
            TopItem::Let(definition) => self.top_let(definition, place),
            TopItem::Default(words) => self.names(words, place),
            TopItem::Env(_, words) | TopItem::Recipes(words) | TopItem::Setting(_, words) => {
                self.words(words, place);
            }
            TopItem::EnvFile(file) => self.word(&file.file, place),
            TopItem::Supply(_, word) => self.word(word, place),
            TopItem::Task(task) => {
                let folder = &self.description.parts[place.part.index()].folder;
                let named = Named::Task(format!("{folder}{}", task.name.text));
                self.add(task.name.span, named, true);
                for parameter in &task.parameters {
                    self.own(&parameter.name.text, parameter.name.span, place);
                    self.words(&parameter.choices, place);
                    self.words(&parameter.default, place);
                }
                self.clauses(&task.clauses, place);
            }
            TopItem::Target(_) | TopItem::Unread(_) => {
                let Some(target) = target_of(item, &self.description.sources) else {
                    return;
                };
                for group in &target.outputs {
                    for item in &group.items {
                        self.holes(&item.word, place, true);
                    }
                }
                self.groups(&target.outputs, place);
                self.clauses(&target.clauses, place);
            }
            TopItem::Include(_) | TopItem::Language(_) => {}
        }
    }

    fn top_let(&mut self, definition: &'d Let, place: &ItemScope<'d>) {
        let named = Named::Variable(place.part, definition.name.text.to_string());
        self.add(definition.name.span, named, true);
        self.value(definition, place);
    }

    fn value(&mut self, definition: &'d Let, place: &ItemScope<'d>) {
        for word in value_words(&definition.value) {
            self.word(word, place);
        }
        for word in definition.when.iter().flat_map(condition_words) {
            self.word(word, place);
        }
    }

    /// A name that the item gives itself.
    fn own(&mut self, name: &'d str, span: Span, place: &mut ItemScope<'d>) {
        place.own.insert(name);
        let named = Named::Own(place.part, place.item, name.to_owned());
        // A label's place may go on to its colon.
        let length = u32::try_from(name.len()).unwrap_or(0);
        let span = Span {
            end: span.end.min(span.start + length),
            ..span
        };
        self.add(span, named, true);
    }

    fn clauses(
        &mut self,
        clauses: &'d [handloom_core::language::Clause],
        place: &mut ItemScope<'d>,
    ) {
        // A name counts in all of the item, wherever it is given.
        for clause in clauses {
            match &clause.kind {
                ClauseKind::Let(own) => self.own(&own.name.text, own.name.span, place),
                ClauseKind::Each(each) => {
                    for name in &each.names {
                        self.own(&name.text, name.span, place);
                    }
                }
                ClauseKind::Needs(groups) => {
                    for item in groups.iter().flat_map(|group| &group.items) {
                        self.holes(&item.word, place, item.each);
                    }
                    for label in groups.iter().filter_map(|group| group.label.as_ref()) {
                        self.own(&label.text, label.span, place);
                    }
                }
                _ => {}
            }
        }
        for clause in clauses {
            self.clause(&clause.kind, place);
        }
    }

    fn clause(&mut self, clause: &'d ClauseKind, place: &mut ItemScope<'d>) {
        match clause {
            ClauseKind::Needs(groups) => {
                for group in groups {
                    for item in &group.items {
                        self.task_name(&item.word, place);
                        self.word(&item.word, place);
                    }
                    self.words(&group.except, place);
                }
            }
            ClauseKind::After(words)
            | ClauseKind::Steps(words)
            | ClauseKind::FinallyTasks(words) => {
                self.names(words, place);
            }
            ClauseKind::Each(each) => match &each.from {
                EachSource::Words(words) => self.words(words, place),
                EachSource::Table { file, rows } => {
                    self.word(file, place);
                    let rows = rows.iter();
                    for word in rows.flat_map(|rows| condition_words(&rows.condition)) {
                        self.word(word, place);
                    }
                }
            },
            ClauseKind::Learn(_, word) => self.words(word.as_deref(), place),
            ClauseKind::GivenEnv(words)
            | ClauseKind::GivenOutput(words)
            | ClauseKind::Env(_, words) => self.words(words, place),
            ClauseKind::Let(own) => self.value(own, place),
            ClauseKind::In(word)
            | ClauseKind::Limit(word)
            | ClauseKind::Retry(word)
            | ClauseKind::On(word) => self.word(word, place),
            ClauseKind::When(condition) => {
                for word in condition_words(condition) {
                    self.word(word, place);
                }
            }
            ClauseKind::Takes(takes) => self.words(takes.iter().map(|(_, word)| word), place),
            ClauseKind::EnvFile(file) => self.word(&file.file, place),
            ClauseKind::Ready(script)
            | ClauseKind::Finally(script)
            | ClauseKind::Recipe(script) => {
                self.script(script, place);
            }
            ClauseKind::About(_)
            | ClauseKind::Terminal
            | ClauseKind::Remember
            | ClauseKind::Stays
            | ClauseKind::Manner(_)
            | ClauseKind::Sealed(_)
            | ClauseKind::Store(_) => {}
        }
    }

    fn groups(&mut self, groups: &'d [Group], place: &mut ItemScope<'d>) {
        for group in groups {
            if let Some(label) = &group.label {
                self.own(&label.text, label.span, place);
            }
            for item in &group.items {
                self.word(&item.word, place);
            }
            self.words(&group.except, place);
        }
    }

    fn script(&mut self, script: &Script, place: &ItemScope<'d>) {
        self.words(script.with.iter().flatten(), place);
        for piece in &script.pieces {
            if let Piece::Var(reference) = piece {
                self.reference(reference, place);
            }
        }
    }

    fn words<'w>(&mut self, words: impl IntoIterator<Item = &'w Word>, place: &ItemScope<'d>) {
        for word in words {
            self.word(word, place);
        }
    }

    /// Words that may be tasks.
    fn names(&mut self, words: &[Word], place: &ItemScope<'d>) {
        for word in words {
            self.task_name(word, place);
            self.word(word, place);
        }
    }

    fn task_name(&mut self, word: &Word, place: &ItemScope<'d>) {
        if word.kind != WordKind::Plain {
            return;
        }
        let folder = &self.description.parts[place.part.index()].folder;
        let name = format!("{folder}{}", self.description.sources.slice(word.span));
        if self.tasks.contains(&name) {
            self.add(last_of(word.span, &name), Named::Task(name), false);
        }
    }

    fn word(&mut self, word: &Word, place: &ItemScope<'d>) {
        let WordKind::Mixed(parts) = &word.kind else {
            return;
        };
        for part in parts {
            if let WordPart::Var(reference) = part {
                self.reference(reference, place);
            }
        }
    }

    /// The holes of a pattern, which give their names or take them up.
    fn holes(&mut self, word: &'d Word, place: &mut ItemScope<'d>, gives: bool) {
        let written = self.description.sources.slice(word.span);
        let mut from = 0;
        while let Some(open) = written[from..].find('<').map(|at| from + at + 1) {
            let Some(length) = written[open..].find('>') else {
                return;
            };
            let name = &written[open..open + length];
            from = open + length;
            if handloom_core::language::is_name(name) {
                let start = word.span.start + u32::try_from(open).unwrap_or(0);
                let span = Span {
                    start,
                    end: start + u32::try_from(length).unwrap_or(0),
                    ..word.span
                };
                let is_first = gives && place.own.insert(name);
                let named = Named::Own(place.part, place.item, name.to_owned());
                self.add(span, named, is_first);
            }
        }
    }

    fn reference(&mut self, reference: &VarRef, place: &ItemScope<'d>) {
        let name = &*reference.name.text;
        let named = match place.own.get(name) {
            Some(_) => Some(Named::Own(place.part, place.item, name.to_owned())),
            None => self.variable(name, place.part),
        };
        if let Some(named) = named {
            self.add(last_of(reference.name.span, name), named, false);
        }
    }

    /// The variable that a name means in a part.
    fn variable(&self, name: &str, part: PartId) -> Option<Named> {
        let parts = &self.description.parts;
        if let Some((folder, name)) = name.rsplit_once('/') {
            let folder = format!("{}{folder}/", parts[part.index()].folder);
            let at = parts.iter().position(|part| part.folder == folder)?;
            let part = PartId(u32::try_from(at).ok()?);
            return self.variables[at]
                .contains(name)
                .then(|| Named::Variable(part, name.to_owned()));
        }
        let mut around = Some(part);
        while let Some(part) = around {
            if self.variables[part.index()].contains(name) {
                return Some(Named::Variable(part, name.to_owned()));
            }
            around = parts[part.index()].parent;
        }
        None
    }
}

/// The part of a span behind the last slash of what it holds.
fn last_of(span: Span, name: &str) -> Span {
    let last = name.rsplit('/').next().unwrap_or(name);
    Span {
        start: span.end
            - u32::try_from(last.len())
                .unwrap_or(0)
                .min(span.end - span.start),
        ..span
    }
}
