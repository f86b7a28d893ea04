//! Writing to the ledger: entries to the journal at once, durable when that is asked for, and folded into a new
//! snapshot when there are many.

use crate::ledger::build;
use crate::ledger::journal;
use crate::ledger::records::Beginning;
use crate::ledger::records::Entry;
use crate::ledger::snapshot::Snapshot;
use crate::ledger::state::Ledger;
use crate::ledger::tables::Tables;
use std::io;

/// More bytes than this are written in several pieces.
const ONE_WRITE: usize = 1 << 20;

/// A journal smaller than this is never folded.
const SMALL_JOURNAL: usize = 1 << 20;

impl Ledger {
    /// Adds an entry, in memory and to the journal.
    ///
    /// # Errors
    /// When it cannot be written; what was written before stays good.
    pub fn add(&mut self, entry: Entry) -> io::Result<()> {
        self.add_all(std::iter::once(entry))
    }

    /// Adds entries with one write, or with few when they are many.
    ///
    /// # Errors
    /// When they cannot be written; what was written before stays good.
    pub fn add_all(&mut self, entries: impl IntoIterator<Item = Entry>) -> io::Result<()> {
        let mut entries = entries.into_iter().peekable();
        self.open_journal()?;
        while entries.peek().is_some() {
            self.add_some(&mut entries)?;
        }
        Ok(())
    }

    /// Adds as many entries as are worth one write.
    fn add_some(&mut self, entries: &mut dyn Iterator<Item = Entry>) -> io::Result<()> {
        self.encoded.clear();
        let mut kept = Vec::new();
        for mut entry in entries {
            let at = self.journal_size + self.encoded.len();
            let place = (at, *self.marked.get_mut());
            self.said
                .encode(&mut entry, &self.seed, place, &mut self.encoded)?;
            kept.push(entry);
            if self.encoded.len() > ONE_WRITE {
                break;
            }
        }
        if let Err(error) = self.storage.append(&self.encoded) {
            // Half an entry may stand there now; the next one must not follow it.
            let _ = self.storage.truncate_journal(self.journal_size as u64);
            self.said.cut(self.journal_size);
            return Err(error);
        }
        self.journal_size += self.encoded.len();
        for entry in kept {
            self.apply(entry);
        }
        Ok(())
    }

    fn open_journal(&mut self) -> io::Result<()> {
        if self.journal_open {
            return Ok(());
        }
        if !self.writable {
            return Err(io::Error::new(
                io::ErrorKind::ReadOnlyFilesystem,
                "the ledger was opened to be read",
            ));
        }
        if self.snapshot.is_none() || self.journal_size > 0 {
            // There is none yet, or it is of a version that nothing is added to.
            self.fold()?;
        } else {
            let head = journal::head(&self.seed);
            self.storage.start_journal(&head)?;
            self.journal_size = head.len();
        }
        self.journal_open = true;
        Ok(())
    }

    pub(super) fn apply(&mut self, entry: Entry) {
        match entry {
            Entry::File(path, record) => {
                self.recent.add_file(&path, &record);
            }
            Entry::Began(step) => {
                let beginning = Beginning {
                    step: step.clone(),
                    ..Beginning::default()
                };
                self.begun.insert(step, beginning);
            }
            Entry::Beginning(beginning) => {
                self.begun.insert(beginning.step.clone(), *beginning);
            }
            Entry::NotBegun(step) => {
                self.begun.remove(&step);
            }
            Entry::EndedBadly(step, how) => {
                self.begun.remove(&step);
                self.bad.insert(step, how);
            }
            Entry::Ended(record) => {
                self.begun.remove(&record.name);
                self.bad.remove(&record.name);
                self.recent.add_ended(&record);
            }
            Entry::Forgotten(step) => {
                self.begun.remove(&step);
                self.bad.remove(&step);
                self.recent.forget(&step);
            }
            Entry::Command(key, output) => {
                self.commands.insert(key, output);
            }
            Entry::Folder(path) => {
                self.folders.insert(path, true);
            }
            Entry::FolderGone(path) => {
                self.folders.insert(path, false);
            }
            // It is read by whoever asks what was written since that project was kept.
            Entry::UpToDate(_) => {}
        }
    }

    /// Makes what was written survive the machine's sudden end.
    ///
    /// # Errors
    /// When the system cannot promise it.
    pub fn sync(&mut self) -> io::Result<()> {
        if self.journal_open {
            self.storage.sync()
        } else {
            Ok(())
        }
    }

    /// Something that makes what was written so far durable, from another thread.
    #[must_use]
    pub fn syncer(&self) -> Option<Box<dyn Fn() -> io::Result<()> + Send>> {
        self.storage.syncer()
    }

    /// Folds the journal into a new snapshot when it has grown to a quarter of it; whether it had.
    ///
    /// # Errors
    /// When it cannot be written; the old snapshot and journal then stay.
    pub fn fold_if_large(&mut self) -> io::Result<bool> {
        let large = self.is_large();
        if large {
            self.fold()?;
        }
        Ok(large)
    }

    /// Whether the journal has grown to a quarter of the snapshot.
    #[must_use]
    pub fn is_large(&self) -> bool {
        let snapshot = self.snapshot.as_ref().map_or(0, Snapshot::size);
        self.journal_open && self.journal_size > SMALL_JOURNAL.max(snapshot / 4)
    }

    /// Writes a new snapshot, and starts an empty journal that belongs to it.
    ///
    /// # Errors
    /// When it cannot be written; the old snapshot and journal then stay.
    pub fn fold(&mut self) -> io::Result<()> {
        let seed = fresh_seed(&self.seed);
        build::snapshot(self, &seed, |ledger, pieces| {
            ledger.storage.replace_snapshot(pieces)
        })?;
        let head = journal::head(&seed);
        self.storage.start_journal(&head)?;
        let reopened = match self.storage.snapshot()? {
            Some(bytes) => Snapshot::open_own(bytes).map_err(io::Error::other)?,
            None => return Err(io::Error::other("the ledger that was just written is gone")),
        };
        self.seed = seed;
        self.snapshot = Some(reopened);
        self.recent = Tables::default();
        self.commands.clear();
        self.folders.clear();
        self.journal_size = head.len();
        self.journal_open = true;
        self.said.clear();
        *self.marked.get_mut() = 0;
        Ok(())
    }

    /// What no step's record says: those that began and have not ended, and those that ended badly.
    pub(super) fn open_entries(&self) -> Vec<Entry> {
        let mut bad: Vec<_> = self.bad.iter().collect();
        bad.sort_unstable_by_key(|(step, _)| *step);
        let bad = bad.into_iter();
        let bad = bad.map(|(step, how)| Entry::EndedBadly(step.clone(), *how));
        let mut begun: Vec<_> = self.begun.values().cloned().map(Box::new).collect();
        begun.sort_unstable_by(|one, other| one.step.cmp(&other.step));
        bad.chain(begun.into_iter().map(Entry::Beginning)).collect()
    }
}

/// A number that no earlier journal had: the time, the process and the last seed, mixed.
fn fresh_seed(before: &[u8; 32]) -> [u8; 32] {
    let mut hasher = blake3::Hasher::new();
    hasher.update(before);
    hasher.update(&std::process::id().to_le_bytes());
    let random =
        std::hash::BuildHasher::build_hasher(&std::collections::hash_map::RandomState::new());
    hasher.update(&std::hash::Hasher::finish(&random).to_le_bytes());
    *hasher.finalize().as_bytes()
}
