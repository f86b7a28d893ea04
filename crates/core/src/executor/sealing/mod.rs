//! Shutting a recipe off from what it does not name.
//!
//! A [`Seal`] says what a job may read and write. It is held by two: the watch answers each call that names something
//! else as if that were not there ([`policy`]), and says what was refused; Linux's Landlock (landlock(7)) refuses what
//! would get past it, as a second thread can that changes a path while it is looked at ([`ruleset`]). Strictly sealed, a
//! job has a root of its own, made of what it names and the system, and a network of its own in which there is nobody
//! ([`new_root`]).

pub mod new_root;
pub mod policy;
pub mod ruleset;

pub use policy::Seal;
pub use policy::SealPlaces;
pub use policy::SealPolicy;
