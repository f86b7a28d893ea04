//! What a sealed job may read and write.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::path::Path;
use std::path::PathBuf;

use serde::Deserialize;
use serde::Serialize;

use crate::executor::watching::PathAccess;
use crate::world::names;

/// What a sealed job names. Paths are from the project's root; whole folders end with a slash.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seal {
    /// Whether what it does not name is not to exist at all, and there is to be no network.
    pub strictly: bool,
    /// What it may read.
    pub reads: Vec<String>,
    /// What it makes.
    pub writes: Vec<String>,
    /// The folder that it runs in.
    pub folder: String,
}

/// What a sealed job needs besides what it names.
#[derive(Clone, Debug)]
pub struct SealPlaces<'p> {
    /// The project's folder, without links in it.
    pub root: &'p Path,
    /// The job's own folder for what it needs while it runs: temporary files, a home.
    pub own: PathBuf,
    /// Where the manifest and the script lie.
    pub scratch: PathBuf,
    /// Where its programs are looked for, as `PATH` has it.
    pub path: &'p OsStr,
    /// Files and folders outside of the project that it may read besides the system.
    pub outside: &'p [String],
}

/// The system: what is in there belongs to no project and to no user.
const SYSTEM: [&str; 14] = [
    "/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/etc", "/opt", "/nix", "/proc", "/sys",
    "/dev", "/run", "/var/lib",
];

/// Places that every program may write to: devices, and what the system tells of processes.
const WRITABLE: [&str; 2] = ["/dev", "/proc"];

/// The names that folders of programs have within what was installed together with them.
const OF_PROGRAMS: [&str; 3] = ["bin", "sbin", "shims"];

/// What a sealed job may read and write, as absolute paths.
#[derive(Clone, Debug)]
pub struct SealPolicy {
    /// Whether the job has a root of its own.
    pub strictly: bool,
    root: PathBuf,
    reads: HashSet<PathBuf>,
    read_trees: Vec<PathBuf>,
    writes: HashSet<PathBuf>,
    write_trees: Vec<PathBuf>,
    /// Folders that outputs lie in.
    output_folders: HashSet<PathBuf>,
    /// Folders that lead to what is named.
    ways: HashSet<PathBuf>,
    /// The folder that the job runs in.
    folder: PathBuf,
    own: PathBuf,
    scratch: PathBuf,
    outside: Vec<PathBuf>,
}

impl SealPolicy {
    /// What a job may do.
    #[must_use]
    pub fn new(seal: &Seal, places: SealPlaces<'_>) -> Self {
        let root = places.root;
        let absolute = |text: &String| root.join(names_of(text));
        let is_tree = |text: &&String| text.ends_with('/');
        let files = |all: &[String]| {
            all.iter()
                .filter(|text| !is_tree(text))
                .map(absolute)
                .collect()
        };
        let trees = |all: &[String]| all.iter().filter(is_tree).map(absolute).collect();
        let outputs = seal.writes.iter().map(absolute);
        let output_folders: HashSet<PathBuf> = outputs
            .filter_map(|output| Some(output.parent()?.to_owned()))
            .collect();
        let named = seal.reads.iter().chain(&seal.writes).map(absolute);
        let folder = root.join(names_of(&seal.folder));
        let ways = named
            .chain([folder.join("in it"), places.scratch.join("in it")])
            .flat_map(|path| {
                let around = path.ancestors().skip(1).map(Path::to_owned);
                around.collect::<Vec<_>>()
            })
            .filter(|folder| folder.starts_with(root))
            .collect();
        let mut outside: Vec<PathBuf> = SYSTEM.iter().map(PathBuf::from).collect();
        outside.extend(installed(places.path, root));
        let home = std::env::var_os("HOME")
            .map(PathBuf::from)
            .unwrap_or_default();
        outside.extend(
            places
                .outside
                .iter()
                .map(|text| match text.strip_prefix("~/") {
                    Some(rest) => home.join(rest),
                    None => PathBuf::from(text),
                }),
        );
        Self {
            strictly: seal.strictly,
            root: root.to_owned(),
            reads: files(&seal.reads),
            read_trees: trees(&seal.reads),
            writes: files(&seal.writes),
            write_trees: trees(&seal.writes),
            output_folders,
            ways,
            folder,
            own: places.own,
            scratch: places.scratch,
            outside,
        }
    }

    /// Whether a job may do this with a path. What it made itself is its own, and not asked for here.
    #[must_use]
    pub fn permits(&self, path: &Path, access: PathAccess) -> bool {
        let is_below = |folders: &[PathBuf]| folders.iter().any(|folder| path.starts_with(folder));
        if path.starts_with(&self.own) {
            return true;
        }
        if !path.starts_with(&self.root) {
            return match access {
                PathAccess::Look => true,
                PathAccess::Read | PathAccess::List => is_below(&self.outside),
                PathAccess::Write => WRITABLE.iter().any(|place| path.starts_with(place)),
            };
        }
        let is_output = self.writes.contains(path) || is_below(&self.write_trees);
        match access {
            PathAccess::Write => {
                let is_new = std::fs::symlink_metadata(path).is_err();
                let in_output_folder = || {
                    path.parent()
                        .is_some_and(|folder| self.output_folders.contains(folder))
                };
                is_output || (is_new && in_output_folder())
            }
            PathAccess::List => {
                // Strictly sealed, it lists what there is of its own root.
                self.strictly
                    || is_output
                    || is_below(&self.read_trees)
                    || self.output_folders.contains(path)
                    || path == self.scratch
            }
            PathAccess::Look | PathAccess::Read => {
                is_output
                    || self.reads.contains(path)
                    || is_below(&self.read_trees)
                    || path.starts_with(&self.scratch)
                    || self.ways.contains(path)
            }
        }
    }

    /// Files and folders that may be read.
    pub(super) fn readable(&self) -> impl Iterator<Item = &Path> {
        let all = self
            .reads
            .iter()
            .chain(&self.read_trees)
            .chain(&self.outside);
        all.map(PathBuf::as_path).chain([self.scratch.as_path()])
    }

    /// The same within the project.
    pub(super) fn readable_inside(&self) -> impl Iterator<Item = &Path> {
        let all = self.reads.iter().chain(&self.read_trees);
        let all = all.filter(|path| path.starts_with(&self.root));
        all.map(PathBuf::as_path).chain([self.scratch.as_path()])
    }

    /// Places outside of the project that may be read.
    pub(super) fn readable_outside(&self) -> impl Iterator<Item = &Path> {
        self.outside.iter().map(PathBuf::as_path)
    }

    /// Folders in which anything may be made.
    pub(super) fn writable(&self) -> impl Iterator<Item = &Path> {
        let folders = self.output_folders.iter().map(PathBuf::as_path);
        folders.chain([self.own.as_path()])
    }

    /// Places of the system that may be written to.
    pub(super) fn writable_outside() -> impl Iterator<Item = &'static Path> {
        WRITABLE.iter().map(Path::new)
    }

    /// The project's folder.
    pub(super) fn root(&self) -> &Path {
        &self.root
    }

    /// The folder that the job runs in.
    pub(super) fn folder(&self) -> &Path {
        &self.folder
    }
}

fn names_of(text: &str) -> std::ffi::OsString {
    use std::os::unix::ffi::OsStringExt;
    std::ffi::OsString::from_vec(names::to_bytes(text).into_owned())
}

/// What was installed together with the programs that are found by their name: of a folder `bin` also what lies beside
/// it, unless that is a home, or holds the project.
fn installed(path: &OsStr, root: &Path) -> Vec<PathBuf> {
    let home = std::env::var_os("HOME")
        .map(PathBuf::from)
        .unwrap_or_default();
    let mut found = Vec::new();
    for folder in std::env::split_paths(path).filter(|folder| folder.is_absolute()) {
        let together = folder
            .parent()
            .filter(|_| {
                OF_PROGRAMS
                    .iter()
                    .any(|name| folder.file_name() == Some(OsStr::new(name)))
            })
            .filter(|around| !home.starts_with(around) && !root.starts_with(around));
        found.push(together.unwrap_or(&folder).to_owned());
    }
    found.retain(|folder| !root.starts_with(folder));
    found
}
