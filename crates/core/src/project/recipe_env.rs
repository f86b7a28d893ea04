//! What a description sets in the environment of a recipe.
//!
//! What the part says comes first, from the outermost in, then what the target or the task says itself; a later value of
//! the same name counts. Of files named by `env file` the values are not written down: they may be passwords. What is
//! compared of them is a digest that only this user can make.

use crate::data_files::FileQuestion;
use crate::language::EnvFile;
use crate::language::Word;
use crate::project::clauses::Clauses;
use crate::project::frame::Frame;
use crate::project::secret;
use crate::project::value::Value;
use crate::project::values::Vars;

/// One variable.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EnvVariable {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
    /// Whether it comes from a file, so that it is not written down.
    pub is_private: bool,
}

/// The name of how many cores a job may use, which only recipes and their environment know.
pub const CORES: &str = "cores";

impl Vars<'_> {
    /// Lets a recipe know how many cores it may use, unless the description has that name for something else.
    pub fn set_cores(&self, frame: &mut Frame<'_>, cores: Value) {
        if frame.local(CORES).is_none() && !self.is_known(frame.part, CORES) {
            frame.set(CORES, cores);
        }
    }

    /// The same where recipes are compared: it is no reason to run one again.
    pub(super) fn set_cores_left(&self, frame: &mut Frame<'_>) {
        self.set_cores(frame, Value::word(format!("@{{{CORES}}}")));
    }

    /// All that is set for a recipe.
    pub fn recipe_env(&self, clauses: &Clauses<'_>, frame: &Frame<'_>) -> Option<Vec<EnvVariable>> {
        let mut all = self.inherited_env(frame)?;
        for file in &clauses.env_files {
            self.file_env(file, frame, &mut all)?;
        }
        for (name, words) in &clauses.env {
            self.named_env(&name.text, words, frame, &mut all)?;
        }
        Some(all)
    }

    /// What parts set, seen from that of a frame.
    pub fn inherited_env(&self, frame: &Frame<'_>) -> Option<Vec<EnvVariable>> {
        let mut parts = Vec::new();
        let mut at = Some(frame.part);
        while let Some(id) = at {
            parts.push(id);
            at = self.description.parts[id.index()].parent;
        }
        let mut all = Vec::new();
        for id in parts.into_iter().rev() {
            let cores = frame.local(CORES);
            let mut frame = Frame::of(id);
            if let Some(cores) = cores {
                self.set_cores(&mut frame, cores.clone());
            }
            let env = &self.part_env[id.index()];
            for file in &env.files {
                self.file_env(file, &frame, &mut all)?;
            }
            for (name, words) in &env.names {
                self.named_env(&name.text, words, &frame, &mut all)?;
            }
        }
        Some(all)
    }

    fn named_env(
        &self,
        name: &str,
        words: &[Word],
        frame: &Frame<'_>,
        all: &mut Vec<EnvVariable>,
    ) -> Option<()> {
        let value = self.words(words, frame)?;
        let texts: Vec<&str> = value.texts().collect();
        set(all, name, texts.join(" "), false);
        Some(())
    }

    /// The variables of a file.
    fn file_env(&self, env: &EnvFile, frame: &Frame<'_>, all: &mut Vec<EnvVariable>) -> Option<()> {
        let (file, question) = (&env.file, FileQuestion::Assignments);
        if env.if_there && !self.data_file_is_there(file, frame)? {
            return Some(());
        }
        let answer = self.ask_file(file, &question, file.span, frame)?;
        for pair in answer.words.chunks_exact(2) {
            set(all, &pair[0], pair[1].clone(), true);
        }
        Some(())
    }

    /// An environment as it is compared: a line for each variable.
    pub(super) fn env_lines(&self, env: &[EnvVariable]) -> Vec<String> {
        let key = self.environment.secret_key();
        let line = |variable: &EnvVariable| {
            let value = match variable.is_private {
                true => {
                    let digest = blake3::keyed_hash(&key, variable.value.as_bytes());
                    format!("{}{}", secret::SHOWN, &digest.to_hex()[..16])
                }
                false => crate::project::shell::quote(&variable.value),
            };
            format!("{} = {value}", variable.name)
        };
        env.iter().map(line).collect()
    }
}

fn set(all: &mut Vec<EnvVariable>, name: &str, value: String, is_private: bool) {
    all.retain(|known| known.name != name);
    all.push(EnvVariable {
        name: name.to_owned(),
        value,
        is_private,
    });
}
