//! What stands at every path that a run looks at.

use std::cell::RefCell;
use std::collections::HashMap;
use std::collections::HashSet;

use xxhash_rust::xxh3::Xxh3;

use crate::content::LearnedPath;
use crate::content::Reader;
use crate::content::Record;
use crate::content::SETTLED;
use crate::content::State;
use crate::content::survey;
use crate::graph::Node;
use crate::graph::Order;
use crate::language::Manner;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::project::Need;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::What;
use crate::status::learned_edges;
use crate::status::listing;
use crate::world::Clock;
use crate::world::Digest;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::names::folder_of;

/// So many paths are looked at before what was found is put where it belongs.
const AT_ONCE: usize = 1 << 16;

/// What stands at a path, where that is known without a look.
pub type KnownStates<'k> = &'k dyn Fn(PathId) -> Option<State>;

/// The states of paths, looked at once at the start, and again where a job may have changed them.
pub struct FileStates<'a> {
    disk: &'a dyn Disk,
    clock: &'a dyn Clock,
    ledger: &'a RefCell<Ledger>,
    of_path: Vec<Option<State>>,
    of_learned: HashMap<String, State>,
    /// Of folders that were listed, by their names as they were then, the digest of those that count.
    of_names: HashMap<(String, u64), Digest>,
    /// Paths at which a link stands, or a folder with links in it.
    pub linked: HashSet<PathId>,
    /// Where folders and files lead to that steps learned of, from the root; none for those that lead to themselves.
    real_names: HashMap<String, Option<String>>,
    /// Paths of fleeting outputs that were taken away, and count as if they were there.
    taken_away: HashSet<PathId>,
    /// Records of files that had to be read, not yet in the ledger.
    fresh: Vec<Entry>,
    buffer: Vec<u8>,
}

impl<'a> FileStates<'a> {
    /// Nothing is looked at yet.
    pub fn new(disk: &'a dyn Disk, clock: &'a dyn Clock, ledger: &'a RefCell<Ledger>) -> Self {
        Self {
            disk,
            clock,
            ledger,
            of_path: Vec::new(),
            of_learned: HashMap::new(),
            of_names: HashMap::new(),
            linked: HashSet::new(),
            real_names: HashMap::new(),
            taken_away: HashSet::new(),
            fresh: Vec::new(),
            buffer: Vec::new(),
        }
    }

    /// Looks at every path that the steps in `order` make, need or learned of, but for those whose
    /// contents are known.
    pub fn survey(
        &mut self,
        project: &Project<'_>,
        order: &Order,
        threads: usize,
        known: Option<KnownStates<'_>>,
    ) {
        self.of_path.resize(project.paths.len(), None);
        let ledger = self.ledger.borrow();
        let mut wanted = Wanted {
            project,
            paths: Vec::new(),
            seen: vec![false; project.paths.len()],
            seen_sets: vec![false; project.sets.len()],
            learned: HashSet::new(),
            listed: HashSet::new(),
            has_learned: ledger.has_learned(),
            of_path: &mut self.of_path,
            known,
        };
        wanted.add_order(order, &ledger);
        let paths = wanted.paths;
        let listed = wanted.listed;
        let mut learned: Vec<String> = wanted.learned.into_iter().collect();
        learned.sort_unstable();
        let mut texts: Vec<&str> = paths.iter().map(|&path| project.paths.get(path)).collect();
        texts.extend(learned.iter().map(String::as_str));
        let reader = Reader {
            disk: self.disk,
            clock: self.clock,
            records: &*ledger,
        };
        // Piece by piece: what a look brings takes more room than what is kept of it.
        let mut ids = paths.into_iter();
        let mut learned = learned.iter();
        for texts in texts.chunks(AT_ONCE) {
            for look in survey(&reader, texts, threads) {
                keep_read(&mut self.fresh, look.read);
                if let Some(path) = ids.next() {
                    if matches!(look.state, State::Linked(_)) {
                        self.linked.insert(path);
                    }
                    self.of_path[path.index()] = Some(look.state);
                } else if let Some(path) = learned.next() {
                    self.of_learned.insert(path.clone(), look.state);
                }
            }
        }
        drop(ledger);
        for path in listed {
            let state = self.look_at_learned(project, &path);
            self.set_learned(project, &path, state);
        }
    }

    /// Lets outputs of fleeting steps that are not there count as they were left, unless the step is wanted.
    pub fn stand_in_for_fleeting(
        &mut self,
        project: &Project<'_>,
        is_wanted: &dyn Fn(&str) -> bool,
    ) {
        let ledger = self.ledger.borrow();
        for index in 0..project.steps.len() {
            let step = StepId::from_index(index);
            let Some(decl) = project.decls.read_already(project.step(step).decl as usize) else {
                continue;
            };
            let name = project.step_name(step);
            if !decl.clauses.has(Manner::Fleeting) || is_wanted(name) {
                continue;
            }
            let Some(record) = ledger.step(name) else {
                continue;
            };
            for &(_, path) in project.step_outputs(project.step(step)) {
                let text = project.paths.get(path);
                let made = record.outputs().find(|output| output.path == text);
                let is_missing = self.of_path.get(path.index()) == Some(&Some(State::Missing));
                if let Some(digest) = made.and_then(|made| made.digest)
                    && is_missing
                {
                    self.of_path[path.index()] = Some(State::Content(digest));
                    self.taken_away.insert(path);
                }
            }
        }
    }

    /// Whether a path only counts as if it were there.
    #[must_use]
    pub fn is_taken_away(&self, path: PathId) -> bool {
        self.taken_away.contains(&path)
    }

    /// The digest of names that a step saw in a folder, which is empty for the root or ends with a slash, as far as they
    /// count. Many steps see the same.
    pub fn names_seen(&mut self, project: &Project<'_>, folder: &str, names: &[String]) -> Digest {
        let mut hasher = Xxh3::new();
        for name in names {
            hasher.update(name.as_bytes());
            hasher.update(&[0]);
        }
        let key = (folder.to_owned(), hasher.digest());
        let digest = || listing::digest(project, folder, names.iter().map(String::as_str));
        *self.of_names.entry(key).or_insert_with(digest)
    }

    /// Looks again at a path that a step learned of, which may stand for the names in a folder.
    pub fn look_at_learned(&mut self, project: &Project<'_>, path: &str) -> State {
        match LearnedPath::of(path) {
            LearnedPath::Names(folder) => listing::state(self.disk, project, folder),
            LearnedPath::File(_) | LearnedPath::Folder(_) | LearnedPath::Link(_) => self.look(path),
        }
    }

    /// What stands at a path that was looked at.
    #[must_use]
    pub fn get(&self, path: PathId) -> &State {
        static MISSING: State = State::Missing;
        self.of_path
            .get(path.index())
            .and_then(Option::as_ref)
            .unwrap_or(&MISSING)
    }

    /// What stands at a path that a step learned of.
    #[must_use]
    pub fn learned(&self, project: &Project<'_>, path: &str) -> State {
        if let Some(id) = project.paths.find(path) {
            return self.get(id).clone();
        }
        self.of_learned.get(path).cloned().unwrap_or(State::Missing)
    }

    /// What stood at a path, as far as this run has looked there.
    #[must_use]
    pub fn known(&self, project: &Project<'_>, path: &str) -> Option<State> {
        match project.paths.find(path) {
            Some(id) => self.of_path.get(id.index())?.clone(),
            None => self.of_learned.get(path).cloned(),
        }
    }

    /// The file of a target that a path leads to, when it goes there through links and by another name.
    pub fn made_name(&mut self, project: &Project<'_>, path: &str) -> Option<String> {
        if project.maker_of(path).is_some() {
            return None;
        }
        let folder = folder_of(path);
        let in_folder = match self.real_folder(folder) {
            Some(real) => format!("{real}/{}", &path[folder.len()..]),
            None => path.to_owned(),
        };
        let real = self.real_file(&in_folder).unwrap_or(in_folder);
        (real != path && project.maker_of(&real).is_some()).then_some(real)
    }

    fn real_folder(&mut self, folder: &str) -> Option<String> {
        if let Some(known) = self.real_names.get(folder) {
            return known.clone();
        }
        let plain = folder.trim_end_matches('/');
        let real = match plain {
            "" => None,
            plain => self.disk.real_path(plain).ok().flatten(),
        };
        let real = real.filter(|real| real != plain);
        self.real_names.insert(folder.to_owned(), real.clone());
        real
    }

    fn real_file(&mut self, path: &str) -> Option<String> {
        if let Some(known) = self.real_names.get(path) {
            return known.clone();
        }
        let stat = self.disk.stat(path).ok().flatten();
        let real = match stat {
            Some(stat) if stat.link => self.disk.real_path(path).ok().flatten(),
            _ => None,
        };
        self.real_names.insert(path.to_owned(), real.clone());
        real
    }

    /// Says what stands at a path now.
    pub fn set(&mut self, path: PathId, state: State) {
        if matches!(state, State::Linked(_)) {
            self.linked.insert(path);
        }
        if self.of_path.len() <= path.index() {
            self.of_path.resize(path.index() + 1, None);
        }
        self.taken_away.remove(&path);
        self.of_path[path.index()] = Some(state);
    }

    /// Says what stands at a path that a step learned of.
    pub fn set_learned(&mut self, project: &Project<'_>, path: &str, state: State) {
        match project.paths.find(path) {
            Some(id) => self.set(id, state),
            None => {
                self.of_learned.insert(path.to_owned(), state);
            }
        }
    }

    /// Looks at a path again.
    pub fn look(&mut self, path: &str) -> State {
        let ledger = self.ledger.borrow();
        let reader = Reader {
            disk: self.disk,
            clock: self.clock,
            records: &*ledger,
        };
        let look = reader.look(path, &mut self.buffer);
        keep_read(&mut self.fresh, look.read);
        look.state
    }

    /// A file whose content is recorded was moved away and back; whether that changed no more than one of
    /// its times, which is taken over.
    pub fn was_moved(&mut self, path: &str, recorded: &Record) -> bool {
        let Ok(Some(stat)) = self.disk.stat(path) else {
            return false;
        };
        let same = !stat.link
            && stat.kind == FileKind::File
            && (stat.size, stat.modified, stat.inode)
                == (recorded.size, recorded.modified, recorded.inode);
        let same = same && recorded.settled();
        if same {
            // Whoever writes to it from now on gives it a time that is not the recorded one.
            let record = Record {
                changed: stat.changed,
                read_at: recorded.read_at.max(stat.changed.saturating_add(SETTLED)),
                ..*recorded
            };
            self.fresh.push(Entry::File(path.to_owned(), record));
        }
        same
    }

    /// Looks again at a path of the project unless its stat says that nothing changed. A `source` is
    /// read again even when only the clock's grain could hide a change.
    pub fn refresh(&mut self, project: &Project<'_>, path: PathId, source: bool) -> &State {
        let text = project.paths.get(path);
        let unchanged = !text.ends_with('/') && {
            let recorded = self.ledger.borrow().file(text);
            match (recorded, self.disk.stat(text)) {
                (Some(recorded), Ok(Some(stat))) => {
                    let same = if source {
                        recorded.covers(&stat)
                    } else {
                        recorded.same_stat(&stat)
                    };
                    same && self.get(path).digest() == Some(recorded.digest)
                }
                (_, Ok(None)) => *self.get(path) == State::Missing,
                _ => false,
            }
        };
        if !unchanged {
            let state = self.look(text);
            self.set(path, state);
        }
        self.get(path)
    }

    /// Takes the records of files that had to be read.
    pub fn take_fresh(&mut self) -> Vec<Entry> {
        std::mem::take(&mut self.fresh)
    }
}

/// The paths that an order reaches, each once.
struct Wanted<'w, 'd> {
    project: &'w Project<'d>,
    /// Those to look at.
    paths: Vec<PathId>,
    seen: Vec<bool>,
    seen_sets: Vec<bool>,
    /// Files that steps learned of and that the project has no path for.
    learned: HashSet<String>,
    /// Those of them that stand for the names in a folder.
    listed: HashSet<String>,
    has_learned: bool,
    of_path: &'w mut [Option<State>],
    known: Option<KnownStates<'w>>,
}

impl Wanted<'_, '_> {
    /// Outputs first, then prerequisites: each row is nearly sorted as it comes, and the system finds names in
    /// sorted order faster.
    fn add_order(&mut self, order: &Order, ledger: &Ledger) {
        let project = self.project;
        for &id in &order.nodes {
            if let Node::Step(step) = id.node(project) {
                let outputs = project.step_outputs(project.step(step)).iter();
                outputs.for_each(|&(_, path)| self.add(path));
            }
        }
        for &id in &order.nodes {
            match id.node(project) {
                Node::Step(step) => {
                    let node = project.step(step);
                    if self.has_learned {
                        self.add_learned(step, ledger);
                    }
                    self.add_needs(project.step_needs(node));
                }
                Node::Task(task) => self.add_needs(&project.tasks[task.index()].needs),
                Node::Set(_) => {}
            }
        }
    }

    fn add(&mut self, path: PathId) {
        if std::mem::replace(&mut self.seen[path.index()], true) {
            return;
        }
        match self.known.and_then(|known| known(path)) {
            Some(state) => self.of_path[path.index()] = Some(state),
            None => self.paths.push(path),
        }
    }

    fn add_needs(&mut self, needs: &[Need]) {
        let project = self.project;
        for need in needs {
            match need.what {
                What::Path(path) => self.add(path),
                What::Set(set) if !std::mem::replace(&mut self.seen_sets[set.index()], true) => {
                    let paths = project.sets[set.index()].paths.iter();
                    paths.for_each(|&path| self.add(path));
                }
                What::Set(_) | What::Task(_) => {}
            }
        }
    }

    fn add_learned(&mut self, step: StepId, ledger: &Ledger) {
        for edge in learned_edges::of(self.project, step, ledger) {
            if let LearnedPath::Names(_) = LearnedPath::of(edge.path) {
                if !self.listed.contains(edge.path) {
                    self.listed.insert(edge.path.to_owned());
                }
                continue;
            }
            match self.project.paths.find(edge.path) {
                Some(path) => self.add(path),
                None => {
                    if !self.learned.contains(edge.path) {
                        self.learned.insert(edge.path.to_owned());
                    }
                }
            }
        }
    }
}

fn keep_read(fresh: &mut Vec<Entry>, read: Vec<(String, crate::content::Record)>) {
    fresh.extend(
        read.into_iter()
            .map(|(path, record)| Entry::File(path, record)),
    );
}
