//! A store that several machines share: objects are fetched into the local store, and put from there.
//!
//! Under an address lie the same folders as in a local store, each object as one zstd frame. Everything goes through
//! the local store and is checked there as what others wrote: an envelope by its checksum, a file by its digest. So what a
//! shared store says can be old, cut or wrong, and costs a run no more than the time to find that out.
//!
//! Nothing here is waited for by a job: steps are looked for when they become free to run and wait for the answer in
//! no slot; uploads go on behind the jobs. A store that does not answer for a second is left alone until the next run.

mod activity;
mod address;
#[cfg(feature = "shared-store")]
mod client;
#[cfg(feature = "shared-store")]
mod directory;
mod fetch;
mod pool;
#[cfg(feature = "shared-store")]
mod s3;
mod upload;
#[cfg(feature = "shared-store")]
mod webdav;

use std::io::Read;

pub use address::SharedAddress;
pub use address::without_credentials;
pub use pool::Answered;
pub use pool::SharedStore;
pub use upload::Upload;

/// Why a shared store could not answer.
#[derive(Debug, thiserror::Error)]
pub enum SharedError {
    /// It can't be reached, or does not answer.
    #[error("{0}")]
    Unreachable(String),
    /// It refused.
    #[error("it answered with status {0}{1}")]
    Status(u16, &'static str),
    /// What it sent can't be read.
    #[error("{0}")]
    Io(#[from] std::io::Error),
}

/// What is put into a store.
pub struct Body<'b> {
    /// The bytes.
    pub reader: &'b mut (dyn Read + Send),
    /// How many.
    pub length: u64,
}

/// A server of objects, by names such as `files/3f/…`.
pub trait ObjectServer: Send + Sync {
    /// An object's bytes as they are stored; none when there is no such object.
    ///
    /// # Errors
    /// When the store does not answer, or refuses.
    fn get(&self, name: &str) -> Result<Option<Box<dyn Read + Send>>, SharedError>;
    /// Whether there is an object.
    ///
    /// # Errors
    /// As [`ObjectServer::get`].
    fn has(&self, name: &str) -> Result<bool, SharedError>;
    /// Stores an object, over one that is there.
    ///
    /// # Errors
    /// As [`ObjectServer::get`].
    fn put(&self, name: &str, body: Body<'_>) -> Result<(), SharedError>;
}
