//! What commands that only read have in common: a project worked out from what is there now, or taken over
//! from the last run where that still holds, with nothing run and nothing written.

use std::cell::RefCell;

use handloom_core::content::State;
use handloom_core::content::over_threads;
use handloom_core::graph;
use handloom_core::graph::BuildRequest;
use handloom_core::graph::NodeId;
use handloom_core::graph::Order;
use handloom_core::graph::PerPosition;
use handloom_core::graph::goals;
use handloom_core::language::TopItem;
use handloom_core::language::target_of;
use handloom_core::project::Project;
use handloom_core::project::StepId;
use handloom_core::project::TaskId;
use handloom_core::project::environment::OutputError;
use handloom_core::project::folders::Folders;
use handloom_core::project::values::Vars;
use handloom_core::project_cache;
use handloom_core::project_cache::AskedNodes;
use handloom_core::project_cache::CachedProject;
use handloom_core::project_cache::LoadedProject;
use handloom_core::status::CommandRunner;
use handloom_core::status::Prediction;
use handloom_core::status::RecordingEnvironment;
use handloom_core::status::learned_edges::FoundEdges;
use handloom_core::text::Diagnostic;

use crate::arguments::Asking;
use crate::arguments::Common;
use crate::failure::CommandError;
use crate::project;
use crate::signals::Signals;
use crate::ui::Detail;
use crate::ui::Ui;
use crate::ui::text;
use handloom_core::workspace::Workspace;
use handloom_core::world::Disk;

/// Threads that look at files and read targets.
pub fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get)
}

/// A project that is looked at.
pub struct ReadOnlyProject<'l, 'd> {
    /// Where everything comes from.
    pub workspace: &'d Workspace,
    /// The environment.
    pub environment: &'l RecordingEnvironment<'d>,
    /// The variables.
    pub vars: &'l Vars<'d>,
    /// The project.
    pub project: &'l Project<'d>,
    /// What the last run kept, when the project is taken over.
    cached: RefCell<Option<CachedProject>>,
    ui: Ui,
}

impl ReadOnlyProject<'_, '_> {
    /// Opens the project and hands it to `look`.
    pub fn at<T>(
        common: &Common,
        asking: Asking,
        ui: Ui,
        look: impl FnOnce(&ReadOnlyProject<'_, '_>) -> Result<T, CommandError>,
    ) -> Result<T, CommandError> {
        let workspace = project::read(common, ui)?;
        Self::at_opened_asking(&workspace, asking, ui, look)
    }

    /// The same for a project that is open, without asking commands.
    pub fn at_opened<T>(
        workspace: &Workspace,
        ui: Ui,
        look: impl FnOnce(&ReadOnlyProject<'_, '_>) -> Result<T, CommandError>,
    ) -> Result<T, CommandError> {
        Self::at_opened_asking(workspace, Asking::default(), ui, look)
    }

    /// The same for a project that is open.
    pub fn at_opened_asking<T>(
        workspace: &Workspace,
        asking: Asking,
        ui: Ui,
        look: impl FnOnce(&ReadOnlyProject<'_, '_>) -> Result<T, CommandError>,
    ) -> Result<T, CommandError> {
        let executor = asking.ask.then(|| workspace.executor());
        let signals = asking.ask.then(Signals::heed);
        let _aim = signals
            .as_ref()
            .zip(executor.as_ref())
            .map(|(signals, executor)| signals.aim(executor.control(), None));
        let asker = |command: &[String], folder: &str| match &executor {
            Some(executor) => executor.ask(command, folder),
            None => Err(OutputError::NotAsked),
        };
        let ask: Option<&CommandRunner<'_>> = if asking.ask { Some(&asker) } else { None };
        let environment = workspace.environment_asking(ask);
        let folders = Folders::new(&workspace.disk);
        let vars = workspace.vars(&environment, &folders);
        let request = BuildRequest::default();
        let cached = CachedProject::of_last_run(
            workspace.take_front(),
            &workspace.description,
            &request,
            &environment,
        );
        let found = FoundEdges::new();
        let loaded = LoadedProject::load(
            &vars,
            cached,
            None,
            &found,
            &workspace.ledger.borrow(),
            &std::collections::HashMap::new(),
        );
        let read_only = ReadOnlyProject {
            workspace,
            environment: &environment,
            vars: &vars,
            project: &loaded.project,
            cached: RefCell::new(loaded.cached),
            ui,
        };
        let warnings = read_only.errors()?;
        ui.diagnostics(&workspace.description.sources, &warnings);
        let found = look(&read_only)?;
        say_what_was_not_asked(&environment, ui);
        Ok(found)
    }

    /// Fails when something was found wrong; gives the warnings.
    fn errors(&self) -> Result<Vec<Diagnostic>, CommandError> {
        let (errors, warnings): (Vec<_>, Vec<_>) = self
            .vars
            .take_diagnostics()
            .into_iter()
            .partition(Diagnostic::is_error);
        if errors.is_empty() {
            Ok(warnings)
        } else {
            Err(project::wrong(self.workspace, errors))
        }
    }

    /// Reads all targets of a description that was taken over, on all cores: where all of them are shown, one after
    /// the other would take longest.
    pub fn read_targets(&self) {
        let description = &self.workspace.description;
        let items: Vec<&TopItem> = description
            .parts
            .iter()
            .flat_map(|part| &part.items)
            .collect();
        let _ = over_threads(&items, threads(), |items| -> Vec<()> {
            for item in items {
                let _ = target_of(item, &description.sources);
            }
            Vec::new()
        });
    }

    /// Shows the warnings that came since.
    pub fn warnings(&self) -> Result<(), CommandError> {
        let warnings = self.errors()?;
        self.ui
            .diagnostics(&self.workspace.description.sources, &warnings);
        Ok(())
    }

    /// What would become of everything that names reach.
    pub fn dry_run(
        &self,
        names: &[String],
        again: bool,
    ) -> Result<(Order, PerPosition<Prediction>), CommandError> {
        let named = self.nodes_named(names)?;
        let goals = graph::with_steps(self.project, &named);
        let forced: &[NodeId] = if again { &named } else { &[] };
        self.dry_run_with(&goals, &named, forced)
    }

    /// The same, but for what was taken away: that it would be made when it is asked for is no reason.
    pub fn dry_run_of_names(
        &self,
        names: &[String],
    ) -> Result<(Order, PerPosition<Prediction>), CommandError> {
        self.dry_run_of(&self.nodes_named(names)?)
    }

    fn nodes_named(&self, names: &[String]) -> Result<Vec<NodeId>, CommandError> {
        let asked = BuildRequest {
            names: names.to_vec(),
            folder: self.workspace.location.folder.clone(),
            ..BuildRequest::default()
        };
        let found = goals(self.project, &asked);
        if !found.unknown.is_empty() {
            return Err(project::wrong(self.workspace, found.unknown));
        }
        Ok(found.nodes)
    }

    /// All steps and tasks.
    pub fn all_nodes(&self) -> Vec<NodeId> {
        let steps =
            (0..self.project.steps.len()).map(|step| NodeId::step(StepId::from_index(step)));
        let tasks = (0..self.project.tasks.len())
            .map(|task| NodeId::task(self.project, TaskId::from_index(task)));
        steps.chain(tasks).collect()
    }

    /// The files that values were taken from when the project was worked out, in a project that is taken over.
    pub fn data_files(&self) -> Vec<String> {
        let cached = self.cached.borrow();
        let files = cached.iter().flat_map(CachedProject::data_files);
        files.map(str::to_owned).collect()
    }

    /// Whether something stands at a path; what was looked at already is not looked at again.
    pub fn is_there(&self, path: &str) -> bool {
        let cached = self.cached.borrow();
        let known = cached.as_ref().filter(|cached| cached.was_looked_at());
        let known = known.zip(self.project.paths.find(path));
        let known = known.and_then(|(cached, path)| cached.contents().state(path));
        match known {
            Some(State::Missing) => false,
            Some(State::Content(_)) => true,
            _ => {
                let stat = self.workspace.disk.stat(path.trim_end_matches('/'));
                matches!(stat, Ok(Some(_)))
            }
        }
    }

    /// What would become of everything that these reach.
    pub fn dry_run_of(
        &self,
        goals: &[NodeId],
    ) -> Result<(Order, PerPosition<Prediction>), CommandError> {
        self.dry_run_with(goals, &[], &[])
    }

    /// The same; those that were asked for by name are made when they were taken away, and those that are forced run
    /// in any case.
    fn dry_run_with(
        &self,
        goals: &[NodeId],
        by_name: &[NodeId],
        forced: &[NodeId],
    ) -> Result<(Order, PerPosition<Prediction>), CommandError> {
        let order = graph::order(self.project, goals).map_err(|cycle| {
            project::wrong(
                self.workspace,
                vec![graph::describe_cycle(self.project, &cycle)],
            )
        })?;
        let threads = threads();
        let predictions = project_cache::dry_run(
            self.project,
            self.cached.borrow_mut().as_mut(),
            self.vars,
            self.environment,
            &order,
            &AskedNodes { by_name, forced },
            threads,
        );
        match predictions {
            Some(predictions) => Ok((order, predictions)),
            None => Err(self
                .errors()
                .err()
                .unwrap_or_else(|| project::wrong(self.workspace, Vec::new()))),
        }
    }
}

/// Says for which commands the answer takes what they printed last.
fn say_what_was_not_asked(environment: &RecordingEnvironment<'_>, ui: Ui) {
    const MOST: usize = 3;
    if ui.detail == Detail::Quiet {
        return;
    }
    let list = |commands: &[String]| {
        let mut shown: Vec<String> = commands
            .iter()
            .take(MOST)
            .map(|command| format!("`{}`", text::safe(command)))
            .collect();
        if commands.len() > MOST {
            shown.push(format!("{} more", commands.len() - MOST));
        }
        shown.join(", ")
    };
    let (known, unknown) = environment.not_asked();
    if !known.is_empty() {
        let still = if known.len() == 1 {
            "still prints what it did"
        } else {
            "still print what they did"
        };
        ui.say(&format!(
            "as far as {} {still}; `--ask` asks\n",
            list(&known)
        ));
    }
    if !unknown.is_empty() {
        ui.say(&format!(
            "note: what {} would print is not known, and so is what depends on it; `--ask` asks\n",
            list(&unknown)
        ));
    }
}
