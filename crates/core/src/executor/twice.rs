//! Running a job a second time, and comparing what came out.
//!
//! The outputs of the first time are moved out of their places, the job runs there again, and what stands there then is
//! compared; in the end the first ones are back. Recipes see the same paths both times. What a store has of the job is
//! compared with instead of a second time, where it has something: so an input that nobody named, and that is another
//! one since, shows as well as a clock.

use std::collections::BTreeMap;

use crate::content::Look;
use crate::content::State;
use crate::content::tree_entries;
use crate::executor::exit::Exit;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::quarantine;

/// So many differences are named.
const MOST: usize = 10;
/// So much of each side of a difference is shown, bytes.
const SHOWN: usize = 100;

/// What a job's first outputs are compared with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TwiceAgainst {
    /// A second run.
    SecondRun,
    /// What a store has; when that was made, nanoseconds since 1970.
    Store(i64),
}

/// What came of comparing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TwiceReport {
    /// What it was compared with.
    pub against: TwiceAgainst,
    /// How the second run ended, when it did not end well.
    pub failed: Option<Exit>,
    /// What came out differently, the first of them.
    pub differences: Vec<OutputDifference>,
}

impl TwiceReport {
    /// Whether it came out differently.
    #[must_use]
    pub fn differs(&self) -> bool {
        self.failed.is_some() || !self.differences.is_empty()
    }
}

/// A file that came out differently.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OutputDifference {
    /// From the project's root.
    pub path: String,
    /// Where, and how.
    pub place: DifferencePlace,
}

/// Where two files differ first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DifferencePlace {
    /// In a line of text.
    Line {
        /// Its number, from 1.
        number: usize,
        /// What it was the first time; none behind the end.
        first: Option<Vec<u8>>,
        /// What it was then.
        second: Option<Vec<u8>>,
    },
    /// In a byte.
    Byte {
        /// Its offset, from 0.
        offset: usize,
        /// What it was the first time; none behind the end.
        first: Option<u8>,
        /// What it was then.
        second: Option<u8>,
    },
    /// What links say.
    Link {
        /// The first time.
        first: String,
        /// Then.
        second: String,
    },
    /// It was there only the first time, or only then.
    Only {
        /// Whether the first time.
        first: bool,
    },
    /// It may be run only once, or it is a file once and then a folder.
    Kind,
}

/// Where the outputs of the first time are meanwhile.
pub struct FirstOutputs<'a> {
    disk: &'a dyn Disk,
    folder: String,
    /// What is moved: outputs, and the file that the job learned from.
    paths: Vec<String>,
}

impl<'a> FirstOutputs<'a> {
    /// Moves outputs, and what else a job wrote, to a folder of their own below `scratch`.
    ///
    /// # Errors
    /// When they can't be moved; they are where they were then.
    pub fn set_by(
        disk: &'a dyn Disk,
        scratch: &str,
        paths: impl Iterator<Item = String>,
    ) -> std::io::Result<Self> {
        let folder = format!("{scratch}.first");
        quarantine::remove(disk, &folder)?;
        let mut moved = Self {
            disk,
            folder,
            paths: Vec::new(),
        };
        for path in paths {
            let plain = path.trim_end_matches('/');
            match quarantine::transfer(disk, plain, &moved.of(&path)) {
                Ok(_) => moved.paths.push(path),
                Err(error) => {
                    moved.put_back()?;
                    return Err(error);
                }
            }
        }
        Ok(moved)
    }

    /// Where an output is now.
    fn of(&self, path: &str) -> String {
        format!("{}/{}", self.folder, path.trim_end_matches('/'))
    }

    /// What is not the same in the places of outputs as it was the first time.
    pub fn differences(&self, outputs: &[String]) -> Vec<OutputDifference> {
        let mut found = Vec::new();
        for path in outputs {
            let plain = path.trim_end_matches('/');
            compare(self.disk, (&self.of(path), plain), plain, &mut found);
        }
        found
    }

    /// Puts everything back, over what stands there now.
    ///
    /// # Errors
    /// When something can't be moved.
    pub fn put_back(&self) -> std::io::Result<()> {
        for path in &self.paths {
            let plain = path.trim_end_matches('/');
            quarantine::remove(self.disk, plain)?;
            quarantine::transfer(self.disk, &self.of(path), plain)?;
        }
        quarantine::remove(self.disk, &self.folder)
    }
}

/// Whether the states of outputs are the same.
pub fn same_states(first: &[Look], second: &[Look]) -> bool {
    let own = |look: &Look| match &look.state {
        State::Missing => None,
        state => state.own_digest(),
    };
    first.iter().map(own).eq(second.iter().map(own))
}

/// Compares what stands at two paths; what differs is told of as `shown`.
pub fn compare(
    disk: &dyn Disk,
    (first, second): (&str, &str),
    shown: &str,
    found: &mut Vec<OutputDifference>,
) {
    if found.len() >= MOST {
        return;
    }
    let mut add = |place| {
        found.push(OutputDifference {
            path: shown.to_owned(),
            place,
        });
    };
    let kinds = [first, second].map(|path| kind(disk, path));
    match kinds {
        [None, None] => {}
        [Some(_), None] => add(DifferencePlace::Only { first: true }),
        [None, Some(_)] => add(DifferencePlace::Only { first: false }),
        [Some((FileKind::Link, _)), Some((FileKind::Link, _))] => {
            let [first, second] =
                [first, second].map(|path| disk.read_link(path).unwrap_or_default());
            if first != second {
                add(DifferencePlace::Link { first, second });
            }
        }
        [Some((FileKind::Folder, _)), Some((FileKind::Folder, _))] => {
            compare_folders(disk, (first, second), shown, found);
        }
        [Some((FileKind::File, one)), Some((FileKind::File, other))] => {
            let [first, second] = [first, second].map(|path| disk.read(path).unwrap_or_default());
            match first_difference(&first, &second) {
                Some(place) => add(place),
                None if one != other => add(DifferencePlace::Kind),
                None => {}
            }
        }
        [Some(_), Some(_)] => add(DifferencePlace::Kind),
    }
}

/// What stands at a path, links not followed, and whether it may be run.
fn kind(disk: &dyn Disk, path: &str) -> Option<(FileKind, bool)> {
    let stat = disk.stat(path).ok()??;
    let kind = if stat.link { FileKind::Link } else { stat.kind };
    Some((kind, stat.executable))
}

fn compare_folders(
    disk: &dyn Disk,
    (first, second): (&str, &str),
    shown: &str,
    found: &mut Vec<OutputDifference>,
) {
    let mut names: BTreeMap<String, ()> = BTreeMap::new();
    for folder in [first, second] {
        let folder = format!("{folder}/");
        let entries = tree_entries(disk, &folder).unwrap_or_default();
        let files = entries.into_iter();
        names.extend(files.map(|(path, _)| (path[folder.len()..].to_owned(), ())));
    }
    for name in names.into_keys() {
        let paths = [first, second].map(|folder| format!("{folder}/{name}"));
        let is_folder = |path: &String| matches!(kind(disk, path), Some((FileKind::Folder, _)));
        // What lies in them is named already.
        if !paths.iter().all(is_folder) {
            compare(
                disk,
                (&paths[0], &paths[1]),
                &format!("{shown}/{name}"),
                found,
            );
        }
    }
}

/// Where two contents differ first: by line where both are text, else by byte.
fn first_difference(first: &[u8], second: &[u8]) -> Option<DifferencePlace> {
    if first == second {
        return None;
    }
    let is_text = |bytes: &[u8]| std::str::from_utf8(bytes).is_ok() && !bytes.contains(&0);
    let at = first
        .iter()
        .zip(second)
        .take_while(|(one, other)| one == other)
        .count();
    if !is_text(first) || !is_text(second) {
        return Some(DifferencePlace::Byte {
            offset: at,
            first: first.get(at).copied(),
            second: second.get(at).copied(),
        });
    }
    let start = first[..at]
        .iter()
        .rposition(|&byte| byte == b'\n')
        .map_or(0, |end| end + 1);
    let line = |bytes: &[u8]| {
        let rest = &bytes[start..];
        let end = rest
            .iter()
            .position(|&byte| byte == b'\n')
            .unwrap_or(rest.len());
        // The end of a long line is of no use, the place where it differs is.
        let from = (at - start).saturating_sub(SHOWN / 2).min(end);
        let shown = &rest[from..end.min(from + SHOWN)];
        (!rest.is_empty()).then(|| shown.to_vec())
    };
    Some(DifferencePlace::Line {
        number: first[..at].iter().filter(|&&byte| byte == b'\n').count() + 1,
        first: line(first),
        second: line(second),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(number: usize, first: Option<&str>, second: Option<&str>) -> Option<DifferencePlace> {
        let bytes = |text: Option<&str>| text.map(|text| text.as_bytes().to_vec());
        Some(DifferencePlace::Line {
            number,
            first: bytes(first),
            second: bytes(second),
        })
    }

    #[test]
    fn the_first_difference_is_found() {
        let of = |first: &str, second: &str| first_difference(first.as_bytes(), second.as_bytes());
        assert_eq!(of("a\nb\n", "a\nb\n"), None);
        assert_eq!(of("a\nb\nc", "a\nx\nc"), line(2, Some("b"), Some("x")));
        assert_eq!(of("a\n", "a\nb\n"), line(2, None, Some("b")));
        assert_eq!(of("a", "a\n"), line(1, Some("a"), Some("a")));
        assert_eq!(of("", "x"), line(1, None, Some("x")));
        let long = format!("{}1{}", "x".repeat(300), "y".repeat(300));
        let other = long.replace('1', "2");
        let Some(DifferencePlace::Line { first, second, .. }) = of(&long, &other) else {
            panic!("text")
        };
        assert!(first.unwrap().contains(&b'1') && second.unwrap().contains(&b'2'));
        assert_eq!(
            first_difference(b"a\0b", b"a\0c"),
            Some(DifferencePlace::Byte {
                offset: 2,
                first: Some(b'b'),
                second: Some(b'c')
            })
        );
        assert_eq!(
            first_difference(b"\xff", b"\xff\xff"),
            Some(DifferencePlace::Byte {
                offset: 1,
                first: None,
                second: Some(0xff)
            })
        );
    }
}
