//! A file system in memory.

use std::collections::HashMap;
use std::io;
use std::sync::Mutex;
use std::sync::PoisonError;

use handloom_core::world::Digest;
use handloom_core::world::DirEntry;
use handloom_core::world::Disk;
use handloom_core::world::FileKind;
use handloom_core::world::LeftOut;
use handloom_core::world::Stat;

/// Files in memory: for each its bytes and its number.
#[derive(Default)]
pub struct MemoryDisk {
    steps: usize,
    files: Mutex<HashMap<String, (Vec<u8>, u64)>>,
    left_out: LeftOut,
}

impl MemoryDisk {
    /// So many sources, a thousand in each folder of `src`.
    pub fn with_sources(steps: usize) -> Self {
        let disk = Self {
            steps,
            ..Self::default()
        };
        for index in 0..steps {
            disk.put(&format!("src/{:03}/f{index:06}.c", index / 1000), b"x");
        }
        disk
    }

    fn with<T>(&self, act: impl FnOnce(&mut HashMap<String, (Vec<u8>, u64)>) -> T) -> T {
        act(&mut self.files.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Puts a file there.
    pub fn put(&self, path: &str, bytes: &[u8]) {
        self.with(|files| {
            let number = files.len() as u64;
            files.insert(path.to_owned(), (bytes.to_vec(), number));
        });
    }
}

impl Disk for MemoryDisk {
    fn left_out(&self) -> &LeftOut {
        &self.left_out
    }

    fn list(&self, folder: &str) -> io::Result<Vec<DirEntry>> {
        let entry = |name: String, kind| DirEntry {
            name: name.into(),
            kind,
        };
        Ok(match folder {
            "src/" => (0..self.steps.div_ceil(1000))
                .map(|index| entry(format!("{index:03}"), FileKind::Folder))
                .collect(),
            _ => {
                let number = folder.trim_start_matches("src/").trim_end_matches('/');
                let first = number.parse::<usize>().unwrap_or(0) * 1000;
                (first..self.steps.min(first + 1000))
                    .map(|index| entry(format!("f{index:06}.c"), FileKind::File))
                    .collect()
            }
        })
    }

    fn stat(&self, path: &str) -> io::Result<Option<Stat>> {
        Ok(self.with(|files| {
            files.get(path).map(|(bytes, number)| Stat {
                kind: FileKind::File,
                link: false,
                executable: false,
                size: bytes.len() as u64,
                modified: 1,
                changed: 1,
                inode: *number,
                identity: (1, *number),
            })
        }))
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        self.with(|files| files.get(path).map(|(bytes, _)| bytes.clone()))
            .ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    fn digest(&self, path: &str, _: &mut Vec<u8>) -> io::Result<Digest> {
        Ok(Digest::of(&self.read(path)?))
    }

    fn read_link(&self, _: &str) -> io::Result<String> {
        Err(io::ErrorKind::NotFound.into())
    }

    fn create_folders(&self, _: &str) -> io::Result<()> {
        Ok(())
    }

    fn write(&self, path: &str, bytes: &[u8]) -> io::Result<()> {
        self.put(path, bytes);
        Ok(())
    }

    fn rename(&self, _: &str, _: &str) -> io::Result<()> {
        Ok(())
    }

    fn copy(&self, _: &str, _: &str) -> io::Result<()> {
        Ok(())
    }

    fn remove_file(&self, path: &str) -> io::Result<()> {
        self.with(|files| files.remove(path))
            .map(|_| ())
            .ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    fn remove_folder(&self, _: &str) -> io::Result<()> {
        Ok(())
    }

    fn remove_tree(&self, _: &str) -> io::Result<()> {
        Ok(())
    }
}
