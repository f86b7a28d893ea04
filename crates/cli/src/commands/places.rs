//! Where a run's jobs run: here, or at a place of the user's settings.

use handloom_core::executor::Executor;
use handloom_core::executor::LocalExecutor;
use handloom_core::executor::cluster::BatchScheduler;
use handloom_core::executor::cluster::ClusterExecutor;
use handloom_core::executor::cluster::PlaceOptions;
use handloom_core::executor::cluster::wire::WorkerManner;
use handloom_core::scheduler::PlaceSupply;
use handloom_core::text::nearest;
use handloom_core::workspace::Workspace;
use handloom_core::workspace::places::HERE;
use handloom_core::workspace::places::PlaceSettings;

use crate::arguments::RunningArguments;
use crate::failure::CommandError;
use crate::ui::Ui;

/// Where jobs run.
pub enum Place {
    /// This machine.
    Here(LocalExecutor),
    /// A cluster.
    Cluster(ClusterExecutor),
}

impl Place {
    /// The place that a run asks for.
    pub fn of(
        workspace: &Workspace,
        running: &RunningArguments,
        ui: Ui,
    ) -> Result<Self, CommandError> {
        let columns = ui.recipe_columns(&workspace.settings);
        let local = workspace.executor().with_terminal_output(columns);
        if let Some((name, settings)) = settings(workspace, running)? {
            let options = place_options(workspace, name, settings, columns)?;
            let executor = ClusterExecutor::new(local, options, scheduler_of(name, settings)?);
            return Ok(Self::Cluster(executor));
        }
        let places = &workspace.settings.place;
        if running.on.is_some() || places.is_empty() || !workspace.description.names_places() {
            return Ok(Self::Here(local));
        }
        let all = places.iter().map(|(name, settings)| {
            let options = place_options(workspace, name, settings, columns)?;
            Ok((options, scheduler_of(name, settings)?))
        });
        let all = all.collect::<Result<_, CommandError>>()?;
        Ok(Self::Cluster(ClusterExecutor::of_places(local, all)))
    }

    /// Who runs what runs on this machine in any case, and hears the wish to end.
    pub fn local(&self) -> &LocalExecutor {
        match self {
            Self::Here(local) => local,
            Self::Cluster(cluster) => cluster.local(),
        }
    }

    /// Who runs jobs.
    pub fn executor(&self) -> &dyn Executor {
        match self {
            Self::Here(local) => local,
            Self::Cluster(cluster) => cluster,
        }
    }
}

fn scheduler_of(
    name: &str,
    settings: &PlaceSettings,
) -> Result<Box<dyn BatchScheduler>, CommandError> {
    settings.batch_scheduler().ok_or_else(|| {
        CommandError::usage(
            format!("nobody says which scheduler the place `{name}` has"),
            format!("write `scheduler = \"slurm\"` below `[place.{name}]` in your settings"),
        )
    })
}

/// How workers come to be at a place.
fn place_options(
    workspace: &Workspace,
    name: &str,
    settings: &PlaceSettings,
    columns: Option<u16>,
) -> Result<PlaceOptions, CommandError> {
    let program = match &settings.worker {
        Some(worker) => worker.clone(),
        None => std::env::current_exe()
            .map_err(|error| CommandError::io("can't tell where this program is", error))?
            .to_string_lossy()
            .into_owned(),
    };
    let root = &workspace.location.root;
    let root = root.canonicalize().unwrap_or_else(|_| root.clone());
    let scratch = workspace.location.scratch();
    let scratch = scratch.canonicalize().unwrap_or(scratch);
    Ok(PlaceOptions {
        name: name.to_owned(),
        root,
        scratch,
        worker: vec![program, "worker".to_owned()],
        address: settings.address.clone(),
        most: settings.most(),
        single: settings.single(),
        allocation: settings.allocation(),
        manner: WorkerManner {
            grace: workspace.settings.grace(),
            sealed_reads: workspace.settings.sealed_read.clone(),
            columns,
            idle: settings.idle(),
            settle: settings.settle(),
        },
    })
}

/// The settings of the place that a run asks for, and its name; none for this machine.
pub fn settings<'w>(
    workspace: &'w Workspace,
    running: &'w RunningArguments,
) -> Result<Option<(&'w str, &'w PlaceSettings)>, CommandError> {
    let Some(name) = running.on.as_ref().filter(|name| **name != HERE) else {
        return Ok(None);
    };
    let places = &workspace.settings.place;
    if let Some(settings) = places.get(name) {
        return Ok(Some((name, settings)));
    }
    let names = places.keys().map(String::as_str);
    let help = match nearest(name, names) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("a place stands in the settings as `[place.{name}]` (docs/cluster.md)"),
    };
    Err(CommandError::usage(
        format!("there is no place `{name}` in the settings"),
        help,
    ))
}

/// What all places have.
pub fn supplies(workspace: &Workspace) -> Vec<PlaceSupply> {
    let places = workspace.settings.place.iter();
    places
        .map(|(name, settings)| settings.supply(name))
        .collect()
}
