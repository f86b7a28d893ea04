//! What earlier runs saw: for each step the recipe, the prerequisites and outputs with their
//! contents; for each file the record that spares reading it.
//!
//! On disk it is a *snapshot* that is read in place and a *journal* of what came since
//! (docs/how-it-works.md has both formats). In memory it is the snapshot and, in front of it, what
//! the journal says. Entries are written to the journal at once, so they survive a kill; a
//! [`Ledger::sync`] makes them survive the machine's end. When the journal has grown large, both are
//! folded into a new snapshot.

pub(crate) mod arrays;

mod build;
mod journal;
mod records;
mod snapshot;
mod storage;
mod view;

use std::io;

use hashbrown::HashMap;
use serde::Deserialize;
use serde::Serialize;
use xxhash_rust::xxh3::xxh3_64;

pub use records::BadEnd;
pub use records::Beginning;
pub use records::Edge;
pub use records::Entry;
pub use records::Given;
pub use records::LEGACY;
pub use records::StepRecord;
pub use records::task_key;
pub use storage::Bytes;
pub use storage::MemoryStorage;
pub use storage::RealStorage;
pub use storage::Storage;
pub use view::EdgeView;
pub use view::StepView;

use crate::content::Record;
use crate::ledger::snapshot::Snapshot;
use crate::world::own;

/// A place in the journal, with what stands before it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    seed: [u8; 32],
    /// Bytes before it.
    length: u64,
    /// Their XXH3.
    check: u64,
}

/// A journal smaller than this is never folded.
const SMALL_JOURNAL: usize = 1 << 20;

/// What is remembered of a project.
pub struct Ledger {
    storage: Box<dyn Storage>,
    snapshot: Option<Snapshot>,
    seed: [u8; 32],
    /// Steps and files that the journal says something newer of; `None` when they are forgotten.
    steps: HashMap<String, Option<StepRecord>>,
    files: HashMap<String, Option<Record>>,
    commands: HashMap<String, String>,
    /// Folders that were made, and those that are gone again.
    folders: HashMap<String, bool>,
    /// Steps that began and have not ended.
    begun: HashMap<String, Beginning>,
    /// Steps that ended badly when they last ran.
    bad: HashMap<String, BadEnd>,
    /// Outputs of the steps in `steps`, each with its step.
    made: HashMap<String, String>,
    /// Whether any of them is a whole folder.
    made_trees: bool,
    journal_size: usize,
    /// Whether the journal file exists with this seed.
    journal_open: bool,
    writable: bool,
    encoded: Vec<u8>,
}

/// What was wrong with a ledger that was opened, when something was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Damage {
    /// It cannot be read and was set aside, or would be by a run that writes: everything is made
    /// again.
    SetAside {
        /// Where it is now.
        to: String,
        /// What is wrong with it.
        reason: String,
    },
}

impl Ledger {
    /// Opens a ledger. One that is damaged or of a newer format is set aside, which is told, and an
    /// empty one takes its place.
    ///
    /// # Errors
    /// When the storage cannot be read, or a damaged ledger cannot be set aside.
    pub fn open(
        mut storage: Box<dyn Storage>,
        writable: bool,
    ) -> io::Result<(Self, Option<Damage>)> {
        let mut damage = None;
        let found = match storage.snapshot() {
            Ok(None) => None,
            Ok(Some(bytes)) => Some(Snapshot::open(bytes)),
            Err(error) if own::is_refused(&error) => Some(Err(error.to_string())),
            Err(error) => return Err(error),
        };
        let snapshot = match found {
            None => None,
            Some(opened) => match opened {
                Ok(snapshot) => Some(snapshot),
                Err(reason) => {
                    let to = if writable {
                        storage.set_aside()?
                    } else {
                        String::new()
                    };
                    damage = Some(Damage::SetAside { to, reason });
                    None
                }
            },
        };
        let seed = snapshot.as_ref().map_or([0; 32], Snapshot::seed);
        let mut ledger = Self {
            storage,
            snapshot,
            seed,
            steps: HashMap::new(),
            files: HashMap::new(),
            commands: HashMap::new(),
            folders: HashMap::new(),
            begun: HashMap::new(),
            bad: HashMap::new(),
            made: HashMap::new(),
            made_trees: false,
            journal_size: 0,
            journal_open: false,
            writable,
            encoded: Vec::new(),
        };
        let open = ledger.snapshot.as_ref().map(Snapshot::open_entries);
        for entry in open.unwrap_or_default() {
            ledger.apply(entry);
        }
        ledger.read_journal()?;
        Ok((ledger, damage))
    }

    fn read_journal(&mut self) -> io::Result<()> {
        if self.snapshot.is_none() {
            return Ok(());
        }
        let bytes = match self.storage.journal() {
            // Something else stands there: no entry of ours is in it.
            Err(error) if own::is_refused(&error) => return Ok(()),
            bytes => bytes?,
        };
        let Some(read) = journal::read(&bytes, &self.seed) else {
            return Ok(());
        };
        for entry in read.entries {
            self.apply(entry);
        }
        self.journal_size = read.good;
        if self.writable && !read.legacy {
            // What a kill cut short is taken off, so that later entries follow a whole one.
            if read.good < bytes.len() {
                self.storage.truncate_journal(read.good as u64)?;
            }
            self.journal_open = true;
        }
        Ok(())
    }

    // ---- reading -------------------------------------------------------------------------------

    /// What is recorded of a step, by its name.
    #[must_use]
    pub fn step(&self, name: &str) -> Option<StepView<'_>> {
        match self.steps.get(name) {
            Some(Some(record)) => Some(StepView::Own(record)),
            Some(None) => None,
            None => self.snapshot.as_ref()?.step(name),
        }
    }

    /// Whether a step's last run began and never ended.
    #[must_use]
    pub fn is_unfinished(&self, name: &str) -> bool {
        self.begun.contains_key(name)
    }

    /// How a step's last run ended, when it ended badly.
    #[must_use]
    pub fn bad_end(&self, name: &str) -> Option<BadEnd> {
        self.bad.get(name).copied()
    }

    /// Steps that began and have not ended, in no order.
    pub fn unfinished(&self) -> impl Iterator<Item = &Beginning> {
        self.begun.values()
    }

    /// What is recorded of a file's content.
    #[must_use]
    pub fn file(&self, path: &str) -> Option<Record> {
        if !self.files.is_empty()
            && let Some(found) = self.files.get(path)
        {
            return *found;
        }
        self.snapshot.as_ref()?.file(path)
    }

    /// Every file that something is recorded of.
    fn known_files(&self) -> impl Iterator<Item = (&str, Record)> {
        let base = self.snapshot.iter().flat_map(|snapshot| {
            snapshot
                .paths()
                .iter()
                .filter_map(|path| Some((snapshot.text(path.text.get())?, snapshot.file_of(path)?)))
        });
        base.filter(|(path, _)| !self.files.contains_key(*path))
            .chain(
                self.files
                    .iter()
                    .filter_map(|(path, record)| Some((path.as_str(), (*record)?))),
            )
    }

    /// The step that made a path, or the folder that it lies in, when it was last made.
    #[must_use]
    pub fn maker(&self, path: &str) -> Option<&str> {
        if let Some(maker) = self.exact_maker(path) {
            return Some(maker);
        }
        let in_snapshot = self
            .snapshot
            .as_ref()
            .is_some_and(|snapshot| snapshot.has_trees);
        if !in_snapshot && !self.made_trees {
            return None;
        }
        path.match_indices('/')
            .filter(|(at, _)| at + 1 < path.len())
            .find_map(|(at, _)| self.exact_maker(&path[..=at]))
    }

    fn exact_maker(&self, path: &str) -> Option<&str> {
        if let Some(maker) = self.made.get(path) {
            return Some(maker);
        }
        let maker = self.snapshot.as_ref()?.maker(path)?;
        // The journal may have taken the output off that step.
        (!self.steps.contains_key(maker)).then_some(maker)
    }

    /// What a command printed when it was last asked.
    #[must_use]
    pub fn command(&self, key: &str) -> Option<&str> {
        match self.commands.get(key) {
            Some(output) => Some(output),
            None => self.snapshot.as_ref()?.command(key),
        }
    }

    /// The folders that were made and are not known to be gone, sorted.
    #[must_use]
    pub fn folders(&self) -> Vec<&str> {
        let mut folders: Vec<&str> = self
            .snapshot
            .iter()
            .flat_map(Snapshot::folders)
            .filter(|folder| !self.folders.contains_key(*folder))
            .chain(
                self.folders
                    .iter()
                    .filter(|(_, there)| **there)
                    .map(|(folder, _)| folder.as_str()),
            )
            .collect();
        folders.sort_unstable();
        folders
    }

    /// The names of all recorded steps and tasks, in no order.
    #[must_use]
    pub fn step_names(&self) -> Vec<String> {
        let mut names: Vec<String> = self
            .snapshot
            .iter()
            .flat_map(Snapshot::step_names)
            .filter(|name| !self.steps.contains_key(*name))
            .map(str::to_owned)
            .collect();
        names.extend(
            self.steps
                .iter()
                .filter(|(_, record)| record.is_some())
                .map(|(name, _)| name.clone()),
        );
        names
    }

    // ---- writing -------------------------------------------------------------------------------

    /// Adds an entry, in memory and to the journal.
    ///
    /// # Errors
    /// When it cannot be written; what was written before stays good.
    pub fn add(&mut self, entry: Entry) -> io::Result<()> {
        self.add_all(std::iter::once(entry))
    }

    /// Adds entries with one write.
    ///
    /// # Errors
    /// When they cannot be written; what was written before stays good.
    pub fn add_all(&mut self, entries: impl IntoIterator<Item = Entry>) -> io::Result<()> {
        self.encoded.clear();
        let mut kept = Vec::new();
        self.open_journal()?;
        for entry in entries {
            journal::encode(&entry, &self.seed, &mut self.encoded)?;
            kept.push(entry);
        }
        if self.encoded.is_empty() {
            return Ok(());
        }
        if let Err(error) = self.storage.append(&self.encoded) {
            // Half an entry may stand there now; the next one must not follow it.
            let _ = self.storage.truncate_journal(self.journal_size as u64);
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

    fn apply(&mut self, entry: Entry) {
        match entry {
            Entry::File(path, record) => {
                self.files.insert(path, Some(record));
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
            Entry::Ended(record) => self.apply_step(*record),
            Entry::Forgotten(step) => {
                self.drop_outputs(&step);
                self.begun.remove(&step);
                self.bad.remove(&step);
                self.steps.insert(step, None);
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
        }
    }

    fn apply_step(&mut self, record: StepRecord) {
        self.drop_outputs(&record.name);
        self.begun.remove(&record.name);
        self.bad.remove(&record.name);
        for output in &record.outputs {
            self.made_trees |= output.path.ends_with('/');
            self.made.insert(output.path.clone(), record.name.clone());
        }
        self.steps.insert(record.name.clone(), Some(record));
    }

    fn drop_outputs(&mut self, step: &str) {
        if let Some(Some(before)) = self.steps.get(step) {
            for output in &before.outputs {
                if self
                    .made
                    .get(&output.path)
                    .is_some_and(|maker| maker == step)
                {
                    self.made.remove(&output.path);
                }
            }
        }
    }

    // ---- the project as it was worked out ------------------------------------------------------

    /// How far the journal reaches now; `None` when nothing was ever written.
    ///
    /// # Errors
    /// When the storage cannot be read.
    pub fn mark(&self) -> io::Result<Option<Mark>> {
        if self.snapshot.is_none() || self.journal_size == 0 {
            return Ok(None);
        }
        let bytes = self.storage.journal()?;
        Ok(bytes.get(..self.journal_size).map(|bytes| Mark {
            seed: self.seed,
            length: bytes.len() as u64,
            check: xxh3_64(bytes),
        }))
    }

    /// What the journal says behind a mark; `None` when it is not the journal that was marked.
    ///
    /// # Errors
    /// When the storage cannot be read.
    pub fn since(&self, mark: &Mark) -> io::Result<Option<Vec<Entry>>> {
        if mark.seed != self.seed || self.snapshot.is_none() {
            return Ok(None);
        }
        let bytes = self.storage.journal()?;
        let before = usize::try_from(mark.length)
            .ok()
            .filter(|&length| length <= self.journal_size)
            .and_then(|length| bytes.get(..length));
        Ok(match before {
            Some(before) if xxh3_64(before) == mark.check => {
                Some(journal::entries(&bytes[before.len()..], &self.seed))
            }
            _ => None,
        })
    }

    /// The project as it was worked out last, if it was kept.
    ///
    /// # Errors
    /// When the storage cannot be read.
    pub fn worked_out(&self) -> io::Result<Option<Bytes>> {
        self.storage.worked_out()
    }

    /// Keeps the project as it was worked out.
    ///
    /// # Errors
    /// When it cannot be written; what was kept before then stays.
    pub fn keep_worked_out(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.storage.keep_worked_out(bytes)
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
        let snapshot = self.snapshot.as_ref().map_or(0, Snapshot::size);
        let large = self.journal_open && self.journal_size > SMALL_JOURNAL.max(snapshot / 4);
        if large {
            self.fold()?;
        }
        Ok(large)
    }

    /// Writes a new snapshot, and starts an empty journal that belongs to it.
    ///
    /// # Errors
    /// When it cannot be written; the old snapshot and journal then stay.
    pub fn fold(&mut self) -> io::Result<()> {
        let seed = fresh_seed(&self.seed);
        let bytes = build::snapshot(self, &seed)?;
        self.storage.replace_snapshot(&bytes)?;
        let head = journal::head(&seed);
        self.storage.start_journal(&head)?;
        let reopened = match self.storage.snapshot()? {
            Some(bytes) => Snapshot::open(bytes).map_err(io::Error::other)?,
            None => return Err(io::Error::other("the ledger that was just written is gone")),
        };
        self.seed = seed;
        self.snapshot = Some(reopened);
        self.steps.clear();
        self.files.clear();
        self.commands.clear();
        self.folders.clear();
        self.made.clear();
        self.journal_size = head.len();
        self.journal_open = true;
        Ok(())
    }

    /// What no step's record says: those that began and have not ended, and those that ended badly.
    fn open_entries(&self) -> Vec<Entry> {
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
