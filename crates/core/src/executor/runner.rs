//! Somewhere jobs run, each to its end on the thread that calls.

use std::io;
use std::sync::Arc;

use crate::executor::cancel::CancelToken;
use crate::executor::job::Job;
use crate::executor::job::Outcome;

/// Takes a remark.
pub type Remarks = Arc<dyn Fn(String) + Send + Sync>;

/// Runs a job to its end on the thread that calls.
pub trait JobRunner: Sync {
    /// The wish to end the run.
    fn cancel(&self) -> &CancelToken;
    /// As [`prepare`](crate::executor::Executor::prepare) of an executor.
    ///
    /// # Errors
    /// When it can't be noted that jobs run.
    fn prepare(&self) -> io::Result<()> {
        Ok(())
    }
    /// As [`finish`](crate::executor::Executor::finish) of an executor.
    ///
    /// # Errors
    /// When the note can't be taken away.
    fn finish(&self) -> io::Result<Vec<String>> {
        Ok(Vec::new())
    }
    /// Is given what hears what is said that is of no single job.
    fn tell_to(&self, tell: Remarks) {
        let _ = tell;
    }
    /// Runs a job to its end, or until the run is to end. Called from several threads at once. `heard` is
    /// given what the job prints as it comes.
    fn run(&self, job: &Job, heard: &mut dyn FnMut(&[u8])) -> Outcome;
}
