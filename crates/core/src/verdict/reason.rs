//! A reason to run, as data.

use serde::Serialize;

use crate::world::Digest;

/// Why a step runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ReasonKind {
    /// It was never made.
    NeverMade,
    /// An output is missing.
    OutputMissing,
    /// An output is not as it was left.
    OutputEdited,
    /// Its last run did not finish.
    Unfinished,
    /// The recipe, its interpreter, folder, environment or outputs differ.
    RecipeChanged,
    /// A prerequisite's content differs.
    PrerequisiteChanged,
    /// A prerequisite came.
    PrerequisiteAdded,
    /// A prerequisite went.
    PrerequisiteDropped,
    /// Something it found out itself differs.
    LearnedChanged,
    /// Something it found out itself is gone.
    LearnedMissing,
    /// Something that it looked for in vain is there now.
    LearnedAppeared,
    /// The names in a folder that it listed are others.
    LearnedListing,
    /// An input that is no file differs.
    GivenChanged,
    /// Its last run failed.
    FailedBefore,
    /// It runs whenever it is reached.
    Always,
    /// It was asked for with `--again`.
    Asked,
}

impl ReasonKind {
    /// All kinds, in their order.
    pub const ALL: [Self; 16] = [
        Self::NeverMade,
        Self::OutputMissing,
        Self::OutputEdited,
        Self::Unfinished,
        Self::RecipeChanged,
        Self::PrerequisiteChanged,
        Self::PrerequisiteAdded,
        Self::PrerequisiteDropped,
        Self::LearnedChanged,
        Self::LearnedMissing,
        Self::LearnedAppeared,
        Self::LearnedListing,
        Self::GivenChanged,
        Self::FailedBefore,
        Self::Always,
        Self::Asked,
    ];

    /// Whether also a guarded step runs for it, while its outputs are there.
    #[must_use]
    pub fn is_for_guarded(self) -> bool {
        matches!(self, Self::Asked | Self::NeverMade | Self::Unfinished)
    }

    /// Its name in events and in JSON.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::NeverMade => "never-made",
            Self::OutputMissing => "output-missing",
            Self::OutputEdited => "output-edited",
            Self::Unfinished => "unfinished",
            Self::FailedBefore => "failed-before",
            Self::RecipeChanged => "recipe-changed",
            Self::PrerequisiteChanged => "prerequisite-changed",
            Self::PrerequisiteAdded => "prerequisite-added",
            Self::PrerequisiteDropped => "prerequisite-dropped",
            Self::LearnedChanged => "learned-changed",
            Self::LearnedMissing => "learned-missing",
            Self::LearnedAppeared => "learned-appeared",
            Self::LearnedListing => "learned-listing",
            Self::GivenChanged => "given-changed",
            Self::Always => "always",
            Self::Asked => "asked",
        }
    }
}

/// One reason, with what was recorded and what is there now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Reason {
    /// What kind of reason.
    pub kind: ReasonKind,
    /// The file or the given it speaks of.
    pub path: Option<String>,
    /// What was recorded.
    pub was: Option<String>,
    /// What is there now.
    pub now: Option<String>,
}

impl Reason {
    /// A reason of a kind, without details.
    #[must_use]
    pub fn of(kind: ReasonKind) -> Self {
        Self {
            kind,
            path: None,
            was: None,
            now: None,
        }
    }

    pub(super) fn at(mut self, path: &str) -> Self {
        self.path = Some(path.to_owned());
        self
    }

    pub(super) fn was(mut self, digest: Option<Digest>) -> Self {
        self.was = digest.map(|digest| digest.short());
        self
    }

    pub(super) fn now(mut self, digest: Option<Digest>) -> Self {
        self.now = digest.map(|digest| digest.short());
        self
    }

    pub(super) fn was_text(mut self, text: String) -> Self {
        self.was = Some(text);
        self
    }

    pub(super) fn now_text(mut self, text: String) -> Self {
        self.now = Some(text);
        self
    }

    /// The reason as one line of a record.
    #[must_use]
    pub fn line(&self) -> String {
        let path = self
            .path
            .as_deref()
            .unwrap_or_default()
            .replace(['\n', '\t'], " ");
        let was = match (&self.was, self.kind) {
            (Some(was), ReasonKind::RecipeChanged) => {
                format!("\t{}", was.replace('\\', "\\\\").replace('\n', "\\n"))
            }
            _ => String::new(),
        };
        format!("{} {path}{was}\n", self.kind.name())
    }

    /// Reads a line of a record back; of what was and is now only the old recipe is kept.
    #[must_use]
    pub fn from_line(line: &str) -> Option<Self> {
        let (line, was) = match line.split_once('\t') {
            Some((line, was)) => (line, Some(unescaped(was))),
            None => (line, None),
        };
        let (name, path) = line.split_once(' ')?;
        let kind = ReasonKind::ALL
            .into_iter()
            .find(|kind| kind.name() == name)?;
        Some(Self {
            path: (!path.is_empty()).then(|| path.to_owned()),
            was,
            ..Self::of(kind)
        })
    }

    /// The reason in a few words, for the line of a step.
    #[must_use]
    pub fn brief(&self) -> String {
        let path = self.path.as_deref().unwrap_or_default();
        match self.kind {
            ReasonKind::NeverMade => "never made".to_owned(),
            ReasonKind::OutputMissing => format!("{path} is missing"),
            ReasonKind::OutputEdited => format!("{path} is not as it was left"),
            ReasonKind::Unfinished => "its last run did not finish".to_owned(),
            ReasonKind::FailedBefore => "it failed last time".to_owned(),
            ReasonKind::RecipeChanged => "its recipe differs".to_owned(),
            ReasonKind::PrerequisiteChanged => format!("{path} differs"),
            ReasonKind::PrerequisiteAdded => format!("{path} is new among its needs"),
            ReasonKind::PrerequisiteDropped => format!("{path} is no longer among its needs"),
            ReasonKind::LearnedChanged => format!("{path}, which it learned of, differs"),
            ReasonKind::LearnedMissing => format!("{path}, which it learned of, is gone"),
            ReasonKind::LearnedAppeared => {
                format!("{path}, which it looked for in vain, is there now")
            }
            ReasonKind::LearnedListing => {
                format!(
                    "the names in {}, which it listed, differ",
                    shown_folder(path)
                )
            }
            ReasonKind::GivenChanged if self.was.is_none() => format!("{path} is newly asked for"),
            ReasonKind::GivenChanged => format!("{path} gives something else"),
            ReasonKind::Always => "it always runs".to_owned(),
            ReasonKind::Asked => "asked for".to_owned(),
        }
    }
}

/// A folder as people read it.
fn shown_folder(path: &str) -> &str {
    match path {
        "" => "the project's folder",
        path => path,
    }
}

/// A text of which each line end was written as `\n`.
fn unescaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' => match chars.next() {
                Some('n') => out.push('\n'),
                Some(other) => out.push(other),
                None => {}
            },
            c => out.push(c),
        }
    }
    out
}
