//! Where a user's own files are: settings, tasks for all projects, and a key.

use std::ffi::OsStr;
use std::io::Read;
use std::io::Write;
use std::path::Path;
use std::path::PathBuf;

use crate::project::description::FILE_NAME;
use crate::world::own;

/// The folders of a user's own files, after the XDG Base Directory Specification.
#[derive(Clone, Debug, Default)]
pub struct UserFolders {
    config: Option<PathBuf>,
    data: Option<PathBuf>,
    cache: Option<PathBuf>,
}

impl UserFolders {
    /// Those that the environment names.
    #[must_use]
    pub fn from_env() -> Self {
        let home = std::env::var_os("HOME").map(PathBuf::from);
        let folder = |name: &str, below_home: &str| -> Option<PathBuf> {
            let named = std::env::var_os(name).filter(|folder| !folder.is_empty());
            let folder = match named {
                Some(folder) => PathBuf::from(folder),
                None => home.as_ref()?.join(below_home),
            };
            Some(folder.join(OsStr::new("handloom")))
        };
        Self {
            config: folder("XDG_CONFIG_HOME", ".config"),
            data: folder("XDG_DATA_HOME", ".local/share"),
            cache: folder("XDG_CACHE_HOME", ".cache"),
        }
    }

    /// All below one folder.
    #[must_use]
    pub fn below(folder: &Path) -> Self {
        Self {
            config: Some(folder.join("config")),
            data: Some(folder.join("data")),
            cache: Some(folder.join("cache")),
        }
    }

    /// Where the settings are.
    #[must_use]
    pub fn settings(&self) -> Option<PathBuf> {
        Some(self.config.as_ref()?.join("settings.toml"))
    }

    /// Where the store of results is, unless the settings say otherwise.
    #[must_use]
    pub fn store(&self) -> Option<PathBuf> {
        Some(self.cache.as_ref()?.join("store"))
    }

    /// The folder of the user's own `hand.loom`, when there is one.
    #[must_use]
    pub fn own_tasks(&self) -> Option<PathBuf> {
        let folder = self.config.clone();
        folder.filter(|folder| folder.join(FILE_NAME).is_file())
    }

    /// A key that only this user has: for what a run keeps for the next one, and for digests of secrets. It is
    /// made when it is first needed; none where that is not possible.
    #[must_use]
    pub fn key(&self) -> Option<[u8; 32]> {
        let folder = self.data.as_ref()?;
        let path = folder.join("key");
        let known = || -> Option<[u8; 32]> { own::read(&path).ok()?.try_into().ok() };
        if let Some(key) = known() {
            return Some(key);
        }
        let mut key = [0; 32];
        std::fs::File::open("/dev/urandom")
            .and_then(|mut random| random.read_exact(&mut key))
            .ok()?;
        own::create_folders(folder).ok()?;
        // Written beside and linked, so that of two that make it at once both take the same.
        let beside = folder.join(format!("key.{}", std::process::id()));
        let options = &mut own::options();
        let mut file = own::open(&beside, options.write(true).create(true).truncate(true)).ok()?;
        let written = file.write_all(&key);
        if written.is_ok() && std::fs::hard_link(&beside, &path).is_err() && known().is_none() {
            // What stands there is cut short; it would keep this user from having a key for ever.
            let _ = std::fs::rename(&beside, &path);
        }
        let _ = std::fs::remove_file(&beside);
        known()
    }
}
