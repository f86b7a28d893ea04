//! The journal: entries one behind the other, each with a length and a checksum.
//!
//! Head: the 8 bytes `HLJRNL05`, then the seed, 32 bytes. Each frame: the length of its body as a
//! 32-bit number, the body's XXH3 (64 bits, its seed the first 8 bytes of the journal's), the body (an
//! [`Entry`] in the postcard format). Numbers are little-endian. Reading ends at the first frame that is cut
//! short or does not fit its checksum: that is where a kill or a power cut came, or where the zeros
//! begin that are written ahead. The seed keeps bytes of an older journal in the same blocks from passing as
//! new ones.
//!
//! What a step learned is often long, and the same for many. So a body may also begin with [`LEARNED`], then a number and
//! a list of edges, and a step that ended with [`ENDED_ALIKE`], the number of a list that stands before it, and its
//! record without what it learned. No list is referred to across a [`Mark`].
//!
//! Version 04 had no such lists. Versions up to 03 had the first 8 bytes of the body's BLAKE3 digest, keyed with the seed, for a checksum.
//! Version 02 had one kind of entry less. Version 01 had the same frames; its digests left out whether a file may
//! be run, so they are marked [`LEGACY`] and its file records are passed over. Nothing is added to an older one.

use std::collections::HashMap;
use std::io;

use postcard::ser_flavors::Flavor;
use serde::Deserialize;
use serde::Serialize;
use xxhash_rust::xxh3::xxh3_64;
use xxhash_rust::xxh3::xxh3_64_with_seed;

use crate::ledger::records::Edge;
use crate::ledger::records::Entry;
use crate::ledger::records::LEGACY;
use crate::ledger::records::StepRecord;

const MAGIC: &[u8; 8] = b"HLJRNL05";
const LAST_MAGIC: &[u8; 8] = b"HLJRNL04";
const BLAKE3_MAGICS: [&[u8; 8]; 2] = [b"HLJRNL03", b"HLJRNL02"];
const OLD_MAGIC: &[u8; 8] = b"HLJRNL01";
const HEAD: usize = 40;
const FRAME_HEAD: usize = 12;

/// The first byte of a body that is a list of learned edges. An [`Entry`]'s begins with its kind, a small number.
const LEARNED: u8 = 64;
/// The first byte of a body that is a step that ended and learned such a list.
const ENDED_ALIKE: u8 = 65;

/// Shorter lists stand in the step's own record.
const WORTH_A_LIST: usize = 4;

/// Lists of learned edges that were read, by their number.
type Lists = HashMap<u64, Vec<Edge>>;

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

impl Mark {
    /// How many bytes stand behind it in a journal that ends there.
    pub fn bytes_behind(&self, end: usize) -> usize {
        end.saturating_sub(usize::try_from(self.length).unwrap_or(usize::MAX))
    }
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
    let (mut entries, mut lists) = (Vec::new(), Lists::new());
    let mut end = before.len();
    while let Some((entry, size)) = frame(&bytes[end..], &mark.seed, checksum, &mut lists) {
        entries.extend(entry);
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
    let with_blake3 = legacy || BLAKE3_MAGICS.iter().any(|magic| head[..8] == magic[..]);
    let older = with_blake3 || &head[..8] == LAST_MAGIC;
    let checksum = if with_blake3 {
        older_checksum
    } else {
        checksum
    };
    if (&head[..8] != MAGIC && !older) || head[8..] != seed[..] {
        return None;
    }
    let mut read = Read {
        entries: Vec::new(),
        good: HEAD,
        older,
    };
    let mut lists = Lists::new();
    while let Some((entry, size)) = frame(&bytes[read.good..], seed, checksum, &mut lists) {
        read.entries.extend(match entry {
            Some(entry) if legacy => of_version_1(entry),
            entry => entry,
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
    let (mut entries, mut lists) = (Vec::new(), Lists::new());
    let mut at = 0;
    while let Some((entry, size)) = frame(&bytes[at..], seed, checksum, &mut lists)
        .or_else(|| frame(&bytes[at..], seed, older_checksum, &mut lists))
    {
        entries.extend(entry);
        at += size;
    }
    entries
}

/// Whether these are the first bytes of a journal of this version that belongs to a seed.
pub fn is_current(bytes: &[u8], seed: &[u8; 32]) -> bool {
    bytes.get(..HEAD).is_some_and(|found| *found == *head(seed))
}

/// One frame: its entry, unless it is a list for later ones, and its size.
fn frame(
    bytes: &[u8],
    seed: &[u8; 32],
    checksum: fn(&[u8], &[u8; 32]) -> [u8; 8],
    lists: &mut Lists,
) -> Option<(Option<Entry>, usize)> {
    let length = u32::from_le_bytes(bytes.get(..4)?.try_into().ok()?) as usize;
    let end = FRAME_HEAD.checked_add(length)?;
    let body = bytes.get(FRAME_HEAD..end)?;
    if bytes[4..FRAME_HEAD] != checksum(body, seed) {
        return None;
    }
    let entry = match body.split_first()? {
        (&LEARNED, list) => {
            let (number, list) = postcard::from_bytes(list).ok()?;
            lists.insert(number, list);
            None
        }
        (&ENDED_ALIKE, step) => {
            let (number, mut record): (u64, Box<StepRecord>) = postcard::from_bytes(step).ok()?;
            record.learned.clone_from(lists.get(&number)?);
            Some(Entry::Ended(record))
        }
        _ => Some(postcard::from_bytes(body).ok()?),
    };
    Some((entry, end))
}

/// Lists of learned edges that stand in a journal, and where.
#[derive(Default)]
pub struct SaidLists(HashMap<u64, usize>);

impl SaidLists {
    /// None from here on stands there any more: what was written then was taken off again.
    pub fn cut(&mut self, at: usize) {
        self.0.retain(|_, said| *said < at);
    }

    /// None stands there.
    pub fn clear(&mut self) {
        self.0.clear();
    }

    /// Adds the frames of an entry that is to stand at `at` bytes to a buffer. Lists in front of `marked` are not
    /// referred to.
    pub fn encode(
        &mut self,
        entry: &mut Entry,
        seed: &[u8; 32],
        (at, marked): (usize, usize),
        out: &mut Vec<u8>,
    ) -> io::Result<()> {
        let Entry::Ended(record) = entry else {
            return encode(entry, seed, out);
        };
        if record.learned.len() < WORTH_A_LIST {
            return encode(entry, seed, out);
        }
        let list = std::mem::take(&mut record.learned);
        let bytes = postcard::to_allocvec(&list).map_err(io::Error::other)?;
        let number = xxh3_64(&bytes);
        if self.0.get(&number).is_none_or(|said| *said < marked) {
            self.0.insert(number, at);
            encode_body(seed, out, |out| {
                out.push(LEARNED);
                postcard::serialize_with_flavor(&number, Appender(out))?;
                out.extend_from_slice(&bytes);
                Ok(())
            })?;
        }
        let encoded = encode_body(seed, out, |out| {
            out.push(ENDED_ALIKE);
            postcard::serialize_with_flavor(&(number, &*record), Appender(out))
        });
        record.learned = list;
        encoded
    }
}

/// Adds an entry's frame to a buffer.
pub fn encode(entry: &Entry, seed: &[u8; 32], out: &mut Vec<u8>) -> io::Result<()> {
    encode_body(seed, out, |out| {
        postcard::serialize_with_flavor(entry, Appender(out))
    })
}

fn encode_body(
    seed: &[u8; 32],
    out: &mut Vec<u8>,
    body: impl FnOnce(&mut Vec<u8>) -> postcard::Result<()>,
) -> io::Result<()> {
    let start = out.len();
    out.extend_from_slice(&[0; FRAME_HEAD]);
    body(out).map_err(io::Error::other)?;
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
        for magic in BLAKE3_MAGICS {
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
