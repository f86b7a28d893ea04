//! The clauses of a `target` or a `task`, by kind.

use crate::language::ClauseKind;
use crate::language::Condition;
use crate::language::EachClause;
use crate::language::EnvFile;
use crate::language::Group;
use crate::language::LearnHow;
use crate::language::Let;
use crate::language::Manner;
use crate::language::Name;
use crate::language::Script;
use crate::language::SealHow;
use crate::language::StoreHow;
use crate::language::Task;
use crate::language::Word;
use crate::project::description::PartId;
use crate::project::templates::TemplateUser;
use crate::project::values::Vars;
use crate::text::Span;
use std::ops::Deref;
use std::ops::DerefMut;

/// What `takes`, `limit` and `retry` say: how a job may run, no part of what it makes.
#[derive(Clone, Debug, Default)]
pub struct ExecutionClauses<'d> {
    /// `takes NAME=N`
    pub takes: Vec<(&'d Name, &'d Word)>,
    /// `limit 90s`
    pub limit: Option<&'d Word>,
    /// `retry 2`
    pub retry: Option<&'d Word>,
    /// `on PLACE`
    pub on: Option<&'d Word>,
}

impl ExecutionClauses<'_> {
    /// Whether nothing is said.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.takes.is_empty() && self.limit.is_none() && self.retry.is_none() && self.on.is_none()
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
    /// `each names in …`
    pub each: Vec<&'d EachClause>,
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
    /// `env file FILE`
    pub env_files: Vec<&'d EnvFile>,
    /// How it may run.
    pub running: ExecutionClauses<'d>,
    /// `terminal`
    pub terminal: bool,
    /// `remember`
    pub remember: bool,
    /// `stays`
    pub stays: bool,
    /// `ready:`
    pub ready: Option<&'d Script>,
    /// `sealed`
    pub sealed: Option<SealHow>,
    /// `store`
    pub store: Option<StoreHow>,
    /// `always`, `resumes`, `guarded`, `fleeting`, each with its place.
    pub manners: Vec<(Manner, Span)>,
    /// `steps`
    pub steps: &'d [Word],
    /// `finally:`
    pub finally: Option<&'d Script>,
    /// `finally TASKS`
    pub finally_tasks: &'d [Word],
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
        env_files: Vec::new(),
        finally_tasks: &[],
        running: ExecutionClauses {
            takes: Vec::new(),
            limit: None,
            retry: None,
            on: None,
        },
        terminal: false,
        remember: false,
        stays: false,
        ready: None,
        sealed: None,
        store: None,
        manners: Vec::new(),
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
                ClauseKind::Each(each) => sorted.each.push(each),
                ClauseKind::Learn(how, file) => sorted.learn = Some((*how, file.as_deref())),
                ClauseKind::GivenEnv(words) => sorted.given_env.push(words),
                ClauseKind::GivenOutput(words) => sorted.given_output.push(words),
                ClauseKind::Let(definition) => sorted.lets.push(definition),
                ClauseKind::Env(name, words) => sorted.env.push((name, words)),
                ClauseKind::In(word) => sorted.folder = Some(word),
                ClauseKind::When(condition) => sorted.when = Some(condition),
                ClauseKind::Takes(taken) => {
                    sorted
                        .running
                        .takes
                        .extend(taken.iter().map(|(name, word)| (name, word)));
                }
                ClauseKind::Limit(word) => sorted.running.limit = Some(word),
                ClauseKind::Retry(word) => sorted.running.retry = Some(word),
                ClauseKind::On(word) => sorted.running.on = Some(word),
                ClauseKind::Terminal => sorted.terminal = true,
                ClauseKind::Remember => sorted.remember = true,
                ClauseKind::Stays => sorted.stays = true,
                ClauseKind::Ready(script) => sorted.ready = Some(script),
                ClauseKind::Sealed(how) => sorted.sealed = Some(*how),
                ClauseKind::Store(how) => sorted.store = Some(*how),
                ClauseKind::Manner(manner) => sorted.manners.push((*manner, clause.span)),
                ClauseKind::Steps(words) => sorted.steps = words,
                ClauseKind::EnvFile(file) => sorted.env_files.push(file),
                ClauseKind::FinallyTasks(words) => sorted.finally_tasks = words,
                ClauseKind::Finally(script) => sorted.finally = Some(script),
                ClauseKind::Recipe(script) => sorted.recipe = Some(script),
            }
        }
        sorted
    }
}

impl Clauses<'_> {
    /// Whether it says so.
    #[must_use]
    pub fn has(&self, manner: Manner) -> bool {
        self.manners.iter().any(|(known, _)| *known == manner)
    }
}

impl<'d> Clauses<'d> {
    /// Sorts a task's clauses, with the variables that depend on its parameters. `None` when it has not those that
    /// they need, which is reported.
    pub fn of_task(vars: &Vars<'d>, part: PartId, syntax: &'d Task) -> Option<Self> {
        let mut sorted = Self::sort(&syntax.clauses);
        if vars.has_templates() {
            let parameters = syntax.parameters.iter();
            let names = parameters.map(|parameter| &*parameter.name.text);
            let names: Vec<&str> = names.chain(["extra", "here"]).collect();
            let user = TemplateUser {
                part,
                clauses: &syntax.clauses,
                words: &[],
                names: &names,
                span: syntax.span,
            };
            let mut lets = sorted.lets.clone();
            vars.add_templates(&user, &mut lets)?;
            if lets.len() > sorted.lets.len() {
                sorted.lets = lets;
            }
        }
        Some(sorted)
    }
}
