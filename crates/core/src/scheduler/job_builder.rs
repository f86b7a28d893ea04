//! From a step or task that is to run to a job.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use serde::Serialize;

use crate::executor::job::Job;
use crate::language::LearnHow;
use crate::language::Script;
use crate::language::Word;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::decl::Clauses;
use crate::project::decl::script_names;
use crate::project::frame::Frame;
use crate::project::paths::from_root;
use crate::project::script;
use crate::project::script::LearnFile;
use crate::project::secret;
use crate::project::shell;
use crate::project::value::Value;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::world::names;

/// The folder of files that only live as long as a job.
pub const SCRATCH: &str = ".handloom/jobs";

/// A job, and what of it is needed when it has ended.
pub struct PreparedJob {
    /// What the place runs.
    pub job: Arc<Job>,
    /// Where it tells what it found out.
    pub learn: Option<LearnFile>,
    /// The place of its recipe.
    pub span: Span,
    /// Its `finally:` script, as a job of its own.
    pub finally: Option<Job>,
}

/// The facts that `HANDLOOM_JOB` names; paths are seen from the folder that the recipe runs in.
#[derive(Serialize)]
struct JobManifest<'a> {
    targets: Vec<&'a str>,
    target_groups: BTreeMap<&'a str, Vec<&'a str>>,
    needs: Vec<&'a str>,
    need_groups: BTreeMap<&'a str, Vec<&'a str>>,
    variables: BTreeMap<&'a str, Vec<&'a str>>,
    folder: String,
}

/// Where jobs are prepared from.
pub struct JobBuilder<'p, 'd> {
    /// The project.
    pub project: &'p Project<'d>,
    /// Its variables.
    pub vars: &'p Vars<'d>,
}

impl<'d> JobBuilder<'_, 'd> {
    /// A step's job; `None` when its description is wrong, which is reported.
    pub fn step(&self, step: StepId, slot: usize) -> Option<PreparedJob> {
        let project = self.project;
        let node = project.step(step);
        let decl = project.decl(node);
        let recipe = decl.clauses.recipe?;
        let values = project.step_values(node);
        let frame = decl.frame(self.vars, &values[..decl.holes.len().min(values.len())])?;
        let learn = self.learn_file(&decl.clauses, &frame, slot)?;
        let needs: Vec<(u16, PathId)> = project.open_needs(project.step_needs(node)).collect();
        let (frame, folder) =
            script::step_frame(self.vars, project, decl, node, &needs, learn.as_ref())?;
        // What a recipe does not mention is no reason to run it again, so it must not depend on it either.
        let own: Vec<&str> = decl
            .holes
            .iter()
            .map(String::as_str)
            .filter(|hole| decl.names_output(self.vars, hole) || decl.uses_hole(self.vars, hole))
            .chain(
                decl.clauses
                    .lets
                    .iter()
                    .map(|own| &*own.name.text)
                    .filter(|name| decl.uses(name)),
            )
            .collect();
        let labels = Labels {
            targets: decl
                .syntax
                .outputs
                .iter()
                .filter_map(|group| group.label.as_ref())
                .map(|label| &*label.text)
                .collect(),
            needs: decl
                .clauses
                .needs
                .iter()
                .filter_map(|group| group.label.as_ref())
                .map(|label| &*label.text)
                .collect(),
        };
        let name = project.step_name(step).to_owned();
        self.job(
            name,
            recipe,
            &decl.clauses,
            &frame,
            folder,
            &own,
            &labels,
            slot,
            learn,
        )
    }

    /// A task's job; `None` when it has no recipe or its description is wrong.
    pub fn task(&self, task: TaskId, frame: &Frame<'_>, slot: usize) -> Option<PreparedJob> {
        let node = &self.project.tasks[task.index()];
        // A task that only stands for others may still have something to do whatever happened to them.
        let recipe = node.decl.clauses.recipe.or(node.decl.clauses.finally)?;
        let folder = script::run_folder(self.vars, node.decl.clauses.folder, frame)?;
        let own: Vec<&str> = node
            .decl
            .syntax
            .parameters
            .iter()
            .map(|parameter| &*parameter.name.text)
            .chain(node.decl.clauses.lets.iter().map(|own| &*own.name.text))
            .chain(["extra"])
            .collect();
        let labels = Labels {
            targets: Vec::new(),
            needs: node
                .decl
                .clauses
                .needs
                .iter()
                .filter_map(|group| group.label.as_ref())
                .map(|label| &*label.text)
                .collect(),
        };
        let name = node.decl.name.clone();
        self.job(
            name,
            recipe,
            &node.decl.clauses,
            frame,
            folder,
            &own,
            &labels,
            slot,
            None,
        )
    }

    #[expect(
        clippy::too_many_arguments,
        reason = "what steps and tasks have in common"
    )]
    fn job(
        &self,
        name: String,
        recipe: &Script,
        clauses: &Clauses<'d>,
        frame: &Frame<'_>,
        folder: String,
        own: &[&str],
        labels: &Labels<'_>,
        slot: usize,
        learn: Option<LearnFile>,
    ) -> Option<PreparedJob> {
        let interpreter = script::interpreter(self.vars, recipe, frame)?;
        let text = script::render(self.vars, recipe, frame, &interpreter)?;
        let mut env = Vec::with_capacity(clauses.env.len());
        for (name, words) in &clauses.env {
            let value = self.vars.words(words, frame)?;
            env.push((
                name.text.to_string(),
                value.texts().collect::<Vec<_>>().join(" "),
            ));
        }
        let limit = match clauses.running.limit {
            Some(word) => Some(self.limit(word, frame)?),
            None => None,
        };
        for name in &self.vars.secrets {
            let used = text.contains(&format!("${{{name}}}"))
                || env
                    .iter()
                    .any(|(_, value)| value.contains(&secret::placeholder(name)));
            if used {
                self.vars.secret_value(name, recipe.span)?;
            }
        }
        let facts = self.facts(recipe, frame, &folder, own, labels);
        let list = |name: &str| -> Vec<String> {
            let value = frame.local(name);
            value
                .iter()
                .flat_map(|value| value.texts())
                .map(str::to_owned)
                .collect()
        };
        env.extend(target_env(&list, labels));
        let shell = shell::is_shell(&interpreter);
        let job = Job {
            name,
            shell,
            interpreter,
            script: text,
            arguments: if shell { list("needs") } else { Vec::new() },
            secrets: self.secrets(),
            folder,
            env,
            facts,
            slot,
            limit,
            terminal: clauses.terminal,
            log: None,
        };
        let finally = match clauses.finally {
            Some(finally) if clauses.recipe.is_some() => {
                let interpreter = script::interpreter(self.vars, finally, frame)?;
                Some(Job {
                    script: script::render(self.vars, finally, frame, &interpreter)?,
                    shell: shell::is_shell(&interpreter),
                    interpreter,
                    ..job.clone()
                })
            }
            _ => None,
        };
        Some(PreparedJob {
            job: Arc::new(job),
            learn,
            span: recipe.span,
            finally,
        })
    }

    fn learn_file(
        &self,
        clauses: &Clauses<'d>,
        frame: &Frame<'_>,
        slot: usize,
    ) -> Option<Option<LearnFile>> {
        let Some((how, file)) = clauses.learn else {
            return Some(None);
        };
        if how == LearnHow::Watched {
            return Some(None);
        }
        let folder = &self.vars.description.parts[frame.part.index()].folder;
        Some(Some(match file {
            Some(word) => LearnFile {
                how,
                path: from_root(folder, &script::filled(self.vars, word, frame)?),
                scratch: false,
            },
            None => LearnFile {
                how,
                path: format!("{SCRATCH}/{slot}.learn"),
                scratch: true,
            },
        }))
    }

    /// A time such as `90s`, `5m`, `2h` or `1m30s`.
    fn limit(&self, word: &Word, frame: &Frame<'_>) -> Option<Duration> {
        let text = self.vars.single(word, frame)?;
        let limit = script::duration(&text.text);
        if limit.is_none() {
            self.vars.report(
                Diagnostic::error(word.span, format!("`{}` is no time", text.text))
                    .help("write a number and `s`, `m` or `h`, such as `90s`"),
            );
        }
        limit
    }

    fn facts(
        &self,
        recipe: &Script,
        frame: &Frame<'_>,
        folder: &str,
        own: &[&str],
        labels: &Labels<'_>,
    ) -> String {
        let empty = Value::list([] as [&str; 0]);
        let list = |name: &str| frame.local(name).unwrap_or(&empty);
        let mut mentioned: Vec<(&str, Value)> = Vec::new();
        for (name, _) in script_names(recipe) {
            if frame.local(name).is_none()
                && let Some(Some(value)) = self.vars.lookup(frame.part, name)
            {
                mentioned.push((name, value));
            }
        }
        let texts =
            |value: &'_ Value| -> Vec<String> { value.texts().map(str::to_owned).collect() };
        let owned: Vec<(&str, Vec<String>)> = own
            .iter()
            .filter_map(|name| Some((*name, texts(frame.local(name)?))))
            .chain(mentioned.iter().map(|(name, value)| (*name, texts(value))))
            .collect();
        let root = self.vars.environment.root();
        let facts = JobManifest {
            targets: list("target").texts().collect(),
            target_groups: labels
                .targets
                .iter()
                .map(|label| (*label, list(label).texts().collect()))
                .collect(),
            needs: list("needs").texts().collect(),
            need_groups: labels
                .needs
                .iter()
                .map(|label| (*label, list(label).texts().collect()))
                .collect(),
            variables: owned
                .iter()
                .map(|(name, words)| (*name, words.iter().map(String::as_str).collect()))
                .collect(),
            folder: format!("{root}/{folder}").trim_end_matches('/').to_owned(),
        };
        let json = serde_json::to_string(&facts).unwrap_or_default();
        names::surrogates_in_json(&secret::shown(&json)).into_owned()
    }

    /// The secrets that the description names, as far as they are set.
    fn secrets(&self) -> Vec<(String, String)> {
        let names = self.vars.secrets.iter();
        names
            .filter_map(|name| Some((name.clone(), self.vars.environment.secret(name)?)))
            .collect()
    }
}

/// What a recipe makes, for scripts that take nothing from the description: `HANDLOOM_TARGET` is the first
/// path, `HANDLOOM_TARGETS` all of them, one a line, and those under a label stand under `HANDLOOM_TARGET_` and
/// the label.
fn target_env(list: &dyn Fn(&str) -> Vec<String>, labels: &Labels<'_>) -> Vec<(String, String)> {
    let targets = list("target");
    let Some(first) = targets.first() else {
        return Vec::new();
    };
    let mut env = vec![
        ("HANDLOOM_TARGET".to_owned(), first.clone()),
        ("HANDLOOM_TARGETS".to_owned(), targets.join("\n")),
    ];
    env.extend(labels.targets.iter().map(|label| {
        let name = format!("HANDLOOM_TARGET_{}", label.replace('-', "_"));
        (name, list(label).join("\n"))
    }));
    env
}

struct Labels<'a> {
    targets: Vec<&'a str>,
    needs: Vec<&'a str>,
}
