//! Gathering under which stats the contents of files are known.

use std::collections::HashMap;

use crate::content::LearnedPath;
use crate::content::Reader;
use crate::content::Record;
use crate::content::State;
use crate::content::over_threads;
use crate::content::tree_entries;
use crate::ledger::EdgeView;
use crate::ledger::Entry;
use crate::project::PathId;
use crate::project::Paths;
use crate::project::Project;
use crate::project::folders::names_digest;
use crate::project::folders::sorted_names;
use crate::project_cache::cache_layout::number;
use crate::project_cache::front::FrontLooks;
use crate::project_cache::front::LookKind;
use crate::project_cache::front::LookRec;
use crate::status::listing;
use crate::world::Digest;
use crate::world::FileKind;

/// A file that is larger is not read once more at the end of a run: the next run does it.
const WORTH_READING: u64 = 1 << 20;

/// How a path is known to a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PathRole {
    /// It made it.
    Output,
    /// It needs it, or learned of it.
    Input,
}

/// Nothing was looked up of this path yet; or it was in vain.
const NOT_YET: u32 = u32::MAX;
const UNKNOWN: u32 = u32::MAX - 1;

struct LookRow {
    look: LookRec,
    /// The content, when something stands there.
    digest: Digest,
    /// The path of something inside a whole folder.
    inside: Option<Box<str>>,
}

impl LookRow {
    fn text<'r>(&'r self, paths: &'r Paths) -> &'r str {
        let inside = self.inside.as_deref();
        inside.unwrap_or_else(|| paths.get(PathId(self.look.path.get())))
    }
}

/// What is known of the files of steps without a reason to run.
pub struct LookCollector<'a> {
    reader: &'a Reader<'a>,
    rows: Vec<LookRow>,
    of_path: Vec<u32>,
    /// What stands at paths that are more than a file: whole folders and links, as their maker and as their
    /// readers see it.
    special: HashMap<PathId, State>,
    /// Of folders that steps listed, the names that count.
    names: HashMap<String, Option<Digest>>,
    /// Whether the content of some path cannot be known without reading.
    pub is_unsure: bool,
    buffer: Vec<u8>,
    fresh: Vec<Entry>,
}

impl<'a> LookCollector<'a> {
    /// Nothing is gathered yet, of so many paths.
    pub fn new(reader: &'a Reader<'a>, paths: usize) -> Self {
        Self {
            reader,
            rows: Vec::with_capacity(paths),
            of_path: vec![NOT_YET; paths],
            special: HashMap::new(),
            names: HashMap::new(),
            is_unsure: false,
            buffer: Vec::new(),
            fresh: Vec::new(),
        }
    }

    /// Gathers how a path of a step is recognised; whether it is known to hold what the step saw there or is to
    /// be looked at in any case.
    pub fn add(&mut self, path: PathId, edge: &EdgeView<'_>, role: PathRole) -> bool {
        if self.of_path.len() <= path.index() {
            self.of_path.resize(path.index() + 1, NOT_YET);
        }
        if self.of_path[path.index()] == NOT_YET {
            self.of_path[path.index()] = match self.row(path, edge.path, edge.digest) {
                Some(row) => {
                    self.rows.push(row);
                    number(self.rows.len() - 1)
                }
                None => UNKNOWN,
            };
        }
        if self.of_path[path.index()] == UNKNOWN {
            self.is_unsure = true;
            return true;
        }
        let now = match self.special.get(&path) {
            Some(state) if role == PathRole::Output => state.own_digest(),
            Some(state) => state.digest(),
            None => {
                let row = &self.rows[self.of_path[path.index()] as usize];
                (row.look.kind() != LookKind::Absent).then_some(row.digest)
            }
        };
        now == edge.digest
    }

    /// Whether the names in a folder, which is empty for the root or ends with a slash, are those that a step saw, as
    /// far as they count.
    pub fn names_hold(
        &mut self,
        project: &Project<'_>,
        folder: &str,
        seen: Option<Digest>,
    ) -> bool {
        let disk = self.reader.disk;
        if let Some(now) = self.names.get(folder) {
            return *now == seen;
        }
        let now = listing::state(disk, project, folder).digest();
        self.names.insert(folder.to_owned(), now);
        now == seen
    }

    /// Gathers how the names in a folder are recognised, which are known to be those that a step saw.
    pub fn add_names(&mut self, path: PathId, text: &str) {
        if self.of_path.len() <= path.index() {
            self.of_path.resize(path.index() + 1, NOT_YET);
        }
        if self.of_path[path.index()] == NOT_YET {
            let read_at = self.reader.clock.now();
            self.of_path[path.index()] = match names_row(self.reader, path, text, read_at) {
                Some(row) => {
                    self.rows.push(row);
                    number(self.rows.len() - 1)
                }
                None => UNKNOWN,
            };
        }
        self.is_unsure |= self.of_path[path.index()] == UNKNOWN;
    }

    fn row(&mut self, path: PathId, text: &str, digest: Option<Digest>) -> Option<LookRow> {
        if text.ends_with('/') {
            return self.tree(path, text);
        }
        let Some(digest) = digest else {
            return Some(plain(path, LookKind::Absent, None));
        };
        if let LearnedPath::Link(_) = LearnedPath::of(text) {
            // A look at its end does not tell what it says: each run reads it.
            return None;
        }
        if let LearnedPath::Folder(_) = LearnedPath::of(text) {
            let look = self.reader.look(text, &mut self.buffer);
            return Some(LookRow {
                look: LookRec::new(path.0, LookKind::Folder, None),
                digest: look.state.digest()?,
                inside: None,
            });
        }
        let recorded = self.reader.records.record(text);
        if let Some(record) = recorded.filter(|record| record.digest == digest) {
            // What is recorded of a link's end stands under another name: such a path may be one.
            let end = self.reader.records.record(&format!("{text}\0"));
            let kind = if end.is_some() {
                LookKind::Link
            } else {
                LookKind::File
            };
            return Some(plain(path, kind, Some(record)));
        }
        // A link, or what was changed meanwhile.
        let look = self.reader.look(text, &mut self.buffer);
        let read = look.read.into_iter().find(|(read, _)| read == text);
        let record = read.map(|(_, record)| record).or(recorded)?;
        if look.state.digest() != Some(record.digest) {
            return None;
        }
        let kind = match &look.state {
            State::Linked(_) => LookKind::Link,
            _ => LookKind::File,
        };
        self.special.insert(path, look.state);
        Some(plain(path, kind, Some(record)))
    }

    /// A whole folder: the names in it and in all folders below, and all files. None when there are links in it.
    fn tree(&mut self, path: PathId, text: &str) -> Option<LookRow> {
        let disk = self.reader.disk;
        let (start, read_at) = (self.rows.len(), self.reader.clock.now());
        let look = self.reader.look(text, &mut self.buffer);
        if text == "./" || !matches!(look.state, State::Content(_)) {
            return None;
        }
        let read: HashMap<String, Record> = look.read.into_iter().collect();
        let mut rows = Vec::new();
        for (inside, kind) in tree_entries(disk, text).ok()? {
            let row = match kind {
                FileKind::Folder => names_row(self.reader, path, &format!("{inside}/"), read_at)?,
                FileKind::File => {
                    let record = read.get(&inside).copied();
                    let record = record.or_else(|| self.reader.records.record(&inside))?;
                    LookRow {
                        look: LookRec::new(path.0, LookKind::Inside, Some(&record)),
                        digest: record.digest,
                        inside: Some(inside.into()),
                    }
                }
                FileKind::Link | FileKind::Other => return None,
            };
            rows.push(row);
        }
        debug_assert_eq!(start, self.rows.len());
        self.rows.extend(rows);
        self.special.insert(path, look.state);
        names_row(self.reader, path, text, read_at)
    }

    /// Reads files once more whose record proves nothing, where a new one would; what is new is to be recorded.
    pub fn settle(&mut self, paths: &Paths, threads: usize) -> Vec<Entry> {
        let now = self.reader.clock.now();
        let is_due = |row: &LookRow| {
            let look = &row.look;
            let is_file = look.is_file();
            is_file && look.is_young() && look.would_settle(now) && look.size() <= WORTH_READING
        };
        let mut texts: Vec<(usize, &str, Digest)> = Vec::new();
        for (index, row) in self.rows.iter().enumerate() {
            if is_due(row) {
                texts.push((index, row.text(paths), row.digest));
            }
        }
        texts.sort_unstable_by_key(|(_, text, _)| *text);
        let reader = self.reader;
        let records = over_threads(&texts, threads, |texts| {
            let mut buffer = Vec::new();
            let again = |(_, text, digest): &(usize, &str, Digest)| {
                let look = reader.look(text, &mut buffer);
                let mut read = look.read.into_iter().filter(|(read, _)| read == text);
                let (_, record) = read.next()?;
                (record.digest == *digest).then_some(record)
            };
            texts.iter().map(again).collect()
        });
        let texts: Vec<(usize, String)> = texts
            .into_iter()
            .map(|(index, text, _)| (index, text.to_owned()))
            .collect();
        let mut fresh = std::mem::take(&mut self.fresh);
        for ((index, text), record) in texts.into_iter().zip(records) {
            let Some(record) = record else { continue };
            let row = &mut self.rows[index];
            row.look = LookRec::new(row.look.path.get(), row.look.kind(), Some(&record));
            fresh.push(Entry::File(text, record));
        }
        fresh
    }

    /// What was gathered.
    pub fn gathered(self) -> GatheredLooks {
        GatheredLooks(self.rows)
    }
}

/// What was gathered of the files of steps without a reason to run.
pub struct GatheredLooks(Vec<LookRow>);

impl GatheredLooks {
    /// All of it, sorted by path.
    pub fn sorted(mut self, paths: &Paths) -> FrontLooks {
        // Outputs come sorted, and prerequisites nearly so: a stable sort goes by runs.
        self.0
            .sort_by(|one, other| one.text(paths).cmp(other.text(paths)));
        let mut looks = FrontLooks::default();
        looks.ends.reserve_exact(self.0.len());
        looks.looked.reserve_exact(self.0.len());
        looks.digests.reserve_exact(self.0.len());
        let bytes = self.0.iter().map(|row| row.text(paths).len());
        looks.arena.reserve_exact(bytes.sum());
        for row in self.0 {
            looks.arena.push_str(row.text(paths));
            looks.ends.push(number(looks.arena.len()));
            looks.digests.push(row.digest.0);
            looks.looked.push(row.look);
        }
        looks
    }
}

fn plain(path: PathId, kind: LookKind, record: Option<Record>) -> LookRow {
    LookRow {
        look: LookRec::new(path.0, kind, record.as_ref()),
        digest: record.map_or(Digest([0; 32]), |record| record.digest),
        inside: None,
    }
}

/// The names in a folder.
fn names_row(reader: &Reader<'_>, path: PathId, folder: &str, read_at: i64) -> Option<LookRow> {
    let stat = reader.disk.stat(folder).ok()??;
    if stat.link || stat.kind != FileKind::Folder {
        return None;
    }
    let names = names_digest(&sorted_names(reader.disk, folder), true);
    let record = Record::new(&stat, read_at, names);
    Some(LookRow {
        look: LookRec::new(path.0, LookKind::Names, Some(&record)),
        digest: record.digest,
        inside: Some(folder.into()),
    })
}
