//! Paths as expressions of a script make them.

use super::survey::stem_of;
use handloom_core::world::names::folder_of;

/// What an expression is.
#[derive(Clone, Debug)]
pub enum PathValue {
    /// A path, and whether it is one from the project's folder.
    Path(String, bool),
    /// Anything else.
    Unknown,
}

/// `.parent`; other attributes are no paths.
pub fn attribute_of(value: &PathValue, attribute: &str) -> PathValue {
    match (value, attribute) {
        (PathValue::Path(path, anchored), "parent") => {
            let folder = folder_of(path.trim_end_matches('/'));
            PathValue::Path(folder.trim_end_matches('/').to_owned(), *anchored)
        }
        _ => PathValue::Unknown,
    }
}

/// `with_suffix` and `with_name`.
pub fn renamed(receiver: Option<PathValue>, first: Option<PathValue>, how: &str) -> PathValue {
    let (Some(PathValue::Path(path, anchored)), Some(PathValue::Path(new, false))) =
        (receiver, first)
    else {
        return PathValue::Unknown;
    };
    let stem = if how == "with_suffix" {
        stem_of(&path)
    } else {
        ""
    };
    PathValue::Path(format!("{}{stem}{new}", folder_of(&path)), anchored)
}

/// The path of several parts; the last absolute one begins it.
pub fn joined(parts: impl Iterator<Item = PathValue>) -> PathValue {
    let mut whole: Option<(String, bool)> = None;
    for part in parts {
        let PathValue::Path(part, anchored) = part else {
            return PathValue::Unknown;
        };
        whole = Some(match whole {
            Some((whole, from)) if !anchored && !whole.is_empty() => {
                (format!("{}/{part}", whole.trim_end_matches('/')), from)
            }
            Some((_, from)) => (part, from || anchored),
            None => (part, anchored),
        });
    }
    whole.map_or(PathValue::Unknown, |(path, anchored)| {
        PathValue::Path(path, anchored)
    })
}

/// Whether a text may be the name of a file.
pub fn looks_like_a_file(value: &PathValue) -> bool {
    matches!(value, PathValue::Path(path, _) if path.contains('/') || path.contains('.') && !path.contains(' '))
}

/// A path without `.` and `..`; none for one that leads elsewhere, or is no path of one line.
pub fn normal(path: &str) -> Option<String> {
    let is_elsewhere = path.starts_with(['/', '~']) || path.contains("://");
    if path.is_empty() || is_elsewhere || path.len() > 200 || path.contains(['\n', '\t', '\0']) {
        return None;
    }
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                if parts.last().is_none_or(|last| *last == "..") {
                    parts.push("..");
                } else {
                    parts.pop();
                }
            }
            part => parts.push(part),
        }
    }
    (!parts.is_empty()).then(|| parts.join("/"))
}
