//! What a project asks of the world around it in one run, and with what answer: environment variables, commands whose
//! output is a value, and which files on disk earlier runs made.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

use crate::content::Reader;
use crate::content::Record;
use crate::data_files;
use crate::data_files::DataError;
use crate::data_files::DataFile;
use crate::data_files::FileAnswer;
use crate::data_files::FileQuestion;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::project::environment::Environment;
use crate::project::environment::OutputError;
use crate::project::secret;
use crate::world::Clock;
use crate::world::Digest;
use crate::world::Disk;
use crate::world::FileKind;

/// Runs a command of the project for its output.
pub type CommandRunner<'a> = dyn Fn(&[String], &str) -> Result<String, OutputError> + 'a;

/// A file that values were taken from.
struct AskedFile {
    file: Rc<Result<DataFile, DataError>>,
    /// Its stat and the digest of what it held; none of a link, and where it can't be read.
    record: Option<Record>,
    answers: BTreeMap<FileQuestion, Arc<FileAnswer>>,
}

/// What was asked of a file, and what tells whether the same would be answered.
pub struct AnsweredFile {
    /// From the root.
    pub path: String,
    /// Its stat and the digest of what it held; none of a link.
    pub record: Option<Record>,
    /// Each question with the digest of its answer.
    pub answers: Vec<(FileQuestion, Digest)>,
}

/// A project's environment in one run.
pub struct RecordingEnvironment<'a> {
    /// The file system.
    pub disk: &'a dyn Disk,
    /// The clock.
    pub clock: &'a dyn Clock,
    /// What earlier runs saw.
    pub ledger: &'a RefCell<Ledger>,
    /// An environment variable.
    pub env: &'a dyn Fn(&str) -> Option<String>,
    /// Runs a command; none for commands of Hand Loom that only read.
    pub ask: Option<&'a CommandRunner<'a>>,
    /// The project's folder, absolute.
    pub root: String,
    /// The folder that the command was typed in, from the root: empty, or ending with a slash.
    pub folder: String,
    /// A key that only this user has; without one nothing is kept that others could forge.
    pub key: Option<[u8; 32]>,
    asked: RefCell<HashMap<String, Result<String, OutputError>>>,
    /// Environment variables that were asked for.
    env_read: RefCell<HashMap<String, Option<String>>>,
    /// Environment variables that were asked for and hold secrets.
    secrets_read: RefCell<BTreeSet<String>>,
    /// Files that an earlier run made, and whether they are as it left them.
    leftovers: RefCell<BTreeMap<String, bool>>,
    /// Files that values were taken from.
    data_files: RefCell<HashMap<String, AskedFile>>,
    /// Files that values would be taken from if they were there.
    absent_files: RefCell<BTreeSet<String>>,
    /// Commands that were not asked, and whether their last output is known.
    not_asked: RefCell<BTreeMap<String, bool>>,
}

impl<'a> RecordingEnvironment<'a> {
    /// Nothing was asked yet.
    pub fn new(
        disk: &'a dyn Disk,
        clock: &'a dyn Clock,
        ledger: &'a RefCell<Ledger>,
        env: &'a dyn Fn(&str) -> Option<String>,
        ask: Option<&'a CommandRunner<'a>>,
        root: String,
    ) -> Self {
        Self {
            disk,
            clock,
            ledger,
            env,
            ask,
            root,
            folder: String::new(),
            key: None,
            asked: RefCell::default(),
            env_read: RefCell::default(),
            secrets_read: RefCell::default(),
            leftovers: RefCell::default(),
            data_files: RefCell::default(),
            absent_files: RefCell::default(),
            not_asked: RefCell::default(),
        }
    }

    /// The same with a key that only this user has.
    #[must_use]
    pub fn with_key(self, key: Option<[u8; 32]>) -> Self {
        Self { key, ..self }
    }

    /// The same for a command that was typed in a folder.
    #[must_use]
    pub fn typed_in(self, folder: &str) -> Self {
        let folder = folder.to_owned();
        Self { folder, ..self }
    }

    /// Commands whose last output was taken, since they may not be asked; and those of which none is known.
    #[must_use]
    pub fn not_asked(&self) -> (Vec<String>, Vec<String>) {
        let not_asked = self.not_asked.borrow();
        let of = |known: bool| {
            let of = not_asked.iter().filter(|(_, is_known)| **is_known == known);
            of.map(|(command, _)| command.clone()).collect()
        };
        (of(true), of(false))
    }

    /// The environment variables that were asked for, with what they held.
    #[must_use]
    pub fn env_read(&self) -> Vec<(String, Option<String>)> {
        let read = self.env_read.borrow();
        read.iter()
            .map(|(name, value)| (name.clone(), value.clone()))
            .collect()
    }

    /// The environment variables that hold secrets and were asked for, each with what tells whether it holds the
    /// same in another run.
    #[must_use]
    pub fn secrets_read(&self) -> Vec<(String, Option<Digest>)> {
        let read = self.secrets_read.borrow();
        read.iter()
            .map(|name| (name.clone(), self.secret_digest(name)))
            .collect()
    }

    /// What tells whether a secret is the same in another run, and tells nothing else to anybody who has not the
    /// user's key.
    #[must_use]
    pub fn secret_digest(&self, name: &str) -> Option<Digest> {
        let value = (self.env)(name)?;
        let key = self.key.unwrap_or_default();
        Some(Digest(
            *blake3::keyed_hash(&key, value.as_bytes()).as_bytes(),
        ))
    }

    /// The commands that were asked, by their key, with what they printed.
    #[must_use]
    pub fn outputs(&self) -> Vec<(String, String)> {
        let asked = self.asked.borrow();
        asked
            .iter()
            .filter_map(|(key, output)| Some((key.clone(), output.clone().ok()?)))
            .collect()
    }

    /// Asks a command again by its key.
    #[must_use]
    pub fn output_again(&self, key: &str) -> Option<String> {
        let (folder, command) = key.split_once('\0')?;
        let command: Vec<String> = command.split('\0').map(str::to_owned).collect();
        self.output(&command, folder).ok()
    }

    /// Files whose content decided whether they count as sources, and whether they are leftovers.
    #[must_use]
    pub fn leftovers(&self) -> Vec<(String, bool)> {
        let leftovers = self.leftovers.borrow();
        leftovers
            .iter()
            .map(|(path, is)| (path.clone(), *is))
            .collect()
    }

    /// What was asked of files, in the order of their paths.
    #[must_use]
    pub fn answered_files(&self) -> Vec<AnsweredFile> {
        let files = self.data_files.borrow();
        let answered = files.iter().map(|(path, asked)| {
            let answers = asked.answers.iter();
            let answers = answers.map(|(question, answer)| (question.clone(), answer.digest()));
            AnsweredFile {
                path: path.clone(),
                record: asked.record,
                answers: answers.collect(),
            }
        });
        let mut answered: Vec<AnsweredFile> = answered.collect();
        answered.sort_by(|a, b| a.path.cmp(&b.path));
        answered
    }

    /// Files that values would be taken from if they were there.
    #[must_use]
    pub fn absent_files(&self) -> Vec<String> {
        self.absent_files.borrow().iter().cloned().collect()
    }

    /// A file that values are taken from, read at most once.
    fn data_file(&self, path: &str) -> Rc<Result<DataFile, DataError>> {
        if let Some(known) = self.data_files.borrow().get(path) {
            return Rc::clone(&known.file);
        }
        let (file, record) = match self.read_data_file(path) {
            Ok((file, record)) => (Ok(file), record),
            Err(error) => (Err(error), None),
        };
        let file = Rc::new(file);
        let asked = AskedFile {
            file: Rc::clone(&file),
            record,
            answers: BTreeMap::new(),
        };
        self.data_files.borrow_mut().insert(path.to_owned(), asked);
        file
    }

    fn read_data_file(&self, path: &str) -> Result<(DataFile, Option<Record>), DataError> {
        let unreadable = |error| DataError::unreadable(path, error);
        let read_at = self.clock.now();
        let stat = self.disk.stat(path).map_err(unreadable)?;
        if stat
            .as_ref()
            .is_some_and(|stat| stat.kind != FileKind::File)
        {
            return Err(DataError::unreadable(path, "it is no file"));
        }
        if let Some(stat) = &stat
            && stat.size > data_files::MAX_SIZE
        {
            let why = format!("it has more than {} MiB", data_files::MAX_SIZE >> 20);
            return Err(DataError::unreadable(path, why));
        }
        let bytes = self.disk.read(path).map_err(unreadable)?;
        let stat = stat.filter(|stat| !stat.link);
        let record = stat.map(|stat| Record::new(&stat, read_at, Digest::of(&bytes)));
        Ok((DataFile::new(path, bytes)?, record))
    }

    /// Whether a file that an earlier run made is as it left it.
    fn is_as_left(&self, path: &str, maker: &str, ledger: &Ledger) -> bool {
        let Some(step) = ledger.step(maker) else {
            return false;
        };
        let made = step.outputs().find(|output| output.path == path);
        let Some(made) = made else {
            // It lies in a folder that was made as a whole.
            return true;
        };
        // A file that was changed since is somebody's work, and a source like any other.
        let reader = Reader {
            disk: self.disk,
            clock: self.clock,
            records: ledger,
        };
        crate::verdict::is_as_left(&made, &reader.look(path, &mut Vec::new()).state)
    }

    /// What commands printed in this run, where the ledger says otherwise or nothing.
    #[must_use]
    pub fn new_outputs(&self) -> Vec<Entry> {
        let ledger = self.ledger.borrow();
        let asked = self.asked.borrow();
        let mut entries: Vec<Entry> = asked
            .iter()
            .filter_map(|(key, output)| Some((key, output.as_ref().ok()?)))
            .filter(|(key, output)| ledger.command(key) != Some(output.as_str()))
            .map(|(key, output)| Entry::Command(key.clone(), output.clone()))
            .collect();
        entries.sort_by(|a, b| match (a, b) {
            (Entry::Command(a, _), Entry::Command(b, _)) => a.cmp(b),
            _ => std::cmp::Ordering::Equal,
        });
        entries
    }
}

fn command_key(command: &[String], folder: &str) -> String {
    format!("{folder}\0{}", command.join("\0"))
}

impl Environment for RecordingEnvironment<'_> {
    fn env(&self, name: &str) -> Option<String> {
        let value = (self.env)(name);
        self.env_read
            .borrow_mut()
            .insert(name.to_owned(), value.clone());
        value
    }

    fn secret(&self, name: &str) -> Option<String> {
        self.secrets_read.borrow_mut().insert(name.to_owned());
        (self.env)(name)
    }

    fn secret_key(&self) -> [u8; 32] {
        self.key.unwrap_or_default()
    }

    fn output(&self, command: &[String], folder: &str) -> Result<String, OutputError> {
        let key = command_key(command, folder);
        let Some(ask) = self.ask else {
            let recorded = self.ledger.borrow().command(&key).map(str::to_owned);
            self.not_asked
                .borrow_mut()
                .insert(command.join(" "), recorded.is_some());
            return recorded.ok_or(OutputError::NotAsked);
        };
        if let Some(known) = self.asked.borrow().get(&key) {
            return known.clone();
        }
        let words: Option<Vec<String>> = command
            .iter()
            .map(|word| Some(secret::filled(word, |name| (self.env)(name))?.into_owned()))
            .collect();
        let output = match words {
            Some(words) => ask(&words, folder),
            None => Err(OutputError::NoSecret),
        };
        self.asked.borrow_mut().insert(key, output.clone());
        output
    }

    fn has_file(&self, path: &str) -> bool {
        let is_there = !matches!(self.disk.stat(path), Ok(None));
        if !is_there {
            self.absent_files.borrow_mut().insert(path.to_owned());
        }
        is_there
    }

    fn ask_file(&self, path: &str, question: &FileQuestion) -> Result<Arc<FileAnswer>, DataError> {
        let file = self.data_file(path);
        let mut files = self.data_files.borrow_mut();
        let asked = files.get_mut(path);
        if let Some(known) = asked.as_ref().and_then(|asked| asked.answers.get(question)) {
            return Ok(Arc::clone(known));
        }
        let file = file.as_ref().as_ref().map_err(Clone::clone)?;
        let answer = Arc::new(file.answer(question)?);
        if let Some(asked) = asked {
            asked.answers.insert(question.clone(), Arc::clone(&answer));
        }
        Ok(answer)
    }

    fn leftover(&self, path: &str) -> bool {
        let ledger = self.ledger.borrow();
        let Some(maker) = ledger.maker(path) else {
            return false;
        };
        let is = self.is_as_left(path, maker, &ledger);
        self.leftovers.borrow_mut().insert(path.to_owned(), is);
        is
    }

    fn is_sure(&self) -> bool {
        self.not_asked.borrow().values().all(|known| *known)
    }

    fn root(&self) -> String {
        self.root.clone()
    }

    fn here(&self) -> String {
        let here = format!("{}/{}", self.root, self.folder);
        here.trim_end_matches('/').to_owned()
    }
}
