//! A process that runs, from its start to its last byte.
//!
//! One `poll` waits for the process, what it prints, and the wish to stop. Asked to end, the whole group has
//! its grace, also when the shell at its head is gone already. When the process has ended, what is left of its
//! group is killed before it is reaped (until then the group's number cannot be given to another), and the
//! pipe is drained without waiting, so that a process left in the background can neither hang the run nor
//! outlive it.

use std::fs::File;
use std::io;
use std::io::Read;
use std::os::fd::AsFd;
use std::os::fd::OwnedFd;
use std::os::unix::process::ExitStatusExt;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering;
use std::time::Duration;
use std::time::Instant;

use rustix::event::PollFd;
use rustix::event::PollFlags;
use rustix::process::Pid;
use rustix::process::Signal;
use rustix::process::WaitIdOptions;

use crate::executor::cancel::CancelLevel;
use crate::executor::capture::Capture;
use crate::executor::exit::Exit;
use crate::executor::job::Job;
use crate::executor::job::Outcome;
use crate::executor::local::LocalExecutor;
use crate::executor::local::begun::Begun;
use crate::executor::local::job_output::JobOutput;
use crate::executor::local::memory::killed_for_memory;
use crate::executor::local::memory::own_memory;
use crate::executor::local::processes::Process;
use crate::project::secret::Redactor;
use crate::world::ByteSize;
use crate::world::names;

/// How often is looked for what no descriptor tells of.
const TICK: Duration = Duration::from_millis(20);

/// How often is looked for a process that waits for the terminal.
const LOOK_AFTER: Duration = Duration::from_millis(500);

/// What is left when a script has ended may take so long to end by itself.
const LAST_WORDS: Duration = Duration::from_millis(60);

/// Of what a command says on its second stream, so much is kept.
const MAX_SAID: usize = 64 * 1024;

pub struct ChildProcess<'p> {
    child: Begun,
    pub pid: Option<Pid>,
    executor: &'p LocalExecutor,
    /// What `HANDLOOM_JOB` says in it.
    job: String,
    /// Whether it is a process group of its own.
    grouped: bool,
    pipe: Option<File>,
    /// Its other end: see [`JobOutput`].
    _held: Option<OwnedFd>,
    /// The second stream of a command whose output is a value.
    said: Option<File>,
    said_text: Vec<u8>,
    capture: Option<Capture>,
    redactor: Redactor,
    limit: Option<Duration>,
    /// When the limit or the grace is over, on a clock that stands still in pauses.
    deadline: Option<Duration>,
    start: Instant,
    /// How long the run had been paused when it began.
    paused_before: Duration,
    looked: Instant,
    asked: bool,
    killed: bool,
    timed_out: bool,
    reads_terminal: bool,
    level: CancelLevel,
    /// Whether it goes on when the run is to end.
    shielded: bool,
    /// Ended when this is set.
    stop: Option<Arc<AtomicBool>>,
}

impl<'p> ChildProcess<'p> {
    /// A job's process.
    pub fn new(
        child: Begun,
        output: Option<JobOutput>,
        job: &Job,
        executor: &'p LocalExecutor,
    ) -> Self {
        let is_terminal = output.as_ref().is_some_and(|output| output.is_terminal);
        let (pipe, held) = output.map(|output| (output.reader, output.writer)).unzip();
        let manifest = executor.manifest_path(job);
        let manifest = names::os_to_text(manifest.as_os_str()).into_owned();
        // First: its log is on a disk that may take its time, and a pause waits for what is not entered yet.
        let entered = Self::plain(child, pipe, (manifest, !job.terminal), executor);
        Self {
            shielded: job.shielded,
            stop: job.stop.clone(),
            capture: Some(
                Capture::new(&executor.root, job.log.as_deref(), &job.name, &job.tail)
                    .of_terminal(is_terminal),
            ),
            _held: held,
            redactor: Redactor::new(
                &job.secrets
                    .iter()
                    .map(|(_, value)| value.clone())
                    .collect::<Vec<_>>(),
            ),
            limit: job.limit,
            ..entered
        }
    }

    /// The process of a command whose output is a value.
    pub fn of_command(child: Begun, out: File, said: File, executor: &'p LocalExecutor) -> Self {
        let _ = rustix::io::ioctl_fionbio(&said, true);
        Self {
            said: Some(said),
            ..Self::plain(child, Some(out), (String::new(), true), executor)
        }
    }

    /// A process that is known to all that reaches running ones.
    fn plain(
        child: Begun,
        pipe: Option<File>,
        (job, grouped): (String, bool),
        executor: &'p LocalExecutor,
    ) -> Self {
        let pid = Pid::from_raw(child.number());
        if let Some(pid) = pid {
            executor.family.enter(pid, &job);
            if grouped {
                executor.control.enter(pid);
            }
        }
        if let Some(pipe) = &pipe {
            let _ = rustix::io::ioctl_fionbio(pipe, true);
        }
        Self {
            pid,
            child,
            executor,
            job,
            grouped,
            pipe,
            _held: None,
            said: None,
            said_text: Vec::new(),
            capture: None,
            redactor: Redactor::default(),
            limit: None,
            deadline: None,
            start: Instant::now(),
            paused_before: executor.control.paused(),
            looked: Instant::now(),
            asked: false,
            killed: false,
            timed_out: false,
            reads_terminal: false,
            level: CancelLevel::None,
            shielded: false,
            stop: None,
        }
    }

    /// Waits for the end of a job.
    pub fn wait(mut self, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        let left = self.await_end(heard);
        Outcome {
            left_behind: left,
            ..self.finish()
        }
    }

    /// Waits for the end of a command; what it said on its second stream comes behind.
    pub fn wait_for_value(mut self, heard: &mut dyn FnMut(&[u8])) -> (Outcome, Vec<u8>) {
        self.await_end(heard);
        let said = std::mem::take(&mut self.said_text);
        (self.finish(), said)
    }

    fn await_end(&mut self, heard: &mut dyn FnMut(&[u8])) -> Vec<String> {
        self.deadline = self.limit;
        let process = self.pid.and_then(|pid| {
            rustix::process::pidfd_open(pid, rustix::process::PidfdFlags::empty()).ok()
        });
        loop {
            self.heed();
            if self.poll(process.as_ref(), heard) {
                break;
            }
        }
        self.await_group(heard);
        let left = self.end_rest();
        self.drain(heard);
        let rest = self.redactor.finish();
        if !rest.is_empty() {
            self.capture
                .iter_mut()
                .for_each(|capture| capture.take(&rest));
            heard(&rest);
        }
        left
    }

    /// Asked to end, what is left of the group has its grace too.
    fn await_group(&mut self, heard: &mut dyn FnMut(&[u8])) {
        let Some(pid) = self.pid.filter(|_| self.asked && !self.killed) else {
            return;
        };
        while !self.killed && !self.executor.family.rest_of(pid, &self.job).is_empty() {
            self.drain(heard);
            std::thread::sleep(TICK);
            self.heed();
        }
    }

    /// Ends what is left; the names of what was left behind by a process that ended of its own accord.
    fn end_rest(&mut self) -> Vec<String> {
        let Some(pid) = self.pid else {
            return Vec::new();
        };
        let left = if self.asked || !self.lets_finish(pid) {
            self.executor.family.end_rest_of(pid, &self.job)
        } else {
            Vec::new()
        };
        if self.grouped {
            self.signal(Signal::KILL);
            self.executor.control.leave(pid);
        }
        if self.asked { Vec::new() } else { left }
    }

    /// What only has to write out what it still holds, as a `tee` behind the shell, has a moment to do so;
    /// whether nothing is left then.
    fn lets_finish(&mut self, pid: Pid) -> bool {
        let start = Instant::now();
        while self.executor.family.has_orphans()
            && !self.executor.family.rest_of(pid, &self.job).is_empty()
        {
            if start.elapsed() >= LAST_WORDS {
                return false;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
        true
    }

    /// Waits for something to happen; whether the process has ended.
    fn poll(&mut self, process: Option<&OwnedFd>, heard: &mut dyn FnMut(&[u8])) -> bool {
        let mut fds: Vec<PollFd<'_>> = Vec::with_capacity(4);
        if let Some(process) = process {
            fds.push(PollFd::new(process, PollFlags::IN));
        }
        let pipes_at = fds.len();
        for pipe in self.pipe.iter().chain(&self.said) {
            fds.push(PollFd::from_borrowed_fd(pipe.as_fd(), PollFlags::IN));
        }
        let behind_pipes = fds.len();
        // Once the wish was heeded it stays readable; looking at it again would spin.
        if self.level == CancelLevel::None
            && !self.shielded
            && let Some(descriptor) = self.executor.control.descriptor()
        {
            fds.push(PollFd::from_borrowed_fd(descriptor, PollFlags::IN));
        }
        let timeout = self.timeout(process.is_none());
        let timeout = timeout.and_then(|timeout| rustix::event::Timespec::try_from(timeout).ok());
        let ready = rustix::event::poll(&mut fds, timeout.as_ref()).is_ok();
        let has_something = |fd: &PollFd<'_>| ready && !fd.revents().is_empty();
        let readable = fds[pipes_at..behind_pipes].iter().any(has_something);
        let ended = process.is_some() && has_something(&fds[0]);
        if readable {
            self.drain(heard);
        }
        ended || (process.is_none() && self.has_ended())
    }

    fn timeout(&self, polling: bool) -> Option<Duration> {
        let until_deadline = self
            .deadline
            .map(|deadline| deadline.saturating_sub(self.running_for()));
        // A second wish to stop, or a process without a descriptor, is looked for now and then.
        let tick =
            (self.level > CancelLevel::None || polling || self.stop.is_some()).then_some(TICK);
        let look = (self.executor.has_terminal && self.grouped).then_some(LOOK_AFTER);
        [until_deadline, tick, look].into_iter().flatten().min()
    }

    /// How long it has been running, pauses left out.
    fn running_for(&self) -> Duration {
        let paused = self
            .executor
            .control
            .paused()
            .saturating_sub(self.paused_before);
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
    fn heed(&mut self) {
        let level = if self.shielded {
            CancelLevel::None
        } else {
            self.executor.control.token().level()
        };
        let now = self.running_for();
        if level > self.level {
            self.level = level;
            self.asked = true;
            self.signal(if level >= CancelLevel::Urged {
                Signal::KILL
            } else {
                self.executor.control.signal()
            });
            self.deadline = Some(now + self.executor.grace);
        }
        if !self.asked
            && self
                .stop
                .as_ref()
                .is_some_and(|stop| stop.load(Ordering::SeqCst))
        {
            self.asked = true;
            self.signal(Signal::TERM);
            self.deadline = Some(now + self.executor.grace);
        }
        if self.deadline.is_some_and(|deadline| deadline <= now) {
            if self.asked {
                self.signal(Signal::KILL);
                self.deadline = None;
            } else {
                self.timed_out = true;
                self.asked = true;
                self.signal(Signal::TERM);
                self.deadline = Some(now + self.executor.grace);
            }
        }
        self.look_for_reader();
    }

    /// A process of a group in the background that reads the terminal is stopped by the system, for ever.
    fn look_for_reader(&mut self) {
        let due = self.executor.has_terminal
            && self.grouped
            && !self.asked
            && !self.executor.control.is_paused();
        let Some(pid) = self
            .pid
            .filter(|_| due && self.looked.elapsed() >= LOOK_AFTER)
        else {
            return;
        };
        self.looked = Instant::now();
        let group = pid.as_raw_nonzero().get();
        let reads = crate::executor::local::processes::all()
            .iter()
            .any(|process: &Process| {
                process.group == group && process.state == b'T' && process.terminal != 0
            });
        if reads && !self.executor.control.is_paused() {
            self.reads_terminal = true;
            self.asked = true;
            self.signal(Signal::KILL);
        }
    }

    /// Sends a signal to the whole group, and to those of the job that have left it.
    fn signal(&mut self, signal: Signal) {
        self.killed |= signal == Signal::KILL && self.asked;
        let Some(pid) = self.pid else { return };
        if self.asked {
            let group = pid.as_raw_nonzero().get();
            let rest = self.executor.family.rest_of(pid, &self.job);
            for process in rest {
                if !self.grouped || process.group != group {
                    process.signal(signal);
                }
            }
        }
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

    /// Takes what the pipes hold now.
    fn drain(&mut self, heard: &mut dyn FnMut(&[u8])) {
        let (capture, redactor) = (&mut self.capture, &mut self.redactor);
        drain_into(&mut self.pipe, &mut |bytes| {
            let clean;
            let bytes = if redactor.is_idle() {
                bytes
            } else {
                clean = redactor.take(bytes);
                &clean
            };
            if let Some(capture) = capture {
                capture.take(bytes);
            }
            heard(bytes);
        });
        let text = &mut self.said_text;
        drain_into(&mut self.said, &mut |bytes| {
            let room = MAX_SAID.saturating_sub(text.len()).min(bytes.len());
            text.extend_from_slice(&bytes[..room]);
        });
    }

    fn finish(mut self) -> Outcome {
        let limit = self.timed_out.then_some(self.limit).flatten();
        let mut outcome = Outcome {
            output: self.capture.map(Capture::finish).unwrap_or_default(),
            stopped: self.level > CancelLevel::None,
            ..Outcome::silent(Exit::NotStarted(String::new()))
        };
        let ended = self.child.wait();
        if let Some(pid) = self.pid {
            self.executor.family.leave(pid);
        }
        match ended {
            Ok(ended) => {
                // What the system counts for a process begins with that of the one that started it.
                let of_child = ended.memory;
                if of_child > own_memory() {
                    outcome.memory = ByteSize(of_child);
                }
                outcome.processor = ended.processor;
                outcome.exit = match (limit, ended.status.code()) {
                    _ if self.reads_terminal => Exit::ReadsTerminal,
                    (Some(limit), _) => Exit::TimedOut(limit),
                    (None, Some(status)) => Exit::Status(status),
                    (None, None) => by_signal(
                        ended.status.signal().unwrap_or(0),
                        self.killed,
                        self.executor.memory_kills,
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

/// Takes what a pipe holds now; none is left at its end.
fn drain_into(pipe: &mut Option<File>, take: &mut dyn FnMut(&[u8])) {
    let mut buffer = [0; 16 * 1024];
    while let Some(open) = pipe {
        match open.read(&mut buffer) {
            Ok(0) => *pipe = None,
            Ok(count) => take(&buffer[..count]),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => break,
            Err(_) => *pipe = None,
        }
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
