//! What reaches all jobs of this machine at once: being woken when the run is to end, being paused, and the
//! terminal's interruption.

use std::os::fd::AsFd;
use std::os::fd::BorrowedFd;
use std::os::fd::OwnedFd;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering;
use std::time::Duration;
use std::time::Instant;

use rustix::process::Pid;
use rustix::process::Signal;

use crate::executor::cancel::CancelLevel;
use crate::executor::cancel::CancelToken;
use crate::world::lock;
use crate::world::nanoseconds;

/// Reaches the jobs that are running, from a signal handler's thread or another.
#[derive(Debug)]
pub struct ProcessControl {
    token: CancelToken,
    /// Becomes readable when the wish to end becomes stronger, so that waiting threads wake up.
    wake: Option<OwnedFd>,
    groups: Mutex<Groups>,
    /// How long the run was paused so far, nanoseconds.
    paused: AtomicU64,
    /// Whether a job has the terminal and the keyboard.
    terminal: AtomicBool,
    /// Whether the keyboard interrupted the job that has the terminal.
    interrupted: AtomicBool,
}

/// Process groups that are running, none of them reaped yet.
#[derive(Debug, Default)]
struct Groups {
    running: Vec<Pid>,
    paused_at: Option<Instant>,
}

impl Default for ProcessControl {
    fn default() -> Self {
        let flags = rustix::event::EventfdFlags::CLOEXEC | rustix::event::EventfdFlags::NONBLOCK;
        Self {
            token: CancelToken::default(),
            wake: rustix::event::eventfd(0, flags).ok(),
            groups: Mutex::default(),
            paused: AtomicU64::new(0),
            terminal: AtomicBool::new(false),
            interrupted: AtomicBool::new(false),
        }
    }
}

impl ProcessControl {
    /// The wish to end.
    #[must_use]
    pub fn token(&self) -> &CancelToken {
        &self.token
    }

    /// Makes the wish to end stronger, and wakes whoever waits for a job.
    pub fn raise(&self, signal: i32) -> CancelLevel {
        let level = self.token.raise(signal);
        if let Some(wake) = &self.wake {
            // A full counter is readable too.
            let _ = rustix::io::write(wake, &1u64.to_ne_bytes());
        }
        level
    }

    /// The keyboard's interruption: a job that has the terminal gets it from there, and what it makes
    /// of it decides; all others are asked to end. Gives the level.
    pub fn interrupt(&self) -> CancelLevel {
        if self.terminal.load(Ordering::SeqCst) {
            self.interrupted.store(true, Ordering::SeqCst);
            return self.token.level();
        }
        self.raise(Signal::INT.as_raw())
    }

    /// The signal to ask jobs with.
    #[must_use]
    pub fn signal(&self) -> Signal {
        Signal::from_named_raw(self.token.signal()).unwrap_or(Signal::INT)
    }

    /// A descriptor that is readable once anybody wants the run to end.
    #[must_use]
    pub fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        self.wake.as_ref().map(AsFd::as_fd)
    }

    fn groups(&self) -> MutexGuard<'_, Groups> {
        lock(&self.groups)
    }

    /// A job's process group runs now.
    pub fn enter(&self, group: Pid) {
        let mut groups = self.groups();
        groups.running.push(group);
        if groups.paused_at.is_some() {
            // It was started while all others were being stopped.
            let _ = rustix::process::kill_process_group(group, Signal::STOP);
        }
    }

    /// A job's process group is about to be reaped: its number may be given to another then.
    pub fn leave(&self, group: Pid) {
        self.groups().running.retain(|running| *running != group);
    }

    /// A job has, or no longer has, the terminal. Whether the keyboard interrupted it meanwhile.
    pub fn hold_terminal(&self, held: bool) -> bool {
        self.terminal.store(held, Ordering::SeqCst);
        self.interrupted.swap(false, Ordering::SeqCst)
    }

    /// Waits until the keyboard's interruption was heard, but not longer than this.
    pub fn await_interruption(&self, longest: Duration) {
        let start = Instant::now();
        while !self.interrupted.load(Ordering::SeqCst) && start.elapsed() < longest {
            std::thread::sleep(Duration::from_millis(1));
        }
    }

    /// Stops all jobs where they are, until [`ProcessControl::resume`].
    pub fn pause(&self) {
        let mut groups = self.groups();
        groups.paused_at.get_or_insert_with(Instant::now);
        for group in &groups.running {
            // It may have ended just now.
            let _ = rustix::process::kill_process_group(*group, Signal::STOP);
        }
    }

    /// Lets all jobs go on. Their time limits do not count the pause.
    pub fn resume(&self) {
        let mut groups = self.groups();
        if let Some(since) = groups.paused_at.take() {
            self.paused
                .fetch_add(nanoseconds(since.elapsed()), Ordering::SeqCst);
        }
        for group in &groups.running {
            let _ = rustix::process::kill_process_group(*group, Signal::CONT);
        }
    }

    /// Whether all jobs are stopped where they are.
    #[must_use]
    pub fn is_paused(&self) -> bool {
        self.groups().paused_at.is_some()
    }

    /// How long the run was paused so far.
    #[must_use]
    pub fn paused(&self) -> Duration {
        Duration::from_nanos(self.paused.load(Ordering::SeqCst))
    }
}
