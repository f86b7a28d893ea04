//! A root of its own for a strictly sealed job (mount_namespaces(7), user_namespaces(7), pivot_root(2)).
//!
//! What is to be done is worked out here, as a list of calls that the child only has to make one after the other. A
//! folder in memory becomes the new root; into it the system's folders are bound, to be read; what the job names, to be
//! read; the folders of its outputs and its own folder, to be written. All paths stay as they are.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::ffi::CString;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::path::PathBuf;

use crate::executor::sealing::policy::SealPolicy;
use crate::executor::watching::kernel::Preparation;

/// The calls that give a process with namespaces of its own the root of a seal; `empty` is an empty folder.
#[must_use]
pub fn preparations(
    policy: &SealPolicy,
    empty: &Path,
    (user, group): (u32, u32),
) -> Vec<Preparation> {
    let mut plan = Plan {
        empty: empty.to_owned(),
        calls: Vec::new(),
        made: BTreeSet::new(),
    };
    plan.write("/proc/self/setgroups", "deny");
    plan.write("/proc/self/uid_map", &format!("{user} {user} 1"));
    plan.write("/proc/self/gid_map", &format!("{group} {group} 1"));
    plan.calls.push(Preparation::MakePrivate);
    plan.calls.push(Preparation::MountMemory(text(empty)));
    for place in policy.readable_outside() {
        match std::fs::symlink_metadata(place) {
            Ok(found) if found.is_symlink() => plan.link(place),
            Ok(found) => plan.bind(place, found.is_dir(), false),
            Err(_) => {}
        }
    }
    plan.folder(policy.root());
    plan.folder(policy.folder());
    // A folder around others comes first, so that these are not hidden by it.
    let mut inside: BTreeMap<&Path, bool> = BTreeMap::new();
    inside.extend(policy.readable_inside().map(|place| (place, false)));
    inside.extend(policy.writable().map(|place| (place, true)));
    for (place, writable) in inside {
        if let Ok(found) = std::fs::metadata(place) {
            plan.bind(place, found.is_dir(), writable);
        }
    }
    plan.calls.push(Preparation::EnterRoot(text(empty)));
    plan.calls
}

struct Plan {
    empty: PathBuf,
    calls: Vec<Preparation>,
    /// Folders that the new root has.
    made: BTreeSet<PathBuf>,
}

fn text(path: &Path) -> CString {
    CString::new(path.as_os_str().as_bytes()).unwrap_or_default()
}

impl Plan {
    fn write(&mut self, file: &str, words: &str) {
        self.calls.push(Preparation::Write(
            text(Path::new(file)),
            words.as_bytes().to_vec(),
        ));
    }

    /// Where a path lies before the new root is entered.
    fn inner(&self, path: &Path) -> PathBuf {
        self.empty.join(path.strip_prefix("/").unwrap_or(path))
    }

    fn folder(&mut self, path: &Path) {
        let around: Vec<&Path> = path.ancestors().collect();
        for folder in around
            .into_iter()
            .rev()
            .filter(|folder| folder.parent().is_some())
        {
            if self.made.insert(folder.to_owned()) {
                self.calls
                    .push(Preparation::MakeFolder(text(&self.inner(folder))));
            }
        }
    }

    fn link(&mut self, path: &Path) {
        let Ok(to) = std::fs::read_link(path) else {
            return;
        };
        if let Some(folder) = path.parent() {
            self.folder(folder);
        }
        self.calls
            .push(Preparation::MakeLink(text(&to), text(&self.inner(path))));
        if let Ok(real) = std::fs::canonicalize(path)
            && !self.made.iter().any(|made| real.starts_with(made))
        {
            self.bind(&real, real.is_dir(), false);
        }
    }

    fn bind(&mut self, path: &Path, is_folder: bool, writable: bool) {
        if is_folder {
            self.folder(path);
        } else {
            if let Some(folder) = path.parent() {
                self.folder(folder);
            }
            self.calls
                .push(Preparation::MakeFile(text(&self.inner(path))));
        }
        self.calls.push(Preparation::Bind {
            from: text(path),
            to: text(&self.inner(path)),
            writable,
        });
    }
}
