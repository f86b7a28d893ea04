//! Signs of life of a request.

use std::io;
use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::sync::atomic::Ordering;
use std::time::Duration;
use std::time::Instant;

/// When a request last had a sign of life, milliseconds since the pool began.
#[derive(Clone)]
pub struct Activity {
    at: Arc<AtomicU64>,
    began: Instant,
}

impl Activity {
    /// A sign of life now, on a clock that began then.
    pub fn new(began: Instant) -> Self {
        let new = Self {
            at: Arc::default(),
            began,
        };
        new.note();
        new
    }

    fn note(&self) {
        let now = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.at.store(now, Ordering::Relaxed);
    }

    /// How long ago the last one was.
    pub fn silence(&self) -> Duration {
        let at = Duration::from_millis(self.at.load(Ordering::Relaxed));
        self.began.elapsed().saturating_sub(at)
    }

    /// A reader of which each byte is a sign of life.
    pub fn noting<R>(&self, reader: R) -> NotingReader<R> {
        NotingReader {
            reader,
            activity: self.clone(),
        }
    }
}

/// A reader of which each byte is a sign of life.
pub struct NotingReader<R> {
    reader: R,
    activity: Activity,
}

impl<R: Read> Read for NotingReader<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.reader.read(buffer);
        self.activity.note();
        count
    }
}
