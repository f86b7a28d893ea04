//! What a kept project is recognised by.

use crate::project::Description;
use crate::status::RecordingEnvironment;
use crate::world::Digest;

struct TextHasher(blake3::Hasher);

impl TextHasher {
    fn add(&mut self, text: &str) {
        self.0.update(&(text.len() as u64).to_le_bytes());
        self.0.update(text.as_bytes());
    }

    fn of_place(environment: &RecordingEnvironment<'_>) -> Self {
        let mut hasher = Self(blake3::Hasher::new());
        // Not the version: two builds of one version may differ in what they work out.
        hasher.add(BUILD);
        hasher.add(std::env::consts::OS);
        hasher.add(std::env::consts::ARCH);
        hasher.add(&environment.root);
        hasher
    }

    fn digest(&self) -> Digest {
        Digest(*self.0.finalize().as_bytes())
    }
}

/// What this build of the program is recognised by.
pub const BUILD: &str = env!("HANDLOOM_BUILD");

/// The digest of this program, this machine's kind and the project's folder.
#[must_use]
pub fn place(environment: &RecordingEnvironment<'_>) -> Digest {
    TextHasher::of_place(environment).digest()
}

/// The digest of all that a project is worked out from and that is known before: the description,
/// what is set from outside, the place, and this program.
#[must_use]
pub fn key(description: &Description, environment: &RecordingEnvironment<'_>) -> Digest {
    let mut hasher = TextHasher::of_place(environment);
    for (_, source) in description.sources.iter() {
        hasher.add(&source.name);
        hasher.add(&source.text);
    }
    hasher.digest()
}
