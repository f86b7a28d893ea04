//! Where jobs run.
//!
//! An [`Executor`] is given [`Job`]s and tells how they ended. [`LocalExecutor`] is this machine; the tests of the
//! scheduler bring a made-up one. The scheduler knows nothing of processes: a [`CancelToken`] is all that
//! passes in the other direction.

pub mod cancel;
pub mod capture;
pub mod exit;
pub mod job;
pub mod local;

pub use cancel::CancelToken;
pub use capture::Capture;
pub use capture::Printed;
pub use exit::Exit;
pub use job::Executor;
pub use job::Job;
pub use job::Outcome;
pub use local::GRACE;
pub use local::LocalExecutor;
