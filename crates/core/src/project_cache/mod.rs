//! The project as it was worked out last time, taken over where nothing speaks against it.
//!
//! Working out a large project and judging each of its steps takes much longer than looking at its
//! files. So a run that found steps without a reason to run keeps what it knew: the project, and for
//! each file of those steps the [`Record`](crate::content::Record) under which its content is known.
//! The next run takes it over when everything that working out depended on is as it was
//! (`CacheDependencies`), looks at each file once, and judges only the steps
//! that have a file that differs, or of which the journal says something newer. All others are as they were
//! when they were last judged, since a verdict only depends on the ledger's record and on what is compared
//! here.
//!
//! What is kept is never needed: when anything is odd, the project is worked out.

pub mod cached_project;
pub mod load;
pub mod resident;

mod amended;
mod cache_check;
mod cache_file;
mod cache_layout;
mod dependencies;
mod front;
mod front_look;
mod keep;
mod key;
mod looks;
mod request;
mod since;
mod skeleton;
mod text_edit;
mod verify_files;
mod writer;

pub use cached_project::CachedProject;
pub use front_look::FrontLook;
pub use front_look::Question;
pub use front_look::Unchanged;
pub use keep::keep;
pub use keep::keep_patched;
pub use key::BUILD;
pub use key::key;
pub use load::AskedNodes;
pub use load::LoadedProject;
pub use load::dry_run;
pub use resident::ResidentProject;
pub use writer::BuildOutcome;
