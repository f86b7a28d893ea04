//! Running jobs on this machine.
//!
//! Each job is a process group of its own, without input, with one pipe for both output streams so
//! that their order stays. The thread that starts a job waits for it on three descriptors: the
//! process, the pipe, and the wish to stop. Once the process has ended, what is left of its group is
//! killed before it is reaped (until then the group's number cannot be given to another), and the
//! pipe is drained without waiting, so that a process left in the background can neither hang the
//! run nor outlive it.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::fs::File;
use std::io;
use std::io::Read;
use std::os::fd::AsFd;
use std::os::fd::OwnedFd;
use std::os::unix::fs::FileExt;
use std::os::unix::process::CommandExt;
use std::os::unix::process::ExitStatusExt;
use std::path::PathBuf;
use std::process::Child;
use std::process::Command;
use std::process::Stdio;
use std::sync::Mutex;
use std::sync::PoisonError;
use std::time::Duration;
use std::time::Instant;

use nix::sys::resource::UsageWho;
use nix::sys::resource::getrusage;
use rustix::event::PollFd;
use rustix::event::PollFlags;
use rustix::process::Pid;
use rustix::process::Signal;
use rustix::process::WaitIdOptions;
use wait4::Wait4;

use crate::weave::capture::Capture;
use crate::weave::event::Exit;
use crate::weave::place::Job;
use crate::weave::place::Outcome;
use crate::weave::place::Place;
use crate::weave::stop::Stop;

/// How long jobs may take to end after they were asked to.
const GRACE: Duration = Duration::from_secs(5);

/// A script longer than this cannot be an argument; Linux takes 128 KiB at most.
const MAX_ARGUMENT: usize = 100 * 1024;

/// This machine.
#[derive(Debug)]
pub struct LocalPlace {
    root: PathBuf,
    /// The folder for facts and long scripts, absolute.
    scratch: PathBuf,
    /// Each slot's file of facts.
    facts: Mutex<HashMap<usize, FactsFile>>,
    /// Processes that were ended for want of memory before.
    memory_kills: u64,
}

impl LocalPlace {
    /// Jobs of the project at `root`, an absolute path; their scratch files go to `scratch`.
    #[must_use]
    pub fn new(root: PathBuf, scratch: PathBuf) -> Self {
        Self {
            root,
            scratch,
            facts: Mutex::default(),
            memory_kills: killed_for_memory(),
        }
    }

    fn write_facts(&self, job: &Job) -> io::Result<PathBuf> {
        let mut files = self.facts.lock().unwrap_or_else(PoisonError::into_inner);
        let file = match files.entry(job.slot) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(free) => {
                let path = self.scratch.join(format!("{}.json", job.slot));
                free.insert(FactsFile::open(path)?)
            }
        };
        file.write(&job.facts)?;
        Ok(file.path.clone())
    }

    fn command(&self, job: &Job) -> io::Result<Command> {
        let facts = self.write_facts(job)?;
        let (program, arguments) = job
            .interpreter
            .split_first()
            .ok_or_else(|| io::Error::other("the interpreter has no name"))?;
        let mut command = Command::new(program);
        command.args(arguments);
        if job.shell && job.script.len() <= MAX_ARGUMENT {
            command.arg("-c").arg(&job.script).arg("recipe");
        } else {
            let file = self.scratch.join(format!("{}.script", job.slot));
            std::fs::write(&file, &job.script)?;
            command.arg(file);
        }
        command.current_dir(self.root.join(&job.folder));
        command.envs(job.env.iter().map(|(name, value)| (name, value)));
        command.env("HANDLOOM_JOB", facts);
        if !job.terminal {
            command.process_group(0).stdin(Stdio::null());
        }
        Ok(command)
    }
}

/// A slot's file of facts, kept open from job to job.
#[derive(Debug)]
struct FactsFile {
    path: PathBuf,
    file: File,
    /// How long it is.
    length: usize,
}

impl FactsFile {
    fn open(path: PathBuf) -> io::Result<Self> {
        let mut options = File::options();
        let file = options
            .create(true)
            .write(true)
            .truncate(true)
            .open(&path)?;
        Ok(Self {
            path,
            file,
            length: 0,
        })
    }

    /// Writes new facts over the old ones; what is left of those becomes white space.
    ///
    /// A file that is emptied or cut first has to be settled with the file system each time (ext4 even
    /// writes one that was emptied to the disk as soon as it is closed); that took longer than the job.
    fn write(&mut self, facts: &str) -> io::Result<()> {
        let mut bytes = facts.as_bytes().to_vec();
        bytes.resize(bytes.len().max(self.length), b'\n');
        self.file.write_all_at(&bytes, 0)?;
        self.length = bytes.len();
        Ok(())
    }
}

impl Place for LocalPlace {
    fn run(&self, job: &Job, stop: &Stop, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        let not_started =
            |error: io::Error| Outcome::silent(Exit::NotStarted(start_error(job, &error)));
        let mut command = match self.command(job) {
            Ok(command) => command,
            Err(error) => return not_started(error),
        };
        if job.terminal {
            stop.hold_terminal(true);
            let outcome = match command.spawn() {
                Ok(child) => Running::new(child, None, job, self).wait(stop, heard),
                Err(error) => not_started(error),
            };
            return after_terminal(outcome, stop);
        }
        let started = io::pipe().and_then(|(reader, writer)| {
            command
                .stdout(Stdio::from(writer.try_clone()?))
                .stderr(Stdio::from(writer));
            let child = command.spawn()?;
            // The command holds the pipe's other end open until it is gone.
            drop(command);
            Ok((child, File::from(OwnedFd::from(reader))))
        });
        match started {
            Ok((child, pipe)) => Running::new(child, Some(pipe), job, self).wait(stop, heard),
            Err(error) => not_started(error),
        }
    }
}

/// How much later than a job this program may hear of the keyboard's interruption.
const HEARD_WITHIN: Duration = Duration::from_millis(500);

/// The keyboard's interruption goes to the job that has the terminal. When that ends by it, the run
/// ends too; when the job takes it for something else, as a prompt does, the run goes on.
fn after_terminal(mut outcome: Outcome, stop: &Stop) -> Outcome {
    let by_it = matches!(outcome.exit, Exit::Signal(signal) if signal == Signal::INT.as_raw())
        || outcome.exit == Exit::Status(128 + Signal::INT.as_raw());
    if by_it {
        // Both got it from the keyboard; the thread that hears signals may come second.
        stop.await_interruption(HEARD_WITHIN);
    }
    let interrupted = stop.hold_terminal(false);
    if interrupted && by_it {
        outcome.stopped = true;
        stop.raise(Signal::INT.as_raw());
    }
    outcome
}

fn start_error(job: &Job, error: &io::Error) -> String {
    let program = job.interpreter.first().map_or("", String::as_str);
    match error.kind() {
        io::ErrorKind::NotFound => {
            format!("`{program}` or the folder `./{}` was not found", job.folder)
        }
        _ => format!("`{program}` could not be started: {error}"),
    }
}

/// How often the system ended a process for want of memory, since it was started.
fn killed_for_memory() -> u64 {
    let text = std::fs::read_to_string("/proc/vmstat").unwrap_or_default();
    text.lines()
        .find_map(|line| line.strip_prefix("oom_kill "))
        .and_then(|count| count.trim().parse().ok())
        .unwrap_or(0)
}

/// The largest amount of memory that this process held, bytes.
fn own_memory() -> u64 {
    getrusage(UsageWho::RUSAGE_SELF).map_or(0, |usage| {
        u64::try_from(usage.max_rss())
            .unwrap_or(0)
            .saturating_mul(1024)
    })
}

struct Running {
    child: Child,
    pid: Option<Pid>,
    /// Whether it is a process group of its own.
    grouped: bool,
    pipe: Option<File>,
    capture: Capture,
    limit: Option<Duration>,
    /// When the limit or the grace is over, on a clock that stands still in pauses.
    deadline: Option<Duration>,
    start: Instant,
    /// How long the run had been paused when it began.
    paused_before: Duration,
    asked: bool,
    killed: bool,
    timed_out: bool,
    level: u8,
    memory_kills: u64,
}

impl Running {
    fn new(child: Child, pipe: Option<File>, job: &Job, place: &LocalPlace) -> Self {
        if let Some(pipe) = &pipe {
            let _ = rustix::io::ioctl_fionbio(pipe, true);
        }
        Self {
            pid: Pid::from_raw(i32::try_from(child.id()).unwrap_or(0)),
            child,
            grouped: !job.terminal,
            pipe,
            capture: Capture::new(&place.root, job.log.as_deref()),
            limit: job.limit,
            deadline: None,
            start: Instant::now(),
            paused_before: Duration::ZERO,
            asked: false,
            killed: false,
            timed_out: false,
            level: 0,
            memory_kills: place.memory_kills,
        }
    }

    fn wait(mut self, stop: &Stop, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        self.paused_before = stop.paused();
        self.deadline = self.limit;
        if self.grouped
            && let Some(group) = self.pid
        {
            stop.enter(group);
        }
        let process = self.pid.and_then(|pid| {
            rustix::process::pidfd_open(pid, rustix::process::PidfdFlags::empty()).ok()
        });
        loop {
            self.heed(stop);
            if self.poll(process.as_ref(), stop, heard) {
                break;
            }
        }
        if self.grouped {
            self.signal(Signal::KILL);
            if let Some(group) = self.pid {
                stop.leave(group);
            }
        }
        self.drain(heard);
        self.finish()
    }

    /// Waits for something to happen; whether the process has ended.
    fn poll(
        &mut self,
        process: Option<&OwnedFd>,
        stop: &Stop,
        heard: &mut dyn FnMut(&[u8]),
    ) -> bool {
        let mut fds: Vec<PollFd<'_>> = Vec::with_capacity(3);
        if let Some(process) = process {
            fds.push(PollFd::new(process, PollFlags::IN));
        }
        let pipe_at = self.pipe.as_ref().map(|pipe| {
            fds.push(PollFd::from_borrowed_fd(pipe.as_fd(), PollFlags::IN));
            fds.len() - 1
        });
        // Once the wish was heeded it stays readable; looking at it again would spin.
        if self.level == 0
            && let Some(descriptor) = stop.descriptor()
        {
            fds.push(PollFd::from_borrowed_fd(descriptor, PollFlags::IN));
        }
        let timeout = self.timeout(stop, process.is_none());
        let timeout = timeout.and_then(|timeout| rustix::event::Timespec::try_from(timeout).ok());
        let ready = rustix::event::poll(&mut fds, timeout.as_ref()).is_ok();
        let readable = pipe_at.is_some_and(|at| ready && !fds[at].revents().is_empty());
        let ended = process.is_some() && ready && !fds[0].revents().is_empty();
        if readable {
            self.drain(heard);
        }
        ended || (process.is_none() && self.has_ended())
    }

    fn timeout(&self, stop: &Stop, polling: bool) -> Option<Duration> {
        let until_deadline = self
            .deadline
            .map(|deadline| deadline.saturating_sub(self.running_for(stop)));
        // A second wish to stop, or a process without a descriptor, is looked for now and then.
        let tick = (self.level > 0 || polling).then_some(Duration::from_millis(20));
        match (until_deadline, tick) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        }
    }

    /// How long it has been running, pauses left out.
    fn running_for(&self, stop: &Stop) -> Duration {
        let paused = stop.paused().saturating_sub(self.paused_before);
        self.start.elapsed().saturating_sub(paused)
    }

    fn has_ended(&self) -> bool {
        let Some(pid) = self.pid else { return true };
        let options = WaitIdOptions::EXITED | WaitIdOptions::NOHANG | WaitIdOptions::NOWAIT;
        !matches!(
            rustix::process::waitid(rustix::process::WaitId::Pid(pid), options),
            Ok(None)
        )
    }

    /// Carries out the wish to stop and the time limit.
    fn heed(&mut self, stop: &Stop) {
        let level = stop.level();
        let now = self.running_for(stop);
        if level > self.level {
            self.level = level;
            self.signal(if level >= Stop::KILL {
                Signal::KILL
            } else {
                stop.signal()
            });
            self.deadline = Some(now + GRACE);
            self.asked = true;
        }
        if self.deadline.is_some_and(|deadline| deadline <= now) {
            if self.asked {
                self.signal(Signal::KILL);
                self.deadline = None;
            } else {
                self.timed_out = true;
                self.asked = true;
                self.signal(Signal::TERM);
                self.deadline = Some(now + GRACE);
            }
        }
    }

    fn signal(&mut self, signal: Signal) {
        self.killed |= signal == Signal::KILL && self.asked;
        let Some(pid) = self.pid else { return };
        // It may be gone already.
        if self.grouped {
            let _ = rustix::process::kill_process_group(pid, signal);
            if signal != Signal::KILL {
                let _ = rustix::process::kill_process_group(pid, Signal::CONT);
            }
        } else {
            let _ = rustix::process::kill_process(pid, signal);
        }
    }

    /// Takes what the pipe holds now.
    fn drain(&mut self, heard: &mut dyn FnMut(&[u8])) {
        let mut buffer = [0; 16 * 1024];
        while let Some(pipe) = &mut self.pipe {
            match pipe.read(&mut buffer) {
                Ok(0) => self.pipe = None,
                Ok(count) => {
                    self.capture.take(&buffer[..count]);
                    heard(&buffer[..count]);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => break,
                Err(_) => self.pipe = None,
            }
        }
    }

    fn finish(self) -> Outcome {
        let limit = self.timed_out.then_some(self.limit).flatten();
        let mut outcome = Outcome {
            output: self.capture.finish(),
            stopped: self.level > 0,
            ..Outcome::silent(Exit::NotStarted(String::new()))
        };
        match self.child.wait4() {
            Ok(ended) => {
                let nanos =
                    |duration: Duration| u64::try_from(duration.as_nanos()).unwrap_or(u64::MAX);
                // What the system counts for a process begins with that of the one that started it.
                let of_child = ended.rusage.maxrss;
                outcome.memory = if of_child > own_memory() { of_child } else { 0 };
                outcome.processor = nanos(ended.rusage.utime + ended.rusage.stime);
                outcome.exit = match (limit, ended.status.code()) {
                    (Some(limit), _) => Exit::TimedOut(limit.as_secs()),
                    (None, Some(status)) => Exit::Status(status),
                    (None, None) => by_signal(
                        ended.status.signal().unwrap_or(0),
                        self.killed,
                        self.memory_kills,
                    ),
                };
            }
            Err(error) => {
                outcome.exit = Exit::NotStarted(format!("its end could not be awaited: {error}"));
            }
        }
        outcome
    }
}

/// A process that was killed, and not by us, may have been killed for want of memory.
fn by_signal(signal: i32, by_us: bool, memory_kills: u64) -> Exit {
    if signal == Signal::KILL.as_raw() && !by_us && killed_for_memory() > memory_kills {
        Exit::OutOfMemory
    } else {
        Exit::Signal(signal)
    }
}
