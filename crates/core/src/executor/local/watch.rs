//! Beginning a job that is watched, and watching it while it runs.

use std::collections::BTreeMap;
use std::ffi::CString;
use std::ffi::OsStr;
use std::ffi::OsString;
use std::fs::File;
use std::io;
use std::io::PipeWriter;
use std::os::fd::AsFd;
use std::os::fd::BorrowedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::process::Command;
use std::thread::Scope;
use std::thread::ScopedJoinHandle;

use crate::executor::exit::Exit;
use crate::executor::local::seal::JobSeal;
use crate::executor::watching::Gap;
use crate::executor::watching::Observed;
use crate::executor::watching::WatchReach;
use crate::executor::watching::calls;
use crate::executor::watching::kernel;
use crate::executor::watching::kernel::Spawn;
use crate::executor::watching::kernel::SpawnStep;
use crate::executor::watching::kernel::SpawnWatch;
use crate::executor::watching::supervisor;

/// A job that runs and is watched.
pub struct WatchedJob<'scope> {
    /// The number of its process.
    pub process: i32,
    unwatched: bool,
    stop: PipeWriter,
    watch: ScopedJoinHandle<'scope, Observed>,
}

/// Why a job that is to be watched does not run.
pub enum WatchError {
    /// The system has no room for it, or its program or folder can't be used.
    Start(io::Error),
    /// It can't be watched here, in words.
    Impossible(String),
}

impl From<io::Error> for WatchError {
    fn from(error: io::Error) -> Self {
        Self::Start(error)
    }
}

impl<'scope> WatchedJob<'scope> {
    /// Begins a command of the project at `root`, which has no links in it, and its watch. `name` is the program as it
    /// is to see itself called.
    pub fn begin<'env>(
        scope: &'scope Scope<'scope, 'env>,
        command: &Command,
        name: &OsStr,
        output: BorrowedFd<'_>,
        (root, reach, seal): (&'env Path, WatchReach, Option<&'env JobSeal>),
    ) -> Result<Self, WatchError> {
        let filter =
            calls::filter().ok_or_else(|| impossible(&io::ErrorKind::Unsupported.into()))?;
        let (socket, theirs) = UnixStream::pair()?;
        let (stopped, stop) = io::pipe()?;
        let nothing = File::open("/dev/null")?;
        let arguments = std::iter::once(name).chain(command.get_args());
        let folder = command.get_current_dir().unwrap_or(Path::new("."));
        let spawn = Spawn {
            program: text(command.get_program())?,
            arguments: arguments.map(text).collect::<Result<_, _>>()?,
            environment: environment(command)?,
            folder: text(folder.as_os_str())?,
            input: nothing.as_fd(),
            output,
            watch: SpawnWatch {
                filter,
                socket: theirs.as_fd(),
            },
            seal: seal.map(JobSeal::spawn),
        };
        // It has to answer before the process has become its program.
        let watch = std::thread::Builder::new()
            .name("watch".to_owned())
            .spawn_scoped(scope, move || {
                let policy = seal.map(|seal| &seal.policy);
                supervisor::watch(&socket, &stopped, root, (reach, policy))
            })?;
        let spawned = kernel::spawn(&spawn).map_err(|(step, error)| match step {
            SpawnStep::Watch => impossible(&error),
            SpawnStep::Seal => WatchError::Impossible(seal_error(&error, seal)),
            SpawnStep::Begin | SpawnStep::Folder | SpawnStep::Program => WatchError::Start(error),
        })?;
        Ok(Self {
            process: spawned.process,
            unwatched: spawned.unwatched,
            stop,
            watch,
        })
    }

    /// What was seen, when the job has ended.
    pub fn finish(self) -> Result<Observed, Exit> {
        drop(self.stop);
        let seen = self.watch.join().map_err(|_| {
            Exit::NotStarted("internal error in the watch of this job, please report".to_owned())
        });
        let mut seen = seen?;
        if self.unwatched {
            let why = "something else watches it already".to_owned();
            seen.gaps.push(Gap::Unwatched(why));
        }
        Ok(seen)
    }
}

/// Why a job could not be sealed.
fn seal_error(error: &io::Error, seal: Option<&JobSeal>) -> String {
    let strictly = seal.is_some_and(|seal| !seal.preparations.is_empty());
    if strictly {
        format!(
            "this system does not let it be sealed strictly ({error}): namespaces of users and mounts are needed, which \
             containers often refuse; `sealed` alone needs none"
        )
    } else {
        format!(
            "this system does not let it be sealed ({error}): Linux 5.13 or newer with Landlock is needed"
        )
    }
}

fn impossible(error: &io::Error) -> WatchError {
    WatchError::Impossible(format!(
        "this system does not let it be watched ({error}): Linux 5.5 or newer with seccomp is needed, on x86-64 or arm64"
    ))
}

fn text(text: &OsStr) -> io::Result<CString> {
    // Whoever asks for a zero in a name gets the system's own answer to it.
    CString::new(text.as_bytes()).map_err(|_| io::ErrorKind::InvalidInput.into())
}

/// The whole environment that a command has.
fn environment(command: &Command) -> io::Result<Vec<CString>> {
    let mut all: BTreeMap<OsString, OsString> = std::env::vars_os().collect();
    for (name, value) in command.get_envs() {
        match value {
            Some(value) => all.insert(name.to_owned(), value.to_owned()),
            None => all.remove(name),
        };
    }
    let line = |(mut name, value): (OsString, OsString)| {
        name.push("=");
        name.push(value);
        text(&name)
    };
    all.into_iter().map(line).collect()
}
