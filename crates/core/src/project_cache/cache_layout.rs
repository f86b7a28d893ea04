//! How a worked-out project is laid out in `.handloom/project`.
//!
//! [`crate::ledger::arrays`] says how arrays are; the magic is `HLPROJ03`, the arrays are those of
//! [`CacheSection`]; the first is a [`CacheHeader`] in the postcard format, for all that is small.

use serde::Deserialize;
use serde::Serialize;
use zerocopy::FromBytes;
use zerocopy::Immutable;
use zerocopy::IntoBytes;
use zerocopy::KnownLayout;
use zerocopy::Unaligned;
use zerocopy::little_endian::I64;
use zerocopy::little_endian::U32;
use zerocopy::little_endian::U64;

use crate::graph::BuildRequest;
use crate::ledger::Mark;
use crate::ledger::arrays::ArrayLayout;
use crate::project::PathId;
use crate::project::SetId;
use crate::project::Step;
use crate::project::TaskId;
use crate::project::What;
use crate::project_cache::dependencies::CacheDependencies;
use crate::world::Digest;

/// The arrays, in the order of the table.
#[derive(Clone, Copy)]
pub enum CacheSection {
    /// [`CacheHeader`], postcard.
    Header,
    /// Bytes of all paths.
    Arena,
    /// Where each path begins and ends in `Arena`.
    Ranges,
    /// The XXH3 of each path.
    Hashes,
    Steps,
    /// Values of holes, as paths.
    Values,
    /// [`Pair`]: group, path
    Outputs,
    /// [`Pair`]: group and kind, number
    Needs,
    /// For each path the step that makes it.
    Makers,
    SortedOutputs,
    /// Where each set begins in `SetPaths`; one more at the end.
    SetStarts,
    SetPaths,
    /// The nodes that were reached, dependencies first.
    OrderNodes,
    /// Where in `OrderEdges` each position begins; one more at the end.
    OrderStarts,
    OrderEdges,
    /// Where each step begins in `LearnedPaths`; one more at the end. Empty when nothing learns.
    LearnedStarts,
    LearnedPaths,
    /// For each step whether it was judged to have no reason to run, given the contents below.
    Good,
    /// [`LookRec`], sorted by path.
    Looked,
    /// The digest of each of `Looked`.
    Digests,
}

pub const LAYOUT: ArrayLayout = ArrayLayout {
    magic: b"HLPROJ03",
    older: &[],
    older_arrays: 0,
    sizes: &[
        1,
        1,
        8,
        8,
        size_of::<Step>(),
        4,
        size_of::<Pair>(),
        size_of::<Pair>(),
        4,
        4,
        4,
        4,
        4,
        4,
        4,
        4,
        4,
        1,
        size_of::<LookRec>(),
        32,
    ],
};

/// A group with what is in it.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct Pair {
    /// The group's number; above it, for a need, what kind it is.
    pub group: U32,
    pub number: U32,
}

/// A file under whose stat its content is known.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct LookRec {
    pub path: U32,
    /// 1 when it is known that nothing is there.
    pub absent: U32,
    pub size: U64,
    pub modified: I64,
    pub changed: I64,
    pub inode: U64,
}

/// All that is small.
#[derive(Serialize, Deserialize)]
pub struct CacheHeader {
    pub key: Digest,
    pub request: CachedRequest,
    pub mark: Mark,
    pub dependencies: CacheDependencies,
    /// Whether every step that was reached was judged to have no reason to run, and nothing else
    /// was reached.
    pub all_good: bool,
    /// How many steps were reached.
    pub steps_in_order: usize,
    pub goals: Vec<u32>,
    pub has_default: bool,
    pub defaults: Vec<(u32, KeptWhat)>,
    /// For each declared target the number of its part, of its item there, and its holes.
    pub decls: Vec<(u32, u32, Vec<String>)>,
    pub tasks: Vec<KeptTask>,
    pub trees: Vec<u32>,
}

/// [`What`] as it is kept.
#[derive(Clone, Copy, Serialize, Deserialize)]
pub enum KeptWhat {
    Path(u32),
    Set(u32),
    Task(u32),
}

impl KeptWhat {
    /// How a need is kept.
    pub fn of(what: What) -> Self {
        match what {
            What::Path(path) => Self::Path(path.0),
            What::Set(set) => Self::Set(set.0),
            What::Task(task) => Self::Task(task.0),
        }
    }

    /// The need that was kept.
    pub fn what(self) -> What {
        match self {
            Self::Path(path) => What::Path(PathId(path)),
            Self::Set(set) => What::Set(SetId(set)),
            Self::Task(task) => What::Task(TaskId(task)),
        }
    }

    /// As two numbers, the first below 4.
    pub fn numbers(self) -> (u32, u32) {
        match self {
            Self::Path(path) => (0, path),
            Self::Set(set) => (1, set),
            Self::Task(task) => (2, task),
        }
    }

    /// From what [`KeptWhat::numbers`] gave.
    pub fn from_numbers(kind: u32, number: u32) -> Self {
        match kind {
            0 => Self::Path(number),
            1 => Self::Set(number),
            _ => Self::Task(number),
        }
    }
}

#[derive(Serialize, Deserialize)]
pub struct KeptTask {
    pub part: u32,
    pub item: u32,
    pub needs: Vec<(u16, KeptWhat)>,
    pub after: Vec<KeptWhat>,
    pub steps: Vec<KeptWhat>,
}

pub fn number(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}

/// What was asked for, as far as it decides which steps are reached.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CachedRequest {
    names: Vec<String>,
    folder: String,
}

impl CachedRequest {
    pub fn of(request: &BuildRequest) -> Self {
        Self {
            names: request.names.clone(),
            folder: request.folder.clone(),
        }
    }
}
