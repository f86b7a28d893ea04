//! A look at the front of a kept project before anything else is read: whether there is nothing to do.

use std::collections::HashSet;

use crate::content::LearnedPath;
use crate::content::Look;
use crate::content::NoRecords;
use crate::content::Reader;
use crate::content::Record;
use crate::content::State;
use crate::content::survey;
use crate::graph::BuildRequest;
use crate::ledger::Entry;
use crate::ledger::KeptFile;
use crate::ledger::LedgerGlance;
use crate::ledger::Mark;
use crate::ledger::Tail;
use crate::project::Description;
use crate::project_cache::cache_file::CacheFile;
use crate::project_cache::dependencies::Leftovers;
use crate::project_cache::front::Front;
use crate::project_cache::front::KeptText;
use crate::project_cache::key::place;
use crate::project_cache::request::CachedRequest;
use crate::project_cache::since::Since;
use crate::project_cache::skeleton;
use crate::project_cache::skeleton::Edit;
use crate::project_cache::verify_files;
use crate::project_cache::verify_files::Found;
use crate::status::RecordingEnvironment;
use crate::world::Digest;
use crate::world::Disk;

/// Fewer files than this that were read once more are noted in the journal.
const WORTH_WRITING: usize = 64;

/// The front of a kept project, and what was found out of it so far.
pub struct FrontLook {
    pub(super) front: Front,
    pub(super) body: Option<CacheFile>,
    /// Whether the description's texts are as they were.
    same_texts: bool,
    /// In which targets the description differs; none when it is as it was.
    pub(super) edit: Option<Edit>,
    /// What a look at each known file said, when all were looked at.
    pub(super) found: Option<Vec<Found>>,
    /// Whether too much was written since, as far as that was read.
    is_outgrown: bool,
}

/// What is asked of a front.
pub struct Question<'q> {
    /// What was asked for.
    pub request: &'q BuildRequest,
    /// Threads that look at files.
    pub threads: usize,
}

/// A project in which nothing has to be done.
pub struct Unchanged {
    /// How many steps have no reason to run.
    pub kept: usize,
    /// A front that has in it what is fresh.
    renewed: Option<Vec<u8>>,
    /// Files that were read, and proved to be as they were.
    fresh: Vec<Entry>,
    /// Where what is fresh is to be written.
    place: (Mark, Tail),
}

impl Unchanged {
    /// Whether anything was read of which the next run should know.
    #[must_use]
    pub fn has_news(&self) -> bool {
        self.renewed.is_some() || !self.fresh.is_empty()
    }

    /// Notes what was read for the next time; to be called by whoever holds the project. It spares reading, and
    /// nothing else, so that nothing is said when it can't be done.
    pub fn note(&self, glance: &mut LedgerGlance) {
        let (mark, tail) = &self.place;
        let _ = match &self.renewed {
            Some(front) => glance.keep(KeptFile::Front, &[front]),
            None if self.fresh.is_empty() => Ok(()),
            None => glance.add(mark, tail, &self.fresh),
        };
    }
}

impl FrontLook {
    pub(super) fn of(front: Front) -> Self {
        Self {
            front,
            body: None,
            same_texts: true,
            edit: None,
            found: None,
            is_outgrown: false,
        }
    }

    /// The front that lies there, when it was written by this user, and this program, for this project, with the
    /// same set from outside (`outside`).
    #[must_use]
    pub fn open(
        glance: &LedgerGlance,
        environment: &RecordingEnvironment<'_>,
        outside: &Digest,
    ) -> Option<Self> {
        let front = Front::open(glance.kept(KeptFile::Front)?, &environment.key?)?;
        let header = &front.header;
        if header.place != place(environment) || header.outside != *outside {
            return None;
        }
        let disk = environment.disk;
        let is_absent = |path: &String| matches!(disk.stat(path), Ok(None));
        if !header.absent.iter().all(is_absent) {
            return None;
        }
        let same_text = |file: &KeptText| {
            let covers = |record: &Record| {
                let stat = disk.stat(&file.name).ok().flatten();
                stat.is_some_and(|stat| record.covers(&stat))
            };
            file.record.as_ref().is_some_and(covers)
                || disk
                    .read(&file.name)
                    .is_ok_and(|bytes| Digest::of(&bytes) == file.digest)
        };
        let same_texts = header.files.iter().all(same_text);
        Some(Self {
            same_texts,
            ..Self::of(front)
        })
    }

    /// The description's files.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        self.front.header.files.iter().map(|file| &*file.name)
    }

    /// Whether commands have to be run to see whether anything changed.
    #[must_use]
    pub fn asks(&self) -> bool {
        self.front.header.dependencies.asks()
    }

    /// Whether so much was written since that whoever may had better keep the project anew.
    #[must_use]
    pub fn is_outgrown(&self) -> bool {
        self.is_outgrown
    }

    /// Whether nothing has to be done for a request. What was seen meanwhile is remembered.
    pub fn unchanged(
        &mut self,
        question: &Question<'_>,
        glance: &LedgerGlance,
        environment: &RecordingEnvironment<'_>,
    ) -> Option<Unchanged> {
        let header = &self.front.header;
        if !self.same_texts || header.request != CachedRequest::of(question.request) {
            return None;
        }
        let tail = glance.since(&header.mark)?;
        self.is_outgrown = self.front.is_outgrown(tail.end);
        let since = Since::read(&self.front, tail.entries.clone(), tail.end)?;
        let all_good = header.all_good && (since.is_silent() || since.ends_up_to_date);
        if since.has_unfinished
            || !header
                .dependencies
                .looks_hold(environment, Leftovers::ByStat)
        {
            return None;
        }
        let disk = environment.disk;
        let found = verify_files::look(&self.front, disk, question.threads, None, &since.newer);
        let mut fresh = Vec::new();
        let holds = all_good
            && self.expected_stand(&since, environment, &mut fresh)
            && self.rest_stands(&since, &found, (environment, question.threads), &mut fresh)
            // Commands are asked last: whoever opens the project asks them again.
            && header.dependencies.outputs_hold(environment);
        self.found = Some(found);
        fresh.retain(|entry| matches!(entry, Entry::File(_, record) if record.settled()));
        if !holds {
            return None;
        }
        let renewed = self.renewed(&since, &fresh, &environment.key?);
        Some(Unchanged {
            kept: self.front.header.steps_in_order,
            renewed,
            fresh,
            place: (self.front.header.mark.clone(), tail),
        })
    }

    /// Whether what steps that ran since saw and made stands there.
    fn expected_stand(
        &self,
        since: &Since,
        environment: &RecordingEnvironment<'_>,
        fresh: &mut Vec<Entry>,
    ) -> bool {
        let reader = Reader {
            disk: environment.disk,
            clock: environment.clock,
            records: since,
        };
        let mut buffer = Vec::new();
        let mut expected: Vec<_> = since.expected.iter().collect();
        expected.sort_unstable_by_key(|(path, _)| *path);
        expected.into_iter().all(|(path, expected)| {
            // What of the names in a folder counts is told by the project, which is not known here.
            if let LearnedPath::Names(_) = LearnedPath::of(path) {
                return false;
            }
            let look = reader.look(path, &mut buffer);
            let stands = |digest: Option<Option<Digest>>, now: fn(&State) -> Option<Digest>| {
                digest.is_none_or(|digest| digest == now(&look.state))
            };
            // Where nothing was seen, a folder is more than that.
            let in_vain = expected.seen == Some(None) && look.state != State::Missing;
            let both = !in_vain
                && stands(expected.made, State::own_digest)
                && stands(expected.seen, State::digest);
            keep_read(fresh, look);
            both
        })
    }

    /// Whether everything else is as it was kept.
    fn rest_stands(
        &self,
        since: &Since,
        found: &[Found],
        (environment, threads): (&RecordingEnvironment<'_>, usize),
        fresh: &mut Vec<Entry>,
    ) -> bool {
        let reader = Reader {
            disk: environment.disk,
            clock: environment.clock,
            records: &NoRecords,
        };
        let of_expected: HashSet<&str> = since.expected.keys().map(String::as_str).collect();
        let open = (0..found.len())
            .filter(|&look| found[look] != Found::Same)
            .filter(|&look| !of_expected.contains(self.front.path(look)))
            .collect::<Vec<_>>();
        let can_hold =
            |&look: &usize| self.front.looked()[look].is_file() && found[look] == Found::Unsure;
        if !open.iter().all(can_hold) {
            return false;
        }
        let paths: Vec<&str> = open.iter().map(|&look| self.front.path(look)).collect();
        let looks = survey(&reader, &paths, threads);
        let mut all = true;
        for (look, read) in open.into_iter().zip(looks) {
            all &= read.state.digest() == Some(self.front.digest(look));
            keep_read(fresh, read);
        }
        all
    }

    /// The bytes of a front that recognises files as they were read now; none when there is no reason to write it
    /// anew. What the journal says of a front is said of its seal, so that it must not have said anything.
    fn renewed(&self, since: &Since, fresh: &[Entry], key: &[u8; 32]) -> Option<Vec<u8>> {
        if since.count > 0 || fresh.len() < WORTH_WRITING {
            return None;
        }
        let records = fresh.iter().filter_map(|entry| match entry {
            Entry::File(path, record) => Some((self.front.find(path)?, record)),
            _ => None,
        });
        self.front.with_records(records, key)
    }

    /// The description as it was read when this was kept, and which says the same but for some targets: these are
    /// read when they are asked for.
    #[must_use]
    pub fn description(
        &mut self,
        glance: &LedgerGlance,
        disk: &dyn Disk,
        key: &[u8; 32],
    ) -> Option<Description> {
        if self.front.header.is_remarkable {
            return None;
        }
        let body = CacheFile::of_front(&self.front, glance.kept(KeptFile::Body)?, key)?;
        let skeleton = skeleton::read(&self.front, &body, disk)?;
        self.body = Some(body);
        self.edit = skeleton.edit;
        Some(skeleton.description)
    }
}

fn keep_read(fresh: &mut Vec<Entry>, look: Look) {
    let read = look.read.into_iter();
    fresh.extend(read.map(|(path, record)| Entry::File(path, record)));
}
