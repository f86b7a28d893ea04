//! A shared store that is a folder: on a disk that several mount, or one that a server gives out.

use std::fs::File;
use std::io;
use std::io::Read;
use std::path::Path;
use std::path::PathBuf;
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering;

use crate::store::shared::Body;
use crate::store::shared::ObjectServer;
use crate::store::shared::SharedError;
use crate::world::own;

/// The folder. What is made in it has the rights that the umask leaves, so that others can read it.
pub struct DirectoryServer {
    folder: PathBuf,
    written: AtomicU64,
}

impl DirectoryServer {
    /// The objects below a folder, which need not be there.
    pub fn new(folder: PathBuf) -> Self {
        Self {
            folder,
            written: AtomicU64::new(0),
        }
    }

    fn write(&self, new: &Path, name: &str, body: &mut Body<'_>) -> io::Result<()> {
        let mut file = File::options().write(true).create_new(true).open(new)?;
        io::copy(body.reader, &mut file)?;
        let path = self.folder.join(name);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        std::fs::rename(new, path)
    }
}

impl ObjectServer for DirectoryServer {
    fn get(&self, name: &str) -> Result<Option<Box<dyn Read + Send>>, SharedError> {
        match own::open(&self.folder.join(name), own::options().read(true)) {
            Ok(file) => Ok(Some(Box::new(file))),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error.into()),
        }
    }

    fn has(&self, name: &str) -> Result<bool, SharedError> {
        match std::fs::symlink_metadata(self.folder.join(name)) {
            Ok(found) => Ok(found.is_file()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(error.into()),
        }
    }

    fn put(&self, name: &str, mut body: Body<'_>) -> Result<(), SharedError> {
        let folder = self.folder.join("new");
        std::fs::create_dir_all(&folder)?;
        // Processes of several machines write here.
        let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
        // One that was killed may have left its file under the same name.
        let new = loop {
            let number = self.written.fetch_add(1, Ordering::Relaxed);
            let new = folder.join(format!("{}.{}.{number}", host.trim(), std::process::id()));
            if std::fs::symlink_metadata(&new).is_err() {
                break new;
            }
        };
        self.write(&new, name, &mut body).map_err(|error| {
            let _ = std::fs::remove_file(&new);
            error.into()
        })
    }
}
