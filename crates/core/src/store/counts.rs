//! What a store was good for: sums over all runs, in a small file beside the objects.

use std::fs::File;
use std::io;
use std::io::Read;
use std::io::Seek;
use std::io::Write;
use std::time::Duration;

use rustix::fs::FlockOperation;
use serde::Deserialize;
use serde::Serialize;

use crate::store::folder::ObjectFolder;
use crate::world::ByteSize;
use crate::world::own;

/// Sums over all runs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Counts {
    /// Steps that were restored.
    pub restored: u64,
    /// Of those, from a shared store.
    pub from_shared: u64,
    /// What they took when they were made, less what it took to restore them, nanoseconds.
    saved: u64,
    /// Results that were kept.
    pub kept: u64,
    /// How large the store is about, bytes.
    size: u64,
}

impl Counts {
    /// What was saved.
    #[must_use]
    pub fn saved(&self) -> Duration {
        Duration::from_nanos(self.saved)
    }

    /// How large the store is about.
    #[must_use]
    pub fn size(&self) -> ByteSize {
        ByteSize(self.size)
    }

    /// A step was restored.
    pub fn add_restored(&mut self, saved: Duration, is_shared: bool) {
        self.restored += 1;
        self.from_shared += u64::from(is_shared);
        self.saved += u64::try_from(saved.as_nanos()).unwrap_or(u64::MAX);
    }

    /// A result was kept, or fetched.
    pub fn add_kept(&mut self, size: u64) {
        self.kept += 1;
        // Each object fills its last block.
        self.size += size + 8 * 1024;
    }

    /// So many results were fetched, of so many bytes.
    pub fn add_fetched(&mut self, (results, bytes): (usize, u64)) {
        self.size += bytes + results as u64 * 8 * 1024;
    }

    /// What the store was found to hold.
    pub fn set_size(&mut self, size: ByteSize) {
        self.size = size.0;
    }

    /// Adds the sums of another part of a run.
    pub fn add_all(&mut self, more: &Self) {
        self.restored = self.restored.saturating_add(more.restored);
        self.from_shared = self.from_shared.saturating_add(more.from_shared);
        self.saved = self.saved.saturating_add(more.saved);
        self.kept = self.kept.saturating_add(more.kept);
        self.size = self.size.saturating_add(more.size);
    }

    /// The sums of a store; none where nothing was counted yet, or what stands there can't be understood.
    #[must_use]
    pub fn read(store: &ObjectFolder) -> Self {
        let bytes = own::read(&store.place().join("counts")).unwrap_or_default();
        serde_json::from_slice(&bytes).unwrap_or_default()
    }
}

/// Notes how large a store was found to be.
///
/// # Errors
/// When the disk fails.
pub fn recount(store: &ObjectFolder, size: ByteSize) -> io::Result<()> {
    if !store.place().is_dir() {
        return Ok(());
    }
    add(store, &Counts::default(), |all| all.set_size(size))
}

/// Adds to the sums, and lets `change` have a look at them while nobody else does.
pub fn add(
    store: &ObjectFolder,
    more: &Counts,
    change: impl FnOnce(&mut Counts),
) -> io::Result<()> {
    own::create_folders(store.place())?;
    let mut options = own::options();
    let options = options.read(true).write(true).create(true).truncate(false);
    let mut file: File = own::open(&store.place().join("counts"), options)?;
    rustix::fs::flock(&file, FlockOperation::LockExclusive)?;
    let mut text = String::new();
    // What can't be understood is begun anew.
    let _ = file.read_to_string(&mut text);
    let mut counts: Counts = serde_json::from_str(&text).unwrap_or_default();
    counts.add_all(more);
    change(&mut counts);
    let text = serde_json::to_string(&counts)?;
    file.rewind()?;
    file.set_len(0)?;
    file.write_all(text.as_bytes())
}
