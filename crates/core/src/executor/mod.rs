//! Where jobs run.
//!
//! An [`Executor`] takes [`Submission`]s and tells of their ends, with time stamps; the scheduler knows nothing
//! of processes. [`LocalExecutor`] is this machine: it runs each job to its end on a thread of its slot, which
//! [`JobRunner`] and the pool of threads behind it do for everything that works so. A [`CancelToken`] is all
//! that passes in the other direction.

pub mod cancel;
pub mod capture;
pub mod cluster;
pub mod control_codes;
pub mod exit;
mod hosting;
pub mod job;
pub mod local;
pub mod log_index;
mod output_tail;
pub mod queue;
mod runner;
pub mod sealing;
pub mod thread_pool;
pub mod twice;
pub mod watching;

pub use cancel::CancelLevel;
pub use cancel::CancelToken;
pub use capture::Capture;
pub use capture::Printed;
pub use exit::Exit;
pub use job::Job;
pub use job::JobRoom;
pub use job::Outcome;
pub use job::RemoteNeeds;
pub use job::RemoteRun;
pub use job::SlotId;
pub use local::GRACE;
pub use local::LocalExecutor;
pub use local::control::ProcessControl;
pub use output_tail::JobWait;
pub use output_tail::OutputTail;
pub use queue::ExecutionContext;
pub use queue::Executor;
pub use queue::HostedJob;
pub use queue::JobEnd;
pub use queue::JobQueue;
pub use queue::Notice;
pub use queue::Submission;
pub use queue::Ticket;
pub use runner::JobRunner;
pub use twice::TwiceReport;
