//! How a worked-out project is laid out in `.handloom/project`.
//!
//! [`crate::ledger::arrays`] says how arrays are; the magic is `HLPROJ05`, the arrays are those of
//! [`CacheSection`]; the first is a [`CacheHeader`] in the postcard format, for all that is small.

use serde::Deserialize;
use serde::Serialize;
use zerocopy::FromBytes;
use zerocopy::Immutable;
use zerocopy::IntoBytes;
use zerocopy::KnownLayout;
use zerocopy::Unaligned;
use zerocopy::little_endian::U32;
use zerocopy::little_endian::U64;

use crate::ledger::arrays::ArrayLayout;
use crate::project::PathId;
use crate::project::SetId;
use crate::project::Step;
use crate::project::TaskId;
use crate::project::What;
use crate::project::task_call::TaskCall;

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
    /// [`DeclRec`]: where each target stands.
    Decls,
    /// [`ItemRec`]: the lines of each item of the description, part by part.
    Items,
}

pub const LAYOUT: ArrayLayout = ArrayLayout {
    magic: b"HLPROJ05",
    older: &[],
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
        size_of::<DeclRec>(),
        size_of::<ItemRec>(),
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

/// Where a target stands.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct DeclRec {
    /// The part.
    pub part: U32,
    /// Its index among the part's items.
    pub item: U32,
    /// Which of the header's lists of hole names is its own.
    pub holes: U32,
    /// 1 when it has variables of its own, whose values are worked out at once.
    pub has_lets: U32,
}

/// The lines of an item.
#[derive(Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub struct ItemRec {
    /// Which of the description's files.
    pub source: U32,
    pub start: U32,
    pub end: U32,
    /// 1 for a target that is read when it is asked for.
    pub unread: U32,
    /// The XXH3 of its lines.
    pub digest: U64,
    /// Of such a target that of the lines which decide what steps it has, as
    /// [`structure_digest`](crate::language::structure_digest) says; else 0.
    pub structure: U64,
}

/// All that is small.
#[derive(Serialize, Deserialize)]
pub struct CacheHeader {
    /// The folder of each part, the part that includes it, and how many items it has.
    pub parts: Vec<(String, Option<u32>, u32)>,
    pub goals: Vec<u32>,
    pub has_default: bool,
    pub defaults: Vec<(u32, KeptWhat)>,
    /// The lists of hole names that targets have.
    pub holes: Vec<Vec<String>>,
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
    pub finally: Vec<u32>,
    /// The values that it was resolved for.
    pub call: TaskCall,
    pub is_called: bool,
}

pub fn number(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}
