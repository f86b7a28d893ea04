//! What earlier runs saw, in memory: the snapshot, and in front of it what the journal says.

use crate::content::FileRecords;
use crate::content::Record;
use crate::ledger::journal;
use crate::ledger::journal::Mark;
use crate::ledger::journal::SaidLists;
use crate::ledger::records::BadEnd;
use crate::ledger::records::Beginning;
use crate::ledger::records::Entry;
use crate::ledger::snapshot::Snapshot;
use crate::ledger::storage::Bytes;
use crate::ledger::storage::KeptFile;
use crate::ledger::storage::Storage;
use crate::ledger::tables::Tables;
use crate::ledger::view::StepTables;
use crate::ledger::view::StepView;
use crate::world::own;
use hashbrown::HashMap;
use std::io;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering;

/// What is remembered of a project.
pub struct Ledger {
    pub(super) storage: Box<dyn Storage>,
    pub(super) snapshot: Option<Snapshot>,
    pub(super) seed: [u8; 32],
    /// Steps and files that the journal says something newer of.
    pub(super) recent: Tables,
    pub(super) commands: HashMap<String, String>,
    /// Folders that were made, and those that are gone again.
    pub(super) folders: HashMap<String, bool>,
    /// Steps that began and have not ended.
    pub(super) begun: HashMap<String, Beginning>,
    /// Steps that ended badly when they last ran.
    pub(super) bad: HashMap<String, BadEnd>,
    pub(super) journal_size: usize,
    /// Whether the journal file exists with this seed.
    pub(super) journal_open: bool,
    pub(super) writable: bool,
    pub(super) encoded: Vec<u8>,
    /// Lists of what steps learned that stand in the journal.
    pub(super) said: SaidLists,
    /// Where the journal ended when it was marked last: whoever reads from there knows no list in front of it.
    pub(super) marked: AtomicUsize,
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
            Ok(Some(bytes)) => Some(Snapshot::open(bytes).map_err(|wrong| wrong.to_string())),
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
        let mut ledger = Self::empty(storage);
        ledger.seed = snapshot.as_ref().map_or([0; 32], Snapshot::seed);
        ledger.snapshot = snapshot;
        ledger.writable = writable;
        let open = ledger.snapshot.as_ref().map(Snapshot::open_entries);
        for entry in open.unwrap_or_default() {
            ledger.apply(entry);
        }
        ledger.read_journal()?;
        Ok((ledger, damage))
    }

    /// A ledger in which nothing is recorded, and into which nothing is written.
    #[must_use]
    pub fn empty(storage: Box<dyn Storage>) -> Self {
        Self {
            storage,
            snapshot: None,
            seed: [0; 32],
            recent: Tables::default(),
            commands: HashMap::new(),
            folders: HashMap::new(),
            begun: HashMap::new(),
            bad: HashMap::new(),
            journal_size: 0,
            journal_open: false,
            writable: false,
            encoded: Vec::new(),
            said: SaidLists::default(),
            marked: AtomicUsize::new(0),
        }
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
        if self.writable && !read.older {
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
        match self.recent.step(name) {
            Some(said) => said,
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
        match self.recent.file(path) {
            Some(record) => Some(record),
            None => self.snapshot.as_ref()?.file(path),
        }
    }

    /// Every file that something is recorded of.
    pub(super) fn known_files(&self) -> impl Iterator<Item = (&str, Record)> {
        let base = self.snapshot.iter().flat_map(|snapshot| {
            snapshot
                .paths()
                .iter()
                .filter_map(|path| Some((snapshot.text(path.text.get())?, snapshot.file_of(path)?)))
        });
        let recent = self.recent.files();
        base.filter(|(path, _)| self.recent.file(path).is_none())
            .chain(recent.filter_map(|(path, record)| Some((path, record?))))
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
        if !in_snapshot && !self.recent.has_trees {
            return None;
        }
        path.match_indices('/')
            .filter(|(at, _)| at + 1 < path.len())
            .find_map(|(at, _)| self.exact_maker(&path[..=at]))
    }

    fn exact_maker(&self, path: &str) -> Option<&str> {
        if let Some(maker) = self.recent.maker(path) {
            return Some(maker);
        }
        let maker = self.snapshot.as_ref()?.maker(path)?;
        // The journal may have taken the output off that step.
        self.recent.step(maker).is_none().then_some(maker)
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

    /// Whether any step may have learned of files.
    #[must_use]
    pub fn has_learned(&self) -> bool {
        let before = self.snapshot.iter().flat_map(Snapshot::steps);
        let mut since = self.recent.step_views();
        before.into_iter().any(|step| step.learned.get() > 0)
            || since.any(|(_, step)| step.learned().len() > 0)
    }

    /// The names of all recorded steps and tasks, in no order.
    #[must_use]
    pub fn step_names(&self) -> Vec<String> {
        let mut names: Vec<String> = self
            .snapshot
            .iter()
            .flat_map(Snapshot::step_names)
            .filter(|name| self.recent.step(name).is_none())
            .map(str::to_owned)
            .collect();
        names.extend(self.recent.step_views().map(|(name, _)| name.to_owned()));
        names
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
        self.marked.store(self.journal_size, Ordering::Relaxed);
        let bytes = self.storage.journal()?;
        let whole = bytes.get(..self.journal_size);
        Ok(whole.map(|bytes| journal::mark(bytes, self.seed)))
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
        let tail = journal::tail(&bytes[..self.journal_size.min(bytes.len())], mark);
        Ok(tail.map(|tail| tail.entries))
    }

    /// A file of the project as it was worked out last, if it was kept.
    ///
    /// # Errors
    /// When the storage cannot be read.
    pub fn kept(&self, file: KeptFile) -> io::Result<Option<Bytes>> {
        self.storage.kept(file)
    }

    /// Keeps a file of the project as it was worked out.
    ///
    /// # Errors
    /// When it cannot be written; what was kept before then stays.
    pub fn keep(&mut self, file: KeptFile, pieces: &[&[u8]]) -> io::Result<()> {
        self.storage.keep(file, pieces)
    }

    /// Where the journal ends, bytes.
    #[must_use]
    pub fn end(&self) -> usize {
        self.journal_size
    }

    /// Whether a step began and has not ended.
    #[must_use]
    pub fn has_unfinished(&self) -> bool {
        !self.begun.is_empty()
    }
}

impl FileRecords for Ledger {
    fn record(&self, path: &str) -> Option<Record> {
        self.file(path)
    }
}
