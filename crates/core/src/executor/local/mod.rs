//! ChildProcess jobs on this machine.
//!
//! Each job is a process group of its own, without input, with one pipe for both output streams so
//! that their order stays. The thread that starts a job waits for it (`crate::executor::local::child`). What it
//! leaves behind in or outside of its group is ended ([`crate::executor::local::processes`]), also by the next run after
//! a kill ([`crate::executor::local::job_markers`]).

pub mod beside;
pub mod control;
pub mod job_markers;
mod manifest_file;
mod memory;
pub mod outliving;
pub mod owner;
pub mod processes;

mod ask;
mod begun;
mod child;
mod job_output;
mod program;
mod seal;
mod watch;

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::Command;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::OnceLock;
use std::time::Duration;

use rustix::process::Signal;

use crate::executor::cancel::CancelToken;
use crate::executor::exit::Exit;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::executor::job::SlotId;
use crate::executor::local::begun::Begun;
use crate::executor::local::child::ChildProcess;
use crate::executor::local::control::ProcessControl;
use crate::executor::local::job_markers::JobMarkers;
use crate::executor::local::job_output::JobOutput;
use crate::executor::local::manifest_file::ManifestFile;
use crate::executor::local::memory::killed_for_memory;
use crate::executor::local::processes::ProcessFamily;
use crate::executor::local::seal::JobSeal;
use crate::executor::local::seal::SealFolders;
use crate::executor::local::seal::remove_own_folders;
use crate::executor::local::watch::WatchError;
use crate::executor::local::watch::WatchedJob;
use crate::executor::runner::JobRunner;
use crate::executor::watching::WatchReach;
use crate::project::secret;
use crate::project::shell::quote_all;
use crate::world::lock;
use crate::world::names;
use crate::world::own;

/// How long jobs may take to end after they were asked to, unless a setting says otherwise.
pub const GRACE: Duration = Duration::from_secs(5);

/// Scripts and arguments longer than this are handed over as a file; Linux takes 128 KiB an argument at most.
const MAX_ARGUMENT: usize = 100 * 1024;

/// Variables that say how a program shows much output: of the system, of version control, of manual pages.
const PAGERS: [&str; 3] = ["PAGER", "GIT_PAGER", "MANPAGER"];

/// This machine.
#[derive(Debug)]
pub struct LocalExecutor {
    pub(super) root: PathBuf,
    /// The folder for manifests and long scripts, absolute.
    scratch: PathBuf,
    /// Each slot's file of what its job is given to know.
    manifests: Mutex<HashMap<SlotId, ManifestFile>>,
    /// Processes that were ended for want of memory before.
    pub(super) memory_kills: u64,
    pub(super) grace: Duration,
    pub(super) family: Arc<ProcessFamily>,
    pub(super) markers: JobMarkers,
    pub(super) control: Arc<ProcessControl>,
    /// Whether there is a terminal that a job may try to read.
    pub(super) has_terminal: bool,
    /// What sealed jobs may read outside of the project besides the system.
    sealed_reads: Vec<String>,
    /// How wide the terminal is that jobs write to; none when they write to a pipe.
    columns: Option<u16>,
    /// Variables of this process that are none of a job's business.
    hidden: &'static [&'static str],
}

impl LocalExecutor {
    /// Jobs of the project at `root`, an absolute path; their scratch files go to `scratch`.
    #[must_use]
    pub fn new(root: PathBuf, scratch: PathBuf) -> Self {
        Self {
            markers: JobMarkers::new(&scratch),
            root,
            scratch,
            manifests: Mutex::default(),
            control: Arc::default(),
            memory_kills: killed_for_memory(),
            grace: GRACE,
            family: Arc::new(ProcessFamily::new()),
            has_terminal: File::open("/dev/tty").is_ok(),
            sealed_reads: Vec::new(),
            columns: None,
            hidden: &[],
        }
    }

    /// Jobs do not have these environment variables.
    #[must_use]
    pub fn without_env(self, hidden: &'static [&'static str]) -> Self {
        Self { hidden, ..self }
    }

    /// What jobs print goes to a pseudo-terminal with so many columns, so that compilers and others colour it.
    #[must_use]
    pub fn with_terminal_output(self, columns: Option<u16>) -> Self {
        Self { columns, ..self }
    }

    /// Sealed jobs may read these files and folders outside of the project, besides the system; `~/` is the user's home.
    #[must_use]
    pub fn with_sealed_reads(self, sealed_reads: Vec<String>) -> Self {
        Self {
            sealed_reads,
            ..self
        }
    }

    /// Jobs that are asked to end have so long.
    #[must_use]
    pub fn with_grace(self, grace: Duration) -> Self {
        Self { grace, ..self }
    }

    /// What reaches all of its jobs at once.
    #[must_use]
    pub fn control(&self) -> &Arc<ProcessControl> {
        &self.control
    }

    /// What `HANDLOOM_JOB` says in a job.
    pub(super) fn manifest_path(&self, job: &Job) -> PathBuf {
        self.scratch.join(if job.terminal {
            // It may outlive the run's hold on the project; another run has the slots then.
            format!("terminal-{}.json", std::process::id())
        } else if job.stays {
            format!("{}.json", outliving::stem(job.slot.index()))
        } else {
            format!("{}.json", job.slot.index())
        })
    }

    fn write_manifest(&self, job: &Job) -> io::Result<PathBuf> {
        let path = self.manifest_path(job);
        if job.terminal || job.stays {
            let _ = std::fs::remove_file(&path);
            let options = &mut own::options();
            let mut file = ManifestFile::new(path, options.write(true).create_new(true))?;
            file.write(&job.manifest)?;
            return Ok(file.path);
        }
        let mut files = lock(&self.manifests);
        let file = match files.entry(job.slot) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(free) => {
                let options = &mut own::options();
                let options = options.write(true).create(true).truncate(true);
                free.insert(ManifestFile::new(path, options)?)
            }
        };
        file.write(&job.manifest)?;
        Ok(file.path.clone())
    }

    fn command(&self, job: &Job) -> io::Result<Command> {
        let manifest = self.write_manifest(job)?;
        let (program, arguments) = job
            .interpreter
            .split_first()
            .ok_or_else(|| io::Error::other("the interpreter has no name"))?;
        let secret = |wanted: &str| {
            let found = job.secrets.iter().find(|(name, _)| name == wanted);
            Some(found.map_or_else(String::new, |(_, value)| value.clone()))
        };
        let env: Vec<_> = job
            .env
            .iter()
            .map(|(name, value)| (name, secret::filled(value, secret).unwrap_or_default()))
            .collect();
        let path = env.iter().rev().find(|(name, _)| *name == "PATH");
        let mut command = named(program, path.map(|(_, value)| value.as_ref()));
        command.args(arguments.iter().map(|word| os(word)));
        if job.shell {
            let size: usize = job.arguments.iter().map(|word| word.len() + 1).sum();
            if job.script.len() <= MAX_ARGUMENT && size <= MAX_ARGUMENT {
                command.arg("-c").arg(os(&job.script)).arg("recipe");
                command.args(job.arguments.iter().map(|word| os(word)));
            } else {
                let words = quote_all(job.arguments.iter().map(String::as_str));
                command.arg(self.script_file(job, &format!("set -- {words}\n{}", job.script))?);
            }
        } else {
            command.arg(self.script_file(job, &job.script)?);
        }
        command.current_dir(self.root.join(os(&job.folder)));
        for name in self.hidden {
            command.env_remove(name);
        }
        command.env("HANDLOOM_CORES", job.cores.to_string());
        if self.columns.is_some() && !job.terminal {
            // On what is a terminal for it, a program may show its output by one that waits for keys.
            for name in PAGERS {
                command.env(name, "cat");
            }
        }
        for (name, value) in &env {
            command.env(os(name), os(value));
        }
        command.env("HANDLOOM_JOB", manifest);
        if !job.terminal {
            command.process_group(0).stdin(Stdio::null());
        }
        Ok(command)
    }

    fn script_file(&self, job: &Job, text: &str) -> io::Result<PathBuf> {
        let path = self.manifest_path(job).with_extension("script");
        let options = &mut own::options();
        let options = options.write(true).create(true).truncate(true);
        let mut file = own::open(&path, options)?;
        io::Write::write_all(&mut file, &names::to_bytes(text))?;
        Ok(path)
    }
}

/// The interpreter of recipes that do not name another.
const SHELL: &str = "sh";

/// A command by its program's name, to be found in its own `PATH` or in ours.
fn named(program: &str, own_path: Option<&str>) -> Command {
    // A recipe may put a program of any other name into a folder of the `PATH`, and the next one run with it.
    static SHELL_AT: OnceLock<Option<PathBuf>> = OnceLock::new();
    let name = os(program);
    let ours = || program::find(&name, std::env::var_os("PATH").as_deref());
    let found = match own_path {
        Some(path) => program::find(&name, Some(&os(path))),
        None if program == SHELL => SHELL_AT.get_or_init(ours).clone(),
        None => ours(),
    };
    let mut command = Command::new(found.as_deref().map_or(&*name, |file| file.as_os_str()));
    command.arg0(&name);
    command
}

fn os(text: &str) -> std::borrow::Cow<'_, OsStr> {
    match names::to_bytes(text) {
        std::borrow::Cow::Borrowed(bytes) => OsStr::from_bytes(bytes).into(),
        std::borrow::Cow::Owned(bytes) => {
            <std::ffi::OsString as std::os::unix::ffi::OsStringExt>::from_vec(bytes).into()
        }
    }
}

impl JobRunner for LocalExecutor {
    fn cancel(&self) -> &CancelToken {
        self.control.token()
    }

    fn prepare(&self) -> io::Result<()> {
        self.markers.begin()
    }

    fn finish(&self) -> io::Result<Vec<String>> {
        let ended = self.family.end_all();
        remove_own_folders(&self.scratch);
        self.markers.end()?;
        Ok(ended)
    }

    fn run(&self, job: &Job, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        let outcome = self.run_job(job, heard);
        if job.stays {
            let manifest = self.manifest_path(job);
            // What stays there is taken away by the next run.
            let _ = std::fs::remove_file(manifest.with_extension("script"));
            let _ = std::fs::remove_file(manifest);
        }
        outcome
    }
}

impl LocalExecutor {
    fn run_job(&self, job: &Job, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        let not_started = |error: io::Error| Outcome::silent(self.start_error(job, &error));
        let mut command = match self.command(job) {
            Ok(command) => command,
            Err(error) => return not_started(error),
        };
        if job.terminal {
            self.control.hold_terminal(true);
            let outcome = match command.spawn() {
                Ok(child) => ChildProcess::new(Begun::Plain(child), None, job, self).wait(heard),
                Err(error) => not_started(error),
            };
            let _ = std::fs::remove_file(self.manifest_path(job));
            return after_terminal(outcome, &self.control);
        }
        if job.watched.is_some() || job.seal.is_some() {
            return self.run_watched(job, &mut command, heard);
        }
        let before = self.markers.starting(job.slot.index());
        let starting = self.control.starting();
        let started = JobOutput::open(self.columns).and_then(|output| {
            command
                .stdout(Stdio::from(output.writer.try_clone()?))
                .stderr(Stdio::from(output.writer.try_clone()?));
            let child = command.spawn()?;
            // The command has two more descriptors of it.
            drop(command);
            Ok((child, output))
        });
        match started {
            Ok((child, output)) => {
                let running = ChildProcess::new(Begun::Plain(child), Some(output), job, self);
                drop(starting);
                if let Some(pid) = running.pid {
                    self.markers.started(job.slot.index(), pid, before);
                }
                let outcome = running.wait(heard);
                self.markers.ended(job.slot.index());
                outcome
            }
            Err(error) => {
                self.markers.ended(job.slot.index());
                not_started(error)
            }
        }
    }

    /// Runs a job, and notes what its processes look at; a sealed one is shut off from all that it does not name.
    fn run_watched(
        &self,
        job: &Job,
        command: &mut Command,
        heard: &mut dyn FnMut(&[u8]),
    ) -> Outcome {
        let opened = std::fs::canonicalize(&self.root)
            .and_then(|root| Ok((root, JobOutput::open(self.columns)?)));
        let (root, output) = match opened {
            Ok(opened) => opened,
            Err(error) => return Outcome::silent(self.start_error(job, &error)),
        };
        let refused = |error: WatchError| {
            Outcome::silent(match error {
                WatchError::Start(error) => self.start_error(job, &error),
                WatchError::Impossible(why) => Exit::NotStarted(why),
            })
        };
        let folders = SealFolders {
            root: &root,
            scratch: &self.scratch,
            slot: seal_name(job),
            outside: &self.sealed_reads,
        };
        let seal = job.seal.as_deref();
        let seal = seal.map(|seal| JobSeal::new(seal, &folders, command));
        let seal = match seal.transpose() {
            Ok(seal) => seal,
            Err(error) => return refused(error),
        };
        let name = job.interpreter.first().map_or("", String::as_str);
        let reach = job.watched.unwrap_or(WatchReach::Project);
        let before = self.markers.starting(job.slot.index());
        let outcome = std::thread::scope(|scope| {
            let how = (root.as_path(), reach, seal.as_ref());
            let starting = self.control.starting();
            let watched =
                match WatchedJob::begin(scope, command, &os(name), output.writer.as_fd(), how) {
                    Ok(watched) => watched,
                    Err(error) => return refused(error),
                };
            let child = Begun::Prepared(watched.process);
            let running = ChildProcess::new(child, Some(output), job, self);
            drop(starting);
            if let Some(pid) = running.pid {
                self.markers.started(job.slot.index(), pid, before);
            }
            let mut outcome = running.wait(heard);
            match watched.finish() {
                Ok(mut seen) => {
                    seen.gaps.extend(seal.as_ref().and_then(JobSeal::gap));
                    outcome.observed = Some(Box::new(seen));
                }
                Err(exit) => outcome.exit = exit,
            }
            outcome
        });
        self.markers.ended(job.slot.index());
        outcome
    }

    fn start_error(&self, job: &Job, error: &io::Error) -> Exit {
        let program = job.interpreter.first().map_or("", String::as_str);
        let folder = self.root.join(os(&job.folder));
        match error.kind() {
            io::ErrorKind::NotFound if !folder.is_dir() => Exit::NotStarted(format!(
                "the folder `{}` that it runs in is not there",
                job.folder
            )),
            io::ErrorKind::NotFound => Exit::NotStarted(format!("`{program}` was not found")),
            _ if is_for_want(error) => Exit::NoRoom(error.to_string()),
            _ => Exit::NotStarted(format!("`{program}` could not be started: {error}")),
        }
    }
}

/// Whether the system had too little left of something to start a process: no fault of the recipe.
fn is_for_want(error: &io::Error) -> bool {
    use rustix::io::Errno;
    let number = error.raw_os_error();
    [
        Errno::AGAIN,
        Errno::MFILE,
        Errno::NFILE,
        Errno::NOMEM,
        Errno::NOSPC,
        Errno::FBIG,
    ]
    .iter()
    .any(|want| number == Some(want.raw_os_error()))
}

/// How much later than a job this program may hear of the keyboard's interruption.
const HEARD_WITHIN: Duration = Duration::from_millis(500);

/// The keyboard's interruption goes to the job that has the terminal. When that ends by it, the run
/// ends too; when the job takes it for something else, as a prompt does, the run goes on.
fn after_terminal(mut outcome: Outcome, control: &ProcessControl) -> Outcome {
    let by_it = matches!(outcome.exit, Exit::Signal(signal) if signal == Signal::INT.as_raw())
        || outcome.exit == Exit::Status(128 + Signal::INT.as_raw());
    if by_it {
        // Both got it from the keyboard; the thread that hears signals may come second.
        control.await_interruption(HEARD_WITHIN);
    }
    let interrupted = control.hold_terminal(false);
    if interrupted && by_it {
        outcome.stopped = true;
        control.raise(Signal::INT.as_raw());
    }
    outcome
}

/// How what belongs to a sealed job's slot is called.
fn seal_name(job: &Job) -> String {
    match job.stays {
        true => outliving::stem(job.slot.index()),
        false => job.slot.index().to_string(),
    }
}
