//! Writing a snapshot: what the old one says, with what the journal says in its place.

use std::io;

use hashbrown::HashMap;
use zerocopy::IntoBytes;
use zerocopy::little_endian::U32;

use crate::content::Record;
use crate::ledger::Ledger;
use crate::ledger::arrays;
use crate::ledger::journal;
use crate::ledger::snapshot::EdgeRec;
use crate::ledger::snapshot::GivenRec;
use crate::ledger::snapshot::LAYOUT;
use crate::ledger::snapshot::NONE;
use crate::ledger::snapshot::PathRec;
use crate::ledger::snapshot::StepRec;
use crate::ledger::snapshot::TextRec;
use crate::ledger::view::EdgeView;
use crate::ledger::view::StepView;
use crate::project::paths::PathId;
use crate::project::paths::Paths;
use crate::world::Digest;
use crate::world::nanoseconds;

#[derive(Default)]
struct Builder {
    /// Every text, paths among them.
    texts: Paths,
    /// The path that a text is, by the text's number.
    path_of: HashMap<u32, u32>,
    paths: Vec<PathRec>,
    digests: Vec<[u8; 32]>,
    digest_of: HashMap<Digest, u32>,
    steps: Vec<StepRec>,
    edges: Vec<EdgeRec>,
    givens: Vec<GivenRec>,
    commands: Vec<GivenRec>,
    folders: Vec<U32>,
    open: Vec<u8>,
}

/// The bytes of a snapshot of all that a ledger holds.
///
/// # Errors
/// When an entry cannot be encoded.
pub fn snapshot(ledger: &Ledger, seed: &[u8; 32]) -> io::Result<Vec<u8>> {
    let mut builder = Builder::default();
    let mut names = ledger.step_names();
    names.sort_unstable();
    for name in &names {
        if let Some(step) = ledger.step(name) {
            builder.step(name, step);
        }
    }
    // Files that no step speaks of any more are dropped.
    for index in 0..builder.paths.len() {
        let text = builder.paths[index].text.get();
        let record = ledger.file(builder.texts.get(PathId(text)));
        if let Some(record) = record {
            builder.file(index, &record);
        }
    }
    builder.files_in_folders(ledger);
    let mut commands: HashMap<&str, &str> = ledger
        .snapshot
        .iter()
        .flat_map(super::snapshot::Snapshot::commands)
        .collect();
    commands.extend(
        ledger
            .commands
            .iter()
            .map(|(key, output)| (key.as_str(), output.as_str())),
    );
    let mut commands: Vec<_> = commands.into_iter().collect();
    commands.sort_unstable();
    for (key, output) in commands {
        let record = builder.given(key, Some(output));
        builder.commands.push(record);
    }
    for folder in ledger.folders() {
        let folder = builder.text(folder);
        builder.folders.push(folder);
    }
    for entry in ledger.open_entries() {
        journal::encode(&entry, seed, &mut builder.open)?;
    }
    Ok(builder.bytes(seed))
}

fn number(count: usize) -> u32 {
    // Lists longer than 4 billion do not fit into memory either.
    u32::try_from(count).unwrap_or(NONE)
}

impl Builder {
    fn text(&mut self, text: &str) -> U32 {
        self.texts.intern(text).0.into()
    }

    fn path(&mut self, path: &str) -> u32 {
        let text = self.texts.intern(path).0;
        let next = number(self.paths.len());
        let index = *self.path_of.entry(text).or_insert(next);
        if index == next {
            self.paths.push(PathRec {
                text: text.into(),
                digest: NONE.into(),
                maker: NONE.into(),
                step: NONE.into(),
                size: 0.into(),
                modified: 0.into(),
                changed: 0.into(),
                inode: 0.into(),
                read_at: 0.into(),
            });
        }
        index
    }

    fn digest(&mut self, digest: &Digest) -> u32 {
        let next = number(self.digests.len());
        let index = *self.digest_of.entry(*digest).or_insert(next);
        if index == next {
            self.digests.push(digest.0);
        }
        index
    }

    fn file(&mut self, index: usize, record: &Record) {
        let digest = self.digest(&record.digest);
        let path = &mut self.paths[index];
        path.digest = digest.into();
        path.size = record.size.into();
        path.modified = record.modified.into();
        path.changed = record.changed.into();
        path.inode = record.inode.into();
        path.read_at = record.read_at.into();
    }

    /// Keeps what is recorded of files in folders that steps make or need as a whole.
    fn files_in_folders(&mut self, ledger: &Ledger) {
        let folders: Vec<String> = self
            .path_of
            .keys()
            .map(|&text| self.texts.get(PathId(text)))
            .filter(|path| path.ends_with('/'))
            .map(str::to_owned)
            .collect();
        if folders.is_empty() {
            return;
        }
        let is_inside = |path: &str| {
            folders
                .iter()
                .any(|folder| path.starts_with(folder.as_str()))
        };
        for (path, record) in ledger.known_files() {
            if is_inside(path) {
                let index = self.path(path) as usize;
                self.file(index, &record);
            }
        }
    }

    fn edge(&mut self, edge: EdgeView<'_>) -> u32 {
        let path = self.path(edge.path);
        let digest = edge
            .digest
            .as_ref()
            .map_or(NONE, |digest| self.digest(digest));
        self.edges.push(EdgeRec {
            path: path.into(),
            digest: digest.into(),
            group: u32::from(edge.raw_group()).into(),
        });
        path
    }

    fn given(&mut self, key: &str, value: Option<&str>) -> GivenRec {
        GivenRec {
            key: self.text(key),
            value: value.map_or(NONE.into(), |value| self.text(value)),
        }
    }

    fn step(&mut self, name: &str, step: StepView<'_>) {
        let index = number(self.steps.len());
        let name = self.path(name);
        self.paths[name as usize].step = index.into();
        let edges = number(self.edges.len());
        let outputs = step.outputs();
        let output_count = number(outputs.len());
        for edge in outputs {
            let path = self.edge(edge) as usize;
            // Two steps may have made one path, one after the other: the later one owns it.
            let before = self.paths[path].maker.get() as usize;
            let older = self
                .steps
                .get(before)
                .is_some_and(|other| other.ended_at.get() > step.ended_at());
            if !older {
                self.paths[path].maker = index.into();
            }
        }
        let needs = step.needs();
        let need_count = number(needs.len());
        needs.for_each(|edge| {
            self.edge(edge);
        });
        let learned = step.learned();
        let learned_count = number(learned.len());
        learned.for_each(|edge| {
            self.edge(edge);
        });
        let givens_at = number(self.givens.len());
        let givens = step.givens();
        for (key, value) in &givens {
            let record = self.given(key, *value);
            self.givens.push(record);
        }
        let record = StepRec {
            name: name.into(),
            recipe_text: self.text(step.recipe_text()),
            parameters: self.text(step.parameters()),
            reasons: self.text(step.reasons()),
            edges: edges.into(),
            outputs: output_count.into(),
            needs: need_count.into(),
            learned: learned_count.into(),
            givens: givens_at.into(),
            given_count: number(givens.len()).into(),
            ended_at: step.ended_at().into(),
            took: nanoseconds(step.took()).into(),
            memory: step.memory().bytes().into(),
            processor: nanoseconds(step.processor()).into(),
        };
        self.steps.push(record);
    }

    /// Whether any output is a whole folder.
    fn edges_are_trees(&self) -> bool {
        self.paths.iter().any(|path| {
            path.maker.get() != NONE && self.texts.get(PathId(path.text.get())).ends_with('/')
        })
    }

    /// An open-addressing table, at most half full.
    fn path_index(&self) -> Vec<U32> {
        let size = (self.paths.len() * 2).next_power_of_two();
        let mut table = vec![U32::new(NONE); size];
        for (index, path) in self.paths.iter().enumerate() {
            let mut slot = self.texts.hash(PathId(path.text.get())) as usize & (size - 1);
            while table[slot].get() != NONE {
                slot = (slot + 1) & (size - 1);
            }
            table[slot] = number(index).into();
        }
        table
    }

    fn bytes(&self, seed: &[u8; 32]) -> Vec<u8> {
        let mut strings = Vec::new();
        let mut texts = Vec::with_capacity(self.texts.len());
        for index in 0..self.texts.len() {
            let text = self.texts.get(PathId(number(index)));
            texts.push(TextRec {
                at: number(strings.len()).into(),
                length: number(text.len()).into(),
            });
            strings.extend_from_slice(text.as_bytes());
        }
        let index = self.path_index();
        let arrays: [&[u8]; 11] = [
            &strings,
            texts.as_bytes(),
            self.paths.as_bytes(),
            index.as_bytes(),
            self.digests.as_bytes(),
            self.steps.as_bytes(),
            self.edges.as_bytes(),
            self.givens.as_bytes(),
            self.commands.as_bytes(),
            self.folders.as_bytes(),
            &self.open,
        ];
        arrays::write(LAYOUT, seed, u64::from(self.edges_are_trees()), &arrays)
    }
}
