//! The files of what jobs are given to know, which `HANDLOOM_JOB` names.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use crate::world::own;

/// A slot's file of what its job is given to know, kept open from job to job.
#[derive(Debug)]
pub struct ManifestFile {
    pub path: PathBuf,
    file: File,
    /// How long it is.
    length: usize,
}

impl ManifestFile {
    /// The file, made or emptied as the options say.
    pub fn new(path: PathBuf, options: &std::fs::OpenOptions) -> io::Result<Self> {
        let file = own::open(&path, options)?;
        Ok(Self {
            path,
            file,
            length: 0,
        })
    }

    /// Writes a new manifest over the old one; what is left of that becomes white space.
    ///
    /// A file that is emptied or cut first has to be settled with the file system each time (ext4 even
    /// writes one that was emptied to the disk as soon as it is closed); that took longer than the job.
    pub fn write(&mut self, manifest: &str) -> io::Result<()> {
        let mut bytes = manifest.as_bytes().to_vec();
        bytes.resize(bytes.len().max(self.length), b'\n');
        self.file.write_all_at(&bytes, 0)?;
        self.length = bytes.len();
        Ok(())
    }
}
