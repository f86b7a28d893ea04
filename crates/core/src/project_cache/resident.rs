//! A project that stays in memory between runs.
//!
//! A run that begins with what the last one kept still looks at every file once. Whoever is told of each
//! changed file need not: [`ResidentProject`] keeps the project together with which contents are known, and a run
//! on it looks at the files that were changed or written since, and at nothing else. It is only taken while
//! nothing else wrote to the ledger.

use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::request::BuildRequest;
use crate::ledger::Ledger;
use crate::project::Project;
use crate::project::folders::Folders;
use crate::project::values::Vars;
use crate::project_cache::cached_project;
use crate::project_cache::cached_project::CachedProject;
use crate::status::environment::RecordingEnvironment;
use crate::world::Digest;

/// More doubted paths than this, and one in so many, make it worth looking at everything anew.
const MANY: usize = 256;
const SHARE: usize = 32;

/// A project with what is known of its files.
pub struct ResidentProject<'v, 'd> {
    pub(crate) vars: &'v Vars<'d>,
    pub(crate) folders: &'v Folders<'v>,
    /// The surroundings that `vars` asks.
    pub(crate) environment: &'v RecordingEnvironment<'v>,
    pub(crate) project: Project<'d>,
    pub(crate) known: CachedProject,
    pub(crate) goals: Vec<NodeId>,
    pub(crate) order: Order,
    pub(crate) key: Digest,
    pub(crate) invalidated: usize,
}

impl<'v, 'd> ResidentProject<'v, 'd> {
    /// Takes over what the last run kept and looks at each of its files; none when it kept nothing that
    /// holds for what is asked.
    #[must_use]
    pub fn open(
        vars: &'v Vars<'d>,
        folders: &'v Folders<'v>,
        asked: &BuildRequest,
        ledger: &Ledger,
        environment: &'v RecordingEnvironment<'v>,
        threads: usize,
    ) -> Option<Self> {
        let key = cached_project::key(vars.description, environment);
        let mut known = CachedProject::open(&key, asked, ledger, environment)?;
        if !known.answers(asked) {
            return None;
        }
        known.look(environment.disk, threads, None);
        let project = known.project(vars)?;
        let (goals, order) = known.order();
        // Made now, so that the first run need not.
        let _ = project.paths.find("");
        let _ = known.contents();
        Some(Self {
            vars,
            folders,
            environment,
            project,
            known,
            goals,
            order,
            key,
            invalidated: 0,
        })
    }

    /// A path may hold something else than is known.
    pub fn invalidate(&mut self, path: &str) {
        if let Some(path) = self.project.paths.find(path) {
            self.invalidated += usize::from(self.known.invalidate(path));
        }
    }

    /// Whether what the project was worked out from is as it was, asked of fresh surroundings.
    pub(crate) fn holds(&self, environment: &RecordingEnvironment<'_>) -> bool {
        let same =
            |(key, text): &(String, String)| environment.output_again(key).as_ref() == Some(text);
        self.known.holds(environment) && self.environment.outputs().iter().all(same)
    }

    /// Whether so much is in doubt that looking at everything would make the next runs faster.
    #[must_use]
    pub fn is_stale(&self) -> bool {
        self.invalidated > MANY + self.order.nodes.len() / SHARE
    }
}
