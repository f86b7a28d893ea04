//! What working out a project depended on, beside its description.

use std::collections::HashSet;

use serde::Deserialize;
use serde::Serialize;

use crate::content::Record;
use crate::data_files::FileQuestion;
use crate::ledger::Ledger;
use crate::project::environment::Environment;
use crate::project::folders::Folders;
use crate::project::folders::SeenFolder;
use crate::project::folders::is_folder;
use crate::project::folders::names_digest;
use crate::project::folders::sorted_names;
use crate::status::environment::AnsweredFile;
use crate::status::environment::RecordingEnvironment;
use crate::world::Digest;
use crate::world::DirEntry;
use crate::world::FileKind;

/// A folder whose names decided something.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct FolderDependency {
    folder: String,
    hidden: bool,
    names: Digest,
    /// Its stat when it had these names; none when it was not there.
    record: Option<Record>,
}

/// How it is told whether files that an earlier run made are as it left them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Leftovers {
    /// By what the ledger says.
    Judged,
    /// By their stat alone, without a ledger.
    ByStat,
}

/// Everything that was looked at.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct CacheDependencies {
    env: Vec<(String, Option<String>)>,
    /// What holds secrets, each with a keyed digest of it.
    secrets: Vec<(String, Option<Digest>)>,
    outputs: Vec<(String, String)>,
    folders: Vec<FolderDependency>,
    is_folder: Vec<(String, bool)>,
    /// Where folders of prerequisites lead to; none outside of the project.
    followed: Vec<(String, Option<String>)>,
    /// Files that an earlier run made, and whether they were as it left them: others are sources.
    leftovers: Vec<(String, Record, bool)>,
    /// Files that values were taken from.
    files: Vec<FileDependency>,
    /// Files that values would have been taken from.
    absent: Vec<String>,
}

/// A file that values were taken from.
#[derive(Clone, Debug, Serialize, Deserialize)]
struct FileDependency {
    path: String,
    /// Its stat and the digest of what it held; none of a link.
    record: Option<Record>,
    /// What was asked of it, and the digest of each answer: what nobody asks for may be another.
    answers: Vec<(FileQuestion, Digest)>,
}

impl CacheDependencies {
    /// What this run looked at; `None` when a part of it cannot be recognised again. `is_made` tells whether a step
    /// makes a path.
    pub fn of(
        environment: &RecordingEnvironment<'_>,
        folders: &Folders<'_>,
        ledger: &Ledger,
        is_made: &dyn Fn(&str) -> bool,
    ) -> Option<Self> {
        let mut listed = Vec::new();
        for seen in folders.seen() {
            let before = folders.seen_names(&seen.folder).unwrap_or_default();
            list_again(environment, &seen, &before, is_made, &mut listed)?;
        }
        let leftovers = environment
            .leftovers()
            .into_iter()
            .map(|(path, is)| {
                let record = ledger.file(&path).filter(Record::settled)?;
                Some((path, record, is))
            })
            .collect::<Option<_>>()?;
        Some(Self {
            env: environment.env_read(),
            secrets: environment.secrets_read(),
            outputs: environment.outputs(),
            folders: listed,
            is_folder: folders.told(),
            followed: folders.followed(),
            leftovers,
            files: environment
                .answered_files()
                .into_iter()
                .map(FileDependency::of)
                .collect(),
            absent: environment.absent_files(),
        })
    }

    /// Adds what an earlier run looked at and this one did not.
    pub fn extend(&mut self, earlier: Option<&Self>) {
        let Some(earlier) = earlier else { return };
        add(&mut self.env, &earlier.env, |(name, _)| name);
        add(&mut self.secrets, &earlier.secrets, |(name, _)| name);
        add(&mut self.outputs, &earlier.outputs, |(key, _)| key);
        add(&mut self.folders, &earlier.folders, |listed| &listed.folder);
        add(&mut self.is_folder, &earlier.is_folder, |(path, _)| path);
        add(&mut self.followed, &earlier.followed, |(path, _)| path);
        add(&mut self.leftovers, &earlier.leftovers, |(path, ..)| path);
        add(&mut self.absent, &earlier.absent, |path| path);
        for file in &earlier.files {
            match self.files.iter_mut().find(|known| known.path == file.path) {
                Some(known) => known.extend(file),
                None => self.files.push(file.clone()),
            }
        }
    }

    /// The files that values were taken from.
    pub fn data_files(&self) -> impl Iterator<Item = &str> {
        let files = self.files.iter().map(|file| &file.path);
        files.chain(&self.absent).map(String::as_str)
    }

    /// The folders whose names decided something, and what was asked whether it is a folder.
    pub fn folders(&self) -> (Vec<SeenFolder>, Vec<(String, bool)>) {
        let seen = |listed: &FolderDependency| SeenFolder {
            folder: listed.folder.clone(),
            hidden: listed.hidden,
            names: listed.names,
        };
        (
            self.folders.iter().map(seen).collect(),
            self.is_folder.clone(),
        )
    }

    /// Whether names were looked for in the folder of a path, or above it.
    pub fn has_listed_around(&self, path: &str) -> bool {
        let mut folders = self.folders.iter();
        folders.any(|listed| path.starts_with(&listed.folder))
    }

    /// What only the process that asks can tell: environment variables, by name. None when more than that decides
    /// which is not told by notices of changed files; `is_noticed` says of which files there are any.
    pub fn environment_alone(&self, is_noticed: impl Fn(&str) -> bool) -> Option<Vec<String>> {
        let env = self.env.iter().map(|(name, _)| name.clone());
        let secrets = self.secrets.iter().map(|(name, _)| name.clone());
        let mut leftovers = self.leftovers.iter();
        let is_alone = self.outputs.is_empty() && leftovers.all(|(path, ..)| is_noticed(path));
        is_alone.then(|| env.chain(secrets).collect())
    }

    /// Whether commands have to be run to see whether it holds.
    pub fn asks(&self) -> bool {
        !self.outputs.is_empty()
    }

    /// Whether everything is as it was.
    pub fn holds(&self, environment: &RecordingEnvironment<'_>) -> bool {
        self.looks_hold(environment, Leftovers::Judged)
            && self.links_hold(environment)
            && self.outputs_hold(environment)
    }

    /// Whether commands print what they did.
    pub fn outputs_hold(&self, environment: &RecordingEnvironment<'_>) -> bool {
        self.outputs
            .iter()
            .all(|(key, text)| environment.output_again(key).as_ref() == Some(text))
    }

    /// Whether everything but commands, and where folders lead to, is as it was: a file whose folder leads elsewhere has
    /// another stat as well. With `ByStat` also no when that could only be told from the ledger.
    pub fn looks_hold(&self, environment: &RecordingEnvironment<'_>, leftovers: Leftovers) -> bool {
        let env = |(name, value): &(String, Option<String>)| (environment.env)(name) == *value;
        let leftover = |(path, record, is): &(String, Record, bool)| {
            matches!(environment.disk.stat(path), Ok(Some(stat)) if record.covers(&stat))
                || leftovers == Leftovers::Judged && environment.leftover(path) == *is
        };
        let secret =
            |(name, digest): &(String, Option<Digest>)| environment.secret_digest(name) == *digest;
        self.env.iter().all(env)
            && self.secrets.iter().all(secret)
            && self.folders.iter().all(|listed| listed.holds(environment))
            && self.files.iter().all(|file| file.holds(environment))
            && self.absent.iter().all(|path| !environment.has_file(path))
            && self
                .is_folder
                .iter()
                .all(|(path, is)| is_folder(environment.disk, path) == *is)
            && self.leftovers.iter().all(leftover)
    }

    /// Whether folders lead where they did.
    fn links_hold(&self, environment: &RecordingEnvironment<'_>) -> bool {
        let disk = environment.disk;
        let mut plain = HashSet::new();
        self.followed.iter().all(|(folder, real)| {
            if real.as_deref() != Some(folder.trim_end_matches('/')) {
                return disk.real_path(folder).is_ok_and(|now| now == *real);
            }
            // Each folder on the way is looked at once, which is much less than to follow all ways.
            let ends = folder.match_indices('/').map(|(end, _)| end);
            ends.map(|end| &folder[..end]).all(|folder| {
                !plain.insert(folder) || !matches!(disk.stat(folder), Ok(Some(stat)) if stat.link)
            })
        })
    }
}

/// Reads the names of a folder once more, since jobs may have added to it, and adds it to what was `listed`. What steps
/// make was known without a look at it; folders that they are in now are added too. None when anything else came or
/// went.
fn list_again(
    environment: &RecordingEnvironment<'_>,
    seen: &SeenFolder,
    before: &[DirEntry],
    is_made: &dyn Fn(&str) -> bool,
    listed: &mut Vec<FolderDependency>,
) -> Option<()> {
    let (disk, folder) = (environment.disk, &seen.folder);
    let read_at = environment.clock.now();
    let stat = disk.stat(&own_name(folder)).ok()?;
    let now = sorted_names(disk, folder);
    let names = names_digest(&now, seen.hidden);
    if names != seen.names {
        let counts = |entry: &&DirEntry| seen.hidden || !entry.name.starts_with('.');
        let differs = |entry: &&DirEntry, others: &[DirEntry]| {
            let other = others.binary_search_by(|other| other.name.cmp(&entry.name));
            other.is_err() || other.is_ok_and(|at| others[at].kind != entry.kind)
        };
        let came = now
            .iter()
            .filter(counts)
            .filter(|entry| differs(entry, before));
        let went = before
            .iter()
            .filter(counts)
            .filter(|entry| differs(entry, &now));
        for (entry, is_there) in came
            .map(|entry| (entry, true))
            .chain(went.map(|entry| (entry, false)))
        {
            let path = format!("{folder}{}", entry.name);
            match entry.kind {
                FileKind::File if is_made(&path) => {}
                FileKind::Folder if is_made(&format!("{path}/")) => {}
                FileKind::Folder if is_there => {
                    let inside = SeenFolder {
                        folder: format!("{path}/"),
                        hidden: seen.hidden,
                        names: names_digest(&[], seen.hidden),
                    };
                    list_again(environment, &inside, &[], is_made, listed)?;
                }
                _ => return None,
            }
        }
    }
    listed.push(FolderDependency {
        record: stat.map(|stat| Record::new(&stat, read_at, names)),
        folder: folder.clone(),
        hidden: seen.hidden,
        names,
    });
    Some(())
}

/// A folder's name for a look at itself: the root has one too.
fn own_name(folder: &str) -> String {
    if folder.is_empty() {
        "./".to_owned()
    } else {
        folder.to_owned()
    }
}

impl FileDependency {
    fn of(answered: AnsweredFile) -> Self {
        let AnsweredFile {
            path,
            record,
            answers,
        } = answered;
        Self {
            path,
            record,
            answers,
        }
    }

    /// Adds what an earlier run asked: what is asked now holds for the file as it is now, and that one answered the
    /// same then.
    fn extend(&mut self, earlier: &Self) {
        for answer in &earlier.answers {
            if !self.answers.contains(answer) {
                self.answers.push(answer.clone());
            }
        }
    }

    /// Whether it still answers the same.
    fn holds(&self, environment: &RecordingEnvironment<'_>) -> bool {
        let disk = environment.disk;
        let is_same = self.record.as_ref().is_some_and(|record| {
            let stat = disk.stat(&self.path).ok().flatten();
            stat.is_some_and(|stat| !stat.link && record.covers(&stat))
        });
        is_same
            || self.answers.iter().all(|(question, digest)| {
                let answer = environment.ask_file(&self.path, question);
                answer.is_ok_and(|answer| answer.digest() == *digest)
            })
    }
}

impl FolderDependency {
    fn holds(&self, environment: &RecordingEnvironment<'_>) -> bool {
        let Ok(stat) = environment.disk.stat(&own_name(&self.folder)) else {
            return false;
        };
        let covered = match (&self.record, &stat) {
            (Some(record), Some(stat)) => stat.kind == FileKind::Folder && record.covers(stat),
            (None, None) => true,
            _ => false,
        };
        covered
            || names_digest(&sorted_names(environment.disk, &self.folder), self.hidden)
                == self.names
    }
}

fn add<T: Clone>(to: &mut Vec<T>, from: &[T], name: impl Fn(&T) -> &String) {
    let known: HashSet<String> = to.iter().map(|item| name(item).clone()).collect();
    to.extend(
        from.iter()
            .filter(|item| !known.contains(name(item)))
            .cloned(),
    );
}
