//! JSON (RFC 8259), read so that numbers stay as they are written.

use std::fmt;
use std::sync::Arc;

use serde::Deserialize;
use serde::Deserializer;
use serde::de::MapAccess;
use serde::de::Visitor;
use serde_json::value::RawValue;

use crate::data_files::answer::DataError;
use crate::data_files::answer::MAX_DEPTH;
use crate::data_files::node::DataNode;

pub fn read(name: &str, text: &str) -> Result<DataNode, DataError> {
    let wrong = |error: &serde_json::Error| {
        DataError::new(
            format!("`{name}` line {}: {}", error.line(), without_place(error)),
            "the file is not as JSON has it; comments and commas at the end are not JSON",
        )
    };
    let whole: &RawValue = serde_json::from_str(text).map_err(|error| wrong(&error))?;
    node(whole, 0).map_err(|error| match error {
        JsonError::Json(error) => wrong(&error),
        JsonError::Deep => DataError::new(
            format!("`{name}` has lists or objects more than {MAX_DEPTH} deep"),
            "put what is asked for further out",
        ),
        JsonError::Twice(key) => DataError::new(
            format!("`{name}` has the key `{key}` twice in one object"),
            "leave one of them out: which of them counts is not said in JSON",
        ),
    })
}

enum JsonError {
    Json(serde_json::Error),
    Deep,
    Twice(String),
}

impl From<serde_json::Error> for JsonError {
    fn from(error: serde_json::Error) -> Self {
        Self::Json(error)
    }
}

/// What the library says, without its own words for the place.
fn without_place(error: &serde_json::Error) -> String {
    let said = error.to_string();
    let place = format!(" at line {} column {}", error.line(), error.column());
    said.strip_suffix(&place).unwrap_or(&said).to_owned()
}

fn node(raw: &RawValue, depth: usize) -> Result<DataNode, JsonError> {
    if depth > MAX_DEPTH {
        return Err(JsonError::Deep);
    }
    let text = raw.get();
    Ok(match text.as_bytes().first() {
        Some(b'"') => DataNode::Scalar(serde_json::from_str(text)?),
        Some(b'[') => {
            let items: Vec<&RawValue> = serde_json::from_str(text)?;
            let items = items
                .into_iter()
                .map(|item| node(item, depth + 1).map(Arc::new));
            DataNode::List(items.collect::<Result<_, _>>()?)
        }
        Some(b'{') => {
            let Entries(entries) = serde_json::from_str(text)?;
            let mut seen = std::collections::HashSet::new();
            if let Some((twice, _)) = entries.iter().find(|(key, _)| !seen.insert(key.as_str())) {
                return Err(JsonError::Twice(twice.clone()));
            }
            let entries = entries
                .into_iter()
                .map(|(key, value)| Ok((key, Arc::new(node(value, depth + 1)?))));
            DataNode::Object(entries.collect::<Result<_, JsonError>>()?)
        }
        Some(b'n') => DataNode::Null,
        _ => DataNode::Scalar(text.to_owned()),
    })
}

/// The entries of an object, in their order.
struct Entries<'a>(Vec<(String, &'a RawValue)>);

impl<'de> Deserialize<'de> for Entries<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct EntriesReader;
        impl<'de> Visitor<'de> for EntriesReader {
            type Value = Entries<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
                let mut entries = Vec::new();
                while let Some(entry) = map.next_entry()? {
                    entries.push(entry);
                }
                Ok(Entries(entries))
            }
        }
        deserializer.deserialize_map(EntriesReader)
    }
}
