//! The wish to end a run, as plain data: whoever runs jobs looks at it, and is woken by other means.

use std::sync::atomic::AtomicI32;
use std::sync::atomic::AtomicU8;
use std::sync::atomic::Ordering;

/// How strong the wish is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum CancelLevel {
    /// Nobody wants the run to end.
    None,
    /// Nothing new begins, and jobs are asked to end.
    Asked,
    /// Jobs are killed.
    Urged,
    /// Whoever waits for jobs is to wait no longer.
    Killed,
}

/// The number of the signal that the keyboard's interruption sends (POSIX, and so on all systems).
const INTERRUPT: i32 = 2;

/// The wish to end a run, as it becomes stronger.
#[derive(Debug)]
pub struct CancelToken {
    level: AtomicU8,
    /// The signal that asked.
    signal: AtomicI32,
}

impl Default for CancelToken {
    fn default() -> Self {
        Self {
            level: AtomicU8::new(0),
            signal: AtomicI32::new(INTERRUPT),
        }
    }
}

impl CancelToken {
    /// Makes the wish stronger by one; gives the new level. Jobs are asked with this signal.
    pub fn raise(&self, signal: i32) -> CancelLevel {
        self.signal.store(signal, Ordering::SeqCst);
        let before = self.level.fetch_add(1, Ordering::SeqCst);
        level(before.saturating_add(1))
    }

    /// How strong the wish is.
    #[must_use]
    pub fn level(&self) -> CancelLevel {
        level(self.level.load(Ordering::SeqCst))
    }

    /// Whether anybody wants the run to end.
    #[must_use]
    pub fn is_raised(&self) -> bool {
        self.level() > CancelLevel::None
    }

    /// The number of the signal to ask jobs with.
    #[must_use]
    pub fn signal(&self) -> i32 {
        self.signal.load(Ordering::SeqCst)
    }
}

fn level(number: u8) -> CancelLevel {
    match number {
        0 => CancelLevel::None,
        1 => CancelLevel::Asked,
        2 => CancelLevel::Urged,
        _ => CancelLevel::Killed,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_wish_becomes_stronger_and_never_weaker() {
        let token = CancelToken::default();
        assert!(!token.is_raised());
        assert_eq!(token.raise(15), CancelLevel::Asked);
        assert_eq!((token.level(), token.signal()), (CancelLevel::Asked, 15));
        assert_eq!(token.raise(2), CancelLevel::Urged);
        assert_eq!(token.raise(2), CancelLevel::Killed);
        assert_eq!(token.raise(2), CancelLevel::Killed);
        assert_eq!(token.level(), CancelLevel::Killed);
    }
}
