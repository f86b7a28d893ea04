//! What is known from the last run, and what of it still holds.

use std::cell::OnceCell;
use std::collections::HashSet;

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::request::BuildRequest;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::project::Description;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::What;
use crate::project::folders::SeenFolder;
use crate::project::values::Vars;
use crate::project_cache::cache_file::CacheFile;
use crate::project_cache::cache_layout::CachedRequest;
use crate::project_cache::verify_files;
use crate::status::environment::RecordingEnvironment;
use crate::status::learned_edges;
use crate::world::Digest;
use crate::world::Disk;

/// The digest of all that a project is worked out from and that is known before: the description,
/// what is set from outside, the place, and this program.
#[must_use]
pub fn key(description: &Description, environment: &RecordingEnvironment<'_>) -> Digest {
    let mut hasher = blake3::Hasher::new();
    let mut text = |text: &str| {
        hasher.update(&(text.len() as u64).to_le_bytes());
        hasher.update(text.as_bytes());
    };
    // Not the version: two builds of one version may differ in what they work out.
    text(env!("HANDLOOM_BUILD"));
    text(std::env::consts::OS);
    text(std::env::consts::ARCH);
    text(&environment.root);
    for (_, source) in description.sources.iter() {
        text(&source.name);
        text(&source.text);
    }
    Digest(*hasher.finalize().as_bytes())
}

/// What is known from the last run.
pub struct CachedProject {
    pub(super) file: CacheFile,
    /// Files that the journal says something newer of.
    files: HashSet<String>,
    /// Steps that the journal says something newer of.
    steps: HashSet<String>,
    /// For each path whether its content is known without reading it.
    verified: Vec<bool>,
    /// For each path where its record is; made when it is first needed.
    looks: OnceCell<Vec<u32>>,
}

impl CachedProject {
    /// What the last run kept, when it still holds, for somebody who only reads.
    #[must_use]
    pub fn of_last_run(
        description: &Description,
        asked: &BuildRequest,
        environment: &RecordingEnvironment<'_>,
    ) -> Option<Self> {
        let key = key(description, environment);
        Self::open(&key, asked, &environment.ledger.borrow(), environment)
    }

    /// What was kept, when it still holds.
    #[must_use]
    pub fn open(
        key: &Digest,
        asked: &BuildRequest,
        ledger: &Ledger,
        environment: &RecordingEnvironment<'_>,
    ) -> Option<Self> {
        let file = CacheFile::open(ledger.worked_out().ok()??, &environment.key?)?;
        if file.header.key != *key {
            return None;
        }
        let (mut files, mut steps) = (HashSet::new(), HashSet::new());
        for entry in ledger.since(&file.header.mark).ok()?? {
            match entry {
                Entry::File(path, _) => {
                    files.insert(path);
                }
                Entry::Began(step) | Entry::NotBegun(step) | Entry::EndedBadly(step, _) => {
                    steps.insert(step);
                }
                Entry::Beginning(beginning) => {
                    steps.insert(beginning.step);
                }
                Entry::Ended(record) => {
                    steps.insert(record.name);
                }
                Entry::Forgotten(_) => return None,
                Entry::Command(..) | Entry::Folder(_) | Entry::FolderGone(_) => {}
            }
        }
        let same_request = file.header.request == CachedRequest::of(asked);
        // Commands are asked only for what is wanted: other goals may not need them.
        if !same_request && file.header.dependencies.asks() {
            return None;
        }
        let known = Self {
            verified: Vec::new(),
            looks: OnceCell::new(),
            file,
            files,
            steps,
        };
        known.holds(environment).then_some(known)
    }

    /// Whether a step learned, since this was kept, of something that another makes.
    #[must_use]
    pub fn has_new_edges(&self, project: &Project<'_>, ledger: &Ledger) -> bool {
        learned_edges::has_any(project, ledger, self.steps.iter())
    }

    /// Whether everything that working the project out depended on is as it was.
    #[must_use]
    pub fn holds(&self, environment: &RecordingEnvironment<'_>) -> bool {
        self.file.header.dependencies.holds(environment)
    }

    /// The folders whose names working out depended on, and the paths that were asked whether they are
    /// folders.
    #[must_use]
    pub fn folders(&self) -> (Vec<SeenFolder>, Vec<(String, bool)>) {
        self.file.header.dependencies.folders()
    }

    /// Whether files were looked at already.
    #[must_use]
    pub fn was_looked_at(&self) -> bool {
        !self.verified.is_empty()
    }

    /// What stands at a path is not known any more; whether it was.
    pub fn invalidate(&mut self, path: PathId) -> bool {
        let verified = self.verified.get_mut(path.index());
        verified.is_some_and(std::mem::take)
    }

    /// Whether the same was asked for.
    #[must_use]
    pub fn answers(&self, asked: &BuildRequest) -> bool {
        self.file.header.request == CachedRequest::of(asked)
    }

    /// Looks at all files that are known and that an order reaches, unless they were looked at.
    pub fn look_at(
        &mut self,
        project: &Project<'_>,
        order: &Order,
        disk: &dyn Disk,
        threads: usize,
    ) {
        if self.verified.is_empty() {
            let reached = self.reached(project, order);
            self.look(disk, threads, Some(&reached));
        }
    }

    /// Looks at all files that are known, or at those that `wanted` says.
    pub fn look(&mut self, disk: &dyn Disk, threads: usize, wanted: Option<&[bool]>) {
        self.verified = verify_files::look(&self.file, disk, threads, wanted);
    }

    /// The number of steps, all kept, when nothing at all is different.
    #[must_use]
    pub fn all_kept(&self) -> Option<usize> {
        let calm = self.file.header.all_good
            && self.files.is_empty()
            && self.steps.is_empty()
            && self
                .file
                .looked()
                .iter()
                .all(|look| self.verified[look.path.get() as usize]);
        calm.then_some(self.file.header.steps_in_order)
    }

    /// The project; `None` when the description does not fit after all.
    #[must_use]
    pub fn project<'d>(&self, vars: &Vars<'d>) -> Option<Project<'d>> {
        self.file.project(vars)
    }

    /// The goals and the order of what was asked for when this was kept.
    #[must_use]
    pub fn order(&self) -> (Vec<NodeId>, Order) {
        self.file.order()
    }

    /// Marks the paths that an order reaches.
    #[must_use]
    pub fn reached(&self, project: &Project<'_>, order: &Order) -> Vec<bool> {
        let mut reached = vec![false; self.file.path_count()];
        let learned = self.file.learned();
        for id in &order.nodes {
            match id.node(project) {
                Node::Step(step) => {
                    for &(_, path) in project.step_outputs(project.step(step)) {
                        reached[path.index()] = true;
                    }
                    for need in project.step_needs(project.step(step)) {
                        if let What::Path(path) = need.what {
                            reached[path.index()] = true;
                        }
                    }
                    for &path in learned.of(step.index()) {
                        reached[path as usize] = true;
                    }
                }
                Node::Set(set) => {
                    for path in &project.sets[set.index()].paths {
                        reached[path.index()] = true;
                    }
                }
                Node::Task(_) => {}
            }
        }
        reached
    }

    /// Which positions of an order have to be judged: those of which something differs, those that
    /// are asked for, tasks, and steps that wait for any but tasks of these. Everything else is kept.
    #[must_use]
    pub fn open_positions(
        &mut self,
        project: &Project<'_>,
        order: &Order,
        asked: &[NodeId],
    ) -> PerPosition<bool> {
        for path in &self.files {
            if let Some(path) = project.paths.find(path)
                && let Some(verified) = self.verified.get_mut(path.index())
            {
                *verified = false;
            }
        }
        let mut good = self.file.good();
        for goal in asked {
            if let Some(good) = good.get_mut(goal.index()) {
                *good = 0;
            }
        }
        for step in &self.steps {
            if let Some(maker) = project
                .paths
                .find(step)
                .and_then(|path| project.maker(path))
                && let Some(good) = good.get_mut(maker.index())
            {
                *good = 0;
            }
        }
        let known = |path: PathId| self.verified.get(path.index()) == Some(&true);
        let set_known: Vec<bool> = project
            .sets
            .iter()
            .map(|set| set.paths.iter().all(|&path| known(path)))
            .collect();
        let learned = self.file.learned();
        let step_is_known = |step: StepId| {
            let node = project.step(step);
            let outputs = project.step_outputs(node).iter();
            let mut needs = project.step_needs(node).iter();
            good.get(step.index()) == Some(&1)
                && outputs.map(|&(_, path)| path).all(known)
                && needs.all(|need| match need.what {
                    What::Path(path) => known(path),
                    What::Set(set) => set_known[set.index()],
                    What::Task(_) => true,
                })
                && learned
                    .of(step.index())
                    .iter()
                    .copied()
                    .map(PathId)
                    .all(known)
        };
        let mut open = PerPosition::filled(order, false);
        for position in order.positions() {
            let own = match order.node(position).node(project) {
                Node::Set(_) => false,
                Node::Task(_) => true,
                Node::Step(step) => !step_is_known(step),
            };
            open[position] = own
                || order.waits_for(position).iter().any(|&before| {
                    open[before] && !matches!(order.node(before).node(project), Node::Task(_))
                });
        }
        open
    }

    /// What is known of the paths of these files without looking at them again.
    #[must_use]
    pub fn contents(&self) -> VerifiedContents<'_> {
        VerifiedContents {
            file: &self.file,
            verified: &self.verified,
            looks: self.looks.get_or_init(|| self.file.look_of_path()),
        }
    }
}

/// VerifiedContents of files that were found as recorded.
pub struct VerifiedContents<'k> {
    file: &'k CacheFile,
    verified: &'k [bool],
    looks: &'k [u32],
}

impl VerifiedContents<'_> {
    /// What stands at a path, if that is known.
    #[must_use]
    pub fn state(&self, path: PathId) -> Option<crate::content::State> {
        if self.verified.get(path.index()) != Some(&true) {
            return None;
        }
        self.file.state(*self.looks.get(path.index())?)
    }
}

/// How many steps of an order are kept without being judged.
#[must_use]
pub fn kept_steps(project: &Project<'_>, order: &Order, open: &PerPosition<bool>) -> usize {
    let kept = open.iter().filter(|(_, open)| !**open);
    kept.filter(|(position, _)| matches!(order.node(*position).node(project), Node::Step(_)))
        .count()
}
