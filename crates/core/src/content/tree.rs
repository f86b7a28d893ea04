//! Whole folders: one digest over names, contents, the executable bit, and links as links.

use std::io;

use crate::content::Reader;
use crate::content::Record;
use crate::project::folders::OWN_FOLDER;
use crate::world::Digest;
use crate::world::Kind;

/// The digest of everything below a folder, whose path ends with a slash.
///
/// The digest is BLAKE3 over one entry for each name, in the order of their paths: a letter for what
/// it is (`f` file, `x` executable file, `l` link, `d` folder), the length of the path below the
/// folder as 8 bytes and the path, then the file's digest or the length and text of the link.
///
/// # Errors
/// When something in it cannot be read.
pub fn tree_digest(
    reader: &Reader<'_>,
    folder: &str,
    buffer: &mut Vec<u8>,
    read: &mut Vec<(String, Record)>,
) -> io::Result<Digest> {
    let mut hasher = blake3::Hasher::new();
    for (path, kind) in entries(reader, folder)? {
        let name = &path[folder.len()..];
        let mut entry = |letter: u8, rest: &[u8]| {
            hasher.update(&[letter]);
            hasher.update(&(name.len() as u64).to_le_bytes());
            hasher.update(name.as_bytes());
            hasher.update(rest);
        };
        match kind {
            Kind::Folder => entry(b'd', &[]),
            Kind::Link => {
                let target = reader.disk.read_link(&path)?;
                let mut rest = (target.len() as u64).to_le_bytes().to_vec();
                rest.extend_from_slice(target.as_bytes());
                entry(b'l', &rest);
            }
            Kind::File => {
                let stat = reader.disk.stat(&path)?.ok_or(io::ErrorKind::NotFound)?;
                let digest = reader.file(&path, &stat, buffer, read)?;
                entry(if stat.executable { b'x' } else { b'f' }, &digest.0);
            }
            Kind::Other => {}
        }
    }
    Ok(Digest(*hasher.finalize().as_bytes()))
}

/// All names below a folder, sorted by path.
fn entries(reader: &Reader<'_>, folder: &str) -> io::Result<Vec<(String, Kind)>> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        let listed = if folder == "./" { "" } else { folder.as_str() };
        for entry in reader.disk.list(listed)? {
            if listed.is_empty() && &*entry.name == OWN_FOLDER {
                continue;
            }
            let path = format!("{folder}{}", entry.name);
            if entry.kind == Kind::Folder {
                open.push(format!("{path}/"));
            }
            found.push((path, entry.kind));
        }
    }
    found.sort_unstable();
    Ok(found)
}
