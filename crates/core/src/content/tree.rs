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
use crate::world::LeaveOut;
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
        left_out: reader.disk.left_out().of(folder),
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

/// Puts the entries of a folder into a digest, in the order of their paths.
#[derive(Default)]
pub struct TreeHasher(blake3::Hasher);

impl TreeHasher {
    fn add(&mut self, letter: u8, name: &[u8], rest: &[u8]) {
        self.0.update(&[letter]);
        self.0.update(&(name.len() as u64).to_le_bytes());
        self.0.update(name);
        self.0.update(rest);
    }

    /// A folder, by its name below the one that is read.
    pub fn folder(&mut self, name: &[u8]) {
        self.add(b'd', name, &[]);
    }

    /// A link, and what it says.
    pub fn link(&mut self, name: &[u8], text: &[u8]) {
        self.add(b'l', name, &(text.len() as u64).to_le_bytes());
        self.0.update(text);
    }

    /// A file, with its content as [`State::Content`] has it.
    pub fn file(&mut self, name: &[u8], digest: Digest, is_executable: bool) {
        if is_executable {
            self.add(b'x', name, &as_executable(digest).0);
        } else {
            self.add(b'f', name, &digest.0);
        }
    }

    /// What stands at the end of the link that was put in last.
    fn end(&mut self, letter: u8, digest: Digest) {
        self.0.update(&[letter]);
        self.0.update(&digest.0);
    }

    /// The digest of all that was put in.
    #[must_use]
    pub fn digest(&self) -> Digest {
        Digest(*self.0.finalize().as_bytes())
    }
}

struct TreeReader<'r, 'a> {
    reader: &'r Reader<'a>,
    buffer: &'r mut Vec<u8>,
    read: &'r mut Vec<(String, Record)>,
    /// Folders that were entered or lie around; known once the first link to a folder is met.
    entered: Option<HashSet<(u64, u64)>>,
    /// What does not count.
    left_out: Option<LeaveOut>,
}

impl TreeReader<'_, '_> {
    fn folder(&mut self, folder: &str) -> io::Result<(Digest, Digest)> {
        let disk = self.reader.disk;
        let entries = entries_but(disk, folder, self.left_out.as_ref())?;
        let (mut own, mut seen) = (TreeHasher::default(), TreeHasher::default());
        for (path, kind) in &entries {
            let named = |error: io::Error| {
                io::Error::new(error.kind(), format!("`{}`: {error}", names::shown(path)))
            };
            let name = names::to_bytes(&path[folder.len()..]);
            let both = [&mut own, &mut seen];
            match kind {
                FileKind::Folder => both.into_iter().for_each(|hasher| hasher.folder(&name)),
                FileKind::Link => {
                    let text = disk.read_link(path).map_err(named)?;
                    let text = names::to_bytes(&text);
                    both.into_iter()
                        .for_each(|hasher| hasher.link(&name, &text));
                    if let Some((letter, digest)) =
                        self.end(folder, path, &entries).map_err(named)?
                    {
                        seen.end(letter, digest);
                    }
                }
                FileKind::File => {
                    let stat = disk.stat(path)?.ok_or(io::ErrorKind::NotFound);
                    let stat = stat.map_err(|error| named(error.into()))?;
                    let digest = self.reader.file(path, &stat, self.buffer, self.read);
                    let digest = digest.map_err(named)?;
                    let put_in =
                        |hasher: &mut TreeHasher| hasher.file(&name, digest, stat.executable);
                    both.into_iter().for_each(put_in);
                }
                FileKind::Other => {}
            }
        }
        Ok((own.digest(), seen.digest()))
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

/// All names below a folder that count when it is compared, sorted by path.
///
/// # Errors
/// When a folder in it cannot be read; the error names it.
pub fn entries(disk: &dyn Disk, folder: &str) -> io::Result<Vec<(String, FileKind)>> {
    entries_but(disk, folder, disk.left_out().of(folder).as_ref())
}

fn entries_but(
    disk: &dyn Disk,
    folder: &str,
    left_out: Option<&LeaveOut>,
) -> io::Result<Vec<(String, FileKind)>> {
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
            let is_folder = entry.kind == FileKind::Folder;
            if let Some(left_out) = left_out
                && (left_out(&path) || is_folder && left_out(&format!("{path}/")))
            {
                continue;
            }
            if is_folder {
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
