//! Running jobs on this machine.
//!
//! Each job is a process group of its own, without input, with one pipe for both output streams so
//! that their order stays. The thread that starts a job waits for it on three descriptors: the
//! process, the pipe, and the wish to stop. Once the process has ended, what is left of its group is
//! killed before it is reaped (until then the group's number cannot be given to another), and the
//! pipe is drained without waiting, so that a process left in the background can neither hang the
//! run nor outlive it.

use std::fs::File;
use std::io;
use std::io::Read;
use std::os::fd::AsFd;
use std::os::fd::OwnedFd;
use std::os::unix::process::CommandExt;
use std::os::unix::process::ExitStatusExt;
use std::path::PathBuf;
use std::process::Child;
use std::process::Command;
use std::process::Stdio;
use std::time::Duration;
use std::time::Instant;

use rustix::event::PollFd;
use rustix::event::PollFlags;
use rustix::process::Pid;
use rustix::process::Signal;
use rustix::process::WaitIdOptions;
use wait4::Wait4;

use crate::weave::event::Exit;
use crate::weave::place::Job;
use crate::weave::place::Outcome;
use crate::weave::place::Place;
use crate::weave::place::Stop;

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
}

impl LocalPlace {
    /// Jobs of the project at `root`, an absolute path; their scratch files go to `scratch`.
    #[must_use]
    pub fn new(root: PathBuf, scratch: PathBuf) -> Self {
        Self { root, scratch }
    }

    fn command(&self, job: &Job) -> io::Result<Command> {
        let facts = self.scratch.join(format!("{}.json", job.slot));
        std::fs::write(&facts, &job.facts)?;
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

impl Place for LocalPlace {
    fn run(&self, job: &Job, stop: &Stop) -> Outcome {
        let not_started = |error: io::Error| Outcome {
            exit: Exit::NotStarted(start_error(job, &error)),
            output: Vec::new(),
            stopped: false,
            memory: 0,
            processor: 0,
        };
        let mut command = match self.command(job) {
            Ok(command) => command,
            Err(error) => return not_started(error),
        };
        if job.terminal {
            return match command.spawn() {
                Ok(child) => finish(child, Vec::new(), None, false),
                Err(error) => not_started(error),
            };
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
            Ok((child, pipe)) => Running::new(child, pipe, job.limit).wait(stop),
            Err(error) => not_started(error),
        }
    }
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

struct Running {
    child: Child,
    group: Option<Pid>,
    pipe: File,
    output: Vec<u8>,
    pipe_open: bool,
    limit: Option<Duration>,
    deadline: Option<Instant>,
    asked: bool,
    timed_out: bool,
    level: u8,
}

impl Running {
    fn new(child: Child, pipe: File, limit: Option<Duration>) -> Self {
        let group = Pid::from_raw(i32::try_from(child.id()).unwrap_or(0));
        let _ = rustix::io::ioctl_fionbio(&pipe, true);
        Self {
            child,
            group,
            pipe,
            output: Vec::new(),
            pipe_open: true,
            limit,
            deadline: limit.map(|limit| Instant::now() + limit),
            asked: false,
            timed_out: false,
            level: 0,
        }
    }

    fn wait(mut self, stop: &Stop) -> Outcome {
        let process = self.group.and_then(|pid| {
            rustix::process::pidfd_open(pid, rustix::process::PidfdFlags::empty()).ok()
        });
        loop {
            self.heed(stop);
            if self.poll(process.as_ref(), stop) {
                break;
            }
        }
        self.signal(Signal::KILL);
        self.drain();
        let stopped = self.level > 0;
        let limit = self.timed_out.then_some(self.limit).flatten();
        finish(self.child, self.output, limit, stopped)
    }

    /// Waits for something to happen; whether the process has ended.
    fn poll(&mut self, process: Option<&OwnedFd>, stop: &Stop) -> bool {
        let mut fds: Vec<PollFd<'_>> = Vec::with_capacity(3);
        if let Some(process) = process {
            fds.push(PollFd::new(process, PollFlags::IN));
        }
        let pipe_at = self.pipe_open.then(|| {
            fds.push(PollFd::from_borrowed_fd(self.pipe.as_fd(), PollFlags::IN));
            fds.len() - 1
        });
        // Once the wish was heeded it stays readable; looking at it again would spin.
        if self.level == 0
            && let Some(descriptor) = stop.descriptor()
        {
            fds.push(PollFd::from_borrowed_fd(descriptor, PollFlags::IN));
        }
        let timeout = self.timeout(process.is_none());
        let timeout = timeout.and_then(|timeout| rustix::event::Timespec::try_from(timeout).ok());
        let ready = rustix::event::poll(&mut fds, timeout.as_ref()).is_ok();
        let readable = pipe_at.is_some_and(|at| ready && !fds[at].revents().is_empty());
        let ended = process.is_some() && ready && !fds[0].revents().is_empty();
        if readable {
            self.drain();
        }
        ended || (process.is_none() && self.has_ended())
    }

    fn timeout(&self, polling: bool) -> Option<Duration> {
        let until_deadline = self
            .deadline
            .map(|deadline| deadline.saturating_duration_since(Instant::now()));
        // A second wish to stop, or a process without a descriptor, is looked for now and then.
        let tick = (self.level > 0 || polling).then_some(Duration::from_millis(20));
        match (until_deadline, tick) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        }
    }

    fn has_ended(&self) -> bool {
        let Some(pid) = self.group else { return true };
        let options = WaitIdOptions::EXITED | WaitIdOptions::NOHANG | WaitIdOptions::NOWAIT;
        !matches!(
            rustix::process::waitid(rustix::process::WaitId::Pid(pid), options),
            Ok(None)
        )
    }

    /// Carries out the wish to stop and the time limit.
    fn heed(&mut self, stop: &Stop) {
        let level = stop.level();
        if level > self.level {
            self.level = level;
            self.signal(if level >= Stop::KILL {
                Signal::KILL
            } else {
                Signal::INT
            });
            self.deadline = Some(Instant::now() + GRACE);
            self.asked = true;
        }
        if self
            .deadline
            .is_some_and(|deadline| deadline <= Instant::now())
        {
            if self.asked {
                self.signal(Signal::KILL);
                self.deadline = None;
            } else {
                self.timed_out = true;
                self.asked = true;
                self.signal(Signal::TERM);
                self.deadline = Some(Instant::now() + GRACE);
            }
        }
    }

    fn signal(&self, signal: Signal) {
        if let Some(group) = self.group {
            // The group may be empty already.
            let _ = rustix::process::kill_process_group(group, signal);
            if signal != Signal::KILL {
                let _ = rustix::process::kill_process_group(group, Signal::CONT);
            }
        }
    }

    /// Takes what the pipe holds now.
    fn drain(&mut self) {
        let mut buffer = [0; 16 * 1024];
        while self.pipe_open {
            match self.pipe.read(&mut buffer) {
                Ok(0) => self.pipe_open = false,
                Ok(count) => self.output.extend_from_slice(&buffer[..count]),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => break,
                Err(_) => self.pipe_open = false,
            }
        }
    }
}

fn finish(child: Child, output: Vec<u8>, limit: Option<Duration>, stopped: bool) -> Outcome {
    let mut outcome = Outcome {
        exit: Exit::NotStarted(String::new()),
        output,
        stopped,
        memory: 0,
        processor: 0,
    };
    match child.wait4() {
        Ok(ended) => {
            let nanos = |duration: Duration| u64::try_from(duration.as_nanos()).unwrap_or(u64::MAX);
            outcome.memory = ended.rusage.maxrss;
            outcome.processor = nanos(ended.rusage.utime + ended.rusage.stime);
            outcome.exit = match (limit, ended.status.code()) {
                (Some(limit), _) => Exit::TimedOut(limit.as_secs()),
                (None, Some(status)) => Exit::Status(status),
                (None, None) => Exit::Signal(ended.status.signal().unwrap_or(0)),
            };
        }
        Err(error) => {
            outcome.exit = Exit::NotStarted(format!("its end could not be awaited: {error}"));
        }
    }
    outcome
}
