//! One `target` of a description, its clauses sorted by what they say, before any step is known.

use crate::language::Let;
use crate::language::LetHow;
use crate::language::Script;
use crate::language::TargetSyntax;
use crate::language::Task;
use crate::language::ValueSyntax as Written;
use crate::language::Word;
use crate::language::WordKind;
use crate::language::WordPart;
use crate::language::condition_words;
use crate::language::script_names;
use crate::language::value_words;
use crate::language::word_names;
use crate::project::clauses::Clauses;
use crate::project::description::PartId;
use crate::project::frame::Frame;
use crate::project::templates::TemplateUser;
use crate::project::value::Value;
use crate::project::values::Lookup;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::mistakes;
use std::sync::Arc;
use std::sync::OnceLock;

/// A `target` of a description.
#[derive(Debug)]
pub struct Decl<'d> {
    /// As written.
    pub syntax: &'d TargetSyntax,
    /// The part it stands in.
    pub part: PartId,
    /// Its index among the part's items.
    pub item: usize,
    /// Its clauses.
    pub clauses: Clauses<'d>,
    /// The names whose values differ from step to step: holes, values of `each`.
    pub holes: Vec<String>,
    /// Names known before any hole is filled: own variables that need none.
    pub fixed: Vec<(&'d str, Value)>,
    /// Own variables that differ from step to step.
    pub varying: Vec<&'d Let>,
    /// Own variables that are used, and may have no value since each of their definitions has a condition.
    pub conditional: Vec<&'d Let>,
    /// For each hole whether what is compared depends on its value; worked out when first asked for.
    pub(super) used_holes: OnceLock<Vec<bool>>,
}

impl<'d> Decl<'d> {
    /// A target without variables of its own. `holes` are the names that its `each` give.
    pub fn plain(
        (part, item): (PartId, usize),
        syntax: &'d TargetSyntax,
        clauses: Clauses<'d>,
        holes: Vec<String>,
    ) -> Self {
        Self {
            syntax,
            part,
            item,
            clauses,
            holes,
            fixed: Vec::new(),
            varying: Vec::new(),
            conditional: Vec::new(),
            used_holes: OnceLock::new(),
        }
    }

    /// Looks at a target's clauses. `holes` are the names that its `each` give.
    pub fn new(
        vars: &Vars<'d>,
        place: (PartId, usize),
        syntax: &'d TargetSyntax,
        mut clauses: Clauses<'d>,
        holes: Vec<String>,
    ) -> Option<Self> {
        if vars.has_templates() {
            let names: Vec<&str> = holes.iter().map(String::as_str).collect();
            let outputs = syntax.outputs.iter().flat_map(|group| &group.items);
            let outputs: Vec<&Word> = outputs.map(|item| &item.word).collect();
            let mut lets = clauses.lets.clone();
            let user = TemplateUser {
                part: place.0,
                clauses: &syntax.clauses,
                words: &outputs,
                names: &names,
                span: syntax.span,
            };
            vars.add_templates(&user, &mut lets)?;
            if lets.len() > clauses.lets.len() {
                clauses.lets = lets;
            }
        }
        let mut decl = Self::plain(place, syntax, clauses, holes);
        decl.conditional = decl.conditional_lets(vars);
        for definition in decl.clauses.lets.clone() {
            if decl.let_varies(vars, definition) {
                decl.varying.push(definition);
            } else {
                let mut frame = decl.fixed_frame();
                own_let(vars, definition, &mut frame)?;
                decl.fixed = frame.locals;
            }
        }
        Some(decl)
    }

    fn conditional_lets(&self, vars: &Vars<'d>) -> Vec<&'d Let> {
        let lets = &self.clauses.lets;
        let mut found: Vec<&'d Let> = Vec::new();
        for definition in lets {
            let name = &*definition.name.text;
            let always = lets
                .iter()
                .any(|other| &*other.name.text == name && other.when.is_none());
            let known = found.iter().any(|other| &*other.name.text == name);
            if !always && !known && !vars.has_value(self.part, name) && self.uses(name) {
                found.push(definition);
            }
        }
        found
    }

    /// Reports an own variable that has no value in one step.
    pub fn check_conditional(&self, vars: &Vars<'d>, values: &[&str]) -> Option<()> {
        if self.conditional.is_empty() {
            return Some(());
        }
        let frame = self.frame(vars, values)?;
        for definition in &self.conditional {
            let name = &definition.name.text;
            if frame.local(name).is_some() {
                continue;
            }
            let holes = self.holes.iter().zip(values);
            let shown: Vec<String> = holes
                .map(|(hole, value)| format!("<{hole}> = {value}"))
                .collect();
            let step = match shown.is_empty() {
                true => String::new(),
                false => format!(" in the step with {}", shown.join(", ")),
            };
            vars.report(
                Diagnostic::error(
                    &mistakes::NO_VALUE_HOLDS,
                    definition.name.span,
                    format!("no definition of `{name}` holds{step}, so it has no value there"),
                )
                .also(self.syntax.span, "the target")
                .help(format!(
                    "add a `let {name} = …` without a `when`, in front of the others"
                )),
            );
            return None;
        }
        Some(())
    }

    /// Whether its recipe, or what surrounds that, uses a name: only then the name's value is a reason to
    /// run.
    #[must_use]
    pub fn uses(&self, name: &str) -> bool {
        let clauses = &self.clauses;
        let in_script = |script: &Script| script_names(script).any(|(used, _)| used == name);
        let in_word = |word: &Word| word_names(word).any(|used| used == name);
        let in_env = clauses
            .env
            .iter()
            .flat_map(|(_, words)| words.iter())
            .any(in_word);
        clauses.recipe.is_some_and(in_script)
            || clauses.finally.is_some_and(in_script)
            || in_env
            || clauses.folder.is_some_and(in_word)
            || clauses
                .learn
                .is_some_and(|(_, file)| file.is_some_and(in_word))
    }

    /// The names that hold for all its steps.
    #[must_use]
    pub fn fixed_frame(&self) -> Frame<'d> {
        Frame {
            part: self.part,
            locals: self.fixed.clone(),
        }
    }

    /// Whether a name's value may differ from step to step.
    #[must_use]
    pub fn name_varies(&self, name: &str) -> bool {
        self.holes.iter().any(|hole| hole == name)
            || self
                .varying
                .iter()
                .any(|definition| &*definition.name.text == name)
    }

    /// Whether a word may come to something else from step to step.
    #[must_use]
    pub fn word_varies(&self, vars: &Vars<'d>, word: &Word) -> bool {
        match &word.kind {
            WordKind::Plain => vars.description.sources.slice(word.span).contains('<'),
            WordKind::Mixed(parts) => parts.iter().any(|part| match part {
                WordPart::Text { text, quoted } => !quoted && text.contains('<'),
                WordPart::Var(reference) => {
                    // A variable's words may hold holes that are only filled here.
                    self.name_varies(&reference.name.text)
                        || vars
                            .reference(reference, &self.fixed_frame())
                            .is_some_and(|value| {
                                value.atoms.iter().any(|atom| {
                                    atom.pattern
                                        .as_ref()
                                        .is_some_and(|source| source.contains('<'))
                                })
                            })
                }
            }),
        }
    }

    fn let_varies(&self, vars: &Vars<'d>, definition: &Let) -> bool {
        let names: &dyn Fn(&Word) -> bool =
            &|word| word_names(word).any(|name| self.name_varies(name));
        // Holes in words are filled where these are used; in the names of files that are read they are filled first.
        let reads = matches!(
            definition.value,
            Written::FileValue { .. } | Written::FileLines(_) | Written::Column { .. }
        );
        let holes = |word: &Word| reads && self.word_varies(vars, word);
        let words = value_words(&definition.value);
        let value = words.into_iter().any(|word| names(word) || holes(word));
        let when = definition
            .when
            .as_ref()
            .is_some_and(|when| condition_words(when).any(names));
        value || when || self.name_varies(&definition.name.text)
    }

    /// Whether its `when` can be told without a step.
    #[must_use]
    pub fn when_varies(&self) -> bool {
        self.clauses.when.is_some_and(|when| {
            condition_words(when).any(|word| word_names(word).any(|name| self.name_varies(name)))
        })
    }

    /// The names of one step: what the holes hold, and its own variables.
    pub fn frame<'a>(&'a self, vars: &Vars<'d>, values: &[&str]) -> Option<Frame<'a>> {
        let mut frame = Frame {
            part: self.part,
            locals: Vec::with_capacity(self.fixed.len() + values.len() + self.varying.len() + 4),
        };
        for (name, value) in &self.fixed {
            frame.set(name, value.clone());
        }
        for (hole, value) in self.holes.iter().zip(values) {
            frame.set(hole, Value::word(Arc::from(*value)));
        }
        for definition in &self.varying {
            own_let(vars, definition, &mut frame)?;
        }
        Some(frame)
    }
}

/// Sets a target's or a task's own variable.
pub fn own_let<'a, 'd: 'a>(
    vars: &Vars<'d>,
    definition: &'d Let,
    frame: &mut Frame<'a>,
) -> Option<()> {
    if let Some(when) = &definition.when
        && !vars.condition(when, frame)?
    {
        return Some(());
    }
    let name = &*definition.name.text;
    let mut value = vars.definition(definition, frame)?;
    if definition.how == LetHow::Add {
        let before = match frame.local(name) {
            Some(before) => before.clone(),
            None => match vars.lookup(frame.part, name) {
                Lookup::Found(before) => before,
                Lookup::Wrong => return None,
                Lookup::Missing => {
                    vars.nothing_to_add_to(definition);
                    return None;
                }
            },
        };
        value = Value {
            atoms: before
                .atoms
                .iter()
                .chain(value.atoms.iter())
                .cloned()
                .collect(),
            list: true,
        };
    }
    frame.set(name, value);
    Some(())
}

/// A `task` of a description.
#[derive(Debug)]
pub struct TaskDecl<'d> {
    /// As written.
    pub syntax: &'d Task,
    /// The part it stands in.
    pub part: PartId,
    /// Its index among the part's items.
    pub item: usize,
    /// Its clauses.
    pub clauses: Clauses<'d>,
    /// Its name from the root: the part's folder in front.
    pub name: String,
}

impl TaskDecl<'_> {
    /// Whether what it needs, or does before, in order or in the end depends on the values that it is run with.
    #[must_use]
    pub fn resolves_by_call(&self) -> bool {
        let clauses = &self.clauses;
        let needs = clauses.needs.iter();
        let needs = needs.flat_map(|group| {
            group
                .items
                .iter()
                .map(|item| &item.word)
                .chain(&group.except)
        });
        let after = clauses.after.iter().copied();
        let words = needs
            .chain(after)
            .chain(clauses.steps)
            .chain(clauses.finally_tasks);
        let mut names = words.flat_map(word_names);
        names.any(|name| depends_on_call(self.syntax, clauses, name)) || self.when_depends_on_call()
    }

    /// Whether its `when` can only be told for the values that it is run with.
    #[must_use]
    pub fn when_depends_on_call(&self) -> bool {
        when_depends_on_call(self.syntax, &self.clauses)
    }
}

/// The same for a task that is looked at first.
pub fn when_depends_on_call(syntax: &Task, clauses: &Clauses<'_>) -> bool {
    let words = clauses.when.into_iter().flat_map(condition_words);
    let mut names = words.flat_map(word_names);
    names.any(|name| depends_on_call(syntax, clauses, name))
}

/// Whether a name may stand for something else for other values of a task's parameters.
fn depends_on_call(syntax: &Task, clauses: &Clauses<'_>, name: &str) -> bool {
    let mut parameters = syntax.parameters.iter();
    let mut own = clauses.lets.iter();
    matches!(name, "extra" | "here")
        || parameters.any(|parameter| &*parameter.name.text == name)
        || own.any(|own| &*own.name.text == name)
}
