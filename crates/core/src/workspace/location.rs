//! Where the project is that somebody stands in.

use std::path::Component;
use std::path::Path;
use std::path::PathBuf;

use crate::language::TopItem;
use crate::project::Description;
use crate::project::description::FILE_NAME;
use crate::project::paths::from_known_root;
use crate::workspace::error::WorkspaceError;
use crate::workspace::own_folder::OWN;
use crate::workspace::own_folder::make_own_folder;
use crate::workspace::settings;
use crate::workspace::trust::Trust;
use crate::workspace::user::UserFolders;
use crate::world::RealDisk;
use crate::world::names;

/// A project that was found.
#[derive(Clone, Debug)]
pub struct ProjectLocation {
    /// Its folder, absolute.
    pub root: PathBuf,
    /// The folder the user is in, from the root: empty, or ending with a slash.
    pub folder: String,
    /// The folder that was started from.
    pub start: PathBuf,
}

impl ProjectLocation {
    /// A path as the user typed it, seen from the root.
    #[must_use]
    pub fn from_root(&self, typed: &str) -> String {
        let root = || names::os_to_text(self.root.as_os_str()).into_owned();
        from_known_root(root, &self.folder, typed)
    }

    /// Finds the project around a folder, or around the current one.
    ///
    /// # Errors
    /// When there is none, or it belongs to somebody who is not trusted.
    pub fn find(folder: Option<&Path>, user: &UserFolders) -> Result<Self, WorkspaceError> {
        let start = start(folder)?;
        let nearest = start
            .ancestors()
            .find(|folder| folder.join(FILE_NAME).symlink_metadata().is_ok())
            .ok_or_else(|| {
                WorkspaceError::usage(
                    format!(
                        "there is no `{FILE_NAME}` in `{}` or in a folder above it",
                        start.display()
                    ),
                    "type one of these\n  handloom new     writes a first one for the sources, scripts and data that are here\n  handloom demo    writes an example project and builds it\n  handloom --help  shows all commands",
                )
            })?;
        let trust = Trust::new(&start, &settings::read(user)?, user);
        trust.check(&nearest.join(FILE_NAME))?;
        let root = outermost(nearest, &trust);
        let folder = start.strip_prefix(&root).unwrap_or(Path::new(""));
        let folder = names::os_to_text(folder.as_os_str()).into_owned();
        Ok(Self {
            folder: if folder.is_empty() {
                String::new()
            } else {
                format!("{folder}/")
            },
            root,
            start,
        })
    }

    /// Where the user's own tasks run that belong to no project: in this folder, which has no description.
    ///
    /// # Errors
    /// When the current folder can't be told.
    pub fn without_project(folder: Option<&Path>) -> Result<Self, WorkspaceError> {
        let start = start(folder)?;
        Ok(Self {
            folder: String::new(),
            root: start.clone(),
            start,
        })
    }

    /// Whether a folder, or the current one, lies in a project.
    #[must_use]
    pub fn is_in_project(folder: Option<&Path>) -> bool {
        let is_project = |folder: &Path| folder.join(FILE_NAME).symlink_metadata().is_ok();
        start(folder).is_ok_and(|start| start.ancestors().any(is_project))
    }

    /// Whether there is a description.
    #[must_use]
    pub fn has_project(&self) -> bool {
        self.root.join(FILE_NAME).symlink_metadata().is_ok()
    }

    /// The folder of Hand Loom's own files.
    #[must_use]
    pub fn own(&self) -> PathBuf {
        self.root.join(OWN)
    }

    /// The folder of files that live as long as a job.
    #[must_use]
    pub fn scratch(&self) -> PathBuf {
        self.own().join("jobs")
    }

    /// Makes the folder of Hand Loom's own files, which tells version control to ignore it.
    ///
    /// # Errors
    /// When something else stands there, or it can't be made.
    pub fn make_own(&self) -> Result<(), WorkspaceError> {
        make_own_folder(&self.own())
    }

    /// The project's folder as text.
    #[must_use]
    pub fn root_text(&self) -> String {
        names::os_to_text(self.root.as_os_str()).into_owned()
    }
}

/// A folder that was named, or the current one.
fn start(folder: Option<&Path>) -> Result<PathBuf, WorkspaceError> {
    match folder {
        Some(folder) => folder.canonicalize().map_err(|error| {
            WorkspaceError::io(format!("can't enter `{}`", folder.display()), error)
        }),
        None => std::env::current_dir()
            .map_err(|error| WorkspaceError::io("can't tell the current folder", error)),
    }
}

/// The project that a description belongs to: itself, or the outermost one above whose includes lead
/// to it.
fn outermost(nearest: &Path, trust: &Trust) -> PathBuf {
    let mut root = nearest.to_owned();
    for above in nearest.ancestors().skip(1) {
        let file = above.join(FILE_NAME);
        if file.is_file() && trust.takes(&file) && includes(above, &root) {
            above.clone_into(&mut root);
        }
    }
    root
}

/// Whether the description in a folder includes another folder, directly or through others.
fn includes(above: &Path, part: &Path) -> bool {
    let Ok(disk) = RealDisk::open(above) else {
        return false;
    };
    // A look at the includes alone, to spare reading all of a large project.
    let Ok(text) = std::fs::read_to_string(above.join(FILE_NAME)) else {
        return false;
    };
    let mut sources = crate::text::Sources::default();
    let id = sources.add(FILE_NAME, text);
    let parsed = crate::language::parse(id, &sources.get(id).text);
    if !parsed
        .file
        .items
        .iter()
        .any(|item| matches!(item, TopItem::Include(_)))
    {
        return false;
    }
    let (description, _) = Description::read(&disk);
    let Ok(wanted) = part.strip_prefix(above) else {
        return false;
    };
    let wanted = plain(wanted);
    description
        .parts
        .iter()
        .any(|part| part.folder.trim_end_matches('/') == wanted)
}

fn plain(path: &Path) -> String {
    path.components()
        .filter_map(|component| match component {
            Component::Normal(name) => name.to_str(),
            _ => None,
        })
        .collect::<Vec<_>>()
        .join("/")
}
