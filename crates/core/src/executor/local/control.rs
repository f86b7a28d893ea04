//! What reaches all jobs of this machine at once: being woken when the run is to end, being paused, and the
//! terminal's interruption.

use std::os::fd::AsFd;
use std::os::fd::BorrowedFd;
use std::os::fd::OwnedFd;
use std::sync::Condvar;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::PoisonError;
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering;
use std::time::Duration;
use std::time::Instant;

use rustix::process::Pid;
use rustix::process::Signal;

use crate::executor::cancel::CancelLevel;
use crate::executor::cancel::CancelToken;
use crate::world::lock;

/// Reaches the jobs that are running, from a signal handler's thread or another.
#[derive(Debug)]
pub struct ProcessControl {
    token: CancelToken,
    /// Becomes readable when the wish to end becomes stronger, so that waiting threads wake up.
    wake: Option<OwnedFd>,
    groups: Mutex<Groups>,
    /// Told when a process has been started, and at the end of a pause.
    changed: Condvar,
    /// Whether a job has the terminal and the keyboard.
    terminal: AtomicBool,
    /// Whether the keyboard interrupted the job that has the terminal.
    interrupted: AtomicBool,
}

/// Process groups that are running, none of them reaped yet.
#[derive(Debug, Default)]
struct Groups {
    running: Vec<Pid>,
    /// How many processes are being started whose group is not among the running ones yet.
    starting: usize,
    paused_at: Option<Instant>,
    /// How long the pauses before were together.
    paused_before: Duration,
}

impl Groups {
    fn paused(&self) -> Duration {
        self.paused_before
            + self
                .paused_at
                .map_or(Duration::ZERO, |since| since.elapsed())
    }
}

/// A pause waits so long for processes that are being started; one that the system does not load by then (as
/// from a server of files that does not answer) is stopped when it has begun.
const STARTED_WITHIN: Duration = Duration::from_secs(5);

/// A process is being started: until this is dropped a pause waits for it, since this program could be
/// stopped itself before it could stop what it has just begun.
#[must_use]
pub struct Starting<'c>(&'c ProcessControl);

impl Drop for Starting<'_> {
    fn drop(&mut self) {
        self.0.groups().starting -= 1;
        self.0.changed.notify_all();
    }
}

impl Default for ProcessControl {
    fn default() -> Self {
        let flags = rustix::event::EventfdFlags::CLOEXEC | rustix::event::EventfdFlags::NONBLOCK;
        Self {
            token: CancelToken::default(),
            wake: rustix::event::eventfd(0, flags).ok(),
            groups: Mutex::default(),
            changed: Condvar::new(),
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

    /// A process is about to be started; in a pause this waits for its end.
    pub fn starting(&self) -> Starting<'_> {
        let mut groups = self
            .changed
            .wait_while(self.groups(), |groups| groups.paused_at.is_some())
            .unwrap_or_else(PoisonError::into_inner);
        groups.starting += 1;
        Starting(self)
    }

    /// A job's process group runs now.
    pub fn enter(&self, group: Pid) {
        let mut groups = self.groups();
        groups.running.push(group);
        if groups.paused_at.is_some() {
            // A pause did not wait for it any longer.
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

    /// Stops all jobs where they are, until [`ProcessControl::resume`]; none begins meanwhile.
    pub fn pause(&self) {
        let mut groups = self.groups();
        groups.paused_at.get_or_insert_with(Instant::now);
        let (groups, _) = self
            .changed
            .wait_timeout_while(groups, STARTED_WITHIN, |groups| groups.starting > 0)
            .unwrap_or_else(PoisonError::into_inner);
        for group in &groups.running {
            // It may have ended just now.
            let _ = rustix::process::kill_process_group(*group, Signal::STOP);
        }
    }

    /// Lets all jobs go on. Their time limits do not count the pause.
    pub fn resume(&self) {
        let mut groups = self.groups();
        groups.paused_before = groups.paused();
        groups.paused_at = None;
        for group in &groups.running {
            let _ = rustix::process::kill_process_group(*group, Signal::CONT);
        }
        drop(groups);
        self.changed.notify_all();
    }

    /// Whether all jobs are stopped where they are.
    #[must_use]
    pub fn is_paused(&self) -> bool {
        self.groups().paused_at.is_some()
    }

    /// How long the run was paused so far, with the pause that lasts: a thread that goes on before it is over
    /// for all must not take it for time that its job had.
    #[must_use]
    pub fn paused(&self) -> Duration {
        self.groups().paused()
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::process::CommandExt;
    use std::process::Command;
    use std::sync::mpsc;
    use std::thread;

    use rustix::process::WaitId;
    use rustix::process::WaitIdOptions;

    use super::*;

    /// Longer than what is waited for takes on any machine that is not stopped itself.
    const LONG: Duration = Duration::from_secs(20);
    /// What is not to happen has so long to happen.
    const MOMENT: Duration = Duration::from_millis(50);

    #[test]
    fn a_pause_waits_for_what_is_being_started_and_nothing_is_started_in_it() {
        let control = &ProcessControl::default();
        let (tell, told) = mpsc::channel();
        thread::scope(|scope| {
            let starting = control.starting();
            let mut child = Command::new("sleep")
                .arg("100")
                .process_group(0)
                .spawn()
                .unwrap();
            let pid = Pid::from_child(&child);
            let pause = tell.clone();
            scope.spawn(move || {
                control.pause();
                pause.send("paused").unwrap();
            });
            // This program would be stopped now, and the process would go on.
            assert!(told.recv_timeout(MOMENT).is_err());
            control.enter(pid);
            drop(starting);
            assert_eq!(told.recv_timeout(LONG), Ok("paused"));
            thread::sleep(MOMENT);
            let paused = control.paused();
            assert!(paused >= MOMENT, "a pause that lasts is one: {paused:?}");
            let stopped = WaitIdOptions::STOPPED | WaitIdOptions::EXITED;
            let status = rustix::process::waitid(WaitId::Pid(pid), stopped).unwrap();
            assert!(status.is_some_and(|status| status.stopped()));

            scope.spawn(move || {
                drop(control.starting());
                tell.send("started").unwrap();
            });
            assert!(told.recv_timeout(MOMENT).is_err());
            control.resume();
            assert_eq!(told.recv_timeout(LONG), Ok("started"));
            assert!(!control.is_paused() && control.paused() >= paused + MOMENT);
            child.kill().unwrap();
            child.wait().unwrap();
        });
    }
}
