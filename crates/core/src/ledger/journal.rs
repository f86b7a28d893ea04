//! The journal: entries one behind the other, each with a length and a checksum.
//!
//! Head: the 8 bytes `HLJRNL04`, then the seed, 32 bytes. Each frame: the length of its body as a
//! 32-bit number, the body's XXH3 (64 bits, its seed the first 8 bytes of the journal's), the body (an
//! [`Entry`] in the postcard format). Numbers are little-endian. Reading ends at the first frame that is cut
//! short or does not fit its checksum: that is where a kill or a power cut came, or where the zeros
//! begin that are written ahead. The seed keeps bytes of an older journal in the same blocks from passing as
//! new ones.
//!
//! Versions up to 03 had the first 8 bytes of the body's BLAKE3 digest, keyed with the seed, for a checksum.
//! Version 02 had one kind of entry less. Version 01 had the same frames; its digests left out whether a file may
//! be run, so they are marked [`LEGACY`] and its file records are passed over. Nothing is added to an older one.

use std::io;

use postcard::ser_flavors::Flavor;
use serde::Deserialize;
use serde::Serialize;
use xxhash_rust::xxh3::xxh3_64;
use xxhash_rust::xxh3::xxh3_64_with_seed;

use crate::ledger::records::Entry;
use crate::ledger::records::LEGACY;

const MAGIC: &[u8; 8] = b"HLJRNL04";
const LAST_MAGICS: [&[u8; 8]; 2] = [b"HLJRNL03", b"HLJRNL02"];
const OLD_MAGIC: &[u8; 8] = b"HLJRNL01";
const HEAD: usize = 40;
const FRAME_HEAD: usize = 12;

/// What a journal said.
pub struct Read {
    /// Its entries, oldest first.
    pub entries: Vec<Entry>,
    /// How many bytes of it are good.
    pub good: usize,
    /// Whether it is of an older version, to which nothing may be added.
    pub older: bool,
}

/// A place in a journal, with what stands before it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    pub(super) seed: [u8; 32],
    /// Bytes before it.
    length: u64,
    /// Their XXH3.
    check: u64,
}

/// What a journal says behind a mark.
pub struct Tail {
    /// The entries, oldest first.
    pub entries: Vec<Entry>,
    /// Where the last of them ends, bytes.
    pub end: usize,
}

/// The end of a journal, for later.
pub fn mark(whole: &[u8], seed: [u8; 32]) -> Mark {
    Mark {
        seed,
        length: whole.len() as u64,
        check: xxh3_64(whole),
    }
}

/// What a journal says behind a mark; `None` when it is not the journal that was marked.
pub fn tail(bytes: &[u8], mark: &Mark) -> Option<Tail> {
    let before = bytes.get(..usize::try_from(mark.length).ok()?)?;
    if xxh3_64(before) != mark.check {
        return None;
    }
    let mut entries = Vec::new();
    let mut end = before.len();
    while let Some((entry, size)) = frame(&bytes[end..], &mark.seed, checksum) {
        entries.push(entry);
        end += size;
    }
    Some(Tail { entries, end })
}

/// The first bytes of a journal.
pub fn head(seed: &[u8; 32]) -> Vec<u8> {
    let mut head = MAGIC.to_vec();
    head.extend_from_slice(seed);
    head
}

/// Reads a journal; `None` when it is not the one that belongs to this seed.
pub fn read(bytes: &[u8], seed: &[u8; 32]) -> Option<Read> {
    let head = bytes.get(..HEAD)?;
    let legacy = &head[..8] == OLD_MAGIC;
    let older = legacy || LAST_MAGICS.iter().any(|magic| head[..8] == magic[..]);
    let checksum = if older { older_checksum } else { checksum };
    if (&head[..8] != MAGIC && !older) || head[8..] != seed[..] {
        return None;
    }
    let mut read = Read {
        entries: Vec::new(),
        good: HEAD,
        older,
    };
    while let Some((entry, size)) = frame(&bytes[read.good..], seed, checksum) {
        read.entries.extend(if legacy {
            of_version_1(entry)
        } else {
            Some(entry)
        });
        read.good += size;
    }
    Some(read)
}

/// An entry of version 01 as this version has it.
fn of_version_1(entry: Entry) -> Option<Entry> {
    match entry {
        Entry::File(..) => None,
        Entry::Ended(mut record) => {
            let edges = record.outputs.iter_mut().chain(&mut record.needs);
            for edge in edges.chain(&mut record.learned) {
                edge.group |= LEGACY;
            }
            Some(Entry::Ended(record))
        }
        other => Some(other),
    }
}

/// The entries of frames without a head, up to the first that is not good; of any version.
pub fn entries(bytes: &[u8], seed: &[u8; 32]) -> Vec<Entry> {
    let mut entries = Vec::new();
    let mut at = 0;
    while let Some((entry, size)) =
        frame(&bytes[at..], seed, checksum).or_else(|| frame(&bytes[at..], seed, older_checksum))
    {
        entries.push(entry);
        at += size;
    }
    entries
}

/// Whether these are the first bytes of a journal of this version that belongs to a seed.
pub fn is_current(bytes: &[u8], seed: &[u8; 32]) -> bool {
    bytes.get(..HEAD).is_some_and(|found| *found == *head(seed))
}

fn frame(
    bytes: &[u8],
    seed: &[u8; 32],
    checksum: fn(&[u8], &[u8; 32]) -> [u8; 8],
) -> Option<(Entry, usize)> {
    let length = u32::from_le_bytes(bytes.get(..4)?.try_into().ok()?) as usize;
    let end = FRAME_HEAD.checked_add(length)?;
    let body = bytes.get(FRAME_HEAD..end)?;
    if bytes[4..FRAME_HEAD] != checksum(body, seed) {
        return None;
    }
    Some((postcard::from_bytes(body).ok()?, end))
}

/// Adds an entry's frame to a buffer.
pub fn encode(entry: &Entry, seed: &[u8; 32], out: &mut Vec<u8>) -> io::Result<()> {
    let start = out.len();
    out.extend_from_slice(&[0; FRAME_HEAD]);
    postcard::serialize_with_flavor(entry, Appender(out)).map_err(io::Error::other)?;
    let body = &out[start + FRAME_HEAD..];
    let length = u32::try_from(body.len()).map_err(io::Error::other)?;
    let checksum = checksum(body, seed);
    out[start..start + 4].copy_from_slice(&length.to_le_bytes());
    out[start + 4..start + FRAME_HEAD].copy_from_slice(&checksum);
    Ok(())
}

/// Takes bytes to the end of a buffer, whole texts at once.
struct Appender<'b>(&'b mut Vec<u8>);

impl Flavor for Appender<'_> {
    type Output = ();

    fn try_push(&mut self, byte: u8) -> postcard::Result<()> {
        self.0.push(byte);
        Ok(())
    }

    fn try_extend(&mut self, bytes: &[u8]) -> postcard::Result<()> {
        self.0.extend_from_slice(bytes);
        Ok(())
    }

    fn finalize(self) -> postcard::Result<()> {
        Ok(())
    }
}

fn checksum(body: &[u8], seed: &[u8; 32]) -> [u8; 8] {
    let mut start = [0; 8];
    start.copy_from_slice(&seed[..8]);
    xxh3_64_with_seed(body, u64::from_le_bytes(start)).to_le_bytes()
}

fn older_checksum(body: &[u8], seed: &[u8; 32]) -> [u8; 8] {
    let digest = blake3::keyed_hash(seed, body);
    let mut short = [0; 8];
    short.copy_from_slice(&digest.as_bytes()[..8]);
    short
}

#[cfg(test)]
mod tests {
    use super::*;

    fn journal(seed: &[u8; 32], names: &[&str]) -> Vec<u8> {
        let mut bytes = head(seed);
        for name in names {
            encode(&Entry::Began((*name).to_owned()), seed, &mut bytes).unwrap();
        }
        bytes
    }

    #[test]
    fn every_cut_leaves_a_good_beginning() {
        let seed = [7; 32];
        let whole = journal(&seed, &["a", "bb", "ccc"]);
        let mut counts = Vec::new();
        for cut in HEAD..=whole.len() {
            let read = read(&whole[..cut], &seed).unwrap();
            assert!(read.good <= cut);
            counts.push(read.entries.len());
        }
        assert!(counts.is_sorted());
        assert_eq!((counts[0], *counts.last().unwrap()), (0, 3));
        assert!(read(&whole[..HEAD - 1], &seed).is_none());
    }

    #[test]
    fn a_flipped_byte_ends_the_reading_there() {
        let seed = [7; 32];
        let whole = journal(&seed, &["a", "bb", "ccc"]);
        for at in HEAD..whole.len() {
            let mut bytes = whole.clone();
            bytes[at] ^= 0x40;
            let read = read(&bytes, &seed).unwrap();
            assert!(read.entries.len() < 3, "byte {at}");
            assert!(read.good <= at, "byte {at}");
        }
    }

    #[test]
    fn journals_of_earlier_versions_are_read() {
        let seed = [7; 32];
        for magic in LAST_MAGICS {
            let mut bytes = magic.to_vec();
            bytes.extend_from_slice(&seed);
            let body = postcard::to_allocvec(&Entry::Began("a".to_owned())).unwrap();
            bytes.extend_from_slice(&u32::try_from(body.len()).unwrap().to_le_bytes());
            bytes.extend_from_slice(&older_checksum(&body, &seed));
            bytes.extend_from_slice(&body);
            let read = read(&bytes, &seed).unwrap();
            assert!(read.older);
            assert_eq!(read.entries, [Entry::Began("a".to_owned())]);
            assert_eq!(entries(&bytes[HEAD..], &seed), read.entries);
        }
    }

    #[test]
    fn frames_of_another_journal_do_not_pass() {
        let mut bytes = head(&[1; 32]);
        bytes.extend_from_slice(&journal(&[2; 32], &["old"])[HEAD..]);
        assert_eq!(read(&bytes, &[1; 32]).unwrap().entries, []);
        assert!(read(&bytes, &[2; 32]).is_none());
    }
}
