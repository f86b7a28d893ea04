//! Evaluating variables, words and conditions.
//!
//! A part's variable is worked out when it is first asked for, and once. What is wrong is reported
//! into [`Vars::diagnostics`], each mistake once, and the value is then missing (`None`): whoever
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
use crate::project::environment::OutputError;
use crate::project::folders::Folders;
use crate::project::folders::Unreadable;
use crate::project::frame::Frame;
use crate::project::overrides::SetOutside;
use crate::project::paths::from_root;
use crate::project::pattern::fill_holes;
use crate::project::pattern::unescape;
use crate::project::secret;
use crate::project::value::Atom;
use crate::project::value::Value;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::nearest;

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

    /// Refuses a value from outside that is none of a variable's words.
    fn one_of(
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
                span,
                format!("`{}` is no value of `{name}`", given.join(" ")),
            )
            .also(definition.span, "the choices")
            .help(format!("it is one of: {}", list.join(", "))),
        );
        None
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
            Err(OutputError::Failed(how)) => {
                self.report(
                    Diagnostic::error(span, format!("`{}` {how}", command.join(" "))).help(
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
        for atom in words.atoms.iter() {
            let Some(captures) = pattern.captures(&atom.text) else {
                atoms.push(atom.clone());
                continue;
            };
            let (filled, left) = fill_holes(&into_source, |name| {
                let at = pattern.holes().iter().position(|hole| hole == name)?;
                Some(&atom.text[captures[at].0..captures[at].1])
            });
            if left {
                self.report(
                    Diagnostic::error(
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
        Some(Value {
            atoms: atoms.into(),
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
                without.push(self.pattern(&from_root(folder, &atom.source()), word.span)?);
            }
        }
        let mut found: Vec<String> = Vec::new();
        for word in patterns {
            for atom in self.word(word, frame)?.atoms.iter() {
                let pattern = self.pattern(&from_root(folder, &atom.source()), word.span)?;
                let walked = self.folders.walk(&pattern, &mut |path| {
                    if !without.iter().any(|pattern| pattern.matches(path))
                        && !self.environment.leftover(path)
                    {
                        found.push(
                            path.strip_prefix(folder.as_str())
                                .unwrap_or(path)
                                .to_owned(),
                        );
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
