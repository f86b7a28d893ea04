//! A program of the system that runs beside the jobs and is none of them: nobody takes it for something that a job left
//! behind.

use std::io;
use std::os::unix::process::CommandExt;
use std::process::Child;
use std::process::ChildStdout;
use std::process::Command;
use std::sync::Arc;
use std::time::Duration;

use rustix::process::Pid;
use rustix::process::Signal;
use rustix::process::WaitOptions;

use crate::executor::local::LocalExecutor;
use crate::executor::local::processes::ProcessFamily;

/// What a program began that is killed with it is gone after so many milliseconds, or never.
const PATIENCE: u32 = 50;

/// Begins programs beside the jobs of an executor, from any thread.
#[derive(Clone, Debug)]
pub struct BesidePrograms(Arc<ProcessFamily>);

/// A program that runs beside the jobs; it is ended when this is dropped.
#[derive(Debug)]
pub struct BesideProgram {
    child: Child,
    family: Arc<ProcessFamily>,
    /// Whether it ended by itself, and is reaped.
    has_ended: bool,
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
        // What it begins itself ends with it.
        let child = self.0.spawn_beside(command.process_group(0))?;
        Ok(BesideProgram {
            child,
            family: Arc::clone(&self.0),
            has_ended: false,
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
        let status = self.child.wait();
        self.has_ended = status.is_ok();
        status.is_ok_and(|status| status.success())
    }
}

impl Drop for BesideProgram {
    fn drop(&mut self) {
        let group = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw);
        let group = group.filter(|_| !self.has_ended);
        if let Some(group) = group {
            // It may have ended by itself.
            let _ = rustix::process::kill_process_group(group, Signal::KILL);
        }
        let _ = self.child.wait();
        if let Some(group) = group {
            // What it began comes to us, and is not to be taken for a recipe's.
            for _ in 0..PATIENCE {
                match rustix::process::waitpgid(group, WaitOptions::NOHANG) {
                    Ok(Some(_)) => {}
                    Ok(None) => std::thread::sleep(Duration::from_millis(1)),
                    Err(_) => break,
                }
            }
        }
        self.family.leave_beside(&self.child);
    }
}
