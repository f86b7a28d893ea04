//! Running what has to run: from a project and goals to jobs, in order and side by side.

pub mod event;
pub mod job_builder;

mod complete;
mod dependency_listing;
mod dispatch;
mod link_edges;
mod pass;
mod prepare_outputs;
mod ready_queue;
mod recovery;
mod resident_build;
mod resources;
mod sequence;
mod session;
mod worker_pool;

pub use event::Ended;
pub use event::Ending;
pub use event::Event;
pub use event::JobFailure;
pub use event::JobUsage;
pub use event::Problem;
pub use event::Summary;
pub use event::rounded;
pub use job_builder::JobBuilder;
pub use recovery::Recovered;
pub use recovery::recover;
pub use session::BuildError;
pub use session::BuildOptions;
pub use session::Session;
pub use session::WatchHook;
