//! A process that was begun, in whichever way.

use std::io;
use std::process::Child;

use wait4::Wait4;

use crate::executor::watching::kernel;
use crate::executor::watching::kernel::ProcessEnd;

/// A process that was begun and is to be waited for.
pub enum Begun {
    /// By the standard library.
    Plain(Child),
    /// By [`kernel::spawn`]: its number.
    Prepared(i32),
}

impl Begun {
    /// Its number.
    pub fn number(&self) -> i32 {
        match self {
            Self::Plain(child) => i32::try_from(child.id()).unwrap_or(0),
            Self::Prepared(process) => *process,
        }
    }

    /// Waits for its end.
    pub fn wait(&mut self) -> io::Result<ProcessEnd> {
        match self {
            Self::Plain(child) => child.wait4().map(|ended| ProcessEnd {
                status: ended.status,
                memory: ended.rusage.maxrss,
                processor: ended.rusage.utime + ended.rusage.stime,
            }),
            Self::Prepared(process) => kernel::wait(*process),
        }
    }
}
