//! Settings of the store: `[store]` in the user's settings, `setting store.KEY` of a project, `HANDLOOM_STORE_KEY` in
//! the environment.

use std::path::PathBuf;
use std::time::Duration;

use serde::Deserialize;

use crate::store::shared::SharedAddress;
use crate::text::byte_size;
use crate::text::duration;
use crate::world::ByteSize;

/// What is said of the store. Values are texts, as they are written in each of the three places.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct StoreSettings {
    /// Whether it is asked and added to: `always`, or `never`.
    #[serde(rename = "use")]
    pub used: Option<String>,
    /// The folder of the local store.
    pub folder: Option<String>,
    /// It is trimmed when it holds more.
    pub size: Option<String>,
    /// Results of steps that took less are not kept.
    pub least: Option<String>,
    /// What else results depend on: a word for this kind of machine.
    pub platform: Option<String>,
    /// Where the shared store is.
    pub shared: Option<String>,
    /// Whether results are put into the shared store: `true`, or `false`.
    pub share: Option<Switch>,
    /// At the end of a run so long is waited for what is still being put into the shared store.
    pub wait: Option<String>,
}

/// Yes or no, as TOML and as a text has it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "SwitchText")]
pub struct Switch(pub bool);

#[derive(Deserialize)]
#[serde(untagged)]
enum SwitchText {
    Is(bool),
    Text(String),
}

impl TryFrom<SwitchText> for Switch {
    type Error = String;

    fn try_from(written: SwitchText) -> Result<Self, String> {
        match written {
            SwitchText::Is(is) => Ok(Self(is)),
            SwitchText::Text(text) => {
                switch(&text).ok_or_else(|| format!("`{text}` is neither `true` nor `false`"))
            }
        }
    }
}

fn switch(text: &str) -> Option<Switch> {
    match text {
        "true" => Some(Switch(true)),
        "false" => Some(Switch(false)),
        _ => None,
    }
}

/// A setting of the store.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StoreKeyword {
    /// Its name.
    pub name: &'static str,
    /// What its value may be.
    pub wanted: &'static str,
    /// Whether a project may set it for all who work on it: what is the user's own, and what gives others
    /// something, is not for it to say.
    pub of_project: bool,
}

/// All settings of the store.
pub const STORE_KEYS: [StoreKeyword; 8] = [
    StoreKeyword::new("store.use", "`always` or `never`", true),
    StoreKeyword::new("store.folder", "a folder, beginning with `/`", false),
    StoreKeyword::new("store.size", "a size such as `10G`", false),
    StoreKeyword::new("store.least", "a time such as `50ms`", true),
    StoreKeyword::new("store.platform", "a word for this kind of machine", true),
    StoreKeyword::new(
        "store.shared",
        "an address: `https://host/folder`, `s3://bucket/folder` or `file:///folder`",
        true,
    ),
    StoreKeyword::new("store.share", "`true` or `false`", false),
    StoreKeyword::new("store.wait", "a time such as `10s`", true),
];

impl StoreKeyword {
    const fn new(name: &'static str, wanted: &'static str, of_project: bool) -> Self {
        Self {
            name,
            wanted,
            of_project,
        }
    }

    /// The environment variable that sets it.
    #[must_use]
    pub fn variable(&self) -> String {
        format!("HANDLOOM_{}", self.name.replace('.', "_").to_uppercase())
    }
}

/// The local store holds so much unless the settings say otherwise.
pub const SIZE: &str = "10G";
/// Results of steps that took less are not kept.
pub const LEAST: &str = "50ms";
/// So long is waited at the end of a run.
pub const WAIT: &str = "10s";

impl StoreSettings {
    fn place(&mut self, key: &str) -> Option<&mut Option<String>> {
        Some(match key {
            "store.use" => &mut self.used,
            "store.folder" => &mut self.folder,
            "store.size" => &mut self.size,
            "store.least" => &mut self.least,
            "store.platform" => &mut self.platform,
            "store.shared" => &mut self.shared,
            "store.wait" => &mut self.wait,
            _ => return None,
        })
    }

    /// A setting's value as a text; none when it is not set.
    #[must_use]
    pub fn text(&self, key: &str) -> Option<String> {
        if key == "store.share" {
            return self.share.map(|share| share.0.to_string());
        }
        self.clone().place(key)?.clone()
    }

    /// Sets a setting; whether it may be this.
    pub fn set(&mut self, key: &str, text: &str) -> bool {
        if key == "store.share" {
            self.share = switch(text);
            return self.share.is_some();
        }
        let is_fine = match key {
            "store.use" => matches!(text, "always" | "never"),
            "store.size" => byte_size(text).is_some(),
            "store.least" => text == "0s" || duration(text).is_some(),
            "store.wait" => text == "0s" || duration(text).is_some(),
            "store.shared" => SharedAddress::parse(text).is_some(),
            "store.folder" => text.starts_with('/'),
            _ => !text.is_empty(),
        };
        if let Some(place) = self.place(key).filter(|_| is_fine) {
            *place = Some(text.to_owned());
        }
        is_fine
    }

    /// The first setting whose value can't be, with what it may be.
    #[must_use]
    pub fn wrong(&self) -> Option<(StoreKeyword, String)> {
        let mut keys = STORE_KEYS.into_iter();
        keys.find_map(|key| {
            let text = self.text(key.name)?;
            let is_fine = Self::default().set(key.name, &text);
            (!is_fine).then_some((key, text))
        })
    }

    /// These settings, and those of `other` where these say nothing.
    #[must_use]
    pub fn or(self, other: &Self) -> Self {
        let other = other.clone();
        Self {
            used: self.used.or(other.used),
            folder: self.folder.or(other.folder),
            size: self.size.or(other.size),
            least: self.least.or(other.least),
            platform: self.platform.or(other.platform),
            shared: self.shared.or(other.shared),
            share: self.share.or(other.share),
            wait: self.wait.or(other.wait),
        }
    }

    /// Whether the store is asked and added to.
    #[must_use]
    pub fn is_used(&self) -> bool {
        self.used.as_deref() != Some("never")
    }

    /// The folder of the local store, which is `otherwise` when it is not set.
    #[must_use]
    pub fn folder(&self, otherwise: Option<PathBuf>) -> Option<PathBuf> {
        self.folder.as_ref().map(PathBuf::from).or(otherwise)
    }

    /// The local store is trimmed when it holds more.
    #[must_use]
    pub fn size(&self) -> ByteSize {
        ByteSize(byte_size(self.size_text()).unwrap_or(u64::MAX))
    }

    /// The same as it is written.
    #[must_use]
    pub fn size_text(&self) -> &str {
        self.size.as_deref().unwrap_or(SIZE)
    }

    /// Results of steps that took less are not kept.
    #[must_use]
    pub fn least(&self) -> Duration {
        time(self.least.as_deref(), LEAST)
    }

    /// At the end of a run so long is waited for the shared store.
    #[must_use]
    pub fn wait(&self) -> Duration {
        time(self.wait.as_deref(), WAIT)
    }

    /// Whether results are put into the shared store.
    #[must_use]
    pub fn is_shared_to(&self) -> bool {
        self.share == Some(Switch(true))
    }
}

/// A time that was checked when it was set; what is none, as `0s`, is no time at all.
fn time(text: Option<&str>, otherwise: &str) -> Duration {
    duration(text.unwrap_or(otherwise)).unwrap_or_default()
}
