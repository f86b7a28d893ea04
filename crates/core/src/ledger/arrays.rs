//! Files that are arrays of fixed-size records, read where they lie.
//!
//! Head, 64 bytes: 8 bytes of magic, a seed (32), the XXH3 of everything behind the head (8), that
//! many bytes as a number (8), flags (8). Then a table with offset and count of each array (16 bytes
//! each), then the arrays, each at a multiple of 8. All numbers are little-endian; offsets count
//! from the start of the file. The checksum is verified once at the door, and every index is still
//! looked up with a bounds check.

use highway::HighwayHash;
use highway::HighwayHasher;
use highway::Key;
use xxhash_rust::xxh3::Xxh3;
use xxhash_rust::xxh3::xxh3_64;
use zerocopy::FromBytes;
use zerocopy::FromZeros;
use zerocopy::Immutable;
use zerocopy::IntoBytes;
use zerocopy::KnownLayout;
use zerocopy::Unaligned;
use zerocopy::little_endian::U64;

use crate::ledger::storage::Bytes;

const HEAD: usize = 64;
/// So many bytes of the magic name the kind of file; the others its version.
const FAMILY: usize = 6;

#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct SectionRec {
    at: U64,
    count: U64,
}

/// What kind of file it is.
#[derive(Clone, Copy, Debug)]
pub struct ArrayLayout {
    /// Its first bytes: six for the kind, two for the version.
    pub magic: &'static [u8; 8],
    /// Earlier versions, oldest first, and how many of these arrays each has: the first ones.
    pub older: &'static [(&'static [u8; 8], usize)],
    /// The size of a record of each array, bytes.
    pub sizes: &'static [usize],
}

/// A file that is being read.
pub struct Arrays {
    bytes: Bytes,
    /// Offset and count of each array.
    sections: Vec<(usize, usize)>,
    /// The seed in its head.
    pub seed: [u8; 32],
    /// The flags in its head.
    pub flags: u64,
    /// Which of the earlier versions it is of, by its place among them.
    pub older: Option<usize>,
}

/// What is wrong with a file of arrays.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FormatError {
    /// It ends too early.
    #[error("it is cut short")]
    CutShort,
    /// Its magic is that of another version.
    #[error("it is of another format, written by another version of Hand Loom")]
    OtherVersion,
    /// It is something else.
    #[error("it does not begin as a ledger does")]
    NoLedger,
    /// Something in it was changed.
    #[error("its checksum does not fit its content")]
    Checksum,
    /// Its table can't be right.
    #[error("its table points outside of it")]
    Table,
}

/// How it is made sure that a file is what was written.
#[derive(Clone, Copy)]
enum Proof<'k> {
    Sum,
    Seal(&'k [u8; 32]),
    Nothing,
}

impl Arrays {
    /// Checks a file's head, table and checksum.
    ///
    /// # Errors
    /// What is wrong.
    pub fn open(bytes: Bytes, layout: ArrayLayout) -> Result<Self, FormatError> {
        Self::open_checked(bytes, layout, Proof::Sum)
    }

    /// The same for a file that this process has just written, without the checksum.
    ///
    /// # Errors
    /// What is wrong.
    pub fn open_own(bytes: Bytes, layout: ArrayLayout) -> Result<Self, FormatError> {
        Self::open_checked(bytes, layout, Proof::Nothing)
    }

    /// The same for a file that was sealed with a key: only who has the key can have written it.
    ///
    /// # Errors
    /// What is wrong.
    pub fn open_sealed(
        bytes: Bytes,
        layout: ArrayLayout,
        key: &[u8; 32],
    ) -> Result<Self, FormatError> {
        Self::open_checked(bytes, layout, Proof::Seal(key))
    }

    fn open_checked(
        bytes: Bytes,
        layout: ArrayLayout,
        proof: Proof<'_>,
    ) -> Result<Self, FormatError> {
        let head = bytes.get(..HEAD).ok_or(FormatError::CutShort)?;
        let mut known = layout.older.iter();
        let older = known.position(|(magic, _)| head[..8] == magic[..]);
        if head[..FAMILY] == layout.magic[..FAMILY] && &head[..8] != layout.magic && older.is_none()
        {
            return Err(FormatError::OtherVersion);
        }
        if &head[..8] != layout.magic && older.is_none() {
            return Err(FormatError::NoLedger);
        }
        let mut seed = [0; 32];
        seed.copy_from_slice(&head[8..40]);
        let number = |at: usize| {
            let mut bytes = [0; 8];
            bytes.copy_from_slice(&head[at..at + 8]);
            u64::from_le_bytes(bytes)
        };
        let body = &bytes[HEAD..];
        if number(48) != body.len() as u64 {
            return Err(FormatError::CutShort);
        }
        let fits = match proof {
            Proof::Seal(key) => seed == mac(body, number(56), key),
            Proof::Sum => number(40) == xxh3_64(body),
            Proof::Nothing => true,
        };
        if !fits {
            return Err(FormatError::Checksum);
        }
        let flags = number(56);
        let count = older.map_or(layout.sizes.len(), |older| layout.older[older].1);
        let sizes = &layout.sizes[..count];
        let sections = sections(&bytes, sizes).ok_or(FormatError::Table)?;
        Ok(Self {
            bytes,
            sections,
            seed,
            flags,
            older,
        })
    }

    /// How many records an array has.
    pub fn count(&self, section: usize) -> usize {
        self.sections.get(section).map_or(0, |(_, count)| *count)
    }

    /// Its size in bytes.
    pub fn size(&self) -> usize {
        self.bytes.len()
    }

    fn raw<T>(&self, section: usize) -> &[u8] {
        let (at, count) = self.sections.get(section).copied().unwrap_or_default();
        let size = count.saturating_mul(size_of::<T>());
        self.bytes
            .get(at..at.saturating_add(size))
            .unwrap_or_default()
    }

    /// The bytes of the same file, unsealed, with other bytes in one of its arrays.
    pub fn with_array(&self, layout: ArrayLayout, section: usize, bytes: &[u8]) -> Vec<u8> {
        let raw = (0..self.sections.len()).map(|at| match at {
            at if at == section => bytes,
            at => {
                let (start, count) = self.sections[at];
                &self.bytes[start..start + count * layout.sizes[at]]
            }
        });
        write(layout, &[0; 32], self.flags, &raw.collect::<Vec<_>>())
    }

    /// An array where it lies.
    pub fn get<T: FromBytes + Immutable + KnownLayout + Unaligned>(&self, section: usize) -> &[T] {
        <[T]>::ref_from_bytes(self.raw::<T>(section)).unwrap_or_default()
    }

    /// A copy of an array, for records that want to be aligned.
    pub fn copy<T: FromBytes + IntoBytes + FromZeros>(&self, section: usize) -> Vec<T> {
        let raw = self.raw::<T>(section);
        // A size that is beyond memory cannot be: the bytes are there.
        let mut records = T::new_vec_zeroed(raw.len() / size_of::<T>()).unwrap_or_default();
        let bytes = records.as_mut_slice().as_mut_bytes();
        if bytes.len() == raw.len() {
            bytes.copy_from_slice(raw);
        }
        records
    }
}

fn sections(bytes: &[u8], sizes: &[usize]) -> Option<Vec<(usize, usize)>> {
    let table = bytes.get(HEAD..HEAD + sizes.len() * size_of::<SectionRec>())?;
    let table = <[SectionRec]>::ref_from_bytes(table).ok()?;
    table
        .iter()
        .zip(sizes)
        .map(|(record, size)| {
            let at = usize::try_from(record.at.get()).ok()?;
            let count = usize::try_from(record.count.get()).ok()?;
            let end = at.checked_add(count.checked_mul(*size)?)?;
            (end <= bytes.len()).then_some((at, count))
        })
        .collect()
}

/// Seals a file with a key, in the place of its seed.
pub fn seal(bytes: &mut [u8], key: &[u8; 32]) {
    let mut flags = [0; 8];
    flags.copy_from_slice(&bytes[56..HEAD]);
    let seal = mac(&bytes[HEAD..], u64::from_le_bytes(flags), key);
    bytes[8..40].copy_from_slice(&seal);
}

/// What a file is sealed with.
pub fn seal_of(bytes: &[u8]) -> [u8; 32] {
    let mut seal = [0; 32];
    seal.copy_from_slice(&bytes[8..40]);
    seal
}

/// HighwayHash with 256 bits: a keyed hash that is strong and as fast as memory is read.
fn mac(body: &[u8], flags: u64, key: &[u8; 32]) -> [u8; 32] {
    bytes(hasher(flags, key).hash256(body))
}

fn hasher(flags: u64, key: &[u8; 32]) -> HighwayHasher {
    let word = |at: usize| {
        let mut bytes = [0; 8];
        bytes.copy_from_slice(&key[at * 8..at * 8 + 8]);
        u64::from_le_bytes(bytes)
    };
    HighwayHasher::new(Key([word(0) ^ flags, word(1), word(2), word(3)]))
}

fn bytes(hash: [u64; 4]) -> [u8; 32] {
    let mut bytes = [0; 32];
    for (bytes, word) in bytes.chunks_mut(8).zip(hash) {
        bytes.copy_from_slice(&word.to_le_bytes());
    }
    bytes
}

/// The bytes of a file with these arrays, in the order of the layout.
pub fn write(layout: ArrayLayout, seed: &[u8; 32], flags: u64, arrays: &[&[u8]]) -> Vec<u8> {
    pieces(layout, seed, flags, arrays, |pieces| pieces.concat())
}

/// The same in pieces, without a copy of the arrays.
pub fn pieces<T>(
    layout: ArrayLayout,
    seed: &[u8; 32],
    flags: u64,
    arrays: &[&[u8]],
    take: impl FnOnce(&[&[u8]]) -> T,
) -> T {
    let table = table(layout, arrays);
    let mut checksum = Xxh3::new();
    body(&table, arrays, |piece| checksum.update(piece));
    headed(layout, seed, checksum.digest(), flags, &table, arrays, take)
}

/// The same sealed with a key ([`seal`]); the seal is handed over too.
pub fn sealed<T>(
    layout: ArrayLayout,
    key: &[u8; 32],
    arrays: &[&[u8]],
    take: impl FnOnce(&[&[u8]], [u8; 32]) -> T,
) -> T {
    let table = table(layout, arrays);
    let mut hasher = hasher(0, key);
    body(&table, arrays, |piece| hasher.append(piece));
    let seal = bytes(hasher.finalize256());
    headed(layout, &seal, 0, 0, &table, arrays, |pieces| {
        take(pieces, seal)
    })
}

fn padding(bytes: &[u8]) -> &'static [u8] {
    &[0; 7][..bytes.len().next_multiple_of(8) - bytes.len()]
}

fn table(layout: ArrayLayout, arrays: &[&[u8]]) -> Vec<u8> {
    let mut table = Vec::new();
    let mut at = HEAD + arrays.len() * size_of::<SectionRec>();
    for (bytes, record) in arrays.iter().zip(layout.sizes) {
        let section = SectionRec {
            at: (at as u64).into(),
            count: ((bytes.len() / record) as u64).into(),
        };
        table.extend_from_slice(section.as_bytes());
        at += bytes.len().next_multiple_of(8);
    }
    table
}

/// All that stands behind the head, piece by piece.
fn body<'b>(table: &'b [u8], arrays: &[&'b [u8]], mut each: impl FnMut(&'b [u8])) {
    each(table);
    for bytes in arrays {
        each(bytes);
        each(padding(bytes));
    }
}

fn headed<T>(
    layout: ArrayLayout,
    seed: &[u8; 32],
    checksum: u64,
    flags: u64,
    table: &[u8],
    arrays: &[&[u8]],
    take: impl FnOnce(&[&[u8]]) -> T,
) -> T {
    let mut pieces = Vec::new();
    body(table, arrays, |piece| pieces.push(piece));
    let size: usize = pieces.iter().map(|piece| piece.len()).sum();
    let mut head = layout.magic.to_vec();
    head.extend_from_slice(seed);
    head.extend_from_slice(&checksum.to_le_bytes());
    head.extend_from_slice(&(size as u64).to_le_bytes());
    head.extend_from_slice(&flags.to_le_bytes());
    pieces.insert(0, &head);
    take(&pieces)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sealed_in_pieces_is_what_is_sealed_whole() {
        let layout = ArrayLayout {
            magic: b"HLTEST01",
            older: &[],
            sizes: &[1, 4],
        };
        let arrays: [&[u8]; 2] = [b"thirteen byte", &[7; 8]];
        let key = [5; 32];
        let (whole, sealed_with) = sealed(layout, &key, &arrays, |pieces, seal| {
            (pieces.concat(), seal)
        });
        let mut written = write(layout, &[0; 32], 0, &arrays);
        seal(&mut written, &key);
        assert_eq!(seal_of(&whole), sealed_with);
        // The checksum is not that of a sealed file.
        assert_eq!(whole[..40], written[..40]);
        assert_eq!(whole[48..], written[48..]);
        let opened = Arrays::open_sealed(Bytes::Owned(whole.clone()), layout, &key).unwrap();
        assert_eq!(opened.get::<u8>(0), arrays[0]);
        let mut changed = whole;
        *changed.last_mut().unwrap() ^= 1;
        assert!(Arrays::open_sealed(Bytes::Owned(changed), layout, &key).is_err());
    }
}
