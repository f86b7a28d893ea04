//! Whole folders: one digest over names, contents, the executable bit, and links.

use std::collections::HashSet;
use std::io;

use crate::content::Linked;
use crate::content::Reader;
use crate::content::Record;
use crate::content::State;
use crate::content::as_executable;
use crate::project::folders::OWN_FOLDER;
use crate::project::folders::folders_around;
use crate::world::Digest;
use crate::world::Disk;
use crate::world::FileKind;
use crate::world::names;

/// What lies below a folder, whose path ends with a slash.
///
/// The digest is BLAKE3 over one entry for each name, in the order of their paths: a letter for what
/// it is (`f` file, `x` executable file, `l` link, `d` folder), the length of the path below the
/// folder as 8 bytes and the path, then the file's digest or the length and text of the link. What a
/// reader sees has behind each link also what stands at its end: `e` and the digest of a file, `t` and that
/// of a folder. A folder is entered once, and never through a link that leads back to one around it.
///
/// # Errors
/// When something in it cannot be read; the error names it.
pub fn tree(
    reader: &Reader<'_>,
    folder: &str,
    buffer: &mut Vec<u8>,
    read: &mut Vec<(String, Record)>,
) -> io::Result<State> {
    let mut walk = TreeReader {
        reader,
        buffer,
        read,
        entered: None,
    };
    let (own, seen) = walk.folder(folder)?;
    if own == seen {
        return Ok(State::Content(own));
    }
    Ok(State::Linked(Box::new(Linked {
        seen,
        own,
        end: None,
        dangling: false,
    })))
}

struct TreeReader<'r, 'a> {
    reader: &'r Reader<'a>,
    buffer: &'r mut Vec<u8>,
    read: &'r mut Vec<(String, Record)>,
    /// Folders that were entered or lie around; known once the first link to a folder is met.
    entered: Option<HashSet<(u64, u64)>>,
}

impl TreeReader<'_, '_> {
    fn folder(&mut self, folder: &str) -> io::Result<(Digest, Digest)> {
        let disk = self.reader.disk;
        let entries = entries(disk, folder)?;
        let (mut own, mut seen) = (blake3::Hasher::new(), blake3::Hasher::new());
        for (path, kind) in &entries {
            let named = |error: io::Error| {
                io::Error::new(error.kind(), format!("`{}`: {error}", names::shown(path)))
            };
            let name = names::to_bytes(&path[folder.len()..]);
            let mut entry = |letter: u8, rest: &[u8]| {
                for hasher in [&mut own, &mut seen] {
                    hasher.update(&[letter]);
                    hasher.update(&(name.len() as u64).to_le_bytes());
                    hasher.update(&name);
                    hasher.update(rest);
                }
            };
            match kind {
                FileKind::Folder => entry(b'd', &[]),
                FileKind::Link => {
                    let text = disk.read_link(path).map_err(named)?;
                    let text = names::to_bytes(&text);
                    let mut rest = (text.len() as u64).to_le_bytes().to_vec();
                    rest.extend_from_slice(&text);
                    entry(b'l', &rest);
                    if let Some((letter, digest)) =
                        self.end(folder, path, &entries).map_err(named)?
                    {
                        seen.update(&[letter]);
                        seen.update(&digest.0);
                    }
                }
                FileKind::File => {
                    let stat = disk.stat(path)?.ok_or(io::ErrorKind::NotFound);
                    let stat = stat.map_err(|error| named(error.into()))?;
                    let digest = self.reader.file(path, &stat, self.buffer, self.read);
                    let digest = digest.map_err(named)?;
                    if stat.executable {
                        entry(b'x', &as_executable(digest).0);
                    } else {
                        entry(b'f', &digest.0);
                    }
                }
                FileKind::Other => {}
            }
        }
        let digest = |hasher: &blake3::Hasher| Digest(*hasher.finalize().as_bytes());
        Ok((digest(&own), digest(&seen)))
    }

    /// What a reader finds at the end of a link.
    fn end(
        &mut self,
        folder: &str,
        path: &str,
        entries: &[(String, FileKind)],
    ) -> io::Result<Option<(u8, Digest)>> {
        let disk = self.reader.disk;
        let Some(stat) = disk.stat(path)? else {
            return Ok(None);
        };
        match stat.kind {
            FileKind::File => {
                let digest = self.reader.file(path, &stat, self.buffer, self.read)?;
                Ok(Some((b'e', digest)))
            }
            FileKind::Folder => {
                let entered = self
                    .entered
                    .get_or_insert_with(|| folders_around(disk, folder));
                // Those that are entered by their own name are known before any link is followed.
                for (path, _) in entries.iter().filter(|(_, kind)| *kind == FileKind::Folder) {
                    entered.extend(disk.stat(path)?.map(|stat| stat.identity));
                }
                if !entered.insert(stat.identity) {
                    return Ok(None);
                }
                let (_, seen) = self.folder(&format!("{path}/"))?;
                Ok(Some((b't', seen)))
            }
            FileKind::Link | FileKind::Other => Ok(None),
        }
    }
}

/// All names below a folder, sorted by path.
///
/// # Errors
/// When a folder in it cannot be read; the error names it.
pub fn entries(disk: &dyn Disk, folder: &str) -> io::Result<Vec<(String, FileKind)>> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        let listed = if folder == "./" { "" } else { folder.as_str() };
        let names = disk.list(listed).map_err(|error| {
            io::Error::new(
                error.kind(),
                format!("`{}`: {error}", names::shown(&folder)),
            )
        })?;
        for entry in names {
            if listed.is_empty() && &*entry.name == OWN_FOLDER {
                continue;
            }
            let path = format!("{folder}{}", entry.name);
            if entry.kind == FileKind::Folder {
                open.push(format!("{path}/"));
            }
            found.push((path, entry.kind));
        }
    }
    found.sort_unstable();
    Ok(found)
}

/// The file in a folder, or the folder in it, that was changed last, when that was after a time
/// (nanoseconds since 1970).
#[must_use]
pub fn changed_since(disk: &dyn Disk, folder: &str, since: i64) -> Option<String> {
    let stats = entries(disk, folder)
        .ok()?
        .into_iter()
        .filter_map(|(path, _)| {
            let stat = disk.stat(&path).ok()??;
            Some((stat.modified.max(stat.changed), path, stat.kind))
        });
    let newest = |folders: bool, stats: &[(i64, String, FileKind)]| {
        let of_kind = |stat: &&(i64, String, FileKind)| (stat.2 == FileKind::Folder) == folders;
        let newest = stats.iter().filter(of_kind).max()?;
        (newest.0 > since).then(|| newest.1.clone())
    };
    let stats: Vec<_> = stats.collect();
    newest(false, &stats).or_else(|| newest(true, &stats))
}
