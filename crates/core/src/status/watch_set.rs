//! What a run depends on, by path: for whoever is told of changed files and wants to know what they mean.
//!
//! A [`WatchSet`] is made from a project that was worked out, before its files are looked at. So notices can
//! be asked for first, and nothing falls between a look and the first notice.

use std::collections::BTreeSet;
use std::collections::HashMap;
use std::collections::HashSet;

use crate::content::LearnedPath;
use crate::graph::Node;
use crate::graph::Order;
use crate::ledger::Ledger;
use crate::project::PathId;
use crate::project::Paths;
use crate::project::Project;
use crate::project::StepId;
use crate::project::What;
use crate::project::excluded::Excluded;
use crate::project::folders::OWN_FOLDER;
use crate::project::folders::SeenFolder;
use crate::project::folders::names_digest;
use crate::project::folders::sorted_names;
use crate::status::learned_edges;
use crate::status::listing;
use crate::text::Source;
use crate::text::Sources;
use crate::world::Digest;
use crate::world::DirEntry;
use crate::world::Disk;
use crate::world::names::folder_of;

/// What a change at a path means; later ones mean more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum ChangeImpact {
    /// No run depends on it.
    Nothing,
    /// A target: it is looked at in the next run, and is no cause for one.
    Made,
    /// A folder of targets: the next run has to look at everything, and it is no cause for one.
    MadeFolder,
    /// A name came or went in a folder whose names decide which steps there are, perhaps.
    Names,
    /// A file that some step reads and no step makes.
    Source,
    /// The description, or a whole folder of sources.
    Everything,
}

impl ChangeImpact {
    /// Whether it is a cause for a run.
    #[must_use]
    pub fn is_cause(self) -> bool {
        self >= Self::Source
    }
}

/// What is known of a path.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Use {
    Unreached,
    Made,
    Source,
}

/// A folder whose names decided something.
struct WatchedFolder {
    seen: SeenFolder,
    /// The digest of its names but for targets, when it began to be watched.
    own: Option<Digest>,
}

/// All that the passes of one run depend on.
#[derive(Default)]
pub struct WatchSet {
    /// The paths of each pass, and what they are to it.
    passes: Vec<(Paths, Vec<Use>)>,
    /// Files that steps told of and that the description does not name.
    learned: HashSet<String>,
    /// Folders that steps listed; empty for the root, others end with a slash.
    learned_names: HashSet<String>,
    /// Folders that are read as a whole, and those that are made as a whole.
    trees: Vec<String>,
    made_trees: HashSet<String>,
    /// What does not count of those.
    left_out: Vec<(String, Excluded)>,
    /// Folders whose names decided something.
    listed: HashMap<String, WatchedFolder>,
    /// Paths that were asked whether they are folders.
    told: HashSet<String>,
    description: HashSet<String>,
    /// Every folder that something lies in, also indirectly, and whether a source does.
    folders: HashMap<String, bool>,
}

impl WatchSet {
    /// Adds the description: enough to see it being mended.
    pub fn add_description(&mut self, sources: &Sources) {
        for source in files(sources) {
            self.add_text(&source.name);
        }
    }

    fn add_text(&mut self, name: &str) {
        self.enter(folder_of(name), true);
        self.description.insert(name.to_owned());
    }

    /// Adds files that values of the description are taken from, or that it would put in if they were there.
    /// Whether any of them is new.
    pub fn add_data_files<'f>(&mut self, files: impl Iterator<Item = &'f str>) -> bool {
        let before = self.description.len();
        for file in files {
            self.add_text(file);
        }
        self.description.len() > before
    }

    /// Adds what working a project out depended on: the folders that were listed, and the paths that were
    /// asked whether they are folders.
    pub fn add_folders(&mut self, (seen, told): (Vec<SeenFolder>, Vec<(String, bool)>)) {
        // Each pass lists all that the description asks for.
        self.listed.clear();
        for seen in seen {
            self.enter(&seen.folder, false);
            let listed = WatchedFolder { seen, own: None };
            self.listed.insert(listed.seen.folder.clone(), listed);
        }
        for (path, _) in told {
            self.enter(folder_of(&path), true);
            self.told.insert(path);
        }
    }

    /// Adds what one pass depends on.
    pub fn add(&mut self, project: &Project<'_>, order: &Order, ledger: &Ledger) {
        let mut uses = vec![Use::Unreached; project.paths.len()];
        let mut sets = vec![false; project.sets.len()];
        let has_learned = ledger.has_learned();
        for id in &order.nodes {
            let needs = match id.node(project) {
                Node::Step(step) => {
                    let node = project.step(step);
                    for &(_, path) in project.step_outputs(node) {
                        self.reach(project, path, &mut uses);
                    }
                    if has_learned {
                        self.learn(step, project, ledger, &mut uses);
                    }
                    project.step_needs(node)
                }
                Node::Task(task) => &project.tasks[task.index()].needs,
                Node::Set(_) => &[],
            };
            for need in needs {
                match need.what {
                    What::Path(path) => self.reach(project, path, &mut uses),
                    What::Set(set) if !std::mem::replace(&mut sets[set.index()], true) => {
                        for &path in &project.sets[set.index()].paths {
                            self.reach(project, path, &mut uses);
                        }
                    }
                    What::Set(_) | What::Task(_) => {}
                }
            }
        }
        for used in project
            .folder_uses
            .iter()
            .filter(|used| !used.excluded.is_empty())
        {
            let folder = project.paths.get(used.path).to_owned();
            self.left_out.push((folder, used.excluded.clone()));
        }
        self.passes.push((project.paths.clone(), uses));
    }

    fn reach(&mut self, project: &Project<'_>, path: PathId, uses: &mut [Use]) {
        if uses[path.index()] != Use::Unreached {
            return;
        }
        let text = project.paths.get(path);
        let made = project.maker(path).is_some();
        uses[path.index()] = if made { Use::Made } else { Use::Source };
        if text.ends_with('/') {
            if made {
                self.made_trees.insert(text.to_owned());
            } else {
                let is_root = text == "./";
                self.trees.push(if is_root {
                    String::new()
                } else {
                    text.to_owned()
                });
            }
        }
        self.enter(folder_of(text), !made);
    }

    fn learn(&mut self, step: StepId, project: &Project<'_>, ledger: &Ledger, uses: &mut [Use]) {
        for edge in learned_edges::of(project, step, ledger) {
            let path = match LearnedPath::of(edge.path) {
                LearnedPath::File(path) => path,
                other => {
                    self.enter_learned(other);
                    continue;
                }
            };
            match project.paths.find(path) {
                Some(path) => self.reach(project, path, uses),
                None => {
                    self.enter_learned(LearnedPath::File(path));
                }
            }
        }
    }

    /// Adds what a step found out; whether it is new.
    fn enter_learned(&mut self, path: LearnedPath<'_>) -> bool {
        match path {
            LearnedPath::Names(folder) if self.learned_names.contains(folder) => false,
            LearnedPath::Names(folder) => {
                self.enter(folder, true);
                self.learned_names.insert(folder.to_owned())
            }
            LearnedPath::File(path) | LearnedPath::Folder(path) | LearnedPath::Link(path)
                if self.learned.contains(path) =>
            {
                false
            }
            LearnedPath::File(path) | LearnedPath::Folder(path) | LearnedPath::Link(path) => {
                self.enter(folder_of(path), true);
                self.learned.insert(path.to_owned())
            }
        }
    }

    /// Adds what steps learned when they ran just now; gives the paths that are new.
    pub fn learned_since<'n>(
        &mut self,
        steps: impl Iterator<Item = &'n str>,
        ledger: &Ledger,
    ) -> Vec<String> {
        let mut new = Vec::new();
        for record in steps.filter_map(|step| ledger.step(step)) {
            for edge in record.learned() {
                let path = LearnedPath::of(edge.path);
                let is_known = match path {
                    LearnedPath::File(path) => !matches!(
                        self.touch(path),
                        ChangeImpact::Nothing | ChangeImpact::Names
                    ),
                    LearnedPath::Names(_) | LearnedPath::Folder(_) | LearnedPath::Link(_) => false,
                };
                if !is_known && self.enter_learned(path) {
                    new.push(path.place().to_owned());
                }
            }
        }
        new
    }

    /// A folder that something lies in, and those around it.
    fn enter(&mut self, folder: &str, source: bool) {
        let mut folder = folder;
        loop {
            match self.folders.get_mut(folder) {
                Some(known) if *known || !source => return,
                Some(known) => *known = true,
                None => {
                    self.folders.insert(folder.to_owned(), source);
                }
            }
            // Outside of the project the folder itself is enough.
            if folder.is_empty() || folder.starts_with('/') || folder.starts_with("../") {
                return;
            }
            folder = folder_of(folder.trim_end_matches('/'));
        }
    }

    /// The folders in which something may change that matters: empty for the root, or ending with a
    /// slash. Some may not be there.
    pub fn folders(&self) -> impl Iterator<Item = &str> {
        self.folders.keys().map(String::as_str)
    }

    /// The folders below which everything matters, also those that are made as a whole.
    #[must_use]
    pub fn trees(&self) -> BTreeSet<&str> {
        let all = self.trees.iter().chain(&self.made_trees);
        all.map(String::as_str).collect()
    }

    /// The folder that is made as a whole and in which a path lies, or that it is; ends with a slash.
    #[must_use]
    pub fn made_tree(&self, path: &str) -> Option<&str> {
        if self.made_trees.is_empty() {
            return None;
        }
        let around = path.match_indices('/').map(|(at, _)| &path[..=at]);
        let mut around = around.filter_map(|folder| self.made_trees.get(folder));
        let own = || self.made_trees.get(&as_folder(path));
        around.next().or_else(own).map(String::as_str)
    }

    /// All that is a cause for a run when it changes: sources, the description, folders whose names count,
    /// with a slash at the end, and files that may come.
    pub fn causes(&self) -> impl Iterator<Item = &str> {
        let sources = self.passes.iter().flat_map(|(paths, uses)| {
            let numbers = (0..).zip(uses);
            let sources = numbers.filter(|(_, used)| **used == Use::Source);
            sources.map(|(number, _)| paths.get(PathId(number)))
        });
        let others = self
            .learned
            .iter()
            .chain(&self.description)
            .chain(&self.told);
        let folders = self.listed.keys().chain(&self.trees);
        sources.chain(others.chain(folders).map(String::as_str))
    }

    /// How many files are sources.
    #[must_use]
    pub fn sources(&self) -> usize {
        let uses = self.passes.iter().flat_map(|(_, uses)| uses);
        uses.filter(|used| **used == Use::Source).count() + self.learned.len()
    }

    /// What a change at a path means; the path as seen from the root, without a slash at its end.
    #[must_use]
    pub fn touch(&self, path: &str) -> ChangeImpact {
        if path == OWN_FOLDER || path.starts_with(".handloom/") {
            return ChangeImpact::Nothing;
        }
        if self.description.contains(path) || self.told.contains(path) {
            return ChangeImpact::Everything;
        }
        let mut touch = ChangeImpact::Nothing;
        for (paths, uses) in &self.passes {
            let known = paths.find(path).map(|path| uses[path.index()]);
            touch = touch.max(match known {
                Some(Use::Source) => ChangeImpact::Source,
                Some(Use::Made) => ChangeImpact::Made,
                Some(Use::Unreached) | None => ChangeImpact::Nothing,
            });
        }
        if touch == ChangeImpact::Made {
            return touch;
        }
        let is_listed =
            || self.learned_names.contains(folder_of(path)) && !listing::is_overlooked(path);
        if self.learned.contains(path) || is_listed() {
            touch = touch.max(ChangeImpact::Source);
        }
        let inside = |tree: &String| {
            let rules = self.left_out.iter().filter(|(folder, _)| folder == tree);
            path.starts_with(tree.as_str())
                && !rules
                    .into_iter()
                    .any(|(_, excluded)| excluded.leaves_out(path))
        };
        if touch == ChangeImpact::Nothing && self.made_tree(path).is_some() {
            return ChangeImpact::Made;
        }
        if self.trees.iter().any(inside) {
            touch = touch.max(ChangeImpact::Source);
        }
        let as_folder = format!("{path}/");
        match self.folders.get(&as_folder) {
            Some(true) => touch = ChangeImpact::Everything,
            Some(false) => touch = touch.max(ChangeImpact::MadeFolder),
            None => {}
        }
        let listed =
            self.listed.contains_key(folder_of(path)) || self.listed.contains_key(&as_folder);
        if touch <= ChangeImpact::MadeFolder && listed {
            touch = ChangeImpact::Names;
        }
        touch
    }

    /// Whether a path is a folder that something lies in.
    #[must_use]
    pub fn is_folder(&self, path: &str) -> bool {
        self.folders.contains_key(&format!("{path}/"))
    }

    /// Whether the names in a folder, without a slash at its end, decide something, and the files in it do
    /// not as such.
    #[must_use]
    pub fn is_listed(&self, path: &str) -> bool {
        let as_folder = as_folder(path);
        let inside = |tree: &String| as_folder.starts_with(tree.as_str());
        self.listed.contains_key(&as_folder) && !self.trees.iter().any(inside)
    }

    /// Whether the names in the folder of a path, or in the folder that it is, are others than when it
    /// began to be watched; targets do not count.
    #[must_use]
    pub fn names_differ(&self, disk: &dyn Disk, path: &str) -> bool {
        let as_folder = as_folder(path);
        [folder_of(path), &as_folder]
            .into_iter()
            .filter_map(|folder| self.listed.get(folder))
            .any(|listed| {
                let entries = sorted_names(disk, &listed.seen.folder);
                listed.own != Some(self.own_names(&listed.seen, &entries))
            })
    }

    /// The digest of a folder's names but for targets.
    fn own_names(&self, seen: &SeenFolder, entries: &[DirEntry]) -> Digest {
        let mut entries = entries.to_vec();
        entries.retain(|entry| {
            let path = format!("{}{}", seen.folder, entry.name);
            let made_folder = self.folders.get(&format!("{path}/")) == Some(&false);
            !made_folder && self.touch(&path) != ChangeImpact::Made
        });
        names_digest(&entries, seen.hidden)
    }

    /// To be called when the folders are watched. Whether anything that decided which steps there are was
    /// changed since it was read: the names in folders, or the description's text.
    #[must_use]
    pub fn begin(&mut self, disk: &dyn Disk, sources: &Sources) -> bool {
        let mut shifted = files(sources).any(|source| match disk.read(&source.name) {
            Ok(bytes) => String::from_utf8_lossy(&bytes) != *source.text,
            Err(_) => true,
        });
        let mut all = std::mem::take(&mut self.listed);
        for listed in all.values_mut() {
            let entries = sorted_names(disk, &listed.seen.folder);
            shifted |= names_digest(&entries, listed.seen.hidden) != listed.seen.names;
            listed.own = Some(self.own_names(&listed.seen, &entries));
        }
        self.listed = all;
        shifted
    }
}

/// The sources that are files of the project: what was typed is one too.
fn files(sources: &Sources) -> impl Iterator<Item = &Source> {
    let files = sources.iter().map(|(_, source)| source);
    files.filter(|source| source.name.ends_with(".loom"))
}

/// How a folder is written: the root is empty, others end with a slash.
fn as_folder(path: &str) -> String {
    if path.is_empty() {
        String::new()
    } else {
        format!("{path}/")
    }
}
