//! A program of the system that runs beside the jobs and is none of them: nobody takes it for something that a job left
//! behind.

use std::io;
use std::process::Child;
use std::process::ChildStdout;
use std::process::Command;
use std::sync::Arc;

use crate::executor::local::LocalExecutor;
use crate::executor::local::processes::ProcessFamily;

/// Begins programs beside the jobs of an executor, from any thread.
#[derive(Clone, Debug)]
pub struct BesidePrograms(Arc<ProcessFamily>);

/// A program that runs beside the jobs; it is ended when this is dropped.
#[derive(Debug)]
pub struct BesideProgram {
    child: Child,
    family: Arc<ProcessFamily>,
}

impl LocalExecutor {
    /// Who begins programs beside its jobs.
    #[must_use]
    pub fn beside(&self) -> BesidePrograms {
        BesidePrograms(Arc::clone(&self.family))
    }
}

impl BesidePrograms {
    /// Begins a program.
    ///
    /// # Errors
    /// When it cannot be started.
    pub fn begin(&self, command: &mut Command) -> io::Result<BesideProgram> {
        let child = self.0.spawn_beside(command)?;
        Ok(BesideProgram {
            child,
            family: Arc::clone(&self.0),
        })
    }
}

impl BesideProgram {
    /// Its output, to be read; none when it has no pipe, or was asked before.
    pub fn stdout(&mut self) -> Option<ChildStdout> {
        self.child.stdout.take()
    }

    /// Waits for its end; whether it says that it did what it was to do.
    pub fn did_well(mut self) -> bool {
        self.child.wait().is_ok_and(|status| status.success())
    }
}

impl Drop for BesideProgram {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.child.kill();
        let _ = self.child.wait();
        self.family.leave_beside(&self.child);
    }
}
