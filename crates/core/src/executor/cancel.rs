//! The wish to end or to pause a run, as it reaches the jobs that are running.

use std::os::fd::AsFd;
use std::os::fd::BorrowedFd;
use std::os::fd::OwnedFd;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::PoisonError;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::AtomicI32;
use std::sync::atomic::AtomicU8;
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering;
use std::time::Duration;
use std::time::Instant;

use rustix::process::Pid;
use rustix::process::Signal;

/// The wish to end a run, as it becomes stronger: from a signal handler or another thread. It also
/// knows the process groups of running jobs, so that all can be paused at once.
#[derive(Debug)]
pub struct CancelToken {
    level: AtomicU8,
    /// The signal that asked.
    signal: AtomicI32,
    /// Becomes readable when the level rises, so that waiting threads wake up.
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

impl Default for CancelToken {
    fn default() -> Self {
        let flags = rustix::event::EventfdFlags::CLOEXEC | rustix::event::EventfdFlags::NONBLOCK;
        Self {
            level: AtomicU8::new(0),
            signal: AtomicI32::new(Signal::INT.as_raw()),
            wake: rustix::event::eventfd(0, flags).ok(),
            groups: Mutex::default(),
            paused: AtomicU64::new(0),
            terminal: AtomicBool::new(false),
            interrupted: AtomicBool::new(false),
        }
    }
}

impl CancelToken {
    /// Jobs are asked to end.
    pub const ASK: u8 = 1;
    /// Jobs are killed.
    pub const KILL: u8 = 2;

    /// Raises the level by one; gives the new one. Jobs are asked with this signal.
    pub fn raise(&self, signal: i32) -> u8 {
        self.signal.store(signal, Ordering::SeqCst);
        let level = self.level.fetch_add(1, Ordering::SeqCst).saturating_add(1);
        if let Some(wake) = &self.wake {
            // A full counter is readable too.
            let _ = rustix::io::write(wake, &1u64.to_ne_bytes());
        }
        level
    }

    /// The keyboard's interruption: a job that has the terminal gets it from there, and what it makes
    /// of it decides; all others are asked to end. Gives the level.
    pub fn interrupt(&self) -> u8 {
        if self.terminal.load(Ordering::SeqCst) {
            self.interrupted.store(true, Ordering::SeqCst);
            return self.level();
        }
        self.raise(Signal::INT.as_raw())
    }

    /// How strong the wish is; 0 for none.
    #[must_use]
    pub fn level(&self) -> u8 {
        self.level.load(Ordering::SeqCst)
    }

    /// The signal to ask jobs with.
    #[must_use]
    pub fn signal(&self) -> Signal {
        Signal::from_named_raw(self.signal.load(Ordering::SeqCst)).unwrap_or(Signal::INT)
    }

    /// A descriptor that is readable once the level is above 0.
    #[must_use]
    pub fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        self.wake.as_ref().map(AsFd::as_fd)
    }

    fn groups(&self) -> MutexGuard<'_, Groups> {
        self.groups.lock().unwrap_or_else(PoisonError::into_inner)
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

    /// Stops all jobs where they are, until [`CancelToken::resume`].
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
            let nanoseconds = u64::try_from(since.elapsed().as_nanos()).unwrap_or(u64::MAX);
            self.paused.fetch_add(nanoseconds, Ordering::SeqCst);
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
