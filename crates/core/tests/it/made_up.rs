//! A made-up machine: files in memory, a clock that stands still unless told, and jobs that are
//! carried out in this process. It can be frozen at any moment, as a kill would.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::io;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::OnceLock;

use handloom_core::executor::CancelToken;
use handloom_core::executor::Exit;
use handloom_core::executor::Job;
use handloom_core::executor::JobRunner;
use handloom_core::executor::Outcome;
use handloom_core::ledger::Bytes;
use handloom_core::ledger::KeptFile;
use handloom_core::ledger::MemoryStorage;
use handloom_core::ledger::Storage;
use handloom_core::world::Clock;
use handloom_core::world::Digest;
use handloom_core::world::DirEntry;
use handloom_core::world::Disk;
use handloom_core::world::FileKind;
use handloom_core::world::LeftOut;
use handloom_core::world::Stat;
use handloom_core::world::Ticks;

/// File times are multiples of this, as the kernel's tick makes them.
pub const GRAIN: i64 = 10_000_000;

#[derive(Clone, Debug)]
struct File {
    bytes: Vec<u8>,
    inode: u64,
    modified: i64,
    changed: i64,
    executable: bool,
}

#[derive(Default)]
struct Inner {
    files: BTreeMap<String, File>,
    folders: BTreeSet<String>,
    /// When a name last came to a folder or went.
    folder_times: BTreeMap<String, i64>,
    /// Paths at which something changed since that was last asked.
    noticed: BTreeSet<String>,
    now: i64,
    next_inode: u64,
    /// So many more changes are carried out; then the machine is frozen.
    changes_left: Option<usize>,
    /// The job whose first target this is writes half of it and fails.
    failing: Option<String>,
}

/// The machine.
#[derive(Default)]
pub struct Machine {
    inner: Arc<Mutex<Inner>>,
    ledger: MemoryStorage,
    left_out: LeftOut,
}

impl Inner {
    /// Counts a change; fails when the machine is frozen.
    fn change(&mut self) -> io::Result<()> {
        match &mut self.changes_left {
            Some(0) => Err(io::Error::other("frozen")),
            Some(left) => {
                *left -= 1;
                Ok(())
            }
            None => Ok(()),
        }
    }

    fn put(&mut self, path: &str, bytes: &[u8]) {
        let time = self.now / GRAIN * GRAIN;
        self.noticed.insert(path.to_owned());
        if !self.files.contains_key(path) {
            self.stamp_folder(path);
        }
        self.next_inode += 1;
        let known = self.files.get(path);
        let inode = known.map_or(self.next_inode, |file| file.inode);
        let executable = known.is_some_and(|file| file.executable);
        self.files.insert(
            path.to_owned(),
            File {
                bytes: bytes.to_vec(),
                inode,
                modified: time,
                changed: time,
                executable,
            },
        );
    }

    /// A name came to a folder or went.
    fn stamp_folder(&mut self, path: &str) {
        let folder = &path[..path.rfind('/').unwrap_or(0)];
        let time = self.now / GRAIN * GRAIN;
        self.folder_times.insert(folder.to_owned(), time);
    }

    fn take(&mut self, path: &str) -> Option<File> {
        let file = self.files.remove(path)?;
        self.noticed.insert(path.to_owned());
        self.stamp_folder(path);
        Some(file)
    }

    fn is_folder(&self, path: &str) -> bool {
        let prefix = format!("{}/", path.trim_end_matches('/'));
        path.is_empty()
            || self.folders.contains(path)
            || self.files.keys().any(|file| file.starts_with(&prefix))
    }
}

fn missing() -> io::Error {
    io::ErrorKind::NotFound.into()
}

impl Machine {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap()
    }

    /// A machine with these files and nothing else.
    pub fn with(files: &BTreeMap<String, Vec<u8>>) -> Self {
        let machine = Self::default();
        machine.pass(1_000_000_000_123);
        for (path, bytes) in files {
            machine.write_now(path, bytes);
        }
        machine
    }

    /// Lets time go by, nanoseconds; backwards too.
    pub fn pass(&self, nanoseconds: i64) {
        self.lock().now += nanoseconds;
    }

    /// Writes a file as a user would, whatever the machine's state.
    pub fn write_now(&self, path: &str, bytes: &[u8]) {
        self.lock().put(path, bytes);
    }

    /// Removes a file as a user would.
    pub fn remove_now(&self, path: &str) {
        self.lock().take(path);
    }

    /// A file's content.
    pub fn content(&self, path: &str) -> Option<Vec<u8>> {
        self.lock().files.get(path).map(|file| file.bytes.clone())
    }

    /// What steps are to see of a file: its content, and whether it is executable.
    pub fn seen(&self, path: &str) -> Option<Vec<u8>> {
        let inner = self.lock();
        let file = inner.files.get(path)?;
        let mark: &[u8] = if file.executable { b" executable" } else { b"" };
        Some([&file.bytes, mark].concat())
    }

    /// Makes a file executable, or no longer.
    pub fn set_executable(&self, path: &str, executable: bool) {
        let mut inner = self.lock();
        let changed = inner.now / GRAIN * GRAIN;
        if let Some(file) = inner.files.get_mut(path) {
            file.executable = executable;
            file.changed = changed;
            inner.noticed.insert(path.to_owned());
        }
    }

    /// Lets the job fail whose first target this is.
    pub fn let_fail(&self, target: Option<String>) {
        self.lock().failing = target;
    }

    /// All files.
    pub fn files(&self) -> BTreeMap<String, Vec<u8>> {
        self.lock()
            .files
            .iter()
            .map(|(path, file)| (path.clone(), file.bytes.clone()))
            .collect()
    }

    /// The paths at which something changed since this was last asked.
    pub fn take_notices(&self) -> BTreeSet<String> {
        std::mem::take(&mut self.lock().noticed)
    }

    /// Freezes the machine after so many changes, of files and of the ledger.
    pub fn freeze_after(&self, changes: usize) {
        self.lock().changes_left = Some(changes);
    }

    /// Ends the freeze; whether there was one.
    pub fn thaw(&self) -> bool {
        self.lock().changes_left.take() == Some(0)
    }

    /// The ledger's storage, which freezes with the machine.
    pub fn storage(&self) -> Box<dyn Storage> {
        Box::new(Frozen {
            inner: Arc::clone(&self.inner),
            ledger: self.ledger.clone(),
        })
    }

    /// The ledger's bytes.
    pub fn ledger(&self) -> &MemoryStorage {
        &self.ledger
    }
}

impl Clock for Machine {
    fn now(&self) -> i64 {
        self.lock().now
    }

    fn ticks(&self) -> Ticks {
        Ticks::default()
    }
}

impl Disk for Machine {
    fn left_out(&self) -> &LeftOut {
        &self.left_out
    }

    fn list(&self, folder: &str) -> io::Result<Vec<DirEntry>> {
        let inner = self.lock();
        if !inner.is_folder(folder) {
            return Err(missing());
        }
        let mut names: BTreeMap<String, FileKind> = BTreeMap::new();
        let mut add = |path: &str, kind: FileKind| {
            if let Some(rest) = path.strip_prefix(folder) {
                match rest.split_once('/') {
                    Some((name, _)) => names.insert(name.to_owned(), FileKind::Folder),
                    None if !rest.is_empty() => names.insert(rest.to_owned(), kind),
                    None => None,
                };
            }
        };
        inner
            .folders
            .iter()
            .for_each(|path| add(path, FileKind::Folder));
        inner
            .files
            .keys()
            .for_each(|path| add(path, FileKind::File));
        Ok(names
            .into_iter()
            .map(|(name, kind)| DirEntry {
                name: name.into(),
                kind,
            })
            .collect())
    }

    fn stat(&self, path: &str) -> io::Result<Option<Stat>> {
        let inner = self.lock();
        let plain = path.trim_end_matches('/');
        let plain = plain.trim_start_matches("./");
        let plain = if plain == "." { "" } else { plain };
        let file = inner.files.get(plain);
        let executable = file.is_some_and(|file| file.executable);
        let of = |kind, size: usize, modified, changed, inode| Stat {
            kind,
            link: false,
            executable,
            size: size as u64,
            modified,
            changed,
            inode,
            identity: (1, inode),
        };
        Ok(match file {
            Some(file) => Some(of(
                FileKind::File,
                file.bytes.len(),
                file.modified,
                file.changed,
                file.inode,
            )),
            None if inner.is_folder(plain) => {
                let time = inner.folder_times.get(plain).copied().unwrap_or(0);
                Some(of(FileKind::Folder, 0, time, time, 0))
            }
            None => None,
        })
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        self.content(path).ok_or_else(missing)
    }

    fn digest(&self, path: &str, _: &mut Vec<u8>) -> io::Result<Digest> {
        Ok(Digest::of(&self.read(path)?))
    }

    fn read_link(&self, _: &str) -> io::Result<String> {
        Err(missing())
    }

    fn create_folders(&self, folder: &str) -> io::Result<()> {
        let mut inner = self.lock();
        for (at, _) in folder.match_indices('/').chain([(folder.len(), "")]) {
            inner.folders.insert(folder[..at].to_owned());
        }
        Ok(())
    }

    fn write(&self, path: &str, bytes: &[u8]) -> io::Result<()> {
        let mut inner = self.lock();
        inner.change()?;
        inner.put(path, bytes);
        Ok(())
    }

    fn rename(&self, from: &str, to: &str) -> io::Result<()> {
        let mut inner = self.lock();
        inner.change()?;
        let file = inner.take(from).ok_or_else(missing)?;
        inner.stamp_folder(to);
        let changed = inner.now / GRAIN * GRAIN;
        inner.files.insert(to.to_owned(), File { changed, ..file });
        Ok(())
    }

    fn copy(&self, from: &str, to: &str) -> io::Result<()> {
        let bytes = self.read(from)?;
        self.write(to, &bytes)
    }

    fn remove_file(&self, path: &str) -> io::Result<()> {
        let mut inner = self.lock();
        if !inner.files.contains_key(path) {
            return Err(missing());
        }
        inner.change()?;
        inner.take(path);
        Ok(())
    }

    fn remove_folder(&self, path: &str) -> io::Result<()> {
        self.lock().folders.remove(path);
        Ok(())
    }

    fn remove_tree(&self, path: &str) -> io::Result<()> {
        let prefix = format!("{path}/");
        let mut inner = self.lock();
        let inside: Vec<String> = inner
            .files
            .keys()
            .filter(|file| file.starts_with(&prefix))
            .cloned()
            .collect();
        for file in inside {
            inner.take(&file);
        }
        Ok(())
    }
}

/// What the recipe of a made-up job does with what it reads. The script is `KIND SALT`, and `tells
/// FILE` when it learns.
///
/// `whole` writes a digest of everything it read, `coarse` one letter of it, so that it often comes
/// out the same. A job that learns also reads the file that its first prerequisite names.
pub fn carry_out(script: &str, inputs: &[Vec<u8>], output: usize) -> Vec<u8> {
    let mut words = script.split_whitespace();
    let (kind, salt) = (
        words.next().unwrap_or_default(),
        words.next().unwrap_or_default(),
    );
    let mut all = salt.as_bytes().to_vec();
    for input in inputs {
        all.extend_from_slice(&(input.len() as u64).to_le_bytes());
        all.extend_from_slice(input);
    }
    let digest = Digest::of(&all).short();
    match kind {
        "coarse" => format!(
            "{}{output}",
            u8::from_str_radix(&digest[..2], 16).unwrap_or(0) % 3
        )
        .into_bytes(),
        _ => format!("{digest}{output}").into_bytes(),
    }
}

/// The file that a content names, for jobs that learn.
pub fn named_in(content: &[u8]) -> String {
    format!("inc/{}", content.first().map_or(0, |byte| byte % 3))
}

impl JobRunner for Machine {
    fn cancel(&self) -> &CancelToken {
        static NOBODY: OnceLock<CancelToken> = OnceLock::new();
        NOBODY.get_or_init(CancelToken::default)
    }

    fn run(&self, job: &Job, _: &mut dyn FnMut(&[u8])) -> Outcome {
        self.carry_out(job)
    }
}

impl Machine {
    /// Does what a job's script says.
    pub fn carry_out(&self, job: &Job) -> Outcome {
        let manifest: serde_json::Value = serde_json::from_str(&job.manifest).unwrap();
        let list = |key: &str| -> Vec<String> {
            manifest[key]
                .as_array()
                .unwrap()
                .iter()
                .map(|path| path.as_str().unwrap().to_owned())
                .collect()
        };
        let targets = list("targets");
        let failing = self.lock().failing.clone();
        if failing.is_some_and(|failing| targets.first() == Some(&failing)) {
            for target in &targets {
                let _ = self.write(target, b"half");
            }
            return Outcome::silent(Exit::Status(1));
        }
        let mut inputs: Vec<Vec<u8>> = list("needs")
            .iter()
            .map(|path| self.content(path).unwrap())
            .collect();
        let learn = job
            .script
            .split_whitespace()
            .skip_while(|word| *word != "tells")
            .nth(1);
        let mut done = Ok(());
        if let Some(file) = learn {
            let named = named_in(&inputs[0]);
            inputs.push(self.content(&named).unwrap_or_default());
            done = self.write(file, format!("{named}\n").as_bytes());
        }
        for (number, output) in targets.iter().enumerate() {
            done = done.and_then(|()| self.write(output, &carry_out(&job.script, &inputs, number)));
        }
        Outcome::silent(Exit::Status(i32::from(done.is_err())))
    }
}

/// The ledger's storage behind the machine's freeze.
struct Frozen {
    inner: Arc<Mutex<Inner>>,
    ledger: MemoryStorage,
}

impl Frozen {
    fn then<T>(&self, act: impl FnOnce(&mut MemoryStorage) -> io::Result<T>) -> io::Result<T> {
        self.inner.lock().unwrap().change()?;
        act(&mut self.ledger.clone())
    }
}

impl Storage for Frozen {
    fn snapshot(&self) -> io::Result<Option<Bytes>> {
        self.ledger.snapshot()
    }

    fn journal(&self) -> io::Result<Vec<u8>> {
        self.ledger.journal()
    }

    fn replace_snapshot(&mut self, pieces: &[&[u8]]) -> io::Result<()> {
        self.then(|storage| storage.replace_snapshot(pieces))
    }

    fn start_journal(&mut self, head: &[u8]) -> io::Result<()> {
        self.then(|storage| storage.start_journal(head))
    }

    /// A kill may strike in the middle of a write: half of it stands there then.
    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        let half = self.inner.lock().unwrap().changes_left == Some(0);
        if half {
            self.ledger.clone().append(&bytes[..bytes.len() / 2])?;
        }
        self.then(|storage| storage.append(bytes))
    }

    fn truncate_journal(&mut self, length: u64) -> io::Result<()> {
        self.then(|storage| storage.truncate_journal(length))
    }

    fn sync(&mut self) -> io::Result<()> {
        Ok(())
    }

    fn set_aside(&mut self) -> io::Result<String> {
        self.then(Storage::set_aside)
    }

    fn kept(&self, file: KeptFile) -> io::Result<Option<Bytes>> {
        self.ledger.kept(file)
    }

    fn keep(&mut self, file: KeptFile, pieces: &[&[u8]]) -> io::Result<()> {
        self.then(|storage| storage.keep(file, pieces))
    }
}
