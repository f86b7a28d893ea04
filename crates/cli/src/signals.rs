//! Signals, heard by one thread of the process.
//!
//! Interruptions raise the run's wish to stop: the first asks the jobs to end, the second kills them, the
//! third leaves at once. The keyboard's wish to pause stops all jobs, then this program; when it goes on, so
//! do they.

use std::sync::Arc;
use std::sync::Mutex;

use signal_hook::consts::SIGALRM;
use signal_hook::consts::SIGHUP;
use signal_hook::consts::SIGINT;
use signal_hook::consts::SIGPROF;
use signal_hook::consts::SIGQUIT;
use signal_hook::consts::SIGTERM;
use signal_hook::consts::SIGTSTP;
use signal_hook::consts::SIGUSR1;
use signal_hook::consts::SIGUSR2;
use signal_hook::consts::SIGVTALRM;
use signal_hook::consts::SIGXCPU;

use handloom_core::executor::CancelLevel;
use handloom_core::executor::ProcessControl;
use handloom_core::world::lock;

use crate::failure;
use crate::ui::keys;
use crate::ui::live::ProgressGuard;

/// Is told of signals that ask for an end, and of the end of a pause.
pub type Listener = Box<dyn Fn(Heard) + Send>;

/// A signal, to a [`Listener`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Heard {
    /// To end.
    End,
    /// The program was paused and goes on.
    Resumed,
}

#[derive(Default)]
struct SignalTarget {
    /// The run that is going on.
    run: Option<(Arc<ProcessControl>, Option<ProgressGuard>)>,
    listener: Option<Listener>,
}

/// Who is told of signals.
pub struct Signals(Arc<Mutex<SignalTarget>>);

/// The signals are meant for a run until this is dropped.
pub struct Aim<'s>(&'s Signals);

impl Drop for Aim<'_> {
    fn drop(&mut self) {
        lock(&self.0.0).run = None;
    }
}

impl Signals {
    /// Hears signals from now on.
    pub fn heed() -> Self {
        let target = Arc::new(Mutex::new(SignalTarget::default()));
        let heard = Arc::clone(&target);
        let mut wanted = vec![
            SIGINT, SIGTERM, SIGTSTP, SIGQUIT, SIGUSR1, SIGUSR2, SIGALRM, SIGVTALRM, SIGPROF,
            SIGXCPU,
        ];
        // `nohup` and others ask for that: whoever ignores it goes on.
        if !is_ignored(SIGHUP) {
            wanted.push(SIGHUP);
        }
        if let Ok(mut signals) = signal_hook::iterator::Signals::new(wanted) {
            // Without room for a thread the signals do what they do to any program.
            let _ = std::thread::Builder::new()
                .name("signals".to_owned())
                .spawn(move || {
                    for signal in signals.forever() {
                        hear(signal, &heard);
                    }
                });
        }
        Self(target)
    }

    /// Who is told of signals besides the run.
    pub fn listen(&self, listener: Listener) {
        lock(&self.0).listener = Some(listener);
    }

    /// Aims the signals at a run.
    pub fn aim(
        &self,
        control: &Arc<ProcessControl>,
        progress_guard: Option<ProgressGuard>,
    ) -> Aim<'_> {
        lock(&self.0).run = Some((Arc::clone(control), progress_guard));
        Aim(self)
    }
}

/// Whether this program was started with a signal ignored (`/proc/self/status`: a mask in hexadecimal digits,
/// the lowest bit for signal 1).
fn is_ignored(signal: i32) -> bool {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = text.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok())
        .is_some_and(|mask| mask & (1 << (signal - 1)) != 0)
}

fn hear(signal: i32, target: &Mutex<SignalTarget>) {
    if signal == SIGTSTP {
        return pause(target);
    }
    let target = lock(target);
    if let Some(listener) = &target.listener {
        listener(Heard::End);
    }
    let Some((control, _)) = &target.run else {
        return;
    };
    let level = match signal {
        SIGINT => control.interrupt(),
        SIGTERM | SIGHUP | SIGQUIT => control.raise(signal),
        // Whatever these mean to us, a recipe that is asked to end is asked as usual.
        _ => control.raise(SIGTERM),
    };
    if level >= CancelLevel::Killed {
        keys::give_back();
        std::process::exit(i32::from(failure::INTERRUPTED));
    }
}

fn pause(target: &Mutex<SignalTarget>) {
    // Not held during the pause: the run may end in it.
    let run = lock(target).run.clone();
    if let Some((control, progress_guard)) = &run {
        if let Some(progress_guard) = progress_guard {
            progress_guard.drop_down();
        }
        control.pause();
    }
    let had_keys = keys::give_back();
    // Stopped as the shell expects it; this returns when the program goes on.
    let _ = signal_hook::low_level::emulate_default_handler(SIGTSTP);
    if had_keys {
        keys::take();
    }
    if let Some((control, progress_guard)) = &run {
        control.resume();
        if let Some(progress_guard) = progress_guard {
            progress_guard.lift();
        }
    }
    if let Some(listener) = &lock(target).listener {
        listener(Heard::Resumed);
    }
}
