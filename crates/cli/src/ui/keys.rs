//! Single keys from the terminal, without Enter and without being shown.
//!
//! The terminal's mode belongs to the whole process, and so does what is kept of it here: whoever ends or
//! pauses the process has to be able to give it back ([`give_back`]). A job that has the terminal to itself
//! must also be the only one that reads from it ([`Keys::lend`]).

use std::io;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::sync::Condvar;
use std::sync::Mutex;
use std::sync::MutexGuard;
use std::sync::PoisonError;
use std::thread::JoinHandle;

use rustix::event::PollFd;
use rustix::event::PollFlags;
use rustix::termios::LocalModes;
use rustix::termios::OptionalActions;
use rustix::termios::SpecialCodeIndex;
use rustix::termios::Termios;
use rustix::termios::isatty;
use rustix::termios::tcgetattr;
use rustix::termios::tcgetpgrp;
use rustix::termios::tcsetattr;

use handloom_core::world::lock;

/// The terminal's own mode while keys are read one by one.
static OWN_MODE: Mutex<Option<Termios>> = Mutex::new(None);

/// Gives the terminal its own mode back; whether it had another one.
pub fn give_back() -> bool {
    let mut own = lock(&OWN_MODE);
    let Some(mode) = own.take() else { return false };
    // A terminal that is gone needs no mode.
    let _ = tcsetattr(io::stdin(), OptionalActions::Now, &mode);
    true
}

/// Lets the terminal hand over each key at once; false when there is no terminal, or it is another's.
pub fn take() -> bool {
    let stdin = io::stdin();
    if !isatty(&stdin) || tcgetpgrp(&stdin).ok() != Some(rustix::process::getpgrp()) {
        return false;
    }
    let Ok(mode) = tcgetattr(&stdin) else {
        return false;
    };
    let mut single = mode.clone();
    // Interruptions and pauses stay signals.
    single
        .local_modes
        .remove(LocalModes::ICANON | LocalModes::ECHO);
    single.special_codes[SpecialCodeIndex::VMIN] = 1;
    single.special_codes[SpecialCodeIndex::VTIME] = 0;
    let mut own = lock(&OWN_MODE);
    if tcsetattr(&stdin, OptionalActions::Now, &single).is_err() {
        return false;
    }
    own.get_or_insert(mode);
    true
}

/// Whether the reading thread is to read, and whether it does.
#[derive(Default)]
struct TerminalState {
    lent: bool,
    resting: bool,
    ended: bool,
}

struct SharedKeys {
    state: Mutex<TerminalState>,
    changed: Condvar,
    /// Becomes readable when the state changes.
    wake: OwnedFd,
}

impl SharedKeys {
    fn wait<'l>(&self, state: MutexGuard<'l, TerminalState>) -> MutexGuard<'l, TerminalState> {
        self.changed
            .wait(state)
            .unwrap_or_else(PoisonError::into_inner)
    }

    fn poke(&self) {
        // A full counter is readable too.
        let _ = rustix::io::write(&self.wake, &1u64.to_ne_bytes());
        self.changed.notify_all();
    }
}

/// Reads keys until it is dropped.
pub struct Keys {
    shared: Arc<SharedKeys>,
    reader: Option<JoinHandle<()>>,
}

impl Keys {
    /// Hands each key to `heard`; none without a terminal.
    pub fn listen(heard: impl Fn(char) + Send + 'static) -> Option<Self> {
        let flags = rustix::event::EventfdFlags::CLOEXEC | rustix::event::EventfdFlags::NONBLOCK;
        let wake = rustix::event::eventfd(0, flags).ok()?;
        if !take() {
            return None;
        }
        let shared = Arc::new(SharedKeys {
            state: Mutex::default(),
            changed: Condvar::new(),
            wake,
        });
        let reading = Arc::clone(&shared);
        let reader = std::thread::spawn(move || read(&reading, &heard));
        Some(Self {
            shared,
            reader: Some(reader),
        })
    }

    /// Leaves the terminal to a job, in its own mode; returns when nobody else reads from it.
    pub fn lend(&self) {
        let mut state = lock(&self.shared.state);
        state.lent = true;
        self.shared.poke();
        while !state.resting && !state.ended {
            state = self.shared.wait(state);
        }
        give_back();
    }

    /// Takes the terminal back.
    pub fn take_back(&self) {
        take();
        lock(&self.shared.state).lent = false;
        self.shared.poke();
    }
}

impl Drop for Keys {
    fn drop(&mut self) {
        lock(&self.shared.state).ended = true;
        self.shared.poke();
        if let Some(reader) = self.reader.take() {
            // It has nothing to say.
            let _ = reader.join();
        }
        give_back();
    }
}

fn read(shared: &SharedKeys, heard: &impl Fn(char)) {
    let stdin = io::stdin();
    loop {
        let mut state = lock(&shared.state);
        while state.lent && !state.ended {
            state.resting = true;
            shared.changed.notify_all();
            state = shared.wait(state);
        }
        state.resting = false;
        if state.ended {
            return;
        }
        drop(state);
        let mut polled = [
            PollFd::new(&stdin, PollFlags::IN),
            PollFd::new(&shared.wake, PollFlags::IN),
        ];
        if rustix::event::poll(&mut polled, None).is_err() {
            continue;
        }
        let [keys, woken] = polled.map(|fd| fd.revents());
        if woken.contains(PollFlags::IN) {
            let _ = rustix::io::read(&shared.wake, &mut [0; 8]);
            continue;
        }
        let mut buffer = [0; 16];
        match rustix::io::read(&stdin, &mut buffer) {
            Ok(count) if count > 0 => {
                for byte in &buffer[..count] {
                    heard(char::from(*byte));
                }
            }
            // The terminal is gone, or at its end: its signal says so too.
            _ if !keys.contains(PollFlags::IN) || keys.contains(PollFlags::HUP) => {
                lock(&shared.state).ended = true;
                shared.changed.notify_all();
                return;
            }
            _ => {}
        }
    }
}
