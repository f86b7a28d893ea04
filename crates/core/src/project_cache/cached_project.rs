//! What is known from the last run, and what of it still holds.

use std::cell::OnceCell;

use crate::content::LearnedPath;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::request::BuildRequest;
use crate::ledger::Edge;
use crate::ledger::Entry;
use crate::ledger::KeptFile;
use crate::ledger::Ledger;
use crate::project::Description;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::What;
use crate::project::folders::SeenFolder;
use crate::project_cache::cache_file::CacheFile;
use crate::project_cache::dependencies::CacheDependencies;
use crate::project_cache::front::Front;
use crate::project_cache::front::KeptText;
use crate::project_cache::front::LookKind;
use crate::project_cache::front::OtherTexts;
use crate::project_cache::front_look::FrontLook;
use crate::project_cache::key::key;
use crate::project_cache::request::CachedRequest;
use crate::project_cache::since::Since;
use crate::project_cache::skeleton::Edit;
use crate::project_cache::verify_files;
use crate::project_cache::verify_files::Found;
use crate::status::environment::RecordingEnvironment;
use crate::status::learned_edges;
use crate::world::Digest;
use crate::world::Disk;

/// What is known from the last run.
pub struct CachedProject {
    pub(super) front: Front,
    pub(super) file: CacheFile,
    pub(super) since: Since,
    /// What a look at each known file said; none before the first.
    pub(super) found: Option<Vec<Found>>,
    /// In which targets the description differs from when this was kept; none when its texts are the same.
    pub(super) edit: Option<Edit>,
    /// For each target of the project whether its recipe differs, or what is said about it.
    pub(super) reworded: Vec<bool>,
    /// For each step of the project which one it was when this was kept; none when there are the same.
    pub(super) origin: Option<Vec<u32>>,
    /// For each path whether its content is known without reading it.
    verified: Vec<bool>,
    /// How many positions were last found to differ of themselves.
    own_open: usize,
    /// For each path where its record is; made when it is first needed.
    looks: OnceCell<Vec<u32>>,
}

impl CachedProject {
    /// What the last run kept, when it still holds, for somebody who only reads. `look` is what was seen of it
    /// already.
    #[must_use]
    pub fn of_last_run(
        look: Option<FrontLook>,
        description: &Description,
        asked: &BuildRequest,
        environment: &RecordingEnvironment<'_>,
    ) -> Option<Self> {
        let key = key(description, environment);
        Self::open(look, &key, asked, &environment.ledger.borrow(), environment)
    }

    /// What was kept, when it still holds. `look` is what was seen of it already.
    #[must_use]
    pub fn open(
        look: Option<FrontLook>,
        key: &Digest,
        asked: &BuildRequest,
        ledger: &Ledger,
        environment: &RecordingEnvironment<'_>,
    ) -> Option<Self> {
        let user_key = environment.key?;
        let look = match look {
            Some(look) => look,
            None => FrontLook::of(Front::open(ledger.kept(KeptFile::Front).ok()??, &user_key)?),
        };
        let FrontLook {
            front,
            body,
            found,
            edit,
            ..
        } = look;
        if edit.is_none() && front.header.key != *key {
            return None;
        }
        let file = match body {
            Some(file) => file,
            None => CacheFile::of_front(&front, ledger.kept(KeptFile::Body).ok()??, &user_key)?,
        };
        let entries = ledger.since(&front.header.mark).ok()??;
        let since = Since::read(&front, entries, ledger.end())?;
        let same_request = front.header.request == CachedRequest::of(asked);
        // Commands are asked only for what is wanted: other goals may not need them.
        if !same_request && front.header.dependencies.asks() {
            return None;
        }
        let known = Self {
            front,
            since,
            found,
            edit,
            reworded: Vec::new(),
            origin: None,
            file,
            verified: Vec::new(),
            own_open: 0,
            looks: OnceCell::new(),
        };
        known.holds(environment).then_some(known)
    }

    /// Whether a step learned of something that another makes, and that was not known when this was kept.
    #[must_use]
    pub fn has_new_edges(&self, project: &Project<'_>, ledger: &Ledger) -> bool {
        let fresh = self.fresh_steps().map(|step| project.step_name(step));
        let since = self.since.steps.iter().map(String::as_str);
        learned_edges::has_any(project, ledger, since.chain(fresh))
    }

    /// Whether everything that working the project out depended on is as it was.
    #[must_use]
    pub fn holds(&self, environment: &RecordingEnvironment<'_>) -> bool {
        let dependencies = &self.front.header.dependencies;
        dependencies.holds(environment)
    }

    /// The folders whose names working out depended on, and the paths that were asked whether they are
    /// folders.
    #[must_use]
    pub fn folders(&self) -> (Vec<SeenFolder>, Vec<(String, bool)>) {
        self.dependencies().folders()
    }

    /// The files that values were taken from.
    pub fn data_files(&self) -> impl Iterator<Item = &str> {
        self.dependencies().data_files()
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
        self.front.header.request == CachedRequest::of(asked)
    }

    /// Looks at all files that are known and that an order reaches, unless they were looked at.
    pub fn look_at(
        &mut self,
        project: &Project<'_>,
        order: &Order,
        disk: &dyn Disk,
        threads: usize,
    ) {
        if !self.was_looked_at() {
            let reached = self.reached(project, order);
            self.look(disk, threads, Some(&reached));
        }
    }

    /// Looks at all files that are known, or at those that `wanted` says, unless that was done.
    pub fn look(&mut self, disk: &dyn Disk, threads: usize, wanted: Option<&[bool]>) {
        let found = self.found.take().unwrap_or_else(|| {
            verify_files::look(&self.front, disk, threads, wanted, &self.since.newer)
        });
        let mut verified = vec![false; self.file.path_count()];
        let looked = self.front.looked();
        for (look, found) in looked.iter().zip(&found) {
            verified[look.path.get() as usize] |= *found == Found::Same;
        }
        // A whole folder is known when all in it is.
        for (look, found) in looked.iter().zip(&found) {
            if *found != Found::Same {
                verified[look.path.get() as usize] = false;
            }
        }
        self.verified = verified;
        self.found = Some(found);
    }

    /// The number of steps, all kept, when nothing at all is different.
    #[must_use]
    pub fn all_kept(&self) -> Option<usize> {
        let header = &self.front.header;
        let calm = header.all_good && self.since.is_silent() && self.edit.is_none();
        let found = self.found.as_ref().filter(|_| calm)?;
        let same = found.iter().all(|found| *found == Found::Same);
        same.then_some(header.steps_in_order)
    }

    /// The description's files when this was kept.
    pub(super) fn texts(&self) -> &[KeptText] {
        &self.front.header.files
    }

    pub(super) fn front_with_texts(&self, texts: OtherTexts, key: &[u8; 32]) -> Option<Vec<u8>> {
        self.front.with_texts(texts, key)
    }

    /// How many positions the kept order has.
    #[must_use]
    pub fn order_length(&self) -> usize {
        self.file.order_length()
    }

    /// What the front of this project is sealed with, when all that it reaches is up to date after a run without
    /// a failure, and the journal does not say so yet.
    #[must_use]
    pub fn to_be_said_up_to_date(
        &self,
        project: &Project<'_>,
        ledger: &Ledger,
    ) -> Option<[u8; 32]> {
        if self.is_all_said(ledger) {
            return None;
        }
        let entries = ledger.since(&self.front.header.mark).ok()??;
        let ended = entries.iter().skip(self.since.count);
        let mut ended = ended.filter_map(|entry| match entry {
            Entry::Ended(record) => Some(record),
            _ => None,
        });
        // A file that was as kept when this run looked, and that a step saw otherwise later: what else reads it was
        // not judged again.
        let contents = self.contents();
        let is_odd = |edge: &Edge| {
            let path = project.paths.find(&edge.path);
            let path = path.filter(|&path| project.maker(path).is_none());
            path.is_some_and(|path| {
                self.verified.get(path.index()) == Some(&true)
                    && contents.state(path).and_then(|state| state.digest()) != edge.digest
            })
        };
        let is_sure = ended.all(|record| {
            let own = project.maker_of(&record.name);
            let is_made = |edge: &Edge| {
                let maker = project.maker_of(&edge.path);
                maker.is_some() && maker != own
            };
            let mut seen = record.needs.iter().chain(&record.learned);
            let mut learned = record.learned.iter();
            let lists =
                learned.any(|edge| matches!(LearnedPath::of(&edge.path), LearnedPath::Names(_)));
            !lists && !seen.any(is_odd) && !record.learned.iter().any(is_made)
        });
        is_sure.then(|| self.front.seal())
    }

    /// Whether all that was reached was known to have no reason to run when this was kept.
    #[must_use]
    pub fn was_all_good(&self) -> bool {
        self.front.header.all_good
    }

    /// Whether there are files of which it can't be told without reading whether they changed.
    #[must_use]
    pub fn is_unsure(&self) -> bool {
        self.front.header.is_unsure
    }

    /// Whether so much was written since that the project is better kept anew than all of it read by each run.
    #[must_use]
    pub fn is_outgrown(&self, ledger: &Ledger) -> bool {
        self.front.is_outgrown(ledger.end())
    }

    /// Whether the journal says nothing since this was kept but that all is up to date.
    #[must_use]
    pub fn is_all_said(&self, ledger: &Ledger) -> bool {
        (self.since.ends_up_to_date || self.since.count == 0) && ledger.end() == self.since.end
    }

    pub(super) fn dependencies(&self) -> &CacheDependencies {
        &self.front.header.dependencies
    }

    /// The goals and the order of what was asked for when this was kept.
    #[must_use]
    pub fn order(&self) -> (Vec<NodeId>, Order) {
        self.file.order()
    }

    /// Marks the paths that an order reaches.
    #[must_use]
    pub fn reached(&self, project: &Project<'_>, order: &Order) -> Vec<bool> {
        let mut reached = vec![false; self.file.path_count().max(project.paths.len())];
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
                    for path in self.learned(step) {
                        reached[path.index()] = true;
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
        for path in &self.since.files {
            if let Some(path) = project.paths.find(path)
                && let Some(verified) = self.verified.get_mut(path.index())
            {
                *verified = false;
            }
        }
        let mut good = self.good();
        for goal in asked {
            if let Some(good) = good.get_mut(goal.index()) {
                *good = 0;
            }
        }
        for step in &self.since.steps {
            if let Some(maker) = project
                .paths
                .find(step)
                .and_then(|path| project.maker(path))
                && let Some(good) = good.get_mut(maker.index())
            {
                *good = 0;
            }
        }
        if !self.reworded.is_empty() {
            for (good, step) in good.iter_mut().zip(&project.steps) {
                if self.reworded.get(step.decl as usize) == Some(&true) {
                    *good = 0;
                }
            }
        }
        let known = |path: PathId| self.verified.get(path.index()) == Some(&true);
        let set_known: Vec<bool> = project
            .sets
            .iter()
            .map(|set| set.paths.iter().all(|&path| known(path)))
            .collect();
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
                && self.learned(step).all(known)
        };
        let mut open = PerPosition::filled(order, false);
        let mut own_count = 0;
        for position in order.positions() {
            let own = match order.node(position).node(project) {
                Node::Set(_) => false,
                Node::Task(_) => true,
                Node::Step(step) => !step_is_known(step),
            };
            own_count += usize::from(own);
            open[position] = own
                || order.waits_for(position).iter().any(|&before| {
                    open[before] && !matches!(order.node(before).node(project), Node::Task(_))
                });
        }
        self.own_open = own_count;
        open
    }

    /// How many positions had to be judged for what differs of themselves, and not of what they wait for.
    #[must_use]
    pub fn own_open(&self) -> usize {
        self.own_open
    }

    /// For each path the number of its look, or a number beyond.
    fn look_of_path(&self) -> Vec<u32> {
        let mut of = vec![u32::MAX; self.file.path_count()];
        for (index, look) in (0..).zip(self.front.looked()) {
            if matches!(look.kind(), LookKind::File | LookKind::Absent) {
                of[look.path.get() as usize] = index;
            }
        }
        of
    }

    /// What is known of the paths of these files without looking at them again.
    #[must_use]
    pub fn contents(&self) -> VerifiedContents<'_> {
        VerifiedContents {
            front: &self.front,
            verified: &self.verified,
            looks: self.looks.get_or_init(|| self.look_of_path()),
        }
    }
}

/// Contents of files that were found as recorded.
pub struct VerifiedContents<'k> {
    front: &'k Front,
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
        self.front.state(*self.looks.get(path.index())? as usize)
    }
}

/// How many steps of an order are kept without being judged.
#[must_use]
pub fn kept_steps(project: &Project<'_>, order: &Order, open: &PerPosition<bool>) -> usize {
    let kept = open.iter().filter(|(_, open)| !**open);
    kept.filter(|(position, _)| matches!(order.node(*position).node(project), Node::Step(_)))
        .count()
}
