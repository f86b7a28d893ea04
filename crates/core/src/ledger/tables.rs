//! Records in memory, laid out as a snapshot lays them out: every text, path and content once, everything else
//! fixed-size records that name them by number. A step takes a third of what it would as values of their own, and
//! what came since there was no snapshot becomes one without being copied.

use std::ops::Range;

use hashbrown::HashTable;
use xxhash_rust::xxh3::xxh3_64;
use zerocopy::IntoBytes;
use zerocopy::little_endian::U32;

use crate::content::Record;
use crate::ledger::records::StepRecord;
use crate::ledger::snapshot::EdgeRec;
use crate::ledger::snapshot::GivenRec;
use crate::ledger::snapshot::NONE;
use crate::ledger::snapshot::PathRec;
use crate::ledger::snapshot::SHARED;
use crate::ledger::snapshot::StepRec;
use crate::ledger::snapshot::TextRec;
use crate::ledger::view::EdgeView;
use crate::ledger::view::StepTables;
use crate::ledger::view::StepView;
use crate::project::paths::PathId;
use crate::project::paths::Paths;
use crate::world::Digest;
use crate::world::nanoseconds;

/// Shorter lists of learned edges are kept by each step itself.
const WORTH_SHARING: usize = 4;

/// In the place of a step's number: it is forgotten.
const FORGOTTEN: u32 = NONE - 1;

/// Records that grow.
#[derive(Default)]
pub struct Tables {
    /// Every text, paths among them.
    texts: Paths,
    /// The path that a text is, by the text's number.
    path_of: Vec<u32>,
    paths: Vec<PathRec>,
    digests: Vec<[u8; 32]>,
    digest_of: HashTable<u32>,
    steps: Vec<StepRec>,
    edges: Vec<EdgeRec>,
    /// Lists of learned edges that may be shared: where each begins, and how long it is.
    shared: HashTable<(u32, u32)>,
    givens: Vec<GivenRec>,
    /// Whether some records are of steps that were recorded anew or forgotten since.
    has_old: bool,
    /// Whether any whole folder was made.
    pub has_trees: bool,
}

fn number(count: usize) -> u32 {
    // Lists longer than 4 billion do not fit into memory either.
    u32::try_from(count).unwrap_or(NONE)
}

/// Adds to a list that may be very long: it grows by an eighth and not to twice its size.
fn push<T>(list: &mut Vec<T>, item: T) {
    if list.len() == list.capacity() {
        list.reserve_exact((list.len() / 8).max(64));
    }
    list.push(item);
}

/// The first bytes of a digest are as good as any hash of it.
fn hash(digest: &[u8; 32]) -> u64 {
    let mut start = [0; 8];
    start.copy_from_slice(&digest[..8]);
    u64::from_le_bytes(start)
}

impl Tables {
    /// Whether every record counts, so that they can be written as they are.
    pub fn is_clean(&self) -> bool {
        !self.has_old
    }

    // ---- adding --------------------------------------------------------------------------------

    /// The number of a text.
    pub fn intern(&mut self, text: &str) -> U32 {
        self.texts.intern(text).0.into()
    }

    fn path(&mut self, path: &str) -> usize {
        let text = self.texts.intern(path);
        if self.path_of.len() <= text.index() {
            self.path_of.resize(text.index() + 1, NONE);
        }
        let known = &mut self.path_of[text.index()];
        if *known == NONE {
            *known = number(self.paths.len());
            push(
                &mut self.paths,
                PathRec {
                    text: text.0.into(),
                    digest: NONE.into(),
                    maker: NONE.into(),
                    step: NONE.into(),
                    size: 0.into(),
                    modified: 0.into(),
                    changed: 0.into(),
                    inode: 0.into(),
                    read_at: 0.into(),
                },
            );
        }
        *known as usize
    }

    fn digest(&mut self, digest: &Digest) -> u32 {
        let digests = &self.digests;
        let same = |&index: &u32| digests[index as usize] == digest.0;
        if let Some(&known) = self.digest_of.find(hash(&digest.0), same) {
            return known;
        }
        let index = number(digests.len());
        push(&mut self.digests, digest.0);
        let digests = &self.digests;
        self.digest_of
            .insert_unique(hash(&digest.0), index, |&index| {
                hash(&digests[index as usize])
            });
        index
    }

    /// Records a file.
    pub fn add_file(&mut self, path: &str, record: &Record) {
        let digest = self.digest(&record.digest);
        let path = self.path(path);
        self.set_file(path, digest, record);
    }

    fn set_file(&mut self, path: usize, digest: u32, record: &Record) {
        let path = &mut self.paths[path];
        path.digest = digest.into();
        path.size = record.size.into();
        path.modified = record.modified.into();
        path.changed = record.changed.into();
        path.inode = record.inode.into();
        path.read_at = record.read_at.into();
    }

    fn add_edge(&mut self, edge: &EdgeView<'_>) {
        let path = self.path(edge.path);
        let digest = edge.digest.as_ref();
        let digest = digest.map_or(NONE, |digest| self.digest(digest));
        push(
            &mut self.edges,
            EdgeRec {
                path: number(path).into(),
                digest: digest.into(),
                group: u32::from(edge.raw_group()).into(),
            },
        );
    }

    /// Records of every path what `file` says of it as a file.
    pub fn add_files(&mut self, file: impl Fn(&str) -> Option<Record>) {
        for path in 0..self.paths.len() {
            let text = PathId(self.paths[path].text.get());
            if let Some(record) = file(self.texts.get(text)) {
                let digest = self.digest(&record.digest);
                self.set_file(path, digest, &record);
            }
        }
    }

    /// An input that is no file, or what a command printed.
    pub fn given(&mut self, key: &str, value: Option<&str>) -> GivenRec {
        GivenRec {
            key: self.intern(key),
            value: value.map_or(NONE.into(), |value| self.intern(value)),
        }
    }

    /// Records a step that has just ended: its outputs are its own now.
    pub fn add_ended(&mut self, record: &StepRecord) {
        self.forget_outputs(&record.name);
        let lists = [&record.outputs, &record.needs, &record.learned];
        let index = self.add(
            &record.name,
            lists.map(Vec::len),
            lists.into_iter().flatten().map(EdgeView::of),
            record
                .givens
                .iter()
                .map(|given| (given.key.as_str(), given.value.as_deref())),
            [&record.recipe_text, &record.parameters, &record.reasons],
        );
        let step = &mut self.steps[index];
        step.ended_at = record.ended_at.into();
        step.took = record.took.into();
        step.memory = record.memory.into();
        step.processor = record.processor.into();
        for edge in self.outputs_of(index) {
            let path = self.edges[edge].path.get() as usize;
            self.paths[path].maker = number(index).into();
        }
    }

    /// Records a step that is recorded elsewhere. Two steps may have made one path, one after the other: the later
    /// one owns it.
    pub fn add_view(&mut self, name: &str, step: StepView<'_>) {
        let index = self.add(
            name,
            [
                step.outputs().len(),
                step.needs().len(),
                step.learned().len(),
            ],
            step.outputs().chain(step.needs()).chain(step.learned()),
            step.givens().into_iter(),
            [step.recipe_text(), step.parameters(), step.reasons()],
        );
        let record = &mut self.steps[index];
        record.ended_at = step.ended_at().into();
        record.took = nanoseconds(step.took()).into();
        record.memory = step.memory().bytes().into();
        record.processor = nanoseconds(step.processor()).into();
        for edge in self.outputs_of(index) {
            let path = self.edges[edge].path.get() as usize;
            let before = self.paths[path].maker.get() as usize;
            let older = self
                .steps
                .get(before)
                .is_some_and(|other| other.ended_at.get() > step.ended_at());
            if !older {
                self.paths[path].maker = number(index).into();
            }
        }
    }

    /// Where the edges of a step's outputs lie.
    fn outputs_of(&self, step: usize) -> Range<usize> {
        let step = &self.steps[step];
        let start = step.edges.get() as usize;
        start..start + step.outputs.get() as usize
    }

    fn add<'r>(
        &mut self,
        name: &str,
        counts: [usize; 3],
        edges: impl Iterator<Item = EdgeView<'r>>,
        givens: impl Iterator<Item = (&'r str, Option<&'r str>)>,
        texts: [&str; 3],
    ) -> usize {
        let index = self.steps.len();
        let name = self.path(name);
        self.has_old |= self.paths[name].step.get() != NONE;
        self.paths[name].step = number(index).into();
        let edges_at = number(self.edges.len());
        for (at, edge) in edges.enumerate() {
            self.add_edge(&edge);
            self.has_trees |= at < counts[0] && edge.path.ends_with('/');
        }
        let learned = self.share(counts[2]);
        let givens_at = number(self.givens.len());
        for (key, value) in givens {
            let given = self.given(key, value);
            self.givens.push(given);
        }
        let [recipe_text, parameters, reasons] = texts.map(|text| self.intern(text));
        push(
            &mut self.steps,
            StepRec {
                name: number(name).into(),
                recipe_text,
                parameters,
                reasons,
                edges: edges_at.into(),
                outputs: number(counts[0]).into(),
                needs: number(counts[1]).into(),
                learned: learned.into(),
                givens: givens_at.into(),
                given_count: (number(self.givens.len()) - givens_at).into(),
                ended_at: 0.into(),
                took: 0.into(),
                memory: 0.into(),
                processor: 0.into(),
            },
        );
        index
    }

    /// Lets the last so many edges, which a step learned, lie where the same ones lie already. Such lists are long and
    /// alike: what a compiler or an interpreter reads each time it runs.
    fn share(&mut self, count: usize) -> u32 {
        if count < WORTH_SHARING {
            return number(count);
        }
        let start = self.edges.len() - count;
        let hash = |edges: &[EdgeRec], &(from, count): &(u32, u32)| {
            let from = from as usize;
            xxh3_64(edges[from..from + count as usize].as_bytes())
        };
        let own = (number(start), number(count));
        let key = hash(&self.edges, &own);
        let edges = &self.edges;
        let list = |&(from, count): &(u32, u32)| {
            let from = from as usize;
            edges[from..from + count as usize].as_bytes()
        };
        let known = self
            .shared
            .find(key, |known| list(known) == list(&own))
            .copied();
        let Some((from, _)) = known else {
            self.shared
                .insert_unique(key, own, |known| hash(edges, known));
            return number(count);
        };
        self.edges.truncate(start);
        push(
            &mut self.edges,
            EdgeRec {
                path: from.into(),
                digest: NONE.into(),
                group: NONE.into(),
            },
        );
        number(count) | SHARED
    }

    /// Forgets a step, also when it is recorded elsewhere.
    pub fn forget(&mut self, name: &str) {
        self.forget_outputs(name);
        let path = self.path(name);
        self.paths[path].step = FORGOTTEN.into();
        self.has_old = true;
    }

    /// What a step made last is not its own any more.
    fn forget_outputs(&mut self, name: &str) {
        let Some(path) = self.find(name) else { return };
        let step = path.step.get();
        if (step as usize) < self.steps.len() {
            for edge in self.outputs_of(step as usize) {
                let path = self.edges[edge].path.get() as usize;
                if self.paths[path].maker.get() == step {
                    self.paths[path].maker = NONE.into();
                }
            }
        }
    }

    // ---- reading -------------------------------------------------------------------------------

    fn find(&self, path: &str) -> Option<&PathRec> {
        if self.paths.is_empty() {
            return None;
        }
        let text = self.texts.find(path)?;
        let index = self.path_of.get(text.index()).copied()?;
        self.paths.get(index as usize)
    }

    /// What is said of a step: nothing, that it is forgotten, or its record.
    pub fn step(&self, name: &str) -> Option<Option<StepView<'_>>> {
        match self.find(name)?.step.get() {
            NONE => None,
            FORGOTTEN => Some(None),
            index => Some(self.view(index)),
        }
    }

    fn view(&self, index: u32) -> Option<StepView<'_>> {
        let record = self.steps.get(index as usize)?;
        Some(StepView::new(self, record))
    }

    /// The step that made a path.
    pub fn maker(&self, path: &str) -> Option<&str> {
        let index = self.find(path)?.maker.get();
        self.path_text(self.steps.get(index as usize)?.name.get())
    }

    /// What is recorded of a file.
    pub fn file(&self, path: &str) -> Option<Record> {
        self.record(self.find(path)?)
    }

    fn record(&self, path: &PathRec) -> Option<Record> {
        Some(path.record(self.digest_at(path.digest.get())?))
    }

    /// All paths, each with what is recorded of it as a file.
    pub fn files(&self) -> impl Iterator<Item = (&str, Option<Record>)> {
        let text = |path: &PathRec| self.texts.get(PathId(path.text.get()));
        self.paths
            .iter()
            .map(move |path| (text(path), self.record(path)))
    }

    /// The steps that are recorded here, with their names.
    pub fn step_views(&self) -> impl Iterator<Item = (&str, StepView<'_>)> {
        self.paths.iter().filter_map(|path| {
            let view = self.view(path.step.get())?;
            Some((self.texts.get(PathId(path.text.get())), view))
        })
    }

    // ---- writing -------------------------------------------------------------------------------

    /// Where each text lies, and the table in which paths are found: a power of two of numbers, at most half full.
    pub fn index(&self) -> (Vec<TextRec>, Vec<U32>) {
        let (_, ranges, _) = self.texts.parts();
        let texts = ranges.iter().map(|[start, end]| TextRec {
            at: (*start).into(),
            length: (end - start).into(),
        });
        let size = (self.paths.len() * 2).next_power_of_two();
        let mut table = vec![U32::new(NONE); size];
        for (index, path) in self.paths.iter().enumerate() {
            let mut slot = self.texts.hash(PathId(path.text.get())) as usize & (size - 1);
            while table[slot].get() != NONE {
                slot = (slot + 1) & (size - 1);
            }
            table[slot] = number(index).into();
        }
        (texts.collect(), table)
    }

    /// The bytes of all texts, and of the records of paths, digests, steps, edges and inputs that are no files.
    pub fn arrays(&self) -> [&[u8]; 6] {
        [
            self.texts.parts().0.as_bytes(),
            self.paths.as_bytes(),
            self.digests.as_bytes(),
            self.steps.as_bytes(),
            self.edges.as_bytes(),
            self.givens.as_bytes(),
        ]
    }
}

impl StepTables for Tables {
    fn text(&self, index: u32) -> Option<&str> {
        ((index as usize) < self.texts.len()).then(|| self.texts.get(PathId(index)))
    }

    fn path_text(&self, index: u32) -> Option<&str> {
        self.text(self.paths.get(index as usize)?.text.get())
    }

    fn digest_at(&self, index: u32) -> Option<Digest> {
        self.digests.get(index as usize).copied().map(Digest)
    }

    fn edges(&self, from: u32, count: u32) -> &[EdgeRec] {
        let from = from as usize;
        let edges = self.edges.get(from..from.saturating_add(count as usize));
        edges.unwrap_or_default()
    }

    fn givens(&self, from: u32, count: u32) -> &[GivenRec] {
        let from = from as usize;
        let givens = self.givens.get(from..from.saturating_add(count as usize));
        givens.unwrap_or_default()
    }

    fn is_legacy(&self) -> bool {
        false
    }
}
