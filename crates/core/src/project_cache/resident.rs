//! A project that stays in memory between runs.
//!
//! A run that begins with what the last one kept still looks at every file once. Whoever is told of each
//! changed file need not: [`ResidentProject`] keeps the project together with which contents are known, and a
//! run on it looks at the files that were changed or written since, and at nothing else. It is only taken while
//! nothing else wrote to the ledger.

use crate::graph::BuildRequest;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::node_count;
use crate::ledger::Ledger;
use crate::project::StepId;
use crate::project::folders::Folders;
use crate::project::values::Vars;
use crate::project_cache;
use crate::project_cache::cached_project::CachedProject;
use crate::project_cache::load::LoadedProject;
use crate::status::RecordingEnvironment;
use crate::status::WatchSet;
use crate::status::learned_edges::FoundEdges;
use crate::world::Digest;
use crate::world::Disk;

/// More invalidated paths than this, and one in so many, make it worth looking at everything anew.
const MANY: usize = 256;
const SHARE: usize = 32;

/// A project with what is known of its files.
pub struct ResidentProject<'v, 'd> {
    /// Its variables.
    pub vars: &'v Vars<'d>,
    /// The folders that were listed.
    pub folders: &'v Folders<'v>,
    /// The project and what is known.
    pub loaded: LoadedProject<'d>,
    /// The goals of what was asked for.
    pub goals: Vec<NodeId>,
    /// All that they reach.
    pub order: Order,
    /// The digest of what it was worked out from.
    pub key: Digest,
    /// The environment that `vars` asks.
    environment: &'v RecordingEnvironment<'v>,
    invalidated: usize,
}

impl<'v, 'd> ResidentProject<'v, 'd> {
    /// Takes over what the last run kept and looks at each of its files; none when it kept nothing that
    /// holds for what is asked.
    #[must_use]
    pub fn open(
        vars: &'v Vars<'d>,
        folders: &'v Folders<'v>,
        request: &BuildRequest,
        ledger: &Ledger,
        environment: &'v RecordingEnvironment<'v>,
        threads: usize,
    ) -> Option<Self> {
        let key = project_cache::key(vars.description, environment);
        let mut cached = CachedProject::open(None, &key, request, ledger, environment)?;
        if !cached.answers(request) {
            return None;
        }
        cached.look(environment.disk, threads, None);
        let loaded = LoadedProject::load(
            vars,
            Some(cached),
            None,
            &FoundEdges::new(),
            ledger,
            &request.calls,
        );
        let cached = loaded.cached.as_ref()?;
        let (goals, order) = cached.order();
        let project = &loaded.project;
        let stays = |id: &NodeId| match id.node(project) {
            Node::Task(task) => project.tasks[task.index()].decl.clauses.stays,
            Node::Step(_) | Node::Set(_) => false,
        };
        if order.nodes.iter().any(stays) {
            // What changes while such a task is left is told of from the whole.
            return None;
        }
        // Made now, so that the first run need not.
        let _ = loaded.project.paths.find("");
        let _ = cached.contents();
        Some(Self {
            vars,
            folders,
            environment,
            loaded,
            goals,
            order,
            key,
            invalidated: 0,
        })
    }

    /// The environment variables that decide something, each with what tells whether it holds the same in another
    /// process; none when it also has to be told from more than files and these whether anything changed, or when
    /// a task is reached.
    #[must_use]
    pub fn environment_alone(&self) -> Option<Vec<(String, Option<Digest>)>> {
        let project = &self.loaded.project;
        let is_task = |id: &NodeId| matches!(id.node(project), Node::Task(_));
        if self.order.nodes.iter().any(is_task) {
            return None;
        }
        let mut is_reached = vec![false; node_count(project)];
        for id in &self.order.nodes {
            is_reached[id.index()] = true;
        }
        // Whether a file that an earlier run made is a source depends on its content. What these steps make is
        // watched.
        let is_noticed = |path: &str| {
            let maker = project
                .paths
                .find(path)
                .and_then(|path| project.maker(path));
            maker.is_some_and(|maker| is_reached[NodeId::step(maker).index()])
        };
        let cached = self.loaded.cached.as_ref()?;
        let mut names = cached.dependencies().environment_alone(is_noticed)?;
        names.extend(
            self.environment
                .env_read()
                .into_iter()
                .map(|(name, _)| name),
        );
        names.sort_unstable();
        names.dedup();
        let digest = |name: String| {
            let digest = self.environment.secret_digest(&name);
            (name, digest)
        };
        Some(names.into_iter().map(digest).collect())
    }

    /// Adds all that it depends on to what is watched.
    pub fn watch(&self, watch_set: &mut WatchSet, ledger: &Ledger) {
        if let Some(cached) = &self.loaded.cached {
            watch_set.add_folders(cached.folders());
            watch_set.add_data_files(cached.data_files());
        }
        let absent = &self.vars.description.absent;
        watch_set.add_data_files(absent.iter().map(String::as_str));
        watch_set.add(&self.loaded.project, &self.order, ledger);
    }

    /// A path may hold something else than is known.
    pub fn invalidate(&mut self, path: &str) {
        if let Some(path) = self.loaded.project.paths.find(path) {
            let cached = self.loaded.cached.as_mut();
            let was_known = cached.is_some_and(|cached| cached.invalidate(path));
            self.invalidated += usize::from(was_known);
        }
    }

    /// A step has made its outputs anew.
    pub fn invalidate_outputs(&mut self, step: StepId) {
        let project = &self.loaded.project;
        let Some(cached) = &mut self.loaded.cached else {
            return;
        };
        for &(_, path) in project.step_outputs(project.step(step)) {
            self.invalidated += usize::from(cached.invalidate(path));
        }
    }

    /// Whether what the project was worked out from is as it was, asked of a fresh environment; `key` is the
    /// digest of what is known before.
    pub fn holds(&self, key: &Digest, environment: &RecordingEnvironment<'_>) -> bool {
        let same =
            |(key, text): &(String, String)| environment.output_again(key).as_ref() == Some(text);
        let cached = self.loaded.cached.as_ref();
        self.key == *key
            && cached.is_some_and(|cached| cached.holds(environment))
            && self.environment.outputs().iter().all(same)
    }

    /// Which positions have to be judged; the goals in any case when they are `forced`.
    pub fn open_positions(
        &mut self,
        forced: bool,
        disk: &dyn Disk,
        threads: usize,
    ) -> PerPosition<bool> {
        let Some(cached) = &mut self.loaded.cached else {
            return PerPosition::filled(&self.order, true);
        };
        let project = &self.loaded.project;
        cached.look_at(project, &self.order, disk, threads);
        let forced: &[NodeId] = if forced { &self.goals } else { &[] };
        cached.open_positions(project, &self.order, forced)
    }

    /// Whether so much was invalidated that looking at everything would make the next runs faster.
    #[must_use]
    pub fn is_stale(&self) -> bool {
        self.invalidated > MANY + self.order.nodes.len() / SHARE
    }
}
