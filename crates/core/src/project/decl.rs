//! One `target` of a description, its clauses sorted by what they say, before any step is known.

use std::ops::Deref;
use std::ops::DerefMut;
use std::sync::Arc;
use std::sync::OnceLock;

use crate::language::ClauseKind;
use crate::language::Condition;
use crate::language::Group;
use crate::language::LearnHow;
use crate::language::Let;
use crate::language::LetHow;
use crate::language::Name;
use crate::language::Script;
use crate::language::SealHow;
use crate::language::StoreHow;
use crate::language::TargetSyntax;
use crate::language::Task;
use crate::language::ValueSyntax as Written;
use crate::language::Word;
use crate::language::WordKind;
use crate::language::WordPart;
use crate::language::condition_words;
use crate::language::script_names;
use crate::language::word_names;
use crate::project::description::PartId;
use crate::project::frame::Frame;
use crate::project::value::Value;
use crate::project::values::Lookup;
use crate::project::values::Vars;
use crate::text::Diagnostic;

/// What `uses`, `limit` and `retry` say: how a job may run, no part of what it makes.
#[derive(Clone, Debug, Default)]
pub struct ExecutionClauses<'d> {
    /// `uses NAME=N`
    pub uses: Vec<(&'d Name, &'d Word)>,
    /// `limit 90s`
    pub limit: Option<&'d Word>,
    /// `retry 2`
    pub retry: Option<&'d Word>,
}

impl ExecutionClauses<'_> {
    /// Whether nothing is said.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.uses.is_empty() && self.limit.is_none() && self.retry.is_none()
    }
}

/// The clauses of a `target` or a `task`, by kind.
///
/// A description may have very many targets with few clauses each, so what is rare lies behind a
/// pointer, and is reached as if it were here.
#[derive(Clone, Debug, Default)]
pub struct Clauses<'d> {
    /// `about:`
    pub about: Option<&'d str>,
    /// The groups of all `needs`.
    pub needs: Vec<&'d Group>,
    /// `in FOLDER`
    pub folder: Option<&'d Word>,
    /// `when`
    pub when: Option<&'d Condition>,
    /// `recipe:`
    pub recipe: Option<&'d Script>,
    rare: Option<Box<Rare<'d>>>,
}

/// Clauses that few targets have.
#[derive(Clone, Debug)]
pub struct Rare<'d> {
    /// The words of all `after`.
    pub after: Vec<&'d Word>,
    /// `each name in WORDS`
    pub each: Vec<(&'d Name, &'d [Word])>,
    /// `learn`
    pub learn: Option<(LearnHow, Option<&'d Word>)>,
    /// `given env`
    pub given_env: Vec<&'d [Word]>,
    /// `given output`
    pub given_output: Vec<&'d [Word]>,
    /// `let`
    pub lets: Vec<&'d Let>,
    /// `env NAME = WORDS`
    pub env: Vec<(&'d Name, &'d [Word])>,
    /// How it may run.
    pub running: ExecutionClauses<'d>,
    /// `terminal`
    pub terminal: bool,
    /// `remember`
    pub remember: bool,
    /// `sealed`
    pub sealed: Option<SealHow>,
    /// `store`
    pub store: Option<StoreHow>,
    /// `steps`
    pub steps: &'d [Word],
    /// `finally:`
    pub finally: Option<&'d Script>,
}

impl Rare<'_> {
    const NONE: Self = Self {
        after: Vec::new(),
        each: Vec::new(),
        learn: None,
        given_env: Vec::new(),
        given_output: Vec::new(),
        lets: Vec::new(),
        env: Vec::new(),
        running: ExecutionClauses {
            uses: Vec::new(),
            limit: None,
            retry: None,
        },
        terminal: false,
        remember: false,
        sealed: None,
        store: None,
        steps: &[],
        finally: None,
    };
}

impl<'d> Deref for Clauses<'d> {
    type Target = Rare<'d>;

    fn deref(&self) -> &Rare<'d> {
        static NONE: Rare<'static> = Rare::NONE;
        self.rare.as_deref().unwrap_or(&NONE)
    }
}

impl DerefMut for Clauses<'_> {
    fn deref_mut(&mut self) -> &mut Self::Target {
        self.rare.get_or_insert_with(|| Box::new(Rare::NONE))
    }
}

impl<'d> Clauses<'d> {
    /// Sorts a target's or a task's clauses.
    #[must_use]
    pub fn sort(clauses: &'d [crate::language::Clause]) -> Self {
        let mut sorted = Self::default();
        for clause in clauses {
            match &clause.kind {
                ClauseKind::About(text) => sorted.about = Some(text),
                ClauseKind::Needs(groups) => {
                    sorted.needs.reserve_exact(groups.len());
                    sorted.needs.extend(groups);
                }
                ClauseKind::After(words) => sorted.after.extend(words),
                ClauseKind::Each(name, words) => sorted.each.push((name, words)),
                ClauseKind::Learn(how, file) => sorted.learn = Some((*how, file.as_deref())),
                ClauseKind::GivenEnv(words) => sorted.given_env.push(words),
                ClauseKind::GivenOutput(words) => sorted.given_output.push(words),
                ClauseKind::Let(definition) => sorted.lets.push(definition),
                ClauseKind::Env(name, words) => sorted.env.push((name, words)),
                ClauseKind::In(word) => sorted.folder = Some(word),
                ClauseKind::When(condition) => sorted.when = Some(condition),
                ClauseKind::Uses(uses) => {
                    sorted
                        .running
                        .uses
                        .extend(uses.iter().map(|(name, word)| (name, word)));
                }
                ClauseKind::Limit(word) => sorted.running.limit = Some(word),
                ClauseKind::Retry(word) => sorted.running.retry = Some(word),
                ClauseKind::Terminal => sorted.terminal = true,
                ClauseKind::Remember => sorted.remember = true,
                ClauseKind::Sealed(how) => sorted.sealed = Some(*how),
                ClauseKind::Store(how) => sorted.store = Some(*how),
                ClauseKind::Steps(words) => sorted.steps = words,
                ClauseKind::Finally(script) => sorted.finally = Some(script),
                ClauseKind::Recipe(script) => sorted.recipe = Some(script),
            }
        }
        sorted
    }
}

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
        clauses: Clauses<'d>,
        holes: Vec<String>,
    ) -> Option<Self> {
        let mut decl = Self::plain(place, syntax, clauses, holes);
        decl.conditional = decl.conditional_lets(vars);
        for definition in decl.clauses.lets.clone() {
            if decl.let_varies(definition) {
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
            if !always && !known && !vars.is_known(self.part, name) && self.uses(name) {
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

    fn let_varies(&self, definition: &Let) -> bool {
        let names: &dyn Fn(&Word) -> bool =
            &|word| word_names(word).any(|name| self.name_varies(name));
        let value = match &definition.value {
            Written::Words(words) | Written::Output(words) => words.iter().any(names),
            Written::Files { patterns, except } => patterns.iter().chain(except).any(names),
            Written::Env { name, or } => names(name) || or.iter().flatten().any(names),
            Written::Secret(name) => names(name),
            Written::Match { from, into, words } => {
                names(from) || names(into) || words.iter().any(names)
            }
        };
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
