//! What the journal says since a project was kept.

use std::collections::HashMap;
use std::collections::HashSet;

use crate::content::FileRecords;
use crate::content::Record;
use crate::ledger::Entry;
use crate::project_cache::cache_layout::number;
use crate::project_cache::front::Front;
use crate::world::Digest;

/// What a step that ran since saw at a path, or made there.
#[derive(Clone, Debug, Default)]
pub struct Expected {
    /// As its maker left it, when a step that ran since makes it.
    pub made: Option<Option<Digest>>,
    /// As readers saw it.
    pub seen: Option<Option<Digest>>,
}

/// What the journal says since a project was kept.
#[derive(Default)]
pub struct Since {
    /// Files of which something newer is recorded than what was kept.
    pub files: HashSet<String>,
    /// Steps that began or ended.
    pub steps: HashSet<String>,
    /// Newer records of contents that are as they were kept, by the number of the look.
    pub newer: HashMap<u32, Record>,
    /// Whether the last entry says that all is up to date.
    pub ends_up_to_date: bool,
    /// Where the journal ended when it was read, bytes.
    pub end: usize,
    /// How many entries there were.
    pub count: usize,
    /// What steps that ended since saw and made.
    pub expected: HashMap<String, Expected>,
    records: HashMap<String, Record>,
    /// Whether a step began and has not ended.
    pub has_unfinished: bool,
}

impl Since {
    /// Reads what was written behind the mark of a front; `None` when what is kept is void.
    pub fn read(front: &Front, entries: Vec<Entry>, end: usize) -> Option<Self> {
        let mut since = Self {
            count: entries.len(),
            end,
            ..Self::default()
        };
        let mut begun: HashSet<String> = HashSet::new();
        for entry in entries {
            let mut up_to_date = false;
            match entry {
                Entry::File(path, record) => {
                    let look = front.find(&path);
                    // A file that is only recognised in another way leaves everything as it is.
                    up_to_date =
                        since.ends_up_to_date && since.is_same((front, look), &path, &record);
                    since.file((front, look), path, record);
                }
                Entry::Began(step) => {
                    begun.insert(step.clone());
                    since.steps.insert(step);
                }
                Entry::Beginning(beginning) => {
                    begun.insert(beginning.step.clone());
                    since.steps.insert(beginning.step);
                }
                Entry::NotBegun(step) | Entry::EndedBadly(step, _) => {
                    begun.remove(&step);
                    since.steps.insert(step);
                }
                Entry::Ended(record) => {
                    begun.remove(&record.name);
                    for edge in record.outputs {
                        since.expected.entry(edge.path).or_default().made = Some(edge.digest);
                    }
                    for edge in record.needs.into_iter().chain(record.learned) {
                        since.expected.entry(edge.path).or_default().seen = Some(edge.digest);
                    }
                    since.steps.insert(record.name);
                }
                Entry::UpToDate(seal) => up_to_date = seal == front.seal(),
                Entry::Forgotten(_) => return None,
                Entry::Command(..) | Entry::Folder(_) | Entry::FolderGone(_) => {}
            }
            since.ends_up_to_date = up_to_date;
        }
        since.has_unfinished = !begun.is_empty();
        Some(since)
    }

    fn is_same(&self, (front, look): (&Front, Option<usize>), path: &str, record: &Record) -> bool {
        if let Some(expected) = self.expected.get(path) {
            let edges = [&expected.made, &expected.seen];
            let mut edges = edges.into_iter().flatten();
            return edges.all(|digest| *digest == Some(record.digest));
        }
        look.is_none_or(|look| front.digest(look) == record.digest)
    }

    fn file(&mut self, (front, look): (&Front, Option<usize>), path: String, record: Record) {
        let look = look.filter(|&look| front.looked()[look].is_file());
        match look {
            Some(look) if front.digest(look) == record.digest => {
                self.newer.insert(number(look), record);
                self.files.remove(&path);
            }
            Some(look) => {
                self.newer.remove(&number(look));
                self.files.insert(path.clone());
            }
            None => {
                self.files.insert(path.clone());
            }
        }
        self.records.insert(path, record);
    }

    /// Whether nothing is said that could make a difference.
    pub fn is_silent(&self) -> bool {
        self.files.is_empty() && self.steps.is_empty()
    }
}

impl FileRecords for Since {
    fn record(&self, path: &str) -> Option<Record> {
        self.records.get(path).copied()
    }
}
