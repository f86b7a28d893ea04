//! Whether all of a lineage still is as it was then.

use crate::content::LearnedPath;
use crate::content::State;
use crate::lineage::InputOrigin;
use crate::lineage::Lineage;
use crate::project::Project;
use crate::status::FileStates;
use crate::world::Digest;

/// Something that is not as it was.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Difference {
    /// The file or folder.
    pub path: String,
    /// What is wrong.
    pub kind: DifferenceKind,
    /// What was recorded.
    pub was: Option<Digest>,
    /// What is there now.
    pub now: Option<Digest>,
    /// A step that saw or made it.
    pub step: String,
}

/// How something is not as it was.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum DifferenceKind {
    /// A source, or something else that a step read, holds something else.
    InputChanged,
    /// It is gone.
    InputMissing,
    /// What a step looked for in vain is there now, or the names in a folder that it listed are others.
    LookChanged,
    /// A step has made something else of it since: how what was seen came about is not known.
    MadeAnewSince,
    /// What a step made is not as the step left it.
    OutputChanged,
    /// What a step made is gone.
    OutputMissing,
}

impl DifferenceKind {
    /// Its name for programs.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::InputChanged => "input-changed",
            Self::InputMissing => "input-missing",
            Self::LookChanged => "look-changed",
            Self::MadeAnewSince => "made-anew-since",
            Self::OutputChanged => "output-changed",
            Self::OutputMissing => "output-missing",
        }
    }
}

/// All that is not as it was, each once. `is_fleeting` tells of outputs that are taken away when all that needs them is made.
#[must_use]
pub fn differences(
    lineage: &Lineage,
    project: &Project<'_>,
    states: &mut FileStates<'_>,
    is_fleeting: impl Fn(&str) -> bool,
) -> Vec<Difference> {
    let mut found = Vec::new();
    for step in &lineage.steps {
        let mut tell = |path: &str, kind, was, now| {
            found.push(Difference {
                path: path.to_owned(),
                kind,
                was,
                now,
                step: step.name.clone(),
            });
        };
        for output in &step.outputs {
            let now = states.look(&output.path);
            match now {
                State::Missing if is_fleeting(&output.path) => {}
                State::Missing => {
                    tell(
                        &output.path,
                        DifferenceKind::OutputMissing,
                        output.content,
                        None,
                    );
                }
                now if now.own_digest() == output.content => {}
                now => {
                    let now = now.own_digest();
                    tell(
                        &output.path,
                        DifferenceKind::OutputChanged,
                        output.content,
                        now,
                    );
                }
            }
        }
        for input in step.inputs() {
            let path = &input.file.path;
            match input.from {
                // It was looked at as an output.
                InputOrigin::Step(_) => {}
                InputOrigin::MadeAnewSince(_) => {
                    let now = states.look(path).digest();
                    tell(path, DifferenceKind::MadeAnewSince, input.file.content, now);
                }
                InputOrigin::Source(_) => match states.look(path) {
                    State::Missing if input.file.content.is_some() => {
                        tell(path, DifferenceKind::InputMissing, input.file.content, None);
                    }
                    now if now.digest() == input.file.content => {}
                    now => {
                        let now = now.digest();
                        tell(path, DifferenceKind::InputChanged, input.file.content, now);
                    }
                },
            }
        }
        for look in &step.looks {
            let now = match states.look_at_learned(project, &look.path) {
                State::Missing => None,
                state => state.digest(),
            };
            if now != look.content {
                let path = LearnedPath::of(&look.path).shown();
                tell(&path, DifferenceKind::LookChanged, look.content, now);
            }
        }
    }
    found.sort();
    found.dedup_by(|a, b| (&a.path, a.kind) == (&b.path, b.kind));
    found
}
