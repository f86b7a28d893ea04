//! What a watched recipe was seen to read, list and look for, made into learned prerequisites.

use std::collections::HashSet;

use crate::content::LearnedPath;
use crate::content::State;
use crate::content::folder_is_there;
use crate::executor::watching::Gap;
use crate::executor::watching::Observed;
use crate::executor::watching::Sight;
use crate::ledger::Edge;
use crate::ledger::LOOKED_IN_VAIN;
use crate::ledger::WATCHED_BY_RUN;
use crate::project::Project;
use crate::project::StepId;
use crate::scheduler::event::ReadReport;
use crate::scheduler::learned_inputs::LearnedInputs;
use crate::scheduler::options::WatchPlan;
use crate::status::listing;
use crate::world::Digest;
use crate::world::FileKind;

/// Places outside of the project whose files come, go and change by themselves.
const VOLATILE: [&str; 8] = [
    "/proc/",
    "/sys/",
    "/dev/",
    "/run/",
    "/var/run/",
    "/tmp/",
    "/var/tmp/",
    "/var/cache/",
];

/// Places of the system's own programs and libraries: that a recipe reads there is nothing to be told of.
const SYSTEM: [&str; 9] = [
    "/usr/", "/bin/", "/sbin/", "/lib/", "/lib32/", "/lib64/", "/etc/", "/opt/", "/nix/",
];

/// What a file that was read and is gone is recorded with: no file has it.
const GONE: Digest = Digest(*b"it was read, and it is gone now.");

/// The names that a step is described with.
struct Declared<'p> {
    files: HashSet<&'p str>,
    /// Whole folders, each with a slash at its end.
    trees: Vec<&'p str>,
}

impl<'p> Declared<'p> {
    fn of(paths: impl Iterator<Item = &'p str>) -> Self {
        let (trees, files): (Vec<&str>, Vec<&str>) = paths.partition(|path| path.ends_with('/'));
        Self {
            files: files.into_iter().collect(),
            trees,
        }
    }

    /// Whether a path, without a slash at its end, is named or lies in a folder that is.
    fn holds(&self, path: &str) -> bool {
        let in_tree = |tree: &&str| {
            *tree == "./" || path.starts_with(*tree) || tree.strip_suffix('/') == Some(path)
        };
        self.files.contains(path) || self.trees.iter().any(in_tree)
    }
}

/// Whether a path is outside of the project.
fn is_outside(path: &str) -> bool {
    path.starts_with('/')
}

/// Whether a path is one of these places, or lies there.
fn is_below(path: &str, places: &[&str]) -> bool {
    let is_one = |place: &str| place.strip_suffix('/') == Some(path);
    places
        .iter()
        .any(|place| path.starts_with(place) || is_one(place))
}

fn is_temporary(path: &str) -> bool {
    let own = std::env::temp_dir();
    is_below(path, &VOLATILE) || std::path::Path::new(path).starts_with(own)
}

impl LearnedInputs<'_, '_, '_, '_> {
    /// The learned prerequisites of a step that was watched and began at `began`, nanoseconds since 1970, and what
    /// is to be told of it.
    pub fn observed(
        &mut self,
        step: StepId,
        plan: WatchPlan,
        observed: &Observed,
        began: i64,
    ) -> (Vec<Edge>, ReadReport) {
        let project = self.view.project;
        let node = project.step(step);
        let needs = project.open_needs(project.step_needs(node));
        let needs = Declared::of(needs.map(|(_, path)| project.paths.get(path)));
        let outputs = project.step_outputs(node).iter();
        let outputs = Declared::of(outputs.map(|&(_, path)| project.paths.get(path)));
        let by_run = if plan.by_run { WATCHED_BY_RUN } else { 0 };
        let counts = |path: &str| {
            let is_far = is_outside(path) && (!plan.everywhere || is_temporary(path));
            !path.is_empty() && !is_far && !listing::is_overlooked(path) && !outputs.holds(path)
        };
        let mut report = ReadReport::new(project.step_name(step));
        let mut edges = Vec::new();
        let mut used: HashSet<&str> = HashSet::new();
        for (path, sight) in &observed.paths {
            if needs.holds(path) {
                used.insert(path);
                continue;
            }
            if *sight == Sight::Read
                && is_outside(path)
                && !is_below(path, &SYSTEM)
                && !is_temporary(path)
            {
                report.outside.push(path.clone());
            }
            if !counts(path) {
                continue;
            }
            match sight {
                Sight::Read => edges.push(self.read_edge(step, path, began, by_run)),
                Sight::Absent => edges.push(self.absent_edge(step, path, by_run)),
                Sight::Folder => edges.extend(self.folder_edge(step, path, observed, by_run)),
                Sight::Written => {
                    let stands = matches!(self.context.disk.is_free(path), Ok(false));
                    if stands && !is_outside(path) && !listing::is_made(project, path) {
                        report.written.push(path.clone());
                    }
                }
            }
        }
        for (folder, names) in &observed.listed {
            if needs.trees.iter().any(|_| needs.holds(folder))
                || (!folder.is_empty() && !counts(folder))
            {
                continue;
            }
            edges.push(self.listing_edge(folder, names, by_run));
        }
        let is_used = |path: &str| {
            let below = |used: &&str| used.starts_with(path);
            used.contains(path) || (path.ends_with('/') && used.iter().any(below))
        };
        let declared = needs.files.iter().chain(&needs.trees);
        report.unread = declared
            .filter(|path| !is_used(path))
            .map(|path| (*path).to_owned())
            .collect();
        report.unread.sort_unstable();
        edges.sort_unstable_by(|one, other| one.path.cmp(&other.path));
        self.name_sources(step, &edges, &mut report);
        (edges, report)
    }

    fn read_edge(&mut self, step: StepId, path: &str, began: i64, by_run: u16) -> Edge {
        let stat = self.context.disk.stat(path);
        let is_link_to_folder =
            matches!(stat, Ok(Some(stat)) if stat.link && stat.kind == FileKind::Folder);
        if is_link_to_folder && self.view.project.maker_of(path).is_none() {
            // Whatever was read of what lies there has names of its own.
            return self.link_edge(path, by_run);
        }
        let seen = self.seen(step, path, began);
        let digest = match seen.state {
            State::Missing => Some(GONE),
            // It changed while the recipe ran: which of its contents it read is not known, so the step is judged anew.
            _ if seen.changed => None,
            state => state.digest(),
        };
        Edge {
            path: path.to_owned(),
            digest,
            group: by_run,
        }
    }

    fn link_edge(&mut self, link: &str, by_run: u16) -> Edge {
        let path = LearnedPath::link(link);
        let state = self.states.look(&path);
        let digest = state.digest();
        self.states.set_learned(self.view.project, &path, state);
        Edge {
            path,
            digest,
            group: by_run,
        }
    }

    fn absent_edge(&mut self, step: StepId, path: &str, by_run: u16) -> Edge {
        // Whether it has come since is for the next verdict to see.
        self.edges.is_luck(&self.view, self.found, step, path);
        Edge {
            path: path.to_owned(),
            digest: None,
            group: by_run | LOOKED_IN_VAIN,
        }
    }

    /// That a folder is there, where nothing else says so: what was read or listed in it does.
    fn folder_edge(
        &mut self,
        step: StepId,
        folder: &str,
        observed: &Observed,
        by_run: u16,
    ) -> Option<Edge> {
        let project = self.view.project;
        let below = format!("{folder}/");
        let start = observed
            .paths
            .partition_point(|(path, _)| path.as_str() < below.as_str());
        let inside = observed.paths[start..].iter();
        let inside = inside.take_while(|(path, _)| path.starts_with(&below));
        let is_read = inside.into_iter().any(|(_, sight)| *sight == Sight::Read);
        let is_listed = || observed.listed.iter().any(|(listed, _)| listed == folder);
        if is_read || is_listed() || listing::is_made(project, folder) {
            self.edges.is_luck(&self.view, self.found, step, folder);
            return None;
        }
        let path = LearnedPath::folder(folder);
        let state = self.states.look(&path);
        self.states.set_learned(project, &path, state);
        Some(Edge {
            path,
            digest: folder_is_there().digest(),
            group: by_run,
        })
    }

    fn listing_edge(&mut self, folder: &str, names: &[String], by_run: u16) -> Edge {
        let project = self.view.project;
        let path = LearnedPath::names_in(folder);
        let inside = match folder {
            "" => String::new(),
            folder => format!("{folder}/"),
        };
        let digest = self.states.names_seen(project, &inside, names);
        // What came or went since is for the next verdict to see.
        if self.states.known(project, &path).is_none() {
            self.states
                .set_learned(project, &path, State::Content(digest));
        }
        Edge {
            path,
            digest: Some(digest),
            group: by_run,
        }
    }

    /// What was read and is not named, as far as it was not known of the step's last run.
    fn name_sources(&mut self, step: StepId, edges: &[Edge], report: &mut ReadReport) {
        let project = self.view.project;
        let ledger = self.context.ledger.borrow();
        let last = ledger.step(project.step_name(step));
        let known: HashSet<&str> = last
            .into_iter()
            .flat_map(crate::ledger::StepView::learned)
            .map(|edge| edge.path)
            .collect();
        for edge in edges {
            let shown = LearnedPath::of(&edge.path).shown();
            if edge.group & LOOKED_IN_VAIN != 0 {
                report.absent.push(shown);
                continue;
            }
            match LearnedPath::of(&edge.path) {
                LearnedPath::File(path) => {
                    if !known.contains(path)
                        && !is_outside(path)
                        && is_source(project, path)
                        // The target's own name is told of.
                        && self.states.made_name(project, path).is_none()
                    {
                        report.undeclared.push(path.to_owned());
                    }
                    report.files.push(shown);
                }
                LearnedPath::Names(_) | LearnedPath::Folder(_) | LearnedPath::Link(_) => {
                    report.folders.push(shown);
                }
            }
        }
        report.first = known.is_empty();
    }
}

/// Whether a file is a source that somebody would name: not what targets make, and nothing hidden, such as what version
/// control keeps, which patterns do not match either.
fn is_source(project: &Project<'_>, path: &str) -> bool {
    let is_hidden = path.split('/').any(|name| name.starts_with('.'));
    project.maker_of(path).is_none() && !is_hidden
}

impl ReadReport {
    /// What a job was refused, and what may have gone past the watch.
    pub fn add_refusals(&mut self, observed: &Observed) {
        let paths = |write: bool| {
            let all = observed
                .refused
                .iter()
                .filter(move |one| one.write == write);
            all.map(|one| one.path.clone()).collect()
        };
        self.refused = paths(false);
        self.refused_writes = paths(true);
        self.gaps = observed.gaps.iter().map(shown_gap).collect();
    }
}

fn shown_gap(gap: &Gap) -> String {
    match gap {
        Gap::Unwatched(why) => format!("it was not watched: {why}"),
        Gap::Socket(name) => {
            format!("it talked to `{name}`: what that reads for it is not seen")
        }
        Gap::Network => {
            "this system can't refuse it the network: `sealed strictly` can, or Linux 6.7"
                .to_owned()
        }
        Gap::Unread(1) => "the path of a call could not be read".to_owned(),
        Gap::Unread(count) => format!("the paths of {count} calls could not be read"),
    }
}
