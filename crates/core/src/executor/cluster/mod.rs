//! Jobs on the nodes of a cluster.
//!
//! One submission to the cluster's scheduler asks for a node's worth of cores, and what runs there is a [`worker`]: this
//! program, which connects to the run that controls it, takes jobs, runs each as the local executor does, and gives back
//! its end and what it prints ([`wire`]). [`ClusterExecutor`] is the side that controls; which scheduler it is, is a matter of
//! an adapter ([`BatchScheduler`]: submit, ask many, cancel), of which [`slurm`] is the first and [`grid_engine`]
//! the second.

mod allocations;
mod commands;
mod connection;
mod control;
pub mod grid_engine;
mod pool;
pub mod scheduler;
pub mod settling;
pub mod slurm;
mod taking;
pub mod wire;
pub mod worker;

pub use control::ClusterExecutor;
pub use pool::PlaceOptions;
pub use scheduler::Allocation;
pub use scheduler::AllocationState;
pub use scheduler::BatchScheduler;
pub use scheduler::SubmitError;
