//! The project's files as an editor has them: what is open there and not saved counts instead of what is on the disk.

use std::collections::HashMap;
use std::io;
use std::sync::Arc;

use handloom_core::world::Digest;
use handloom_core::world::DirEntry;
use handloom_core::world::Disk;
use handloom_core::world::FileKind;
use handloom_core::world::LeftOut;
use handloom_core::world::RealDisk;
use handloom_core::world::Stat;

/// A disk with texts in front of it. Nothing is written through it.
pub struct OverlayDisk {
    /// What is behind.
    pub disk: RealDisk,
    /// Texts by their paths from the root.
    pub texts: HashMap<String, Arc<str>>,
}

fn refused() -> io::Error {
    io::Error::new(
        io::ErrorKind::Unsupported,
        "an editor's server writes nothing",
    )
}

impl Disk for OverlayDisk {
    fn list(&self, folder: &str) -> io::Result<Vec<DirEntry>> {
        self.disk.list(folder)
    }

    fn stat(&self, path: &str) -> io::Result<Option<Stat>> {
        let found = self.disk.stat(path)?;
        let Some(text) = self.texts.get(path) else {
            return Ok(found);
        };
        let size = text.len() as u64;
        Ok(Some(match found {
            Some(stat) => Stat { size, ..stat },
            // It was never saved.
            None => Stat {
                kind: FileKind::File,
                link: false,
                executable: false,
                size,
                modified: 0,
                changed: 0,
                inode: 0,
                identity: (0, 0),
            },
        }))
    }

    fn left_out(&self) -> &LeftOut {
        self.disk.left_out()
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        match self.texts.get(path) {
            Some(text) => Ok(text.as_bytes().to_vec()),
            None => self.disk.read(path),
        }
    }

    fn digest(&self, path: &str, buffer: &mut Vec<u8>) -> io::Result<Digest> {
        match self.texts.get(path) {
            Some(text) => Ok(Digest::of(text.as_bytes())),
            None => self.disk.digest(path, buffer),
        }
    }

    fn leads_out(&self, path: &str) -> io::Result<bool> {
        self.disk.leads_out(path)
    }

    fn read_link(&self, path: &str) -> io::Result<String> {
        self.disk.read_link(path)
    }

    fn create_folders(&self, _: &str) -> io::Result<()> {
        Err(refused())
    }

    fn write(&self, _: &str, _: &[u8]) -> io::Result<()> {
        Err(refused())
    }

    fn rename(&self, _: &str, _: &str) -> io::Result<()> {
        Err(refused())
    }

    fn copy(&self, _: &str, _: &str) -> io::Result<()> {
        Err(refused())
    }

    fn remove_file(&self, _: &str) -> io::Result<()> {
        Err(refused())
    }

    fn remove_folder(&self, _: &str) -> io::Result<()> {
        Err(refused())
    }

    fn remove_tree(&self, _: &str) -> io::Result<()> {
        Err(refused())
    }
}
