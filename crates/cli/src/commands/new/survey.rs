//! What lies in a folder, as far as a first description may want to know.

use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::Path;
use std::path::PathBuf;

use handloom_core::world::names::folder_of;

/// Larger files are not looked into, in bytes.
const LARGEST: u64 = 4 << 20;
/// Folders below folders that are still looked into.
const DEEPEST: usize = 6;
/// Files after which no further folder is looked into.
const MOST: usize = 20_000;
/// Folders whose files others made: what was built, what was installed, what is kept of it.
const MADE: [&str; 9] = [
    "out",
    "node_modules",
    "target",
    "dist",
    "build",
    "vendor",
    "venv",
    "env",
    "__pycache__",
];

/// The files of a folder and of those below it, but for hidden ones and those that others made.
pub struct Survey {
    /// The folder.
    pub root: PathBuf,
    /// From the folder, with slashes.
    files: BTreeSet<String>,
    /// Those of them that need no description any more.
    described: BTreeSet<String>,
    folders: BTreeSet<String>,
    /// Files whose names can't be written into a description.
    pub unwritable: Vec<String>,
}

impl Survey {
    /// # Errors
    /// The folder can't be read.
    pub fn of(root: &Path, described: BTreeSet<String>) -> io::Result<Self> {
        let mut survey = Self {
            root: root.to_owned(),
            files: BTreeSet::new(),
            described,
            folders: BTreeSet::new(),
            unwritable: Vec::new(),
        };
        survey.look("", 0)?;
        Ok(survey)
    }

    fn look(&mut self, folder: &str, depth: usize) -> io::Result<()> {
        let mut below = Vec::new();
        for entry in fs::read_dir(self.root.join(folder))?.flatten() {
            let name = entry.file_name();
            let Some(name) = name.to_str().filter(|name| is_writable(name)) else {
                let shown = name.to_string_lossy().escape_debug().to_string();
                self.unwritable.push(format!("{folder}{shown}"));
                continue;
            };
            let Ok(kind) = entry.file_type() else {
                continue;
            };
            if name.starts_with('.') {
                continue;
            }
            let path = format!("{folder}{name}");
            if kind.is_dir() {
                if !MADE.contains(&name) {
                    below.push(format!("{path}/"));
                }
            } else if entry.path().is_file() {
                self.files.insert(path);
            }
        }
        below.sort_unstable();
        for path in below {
            if depth < DEEPEST && self.files.len() < MOST {
                // One that can't be read is none of ours.
                let _ = self.look(&path, depth + 1);
            }
            self.folders.insert(path.trim_end_matches('/').to_owned());
        }
        Ok(())
    }

    /// All files that are not described, in order.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        let open = |path: &&String| !self.described.contains(*path);
        self.files.iter().filter(open).map(String::as_str)
    }

    /// Whether a file begins and ends so.
    pub fn has_like(&self, begin: &str, end: &str) -> bool {
        let mut all = self.files.iter();
        all.any(|path| path.starts_with(begin) && path.ends_with(end))
    }

    /// Those whose names end so, with the dot.
    pub fn ending(&self, ending: &str) -> impl Iterator<Item = &str> {
        self.files().filter(move |path| path.ends_with(ending))
    }

    /// Whether there is such a file.
    pub fn has(&self, path: &str) -> bool {
        self.files.contains(path)
    }

    /// Whether there is such a folder.
    pub fn has_folder(&self, path: &str) -> bool {
        self.folders.contains(path)
    }

    /// What a file holds, as far as it is text; nothing for a large one.
    pub fn text(&self, path: &str) -> String {
        let path = self.root.join(path);
        let is_small = path.metadata().is_ok_and(|meta| meta.len() <= LARGEST);
        let bytes = if is_small { fs::read(path).ok() } else { None };
        String::from_utf8_lossy(&bytes.unwrap_or_default()).into_owned()
    }
}

/// The name of a path without its folder and its ending.
pub fn stem_of(path: &str) -> &str {
    let name = &path[folder_of(path).len()..];
    name.rfind('.').map_or(name, |at| &name[..at])
}

/// A path that is meant from a folder, from the project's; none when it leads out of that.
pub fn from(folder: &str, path: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

/// Whether a description can name it: a line break and a tab can be written, other control characters can't.
fn is_writable(name: &str) -> bool {
    !name
        .chars()
        .any(|c| c.is_control() && c != '\n' && c != '\t')
}

/// Whether a program is found in `PATH`.
pub fn is_installed(program: &str) -> bool {
    std::env::var_os("PATH").is_some_and(|path| {
        std::env::split_paths(&path).any(|folder| folder.join(program).is_file())
    })
}
