//! Where a program is that is named without a folder.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::path::PathBuf;

use rustix::fs::Access;

/// The file that the system would start by this name, in the folders of `path`. `None` when the system is to
/// look itself: the name has a folder, one of the folders counts from where the command runs, or nothing is
/// found.
///
/// The system tries to start a file in each folder until one is there, and each try costs a new address space;
/// a look costs a tenth of it. A command whose own environment has a `PATH` is also started without a copy of
/// this process that way.
pub fn find(name: &OsStr, path: Option<&OsStr>) -> Option<PathBuf> {
    if name.is_empty() || name.as_bytes().contains(&b'/') {
        return None;
    }
    for folder in std::env::split_paths(path?) {
        if !folder.is_absolute() {
            return None;
        }
        let file = folder.join(name);
        if is_program(&file) {
            return Some(file);
        }
    }
    None
}

fn is_program(file: &Path) -> bool {
    rustix::fs::access(file, Access::EXEC_OK).is_ok() && file.is_file()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn the_first_that_can_be_started_is_found() {
        let folder = tempfile::tempdir().expect("a folder");
        let at = |name: &str| folder.path().join(name);
        for name in ["one", "two", "three"] {
            std::fs::create_dir(at(name)).expect("a folder");
        }
        // A folder of that name, and a file that is no program, are passed over.
        std::fs::create_dir(at("one/tool")).expect("a folder");
        for (name, mode) in [("two/tool", 0o644), ("three/tool", 0o755)] {
            std::fs::write(at(name), "#!/bin/sh\n").expect("a file");
            std::fs::set_permissions(at(name), PermissionsExt::from_mode(mode)).expect("a mode");
        }
        let path = std::env::join_paths(["one", "two", "three"].map(at)).expect("a path");
        let find = |name: &str, path: &OsStr| find(OsStr::new(name), Some(path));
        assert_eq!(find("tool", &path), Some(at("three/tool")));
        assert_eq!(find("other", &path), None);
        assert_eq!(find("./tool", &path), None);
        let mut relative = std::ffi::OsString::from("here:");
        relative.push(&path);
        assert_eq!(find("tool", &relative), None);
    }
}
