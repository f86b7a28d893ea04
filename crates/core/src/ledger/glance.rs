//! A glance at a ledger: what was written since a mark, without reading the rest of it.

use std::io;

use crate::ledger::journal;
use crate::ledger::journal::Mark;
use crate::ledger::journal::Tail;
use crate::ledger::records::Entry;
use crate::ledger::snapshot;
use crate::ledger::storage::Bytes;
use crate::ledger::storage::KeptFile;
use crate::ledger::storage::Storage;

/// A ledger of which no more is read than is asked for. Nothing in it is checked but that: whoever wants to know
/// what it records opens it ([`Ledger`](crate::ledger::Ledger)).
pub struct LedgerGlance {
    storage: Box<dyn Storage>,
}

impl LedgerGlance {
    /// A glance at the ledger that lies there.
    #[must_use]
    pub fn at(storage: Box<dyn Storage>) -> Self {
        Self { storage }
    }

    /// A file of the project as it was worked out last.
    #[must_use]
    pub fn kept(&self, file: KeptFile) -> Option<Bytes> {
        self.storage.kept(file).ok()?
    }

    /// Keeps a file of the project as it was worked out; to be called by whoever holds the project.
    ///
    /// # Errors
    /// When it cannot be written; what was kept before then stays.
    pub fn keep(&mut self, file: KeptFile, pieces: &[&[u8]]) -> io::Result<()> {
        self.storage.keep(file, pieces)
    }

    /// What was written behind a mark; `None` when the ledger is another one by now, or of another version.
    #[must_use]
    pub fn since(&self, mark: &Mark) -> Option<Tail> {
        let snapshot = self.storage.snapshot().ok()??;
        if snapshot::seed_of(&snapshot)? != mark.seed {
            return None;
        }
        let bytes = self.storage.journal().ok()?;
        if !journal::is_current(&bytes, &mark.seed) {
            return None;
        }
        journal::tail(&bytes, mark)
    }

    /// Writes entries behind a tail; to be called by whoever holds the project.
    ///
    /// # Errors
    /// When they cannot be written.
    pub fn add(&mut self, mark: &Mark, tail: &Tail, entries: &[Entry]) -> io::Result<()> {
        let mut encoded = Vec::new();
        for entry in entries {
            journal::encode(entry, &mark.seed, &mut encoded)?;
        }
        self.storage.truncate_journal(tail.end as u64)?;
        self.storage.append(&encoded)
    }
}
