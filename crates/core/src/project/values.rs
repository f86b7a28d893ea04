//! Evaluating variables, words and conditions.
//!
//! A part's variable is worked out when it is first asked for, and once. What is wrong is reported
//! into `Vars::diagnostics`, each mistake once, and the value is then missing (`None`): whoever
//! asked gives up quietly.

use std::cell::Cell;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::collections::HashMap;
use std::collections::HashSet;

use crate::language::EnvFile;
use crate::language::Let;
use crate::language::LetHow;
use crate::language::Name;
use crate::language::VarRef;
use crate::language::Word;
use crate::project::description::Description;
use crate::project::description::PartId;
use crate::project::environment::Environment;
use crate::project::folders::Folders;
use crate::project::frame::Frame;
use crate::project::overrides::SetOutside;
use crate::project::paths::from_known_root;
use crate::project::pattern::escape;
use crate::project::value::Value;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::world::Digest;

/// Variables that need each other deeper than this are refused.
const MAX_DEPTH: usize = 200;

/// The variables that depend on holes, each by its part and name, with the names that are no variables.
pub(super) type Templates<'d> = HashMap<(PartId, &'d str), Vec<&'d str>>;

pub(super) type Scope<'d> = HashMap<&'d str, Vec<&'d Let>>;

/// What a part sets in the environment of its recipes.
#[derive(Default)]
pub(super) struct PartEnv<'d> {
    /// `env NAME = WORDS`
    pub names: Vec<(&'d Name, &'d [Word])>,
    /// `env file FILE`
    pub files: Vec<&'d EnvFile>,
}

/// What looking for a variable comes to.
pub enum Lookup {
    /// There is none of that name.
    Missing,
    /// Its definition is wrong, which is reported.
    Wrong,
    /// Its value.
    Found(Value),
}

pub(super) enum ValueSlot {
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
    pub(super) outside: &'d SetOutside,
    pub(super) scopes: Vec<Scope<'d>>,
    /// What each part sets in the environment of its recipes.
    pub(super) part_env: Vec<PartEnv<'d>>,
    /// The words of each part's `recipes with`.
    pub(super) interpreters: Vec<Option<&'d [Word]>>,
    /// The environment variables that hold secrets, as far as they are written plainly.
    pub secrets: Vec<String>,
    /// The variables that depend on the holes of whoever uses them.
    pub(super) templates: Templates<'d>,
    pub(super) known: RefCell<HashMap<(PartId, &'d str), ValueSlot>>,
    /// How many variables are being worked out, one for another.
    pub(super) depth: Cell<usize>,
    /// The files that values were taken from, each with a place that names it.
    pub(super) data_files: RefCell<BTreeMap<String, Span>>,
    pub(super) diagnostics: RefCell<Vec<Diagnostic>>,
    pub(super) reported: RefCell<HashSet<(Option<Span>, String)>>,
}

impl<'d> Vars<'d> {
    /// A path written in a folder's description, seen from the project's root.
    #[must_use]
    pub fn from_root(&self, folder: &str, path: &str) -> String {
        from_known_root(|| self.environment.root(), folder, path)
    }

    /// The same for the source of a pattern.
    pub(super) fn source_from_root(&self, folder: &str, source: &str) -> String {
        from_known_root(
            || escape(&self.environment.root()).into_owned(),
            &escape(folder),
            source,
        )
    }

    /// The digest of all that is set from outside.
    #[must_use]
    pub fn outside_digest(&self) -> Digest {
        self.outside.digest
    }

    /// Whether a variable of the part in `folder` is set from outside.
    pub(super) fn is_set_outside(&self, folder: &str, name: &str) -> bool {
        let set = self.outside.find(folder, name);
        set.is_some_and(|set| !set.adds)
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
                            &mistakes::MISSING_WORD,
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

    pub(super) fn defined(&self, part: PartId, name: &'d str) -> Option<Value> {
        let definitions = &self.scopes[part.index()][name];
        let span = definitions[0].name.span;
        if let Some(free) = self.templates.get(&(part, name)) {
            self.report(
                Diagnostic::error(
                    &mistakes::UNBOUND_VALUE,
                    span,
                    format!("`{name}` has no value where it is used: it depends on `{}`, which is no variable", free.join("`, `")),
                )
                .help("use it in a target that has such a hole, or in a task that has such a parameter; or set what it depends on with `let`"),
            );
            return None;
        }
        {
            let mut known = self.known.borrow_mut();
            match known.get(&(part, name)) {
                Some(ValueSlot::Done(value)) => return value.clone(),
                Some(ValueSlot::Busy) => {
                    drop(known);
                    self.report(
                        Diagnostic::error(
                            &mistakes::VALUE_IN_A_CIRCLE,
                            span,
                            format!("the value of `{name}` needs itself"),
                        )
                        .help("take the circle out of the `let`s it is made from"),
                    );
                    return None;
                }
                None => {
                    if self.depth.get() >= MAX_DEPTH {
                        drop(known);
                        self.report(
                            Diagnostic::error(
                                &mistakes::DEEP_VALUES,
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
        let set = self.outside.find(folder, name);
        if let Some(set) = set.filter(|set| !set.adds) {
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
        if let (Some(set), Some(before)) = (set, &value) {
            return self.added_outside(name, definitions, before, set, &frame);
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
                    &mistakes::NO_VALUE_HOLDS,
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
                &mistakes::NOTHING_TO_ADD_TO,
                definition.name.span,
                format!("there is no `{name}` to add to"),
            )
            .help(format!("set it first with `let {name} = …`")),
        );
    }
}
