//! From a step or task that is to run to a job.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use crate::executor::OutputTail;
use crate::executor::job::Job;
use crate::executor::job::JobRoom;
use crate::executor::sealing::Seal;
use crate::executor::watching::WatchReach;
use crate::language::LearnHow;
use crate::language::Name;
use crate::language::Script;
use crate::language::SealHow;
use crate::language::Word;
use crate::language::script_names;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::TaskId;
use crate::project::clauses::Clauses;
use crate::project::frame::Frame;
use crate::project::script;
use crate::project::script::LearnFile;
use crate::project::secret;
use crate::project::shell;
use crate::project::task_frame::task_frame;
use crate::project::value::Value;
use crate::project::values::Vars;
use crate::scheduler::job_manifest::JobManifest;
use crate::scheduler::job_manifest::WordTexts;
use crate::scheduler::job_manifest::groups;
use crate::scheduler::options::RecipeMode;
use crate::scheduler::options::WatchPlan;
use crate::scheduler::service_plan::ServicePlan;
use crate::scheduler::service_plan::service_plan;
use crate::scheduler::step_frame::StepFrame;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::duration;
use crate::text::mistakes;
use crate::world::names;

/// A job, and what of it is needed when it has ended.
pub struct PreparedJob {
    /// What the place runs.
    pub job: Arc<Job>,
    /// Where it tells what it found out.
    pub learn: Option<LearnFile>,
    /// Whether it is watched, and how far.
    pub watch: Option<WatchPlan>,
    /// The place of its recipe.
    pub span: Span,
    /// How it goes on running beside others; none of a job that ends.
    pub service: Option<ServicePlan>,
    /// Its `finally:` script and the tasks of its `finally`, each a job of its own.
    pub finally: Vec<Job>,
}

impl PreparedJob {
    /// Says how far its processes are watched and what they are shut off by.
    fn guard(&mut self, watched: Option<WatchReach>, seal: Option<Seal>) {
        let seal = seal.map(Arc::new);
        // Only its own script: a task has a seal of its own.
        for own in self
            .finally
            .iter_mut()
            .filter(|job| job.name == self.job.name)
        {
            own.seal.clone_from(&seal);
        }
        if let Some(job) = Arc::get_mut(&mut self.job) {
            job.watched = watched;
            job.seal = seal;
        }
    }
}

/// Whether a target's steps are sealed.
pub fn seal_how(clauses: &Clauses<'_>, mode: RecipeMode) -> Option<SealHow> {
    clauses.sealed.max(match mode {
        RecipeMode::Sealed => Some(SealHow::Plainly),
        RecipeMode::SealedStrictly => Some(SealHow::Strictly),
        RecipeMode::Plain | RecipeMode::Watched => None,
    })
}

/// Whether a target's steps are watched.
pub fn watch_plan(clauses: &Clauses<'_>, mode: RecipeMode) -> Option<WatchPlan> {
    let how = clauses.learn.map(|(how, _)| how);
    let (everywhere, by_run) = match (how, mode) {
        (Some(LearnHow::WatchedEverywhere), _) => (true, false),
        (Some(LearnHow::Watched), _) => (false, false),
        (_, RecipeMode::Watched) => (false, true),
        (_, _) => return None,
    };
    Some(WatchPlan { everywhere, by_run })
}

/// Where jobs are prepared from.
pub struct JobBuilder<'p, 'd> {
    /// The project.
    pub project: &'p Project<'d>,
    /// Its variables.
    pub vars: &'p Vars<'d>,
    /// Whether the jobs are to run, so that the secrets that they use must be there.
    pub is_to_run: bool,
}

/// What a step's and a task's job have in common.
struct Recipe<'r, 'd> {
    name: String,
    script: &'r Script,
    clauses: &'r Clauses<'d>,
    frame: &'r Frame<'r>,
    folder: String,
    /// The names of variables of its own that it may depend on.
    own: Vec<&'r str>,
    /// The labels of its target groups.
    target_labels: Vec<&'r str>,
}

impl<'d> JobBuilder<'_, 'd> {
    /// A step's job; `None` when its description is wrong, which is reported.
    pub fn step(&self, step: StepId, room: JobRoom, mode: RecipeMode) -> Option<PreparedJob> {
        let project = self.project;
        let node = project.step(step);
        let decl = project.decl(node);
        let StepFrame {
            frame,
            folder,
            learn,
            needs,
        } = self.step_frame(step, room)?;
        // What a recipe does not mention is no reason to run it again, so it must not depend on it either.
        let holes = decl.holes.iter().map(String::as_str);
        let lets = decl.clauses.lets.iter().map(|own| &*own.name.text);
        let own = holes
            .filter(|hole| decl.names_output(self.vars, hole) || decl.uses_hole(self.vars, hole))
            .chain(lets.filter(|name| decl.uses(name)))
            .collect();
        let recipe = Recipe {
            name: project.step_name(step).to_owned(),
            script: decl.clauses.recipe?,
            clauses: &decl.clauses,
            frame: &frame,
            folder,
            own,
            target_labels: labels(decl.syntax.outputs.iter().map(|group| &group.label)),
        };
        let watch = watch_plan(&decl.clauses, mode);
        let text = |path: PathId| project.paths.get(path).to_owned();
        let outputs = project.step_outputs(node).iter();
        let outputs = outputs.map(|&(_, path)| text(path));
        let seal = seal_how(&decl.clauses, mode).map(|how| Seal {
            strictly: how == SealHow::Strictly,
            reads: needs.iter().map(|&(_, path)| text(path)).collect(),
            writes: outputs
                .chain(learn.iter().map(|learn| learn.path.clone()))
                .collect(),
            folder: recipe.folder.clone(),
        });
        let mut prepared = self.job(&recipe, room)?;
        prepared.guard(watch.map(WatchPlan::reach), seal);
        Some(PreparedJob {
            learn,
            watch,
            ..prepared
        })
    }

    /// A task's job; `None` when it has no recipe or its description is wrong.
    pub fn task(&self, task: TaskId, frame: &Frame<'_>, room: JobRoom) -> Option<PreparedJob> {
        let node = &self.project.tasks[task.index()];
        let mut finally = Vec::new();
        for &last in &node.finally {
            let mut frame = task_frame(self.vars, self.project, &self.project.tasks[last.index()])?;
            self.set_cores(&mut frame, room);
            let PreparedJob {
                job, finally: own, ..
            } = self.own_job(last, &frame, room)?;
            // It tidies up also after an interruption.
            let job = Job {
                shielded: true,
                ..Arc::unwrap_or_clone(job)
            };
            finally.push(job);
            finally.extend(own);
        }
        let clauses = &node.decl.clauses;
        if clauses.recipe.is_none() && clauses.finally.is_none() {
            // A task that only stands for others may still have something to do whatever happened to them.
            let first = (!finally.is_empty()).then(|| finally.remove(0))?;
            return Some(PreparedJob {
                job: Arc::new(first),
                learn: None,
                watch: None,
                span: node.decl.syntax.span,
                service: None,
                finally,
            });
        }
        let mut prepared = self.own_job(task, frame, room)?;
        prepared.finally.append(&mut finally);
        if clauses.stays {
            for job in &mut prepared.finally {
                // It comes when others may have the project.
                job.stays = true;
            }
            prepared.service = Some(service_plan(self.vars, &mut prepared.job, clauses, frame)?);
        }
        Some(prepared)
    }

    /// Lets a recipe know how many cores it may use.
    pub fn set_cores(&self, frame: &mut Frame<'_>, room: JobRoom) {
        self.vars
            .set_cores(frame, Value::word(room.cores.to_string()));
    }

    /// What a task runs itself.
    fn own_job(&self, task: TaskId, frame: &Frame<'_>, room: JobRoom) -> Option<PreparedJob> {
        let decl = &self.project.tasks[task.index()].decl;
        let clauses = &decl.clauses;
        let parameters = decl.syntax.parameters.iter();
        let own = parameters
            .map(|parameter| &*parameter.name.text)
            .chain(clauses.lets.iter().map(|own| &*own.name.text))
            .chain(["extra"])
            .collect();
        let recipe = Recipe {
            name: self.project.tasks[task.index()].name.clone(),
            script: clauses.recipe.or(clauses.finally)?,
            clauses,
            frame,
            folder: script::run_folder(self.vars, clauses.folder, frame)?,
            own,
            target_labels: Vec::new(),
        };
        let node = &self.project.tasks[task.index()];
        let needs = self.project.open_needs(&node.needs);
        let seal = clauses.sealed.map(|how| Seal {
            strictly: how == SealHow::Strictly,
            reads: needs
                .map(|(_, path)| self.project.paths.get(path).to_owned())
                .collect(),
            writes: Vec::new(),
            folder: recipe.folder.clone(),
        });
        if seal.is_some() && clauses.terminal {
            let title = "a task that has the terminal to itself can't be sealed";
            let diagnostic =
                Diagnostic::error(&mistakes::SEALED_TERMINAL, recipe.script.span, title);
            self.vars
                .report(diagnostic.help("leave out `terminal`, or `sealed`"));
            return None;
        }
        let mut prepared = self.job(&recipe, room)?;
        prepared.guard(None, seal);
        Some(prepared)
    }

    fn job(&self, recipe: &Recipe<'_, 'd>, room: JobRoom) -> Option<PreparedJob> {
        let frame = recipe.frame;
        let interpreter = script::interpreter(self.vars, recipe.script, frame)?;
        let text = script::render(self.vars, recipe.script, frame, &interpreter)?;
        let mut env = self.env(recipe.clauses, frame)?;
        let limit = match recipe.clauses.running.limit {
            Some(word) => Some(self.limit(word, frame)?),
            None => None,
        };
        let place = match recipe.clauses.running.on {
            Some(word) => Some(self.vars.single(word, frame)?.text.to_string()),
            None => None,
        };
        if self.is_to_run {
            self.check_secrets(recipe, &text, &env)?;
        }
        env.extend(target_env(recipe));
        let shell = shell::is_shell(&interpreter);
        let job = Job {
            name: recipe.name.clone(),
            shell,
            interpreter,
            script: text,
            arguments: if shell {
                let words = WordTexts::of(frame, "needs");
                words.texts().map(str::to_owned).collect()
            } else {
                Vec::new()
            },
            secrets: self.secrets(),
            folder: recipe.folder.clone(),
            env,
            manifest: self.manifest(recipe),
            slot: room.slot,
            cores: room.cores,
            place,
            remote: None,
            limit,
            terminal: recipe.clauses.terminal,
            stays: false,
            shielded: false,
            stop: None,
            tail: OutputTail::default(),
            log: None,
            watched: None,
            seal: None,
        };
        let finally = match recipe.clauses.finally {
            Some(finally) if recipe.clauses.recipe.is_some() => {
                let interpreter = script::interpreter(self.vars, finally, frame)?;
                vec![Job {
                    script: script::render(self.vars, finally, frame, &interpreter)?,
                    shell: shell::is_shell(&interpreter),
                    interpreter,
                    // It tidies up also after an interruption.
                    shielded: true,
                    ..job.clone()
                }]
            }
            _ => Vec::new(),
        };
        Some(PreparedJob {
            job: Arc::new(job),
            learn: None,
            watch: None,
            span: recipe.script.span,
            service: None,
            finally,
        })
    }

    /// The environment variables that a description sets.
    fn env(&self, clauses: &Clauses<'d>, frame: &Frame<'_>) -> Option<Vec<(String, String)>> {
        let env = self.vars.recipe_env(clauses, frame)?;
        let pairs = env
            .into_iter()
            .map(|variable| (variable.name, variable.value));
        Some(pairs.collect())
    }

    /// Reports secrets that are used and not set.
    fn check_secrets(
        &self,
        recipe: &Recipe<'_, 'd>,
        text: &str,
        env: &[(String, String)],
    ) -> Option<()> {
        for name in &self.vars.secrets {
            let used = text.contains(&format!("${{{name}}}"))
                || env
                    .iter()
                    .any(|(_, value)| value.contains(&secret::placeholder(name)));
            if used {
                self.vars.secret_value(name, recipe.script.span)?;
            }
        }
        Some(())
    }

    /// A time such as `90s`, `5m`, `2h` or `1m30s`.
    fn limit(&self, word: &Word, frame: &Frame<'_>) -> Option<Duration> {
        let text = self.vars.single(word, frame)?;
        let limit = duration(&text.text);
        if limit.is_none() {
            self.vars.report(
                Diagnostic::error(
                    &mistakes::UNREADABLE_TIME,
                    word.span,
                    format!("`{}` is no time", text.text),
                )
                .help("write a number and `s`, `m` or `h`, such as `90s`"),
            );
        }
        limit
    }

    /// What `HANDLOOM_JOB` is to hold.
    fn manifest(&self, recipe: &Recipe<'_, 'd>) -> String {
        let frame = recipe.frame;
        let known: Vec<(&str, Value)> = script_names(recipe.script)
            .filter(|(name, _)| frame.local(name).is_none())
            .filter_map(|(name, _)| Some((name, self.vars.known_value(frame.part, name)?)))
            .collect();
        let own = recipe.own.iter().copied();
        let mut variables: BTreeMap<&str, WordTexts<'_>> = own
            .filter(|name| frame.local(name).is_some())
            .map(|name| (name, WordTexts::of(frame, name)))
            .collect();
        variables.extend(
            known
                .iter()
                .map(|(name, value)| (*name, WordTexts(Some(value)))),
        );
        let root = self.vars.environment.root();
        let folder = format!("{root}/{}", recipe.folder);
        let manifest = JobManifest {
            targets: WordTexts::of(frame, "target"),
            target_groups: groups(&recipe.target_labels, frame),
            needs: WordTexts::of(frame, "needs"),
            need_groups: groups(
                &labels(recipe.clauses.needs.iter().map(|group| &group.label)),
                frame,
            ),
            variables,
            folder: folder.trim_end_matches('/'),
        };
        let json = serde_json::to_string(&manifest).unwrap_or_default();
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
fn target_env(recipe: &Recipe<'_, '_>) -> Vec<(String, String)> {
    let targets = WordTexts::of(recipe.frame, "target");
    let Some(first) = targets.texts().next() else {
        return Vec::new();
    };
    let mut env = vec![
        ("HANDLOOM_TARGET".to_owned(), first.to_owned()),
        ("HANDLOOM_TARGETS".to_owned(), targets.joined()),
    ];
    env.extend(recipe.target_labels.iter().map(|label| {
        let name = format!("HANDLOOM_TARGET_{}", label.replace('-', "_"));
        (name, WordTexts::of(recipe.frame, label).joined())
    }));
    env
}

fn labels<'n>(groups: impl Iterator<Item = &'n Option<Name>>) -> Vec<&'n str> {
    groups.flatten().map(|label| &*label.text).collect()
}
