//! Evaluating variables, words and conditions.
//!
//! A part's variable is worked out when it is first asked for, and once. What is wrong is reported
//! into `Vars::diagnostics`, each mistake once, and the value is then missing (`None`): whoever
//! asked gives up quietly.

use std::cell::Cell;
use std::cell::RefCell;
use std::collections::HashMap;
use std::collections::HashSet;

use crate::language::ClauseKind;
use crate::language::Let;
use crate::language::LetHow;
use crate::language::TopItem;
use crate::language::ValueSyntax as Written;
use crate::language::VarRef;
use crate::language::Word;
use crate::project::circles;
use crate::project::description::Description;
use crate::project::description::PartId;
use crate::project::environment::Environment;
use crate::project::folders::Folders;
use crate::project::frame::Frame;
use crate::project::overrides::SetOutside;
use crate::project::value::Value;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::nearest;
use crate::world::Digest;

/// Variables that need each other deeper than this are refused.
const MAX_DEPTH: usize = 200;

/// The names every recipe and description knows.
const BUILT_IN: [&str; 3] = ["os", "arch", "root"];

type Scope<'d> = HashMap<&'d str, Vec<&'d Let>>;

/// What looking for a variable comes to.
pub enum Lookup {
    /// There is none of that name.
    Missing,
    /// Its definition is wrong, which is reported.
    Wrong,
    /// Its value.
    Found(Value),
}

enum ValueSlot {
    /// Being worked out: asking again is a circle.
    Busy,
    Done(Option<Value>),
}

/// The variables of all parts.
pub struct Vars<'d> {
    /// What was read.
    pub description: &'d Description,
    /// The world around.
    pub environment: &'d dyn Environment,
    /// The project's folders.
    pub folders: &'d Folders<'d>,
    outside: &'d SetOutside,
    scopes: Vec<Scope<'d>>,
    /// The words of each part's `recipes with`.
    interpreters: Vec<Option<&'d [Word]>>,
    /// The environment variables that hold secrets, as far as they are written plainly.
    pub secrets: Vec<String>,
    known: RefCell<HashMap<(PartId, &'d str), ValueSlot>>,
    /// How many variables are being worked out, one for another.
    depth: Cell<usize>,
    diagnostics: RefCell<Vec<Diagnostic>>,
    reported: RefCell<HashSet<(Option<Span>, String)>>,
}

/// The environment variables that hold secrets, as far as they are written plainly.
fn secrets(description: &Description) -> Vec<String> {
    let mut found = Vec::new();
    let mut look = |definition: &Let| {
        if let Written::Secret(name) = &definition.value {
            found.push(description.sources.slice(name.span).to_owned());
        }
    };
    for item in description.parts.iter().flat_map(|part| &part.items) {
        let clauses = match item {
            TopItem::Let(definition) => {
                look(definition);
                continue;
            }
            TopItem::Target(target) => &target.clauses,
            TopItem::Task(task) => &task.clauses,
            // One that is read when it is asked for has no variables of its own.
            _ => continue,
        };
        for clause in clauses {
            if let ClauseKind::Let(definition) = &clause.kind {
                look(definition);
            }
        }
    }
    found
}

impl<'d> Vars<'d> {
    /// The digest of all that is set from outside.
    #[must_use]
    pub fn outside_digest(&self) -> Digest {
        self.outside.digest
    }

    /// Nothing is worked out yet.
    pub fn new(
        description: &'d Description,
        outside: &'d SetOutside,
        environment: &'d dyn Environment,
        folders: &'d Folders<'d>,
    ) -> Self {
        let mut scopes = Vec::with_capacity(description.parts.len());
        let mut interpreters = Vec::with_capacity(description.parts.len());
        for part in &description.parts {
            let mut scope = Scope::new();
            let mut interpreter = None;
            for item in &part.items {
                if let TopItem::Recipes(words) = item {
                    interpreter = Some(words.as_slice());
                }
                if let TopItem::Let(definition) = item {
                    scope
                        .entry(&definition.name.text)
                        .or_default()
                        .push(definition);
                }
            }
            scopes.push(scope);
            interpreters.push(interpreter);
        }
        let secrets = secrets(description);
        let vars = Self {
            secrets,
            description,
            environment,
            folders,
            outside,
            scopes,
            interpreters,
            known: RefCell::default(),
            depth: Cell::new(0),
            diagnostics: RefCell::default(),
            reported: RefCell::default(),
        };
        vars.check_definitions();
        circles::report(&vars);
        vars
    }

    /// The part that a name seen from a part is defined in.
    pub(super) fn home(&self, part: PartId, name: &str) -> Option<(PartId, &[&'d Let])> {
        let mut at = Some(part);
        while let Some(id) = at {
            if let Some(definitions) = self.scopes[id.index()].get(name) {
                return Some((id, definitions));
            }
            at = self.description.parts[id.index()].parent;
        }
        None
    }

    /// Whether a variable of the part in `folder` is set from outside.
    pub(super) fn is_set_outside(&self, folder: &str, name: &str) -> bool {
        self.outside.find(folder, name).is_some()
    }

    /// Takes all that was reported: what is wrong, and what is warned of.
    pub fn take_errors(&self) -> (Vec<Diagnostic>, Vec<Diagnostic>) {
        self.take_diagnostics()
            .into_iter()
            .partition(Diagnostic::is_error)
    }

    /// Whether nothing was reported.
    pub fn is_silent(&self) -> bool {
        self.diagnostics.borrow().is_empty()
    }

    /// Takes all that was reported.
    pub fn take_diagnostics(&self) -> Vec<Diagnostic> {
        self.diagnostics.take()
    }

    /// Reports a mistake, unless one of its kind was reported at the same place: a wrong `each` is wrong once,
    /// and not for each of its steps.
    pub fn report(&self, diagnostic: Diagnostic) {
        let place = diagnostic.primary.as_ref().map(|label| label.span);
        let kind = match place {
            Some(_) => diagnostic
                .title
                .split('`')
                .step_by(2)
                .collect::<Vec<_>>()
                .join("`"),
            None => diagnostic.title.clone(),
        };
        let key = (place, kind);
        if self.reported.borrow_mut().insert(key) {
            self.diagnostics.borrow_mut().push(diagnostic);
        }
    }

    /// The words of a part's own `recipes with`.
    pub fn own_interpreter(&self, part: PartId) -> Option<&'d [Word]> {
        self.interpreters[part.index()]
    }

    /// Every variable that can be set from outside, with its part.
    pub fn declared(&self) -> impl Iterator<Item = (PartId, &'d str, &[&'d Let])> {
        (0..)
            .map(PartId)
            .zip(&self.scopes)
            .flat_map(|(part, scope)| {
                scope
                    .iter()
                    .map(move |(name, lets)| (part, *name, lets.as_slice()))
            })
    }

    fn check_definitions(&self) {
        for (scope, part) in self.scopes.iter().zip(&self.description.parts) {
            for (name, definitions) in scope {
                let above = part.parent.is_some_and(|above| self.is_known(above, name));
                if !above
                    && definitions
                        .iter()
                        .all(|definition| definition.how == LetHow::Add)
                {
                    self.nothing_to_add_to(definitions[0]);
                }
                let mut base = definitions.iter().filter(|definition| {
                    definition.when.is_none() && definition.how != LetHow::Add
                });
                if let (Some(first), Some(second)) = (base.next(), base.next()) {
                    let name = &second.name.text;
                    self.report(
                        Diagnostic::error(second.name.span, format!("`{name}` is set twice"))
                            .also(first.name.span, "first here")
                            .help("remove one of them, put `when …` behind the second, or add to the first with `+=`"),
                    );
                }
            }
        }
    }

    // ---- variables -----------------------------------------------------------------------------

    /// What `@{…}` stands for.
    pub fn reference(&self, reference: &VarRef, frame: &Frame<'_>) -> Option<Value> {
        let name = &*reference.name.text;
        let value = match frame.local(name) {
            Some(value) => value.clone(),
            None => match self.lookup(frame.part, name) {
                Lookup::Found(value) => value,
                Lookup::Wrong => return None,
                Lookup::Missing => {
                    self.unknown(reference, frame);
                    return None;
                }
            },
        };
        self.select(value, reference)
    }

    /// Applies a reference's parts to a value.
    pub fn select(&self, mut value: Value, reference: &VarRef) -> Option<Value> {
        for select in &reference.select {
            value = match value.select(select) {
                Ok(value) => value,
                Err(reason) => {
                    let written = self.description.sources.slice(reference.span);
                    self.report(
                        Diagnostic::error(
                            reference.span,
                            format!(
                                "`{written}` asks `{}` for a word, but {reason}",
                                reference.name.text
                            ),
                        )
                        .help("ask for a word that is there; `.count` tells how many there are"),
                    );
                    return None;
                }
            };
        }
        Some(value)
    }

    /// Whether a name is a variable seen from a part, without working it out.
    pub fn is_known(&self, part: PartId, name: &str) -> bool {
        let mut at = Some(part);
        while let Some(id) = at {
            if self.scopes[id.index()].contains_key(name) {
                return true;
            }
            at = self.description.parts[id.index()].parent;
        }
        BUILT_IN.contains(&name)
    }

    /// Reports a name that is not known in a frame.
    pub fn unknown(&self, reference: &VarRef, frame: &Frame<'_>) {
        let name = &*reference.name.text;
        let mut known: Vec<&str> = frame.locals.iter().map(|(name, _)| *name).collect();
        known.extend(BUILT_IN);
        let mut part = Some(frame.part);
        while let Some(id) = part {
            known.extend(self.scopes[id.index()].keys());
            part = self.description.parts[id.index()].parent;
        }
        let help = match nearest(name, known.iter().copied()) {
            Some(near) => format!("did you mean `@{{{near}}}`?"),
            None => format!("set it with `let {name} = …`; a literal `@{{` is written `@@{{`"),
        };
        self.report(
            Diagnostic::error(
                reference.span,
                format!("there is no variable `{name}` here"),
            )
            .help(help),
        );
    }

    /// The value of a variable, when there is one and it is right.
    pub fn known_value(&self, part: PartId, name: &str) -> Option<Value> {
        match self.lookup(part, name) {
            Lookup::Found(value) => Some(value),
            Lookup::Wrong | Lookup::Missing => None,
        }
    }

    /// A part's variable, or that of a part above.
    pub fn lookup(&self, part: PartId, name: &str) -> Lookup {
        let mut at = Some(part);
        while let Some(id) = at {
            if let Some((&name, _)) = self.scopes[id.index()].get_key_value(name) {
                return match self.defined(id, name) {
                    Some(value) => Lookup::Found(value),
                    None => Lookup::Wrong,
                };
            }
            at = self.description.parts[id.index()].parent;
        }
        Lookup::Found(match name {
            "os" => Value::word(self.environment.os()),
            "arch" => Value::word(self.environment.arch()),
            "root" => Value::word(self.environment.root()),
            _ => return Lookup::Missing,
        })
    }

    fn defined(&self, part: PartId, name: &'d str) -> Option<Value> {
        let definitions = &self.scopes[part.index()][name];
        let span = definitions[0].name.span;
        {
            let mut known = self.known.borrow_mut();
            match known.get(&(part, name)) {
                Some(ValueSlot::Done(value)) => return value.clone(),
                Some(ValueSlot::Busy) => {
                    drop(known);
                    self.report(
                        Diagnostic::error(span, format!("the value of `{name}` needs itself"))
                            .help("take the circle out of the `let`s it is made from"),
                    );
                    return None;
                }
                None => {
                    if self.depth.get() >= MAX_DEPTH {
                        drop(known);
                        self.report(
                            Diagnostic::error(
                                span,
                                format!("more than {MAX_DEPTH} variables need each other in a row"),
                            )
                            .help("put some of them together"),
                        );
                        return None;
                    }
                    known.insert((part, name), ValueSlot::Busy);
                }
            }
        }
        self.depth.set(self.depth.get() + 1);
        let value = self.work_out(part, name, definitions);
        self.depth.set(self.depth.get() - 1);
        self.known
            .borrow_mut()
            .insert((part, name), ValueSlot::Done(value.clone()));
        value
    }

    fn work_out(&self, part: PartId, name: &str, definitions: &[&'d Let]) -> Option<Value> {
        let frame = Frame::of(part);
        let folder = &self.description.parts[part.index()].folder;
        if let Some(set) = self.outside.find(folder, name) {
            let value = self.words(&set.words, &frame)?;
            return self.one_of(name, definitions, value, set.span, &frame);
        }
        let mut value: Option<Value> = None;
        for definition in definitions {
            if let Some(when) = &definition.when
                && !self.condition(when, &frame)?
            {
                continue;
            }
            let own = self.definition(definition, &frame)?;
            value = Some(match definition.how {
                LetHow::Set | LetHow::OneOf => own,
                LetHow::Add => self.added(part, definition, value, &own)?,
            });
        }
        if value.is_none() {
            let above = self.description.parts[part.index()].parent;
            match above.map_or(Lookup::Missing, |above| self.lookup(above, name)) {
                Lookup::Found(value) => return Some(value),
                Lookup::Wrong => return None,
                Lookup::Missing => {}
            }
            self.report(
                Diagnostic::error(
                    definitions[0].span,
                    format!("no definition of `{name}` holds now"),
                )
                .help("add one without a `when`, in front of the others"),
            );
        }
        value
    }

    fn added(
        &self,
        part: PartId,
        definition: &Let,
        before: Option<Value>,
        own: &Value,
    ) -> Option<Value> {
        let name = &*definition.name.text;
        let before = match before {
            Some(before) => before,
            None => {
                let above = self.description.parts[part.index()].parent;
                match above.map_or(Lookup::Missing, |above| self.lookup(above, name)) {
                    Lookup::Found(value) => value,
                    Lookup::Wrong => return None,
                    Lookup::Missing => {
                        self.nothing_to_add_to(definition);
                        return None;
                    }
                }
            }
        };
        let count = before.atoms.len() + own.atoms.len();
        self.check_count(count, definition.span)?;
        Some(Value {
            atoms: before
                .atoms
                .iter()
                .chain(own.atoms.iter())
                .cloned()
                .collect(),
            list: true,
        })
    }

    /// Reports a `+=` for a variable that has no value before it.
    pub fn nothing_to_add_to(&self, definition: &Let) {
        let name = &definition.name.text;
        self.report(
            Diagnostic::error(
                definition.name.span,
                format!("there is no `{name}` to add to"),
            )
            .help(format!("set it first with `let {name} = …`")),
        );
    }
}
