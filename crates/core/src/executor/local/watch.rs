//! Watching a job while it runs: the launcher in front of its interpreter, and the thread that answers.

use std::io;
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::path::PathBuf;
use std::process::Command;

use crate::executor::exit::Exit;
use crate::executor::job::Outcome;
use crate::executor::watching::launcher;
use crate::executor::watching::supervisor;
use crate::executor::watching::supervisor::Watched;

/// A watch over a job that is about to start.
pub struct JobWatch {
    socket: UnixStream,
    root: PathBuf,
    program: String,
}

impl JobWatch {
    /// Puts a launcher, the program `launcher`, in front of a command of the project at `root`, which has no links in it.
    ///
    /// # Errors
    /// When the system has no room for a pair of sockets.
    pub fn new(
        command: &mut Command,
        program: &str,
        launcher: &Path,
        root: PathBuf,
    ) -> io::Result<Self> {
        let (socket, theirs) = UnixStream::pair()?;
        *command = launcher::wrapped(command, &super::os(program), launcher, theirs);
        Ok(Self {
            socket,
            root,
            program: program.to_owned(),
        })
    }

    /// Watches while `run` waits for the job.
    pub fn during(self, run: impl FnOnce() -> Outcome) -> Outcome {
        let started = io::pipe();
        let (stopped, stop) = match started {
            Ok(pipe) => pipe,
            Err(error) => {
                drop(self.socket);
                return Outcome {
                    exit: Exit::NoRoom(error.to_string()),
                    ..run()
                };
            }
        };
        std::thread::scope(|scope| {
            let Self {
                socket,
                root,
                program,
            } = self;
            let thread = std::thread::Builder::new().name("watch".to_owned());
            let thread =
                thread.spawn_scoped(scope, move || supervisor::watch(&socket, &stopped, &root));
            // Without the other end of its socket the launcher ends at once.
            let mut outcome = run();
            drop(stop);
            let watched = thread.map(std::thread::ScopedJoinHandle::join);
            match watched {
                Ok(Ok(Watched::Seen(observed))) => outcome.observed = Some(Box::new(observed)),
                _ if outcome.stopped => {}
                Ok(Ok(Watched::NotStarted(error))) => {
                    outcome.exit = Exit::NotStarted(match error.kind() {
                        io::ErrorKind::NotFound => format!("`{program}` was not found"),
                        _ => format!("`{program}` could not be started: {error}"),
                    });
                }
                Ok(Ok(Watched::Impossible(error))) => {
                    outcome.exit = Exit::NotStarted(format!(
                        "this system does not let it be watched ({error}): Linux 5.5 or newer with seccomp is needed, \
                         on x86-64 or arm64"
                    ));
                }
                Ok(Err(_)) => {
                    outcome.exit = Exit::NotStarted(
                        "internal error in the watch of this job, please report".to_owned(),
                    );
                }
                Err(error) => outcome.exit = Exit::NoRoom(error.to_string()),
            }
            outcome
        })
    }
}
