//! The store: finished results of earlier runs, by what they were made from.
//!
//! A step that has a reason to run is looked up by a key ([`KeyScope`]) in two stages. Under the *declared* key, a digest of all
//! that a verdict compares before a recipe has run, lie the *lists* of names that recipes found out besides. A list
//! whose names hold now what they held then gives the *full* key, and under that lies the *result*: what was
//! made, printed and taken. Files are kept once each, by their digest. Whatever is taken out is checked by its digest
//! where it was put; what is wrong is dropped, and the step runs.
//!
//! [`Store`] is what a run asks and gives to. The local store is a folder of the user's ([`ObjectFolder`]), which all
//! projects share; whatever a shared store has goes through it.

mod collect;
mod copying;
mod counts;
mod folder;
mod keep;
mod key;
mod object;
mod restore;
mod session;
pub mod shared;

pub use collect::Collected;
pub use collect::Holdings;
pub use collect::empty;
pub use collect::holdings;
pub use collect::trim;
pub use counts::Counts;
pub use counts::recount;
pub use folder::ObjectFolder;
pub use keep::KeepRequest;
pub use key::DeclaredStep;
pub use key::KeyScope;
pub use key::StoreKey;
pub use object::LearnedList;
pub use object::Lists;
pub use object::ObjectKind;
pub use object::RecipeManner;
pub use object::StoredResult;
pub use restore::Restore;
pub use restore::RestoreError;
pub use session::Hit;
pub use session::Store;
pub use session::StoreAnswer;
pub use session::StoreLookup;
pub use session::StoreOptions;
pub use session::StoreTrouble;
