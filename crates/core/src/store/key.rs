//! What a result is found by: a digest over exactly what a verdict compares.
//!
//! Each part stands in the digest with its length in front, and each list with its count, so that no two different
//! things give the same bytes. The digest is BLAKE3 in its mode for deriving keys, whose context names this format.

use crate::content::State;
use crate::ledger::Edge;
use crate::ledger::LOOKED_IN_VAIN;
use crate::ledger::StepRecord;
use crate::store::object::LearnedList;
use crate::verdict::GivenValue;
use crate::verdict::StepState;
use crate::world::Digest;

/// What a step is declared with, for [`KeyScope::declared`].
const DECLARED: &str = "Hand Loom store, format 1: a step by what it is declared with";
/// What it found out besides, for [`full`].
const FULL: &str =
    "Hand Loom store, format 1: a step by what it is declared with and what it found out";

/// The name of an object.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct StoreKey(pub Digest);

/// Where results may be used: on which system, and for texts that name the project's own folder, only there.
#[derive(Clone, Debug)]
pub struct KeyScope {
    /// The system, the architecture, and what the settings add.
    platform: String,
    /// The project's folder, absolute.
    root: String,
}

/// What a step is declared with, wherever it comes from.
#[derive(Clone, Debug)]
pub struct DeclaredStep<'a> {
    /// The recipe as compared.
    pub recipe_text: &'a str,
    /// The values of its holes, as text.
    pub parameters: &'a str,
    /// What it makes: paths and groups.
    pub outputs: Vec<(&'a str, u16)>,
    /// Its prerequisites, in order: paths, groups and contents.
    pub needs: Vec<(&'a str, u16, Digest)>,
    /// Inputs that are no files, with their values.
    pub givens: Vec<(&'a str, Option<&'a str>)>,
    /// Whether its description says that it finds anything out.
    pub says_learn: bool,
}

impl<'a> DeclaredStep<'a> {
    /// As a verdict sees it now; none when something of it is not known, or not there.
    #[must_use]
    pub fn now(state: &StepState<'a>) -> Option<Self> {
        let needs = state.needs.iter().map(|input| {
            let digest = input.state.digest()?;
            Some((input.path, input.group, digest))
        });
        let givens = state.givens.iter().map(|given| match &given.value {
            GivenValue::Unknown => None,
            known => Some((given.key.as_str(), known.text())),
        });
        Some(Self {
            recipe_text: state.recipe_text,
            parameters: state.parameters,
            outputs: state
                .outputs
                .iter()
                .map(|output| (output.path, output.group))
                .collect(),
            needs: needs.collect::<Option<_>>()?,
            givens: givens.collect::<Option<_>>()?,
            says_learn: state.says_learn,
        })
    }

    /// As a step saw it that ran; none when it saw something that is not known.
    #[must_use]
    pub fn seen(record: &'a StepRecord, says_learn: bool) -> Option<Self> {
        let needs = record.needs.iter();
        let needs = needs.map(|edge| Some((edge.path.as_str(), edge.group, edge.digest?)));
        let outputs = record.outputs.iter();
        let givens = record.givens.iter();
        Some(Self {
            recipe_text: &record.recipe_text,
            parameters: &record.parameters,
            outputs: outputs
                .map(|edge| (edge.path.as_str(), edge.group))
                .collect(),
            needs: needs.collect::<Option<_>>()?,
            givens: givens
                .map(|given| (given.key.as_str(), given.value.as_deref()))
                .collect(),
            says_learn,
        })
    }
}

impl KeyScope {
    /// The scope of a project's results on this kind of machine. `platform` is what the settings add.
    #[must_use]
    pub fn new(root: &str, platform: &str) -> Self {
        Self {
            platform: format!(
                "{} {} {platform}",
                std::env::consts::OS,
                std::env::consts::ARCH
            ),
            root: root.to_owned(),
        }
    }

    /// The project's folder.
    #[must_use]
    pub fn root(&self) -> &str {
        &self.root
    }

    /// Whether a text names the project's own folder.
    #[must_use]
    pub fn is_bound(&self, text: &str) -> bool {
        self.root.len() > 1 && memchr::memmem::find(text.as_bytes(), self.root.as_bytes()).is_some()
    }

    /// The key under which lies what recipes found out that are declared so.
    #[must_use]
    pub fn declared(&self, step: &DeclaredStep<'_>) -> StoreKey {
        let mut key = KeyWriter::new(DECLARED);
        key.text(&self.platform);
        key.text(step.recipe_text);
        key.text(step.parameters);
        key.count(step.outputs.len());
        for (path, group) in &step.outputs {
            key.text(path);
            key.number(u64::from(*group));
        }
        key.count(step.needs.len());
        for (path, group, digest) in &step.needs {
            key.text(path);
            key.number(u64::from(*group));
            key.digest(*digest);
        }
        key.count(step.givens.len());
        for (name, value) in &step.givens {
            key.text(name);
            key.optional(*value);
        }
        key.number(u64::from(step.says_learn));
        let values = step.givens.iter().filter_map(|(_, value)| *value);
        let mut texts = [step.recipe_text, step.parameters]
            .into_iter()
            .chain(values);
        let is_bound = texts.any(|text| self.is_bound(text));
        key.optional(is_bound.then_some(self.root.as_str()));
        key.finish()
    }

    /// The key of a result: what was declared, and what the names of a list hold. `None` when one of them does not
    /// hold anything that a recipe could have seen.
    #[must_use]
    pub fn full(
        &self,
        declared: StoreKey,
        list: &LearnedList,
        now: &mut dyn FnMut(&str) -> State,
    ) -> Option<StoreKey> {
        let edges = list.names.iter().map(|(path, group)| {
            let state = now(path);
            let digest = match group & LOOKED_IN_VAIN {
                0 => Some(state.digest()?),
                _ if state == State::Missing => None,
                _ => return None,
            };
            Some((path.as_str(), *group, digest))
        });
        let edges: Vec<_> = edges.collect::<Option<_>>()?;
        Some(self.of_edges(declared, list, edges.into_iter()))
    }

    /// The same with what a recipe saw; `None` when something of that is not known.
    #[must_use]
    pub fn full_seen(
        &self,
        declared: StoreKey,
        list: &LearnedList,
        learned: &[Edge],
    ) -> Option<StoreKey> {
        let is_known = |edge: &&Edge| edge.digest.is_some() != (edge.group & LOOKED_IN_VAIN != 0);
        if !learned.iter().all(|edge| is_known(&edge)) {
            return None;
        }
        let edges = learned.iter();
        let edges = edges.map(|edge| (edge.path.as_str(), edge.group, edge.digest));
        Some(self.of_edges(declared, list, edges))
    }

    fn of_edges<'e>(
        &self,
        declared: StoreKey,
        list: &LearnedList,
        edges: impl ExactSizeIterator<Item = (&'e str, u16, Option<Digest>)>,
    ) -> StoreKey {
        let mut key = KeyWriter::new(FULL);
        key.digest(declared.0);
        key.number(list.manner.reach.into());
        key.number(list.manner.seal.into());
        key.optional(list.is_bound.then_some(self.root.as_str()));
        key.count(edges.len());
        for (path, group, digest) in edges {
            key.text(path);
            key.number(u64::from(group));
            key.number(u64::from(digest.is_some()));
            if let Some(digest) = digest {
                key.digest(digest);
            }
        }
        key.finish()
    }
}

/// Puts parts into a digest such that they can't run into each other.
struct KeyWriter(blake3::Hasher);

impl KeyWriter {
    fn new(context: &str) -> Self {
        Self(blake3::Hasher::new_derive_key(context))
    }

    fn number(&mut self, number: u64) {
        self.0.update(&number.to_le_bytes());
    }

    fn count(&mut self, count: usize) {
        self.number(count as u64);
    }

    fn text(&mut self, text: &str) {
        self.count(text.len());
        self.0.update(text.as_bytes());
    }

    fn optional(&mut self, text: Option<&str>) {
        self.number(u64::from(text.is_some()));
        self.text(text.unwrap_or_default());
    }

    fn digest(&mut self, digest: Digest) {
        self.0.update(&digest.0);
    }

    fn finish(&self) -> StoreKey {
        StoreKey(Digest(*self.0.finalize().as_bytes()))
    }
}
