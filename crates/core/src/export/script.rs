//! A project as a script for a POSIX shell: the steps that make some files, in order, and nothing of Hand Loom.
//!
//! Each recipe for `sh -eu` stands there as it is, in a subshell of its own; others are handed to the program that they are
//! for. What a recipe finds when Hand Loom runs it, it finds here: the folders of its outputs, no old outputs, no input, its own
//! folder and environment, its prerequisites as arguments, and, where it may look for them, what `HANDLOOM_JOB` and its kin say.

use std::collections::HashSet;
use std::fmt::Write;

use crate::executor::job::Job;
use crate::executor::job::JobRoom;
use crate::export::shell_variables::ShellVariables;
use crate::export::shell_variables::below;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::language::Manner;
use crate::project::Project;
use crate::project::StepId;
use crate::project::secret;
use crate::project::shell;
use crate::project::shell::quote;
use crate::project::shell::quote_all;
use crate::project::values::Vars;
use crate::scheduler::JobBuilder;
use crate::scheduler::RecipeMode;
use crate::scheduler::step_frame::SCRATCH;

/// Where the script keeps what it hands to programs, below the project's folder.
const OWN_FOLDER: &str = ".exported-script";

/// A script, and what there is to say of it.
#[derive(Debug, Default)]
pub struct ExportedScript {
    /// The script's text; names that are no text are in it as everywhere ([`crate::world::names`]).
    pub text: String,
    /// How many steps it has.
    pub steps: usize,
    /// Environment variables that hold secrets, which whoever runs it has to set.
    pub secrets: Vec<String>,
    /// Whole folders that were never made: what is made from each file in one has no steps yet.
    pub not_made: Vec<String>,
    /// Steps whose recipes name this project's folder, and work there alone.
    pub bound: Vec<String>,
}

/// Why a project can't be written as a script.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ExportError {
    /// A task is among what is to be made.
    #[error("`{0}` is a task, and no file")]
    Task(String),
    /// What is wrong with the description is reported.
    #[error("the description is wrong")]
    Description,
}

/// Where a script comes from.
pub struct ScriptExport<'p, 'd> {
    /// The project.
    pub project: &'p Project<'d>,
    /// Its variables.
    pub vars: &'p Vars<'d>,
    /// What is made, in order.
    pub order: &'p Order,
    /// What was asked for.
    pub goals: &'p [NodeId],
    /// What is told of it in the first lines, without `#`.
    pub about: &'p str,
    /// Whether something stands at a path.
    pub is_there: &'p dyn Fn(&str) -> bool,
}

/// A recipe on its way into a script.
struct WrittenStep {
    step: StepId,
    job: std::sync::Arc<Job>,
    finally: Option<Job>,
    script: String,
}

impl WrittenStep {
    /// Whether its recipe stands in the script as it is.
    fn stands_by_itself(&self) -> bool {
        self.job.interpreter == ["sh", "-eu"]
            && self.finally.is_none()
            && shell::is_complete(&self.job.script)
    }
}

impl ScriptExport<'_, '_> {
    /// Writes the script. `mentions` tells whether a file of the project speaks of `HANDLOOM_`, and so may read what a job is
    /// given to know.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn write(
        &self,
        mentions: &mut dyn FnMut(&str) -> bool,
    ) -> Result<ExportedScript, ExportError> {
        let builder = JobBuilder {
            project: self.project,
            vars: self.vars,
            is_to_run: false,
        };
        let mut steps = Vec::new();
        for position in self.order.positions() {
            match self.order.node(position).node(self.project) {
                Node::Task(task) => {
                    let name = &self.project.tasks[task.index()].name;
                    return Err(ExportError::Task(name.clone()));
                }
                Node::Set(_) => {}
                Node::Step(step) => {
                    let prepared = builder.step(step, JobRoom::alone(), RecipeMode::Plain);
                    let prepared = prepared.ok_or(ExportError::Description)?;
                    steps.push(WrittenStep {
                        step,
                        script: prepared.job.script.clone(),
                        job: prepared.job,
                        finally: prepared.finally.into_iter().next(),
                    });
                }
            }
        }
        let scripts: Vec<&str> = steps.iter().map(|step| step.script.as_str()).collect();
        let mut variables = ShellVariables::beside(&scripts, self.vars.environment.root());
        // A program that a script is handed to knows no variables of the shell that hands it over.
        let stands = |step: &&mut WrittenStep| step.stands_by_itself();
        for step in steps.iter_mut().filter(stands) {
            if let Some(script) = variables.script(&builder, step.step, &step.job.script) {
                step.script = script;
            }
        }
        let mut writer = ScriptWriter {
            export: self,
            root: self.vars.environment.root(),
            body: String::new(),
            told: HashSet::new(),
            needs_folder: false,
            result: ExportedScript::default(),
        };
        for step in &steps {
            writer.step(step, mentions);
        }
        writer.take_fleeting_away();
        variables.retain_used(&writer.body);
        Ok(writer.finish(&variables.used))
    }
}

struct ScriptWriter<'w, 'p, 'd> {
    export: &'w ScriptExport<'p, 'd>,
    root: String,
    body: String,
    /// The descriptions that were spoken of.
    told: HashSet<u32>,
    /// Whether something is kept in the script's own folder.
    needs_folder: bool,
    result: ExportedScript,
}

/// A value that may have a secret in it, for a shell.
fn looked_up(root: &str, value: &str) -> String {
    let pieces = secret::pieces(value).map(|piece| match piece {
        Ok(text) => below(root, text),
        Err(variable) => format!("\"${{{variable}}}\""),
    });
    let text: String = pieces.collect();
    if text.is_empty() {
        "''".to_owned()
    } else {
        text
    }
}

impl ScriptWriter<'_, '_, '_> {
    fn line(&mut self, text: &str) {
        self.body.push_str(text);
        self.body.push('\n');
    }

    fn step(&mut self, written: &WrittenStep, mentions: &mut dyn FnMut(&str) -> bool) {
        let project = self.export.project;
        let node = project.step(written.step);
        let decl = project.decl(node);
        self.result.steps += 1;
        self.body.push('\n');
        if self.told.insert(node.decl)
            && let Some(about) = decl.clauses.about
        {
            for line in about.lines() {
                self.line(&format!("# {line}"));
            }
        }
        let outputs = project.step_outputs(node).iter();
        let outputs = outputs.map(|&(_, path)| project.paths.get(path));
        let trees = outputs.clone().filter(|path| path.ends_with('/'));
        let not_made = trees.filter(|tree| !(self.export.is_there)(tree));
        self.result.not_made.extend(not_made.map(str::to_owned));
        self.line(&format!("make_way_for {}", quote_all(outputs)));
        let job = &written.job;
        let needs = project.open_needs(project.step_needs(node));
        let may_ask = job.script.contains("HANDLOOM_")
            || needs.map(|(_, path)| project.paths.get(path)).any(mentions);
        let script = self.own_paths(&written.script);
        if script.contains(&self.root) {
            let name = project.step_name(written.step);
            self.result.bound.push(name.to_owned());
        }
        if may_ask {
            self.manifest(job);
        }
        if written.stands_by_itself() {
            self.line("(");
            self.surroundings(job, may_ask);
            if names_arguments(&script) {
                let needs = quote_all(job.arguments.iter().map(String::as_str));
                self.line(format!("set -- {needs}").trim_end());
            }
            self.line(script.trim_end_matches('\n'));
        } else {
            let first = self.handed(job, &script, "recipe");
            let finally = written.finally.as_ref().map(|finally| {
                let script = self.own_paths(&finally.script);
                self.handed(finally, &script, "finally")
            });
            self.line("(");
            self.surroundings(job, may_ask);
            match finally {
                None => self.line(&first),
                Some(finally) => {
                    self.line("recipe_ended=0");
                    self.line(&format!("{first} || recipe_ended=$?"));
                    self.line(&finally);
                    self.line("exit \"$recipe_ended\"");
                }
            }
        }
        self.line(") </dev/null");
    }

    /// The command that hands a script to its program; one that is no shell reads it from a file.
    fn handed(&mut self, job: &Job, script: &str, file: &str) -> String {
        let interpreter = quote_all(job.interpreter.iter().map(String::as_str));
        if !job.shell {
            self.document(file, script, true);
            return format!("{interpreter} \"$script_folder\"/{file}");
        }
        let needs = quote_all(job.arguments.iter().map(String::as_str));
        let command = format!("{interpreter} -c {} recipe {needs}", quote(script));
        command.trim_end().to_owned()
    }

    /// The folder and the environment of a recipe.
    fn surroundings(&mut self, job: &Job, may_ask: bool) {
        for (name, value) in &job.env {
            let is_ours = name.starts_with("HANDLOOM_");
            self.result.secrets.extend(
                secret::pieces(value)
                    .filter_map(Result::err)
                    .map(str::to_owned),
            );
            if !is_ours || may_ask {
                self.line(&format!("export {name}={}", looked_up(&self.root, value)));
            }
        }
        if may_ask {
            self.line(&format!("export HANDLOOM_CORES={}", job.cores));
            self.line("export HANDLOOM_JOB=\"$script_folder\"/job.json");
        }
        for name in &self.export.vars.secrets {
            if job.script.contains(&format!("${{{name}}}")) {
                self.result.secrets.push(name.clone());
            }
        }
        if !job.folder.is_empty() {
            self.line(&format!("cd {}", quote(job.folder.trim_end_matches('/'))));
        }
    }

    /// What a job is given to know, in a file.
    fn manifest(&mut self, job: &Job) {
        let mut text = String::with_capacity(job.manifest.len());
        for c in job.manifest.chars() {
            if matches!(c, '\\' | '$' | '`') {
                text.push('\\');
            }
            text.push(c);
        }
        let text = text.replace(&self.root, "$script_root");
        self.document("job.json", &text, false);
    }

    /// A file in the script's own folder.
    fn document(&mut self, name: &str, text: &str, is_literal: bool) {
        self.needs_folder = true;
        let mut end = "END".to_owned();
        while text.lines().any(|line| line == end) {
            end.push('_');
        }
        let quoted = if is_literal { "'" } else { "" };
        let text = text.trim_end_matches('\n');
        self.line(&format!(
            "cat >\"$script_folder\"/{name} <<{quoted}{end}{quoted}\n{text}\n{end}"
        ));
    }

    /// A script with the file that it writes what it learned to in the script's own folder.
    fn own_paths(&mut self, script: &str) -> String {
        if !script.contains(SCRATCH) {
            return script.to_owned();
        }
        self.needs_folder = true;
        script.replace(SCRATCH, OWN_FOLDER)
    }

    /// What only others need goes away when they are made.
    fn take_fleeting_away(&mut self) {
        let project = self.export.project;
        let mut fleeting = Vec::new();
        for position in self.export.order.positions() {
            let id = self.export.order.node(position);
            if let Node::Step(step) = id.node(project)
                && project
                    .decl(project.step(step))
                    .clauses
                    .has(Manner::Fleeting)
                && !self.export.goals.contains(&id)
            {
                let outputs = project.step_outputs(project.step(step)).iter();
                fleeting.extend(outputs.map(|&(_, path)| project.paths.get(path)));
            }
        }
        if fleeting.is_empty() {
            return;
        }
        self.body.push_str("\n# What only others need goes away.\n");
        for path in fleeting {
            self.line(&format!("rm -rf {}", quote(path.trim_end_matches('/'))));
        }
    }

    fn finish(mut self, variables: &[(String, String)]) -> ExportedScript {
        let mut text = "#!/bin/sh\n".to_owned();
        for line in self.export.about.lines() {
            let _ = writeln!(text, "# {line}");
        }
        self.result.secrets.sort_unstable();
        self.result.secrets.dedup();
        for secret in &self.result.secrets {
            let _ = writeln!(text, "# It reads the secret {secret} from the environment.");
        }
        text.push_str("set -eu\nCDPATH='' cd \"${1:-.}\"\nset --\n");
        if self.body.contains("$script_root") || self.needs_folder {
            text.push_str("script_root=$PWD\n");
        }
        if self.needs_folder {
            let _ = write!(
                text,
                "script_folder=$script_root/{OWN_FOLDER}\nmkdir -p \"$script_folder\"\ntrap 'rm -rf \"$script_folder\"' EXIT\ntrap 'exit 1' HUP INT TERM\n"
            );
        }
        if !variables.is_empty() {
            text.push('\n');
        }
        for (name, value) in variables {
            let _ = writeln!(text, "{name}={value}");
        }
        text.push_str(MAKE_WAY);
        text.push_str(&self.body);
        ExportedScript {
            text,
            ..self.result
        }
    }
}

/// Says what is made, takes away what stands there, and makes the folders.
const MAKE_WAY: &str = r#"
# Says what is made next, takes away what stands in its place, and makes its folder; a whole folder's name ends with a slash.
make_way_for() {
  printf '%s\n' "$1" >&2
  for made_now; do
    case $made_now in
    */) rm -rf "./${made_now%/}" && mkdir -p "./$made_now" ;;
    */*) rm -rf "./$made_now" && mkdir -p "./${made_now%/*}" ;;
    *) rm -rf "./$made_now" ;;
    esac
  done
}
"#;

/// Whether a script speaks of its arguments.
fn names_arguments(script: &str) -> bool {
    script.match_indices('$').any(|(at, _)| {
        let behind = script[at + 1..].trim_start_matches('{');
        behind.starts_with(|c: char| matches!(c, '@' | '*' | '#') || c.is_ascii_digit())
    }) || script.contains("shift")
}
