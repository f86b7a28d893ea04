//! Files and steps as they are now, and what that means: for a run, and for whoever only wants to know.
//!
//! Nothing in here starts a job. [`FileStates`] looks at files, [`StepInputs`] gathers what a verdict compares,
//! [`DryRun`] tells what a run would do, [`clean()`] takes away what was made, and a [`WatchSet`] knows what a
//! changed path means.

pub mod accept;
pub mod because;
pub mod clean;
pub mod dry_run;
pub mod environment;
pub mod file_states;
pub mod learned_edges;
pub mod listing;
pub mod step_inputs;
pub mod watch_set;

pub use accept::AcceptError;
pub use accept::accept;
pub use because::because;
pub use because::open_steps;
pub use clean::CleanError;
pub use clean::CleanForecast;
pub use clean::Cleaned;
pub use clean::clean;
pub use clean::foresee_clean;
pub use dry_run::Decision;
pub use dry_run::DryRun;
pub use dry_run::KnownSince;
pub use dry_run::Prediction;
pub use environment::CommandRunner;
pub use environment::RecordingEnvironment;
pub use file_states::FileStates;
pub use file_states::KnownStates;
pub use learned_edges::add_learned;
pub use step_inputs::InputBuffers;
pub use step_inputs::StepInputs;
pub use watch_set::ChangeImpact;
pub use watch_set::WatchSet;
