//! What earlier runs saw: for each step the recipe, the prerequisites and outputs with their
//! contents; for each file the record that spares reading it.
//!
//! On disk it is a *snapshot* that is read in place and a *journal* of what came since
//! (docs/how-it-works.md has both formats). In memory it is the snapshot and, in front of it, what
//! the journal says. Entries are written to the journal at once, so they survive a kill; a
//! [`Ledger::sync`] makes them survive the machine's end. When the journal has grown large, both are
//! folded into a new snapshot.

pub(crate) mod arrays;

mod build;
mod circumstances;
mod glance;
mod journal;
mod records;
mod snapshot;
mod state;
mod storage;
mod tables;
mod view;
mod write;

pub use circumstances::CommitState;
pub use circumstances::RanIn;
pub use circumstances::RunCircumstances;
pub use glance::LedgerGlance;
pub use journal::Mark;
pub use journal::Tail;
pub use records::BadEnd;
pub use records::Beginning;
pub use records::Edge;
pub use records::Entry;
pub use records::Given;
pub use records::LEGACY;
pub use records::LOOKED_IN_VAIN;
pub use records::StepRecord;
pub use records::WATCHED_BY_RUN;
pub use records::task_key;
pub use state::Damage;
pub use state::Ledger;
pub use storage::Bytes;
pub use storage::KeptFile;
pub use storage::MemoryStorage;
pub use storage::RealStorage;
pub use storage::Storage;
pub use view::EdgeView;
pub use view::StepView;
