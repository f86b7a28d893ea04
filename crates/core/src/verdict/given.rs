//! An input that is no file: an environment variable, or what a command prints.

/// What an input that is no file holds now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum GivenValue {
    /// It was not asked for.
    Unknown,
    /// It is not set.
    Unset,
    /// This text.
    Text(String),
}

impl GivenValue {
    /// The text, when there is one.
    #[must_use]
    pub fn text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Unknown | Self::Unset => None,
        }
    }

    /// Whether it is as recorded, as far as is known.
    #[must_use]
    pub fn may_be(&self, recorded: Option<&str>) -> bool {
        *self == Self::Unknown || self.text() == recorded
    }
}

impl From<Option<String>> for GivenValue {
    fn from(value: Option<String>) -> Self {
        value.map_or(Self::Unset, Self::Text)
    }
}

/// An input that is no file, as it is now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GivenState {
    /// What it is: `env NAME` or `output COMMAND`.
    pub key: String,
    /// What it holds.
    pub value: GivenValue,
}
