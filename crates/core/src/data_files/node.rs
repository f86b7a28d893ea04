//! What stands in a JSON, TOML or YAML file, as a tree.

use std::sync::Arc;

use crate::data_files::answer::DataError;
use crate::data_files::answer::FileAnswer;
use crate::data_files::answer::listed;
use crate::text::nearest;

/// One value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DataNode {
    /// Nothing: `null`.
    Null,
    /// A text, or a number as it is written.
    Scalar(String),
    /// Several.
    List(Vec<Arc<DataNode>>),
    /// Several under names.
    Object(Vec<(String, Arc<DataNode>)>),
}

impl DataNode {
    /// What a file has under a key.
    pub fn value(&self, file: &str, key: &[String]) -> Result<FileAnswer, DataError> {
        let mut node = self;
        for (at, name) in key.iter().enumerate() {
            let path = key[..at].join(".");
            node = node.under(file, &path, name)?;
        }
        node.as_answer(file, &key.join("."))
    }

    /// The keys below a key, or the numbers of a list.
    pub fn keys_below(&self, key: &[String]) -> Vec<String> {
        let below = key
            .iter()
            .try_fold(self, |node, name| node.under("", "", name));
        match below {
            Ok(Self::Object(entries)) => entries.iter().map(|(key, _)| key.clone()).collect(),
            Ok(Self::List(items)) => (1..=items.len()).map(|number| number.to_string()).collect(),
            _ => Vec::new(),
        }
    }

    fn under(&self, file: &str, path: &str, name: &str) -> Result<&Self, DataError> {
        let place = || match path {
            "" => format!("`{file}`"),
            path => format!("`{path}` in `{file}`"),
        };
        match self {
            Self::Object(entries) => {
                let found = entries.iter().find(|(key, _)| key == name);
                found.map(|(_, node)| &**node).ok_or_else(|| {
                    let keys = || entries.iter().map(|(key, _)| key.as_str());
                    let near = nearest(name, keys());
                    let meant =
                        near.map_or_else(String::new, |near| format!("did you mean `{near}`? "));
                    let title = format!("there is no `{name}` in {}", place());
                    let help = format!("{meant}The keys there: {}", listed(keys()));
                    DataError::new(title, help).meant(name, near)
                })
            }
            Self::List(items) => {
                let number = name.parse().ok().filter(|&number: &usize| number > 0);
                let item = number.and_then(|number| items.get(number - 1));
                item.map(|node| &**node).ok_or_else(|| {
                    DataError::new(
                        format!(
                            "{} is a list of {}, and has no `{name}`",
                            place(),
                            items.len()
                        ),
                        "what stands in a list has a number, from 1",
                    )
                })
            }
            Self::Scalar(_) | Self::Null => Err(DataError::new(
                format!("{} is a single value, and has no `{name}`", place()),
                "a key with dots in it goes in quotes",
            )),
        }
    }

    fn as_answer(&self, file: &str, path: &str) -> Result<FileAnswer, DataError> {
        let one = |node: &Self| match node {
            Self::Scalar(text) => Ok(text.clone()),
            Self::Null => Err(DataError::new(
                format!("`{path}` in `{file}` is null"),
                "give it a value; an empty text is `\"\"`",
            )),
            Self::List(_) => Err(DataError::new(
                format!("`{path}` in `{file}` is a list of lists"),
                "ask for one of them by its number, such as `.1`",
            )),
            Self::Object(entries) => Err(DataError::new(
                format!("`{path}` in `{file}` is no value, but has keys of its own"),
                format!(
                    "ask for one of them: {}",
                    listed(entries.iter().map(|(key, _)| key.as_str()))
                ),
            )),
        };
        let (words, is_list) = match self {
            Self::List(items) => {
                let words: Result<Vec<String>, DataError> =
                    items.iter().map(|item| one(item)).collect();
                (words?, true)
            }
            node => (vec![one(node)?], false),
        };
        Ok(FileAnswer {
            words,
            is_list,
            places: Vec::new(),
        })
    }
}
