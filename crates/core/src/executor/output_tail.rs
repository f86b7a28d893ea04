//! What a job printed last, for whoever shows it while the job runs or when something fails.

use std::sync::Arc;
use std::sync::Mutex;
use std::time::Instant;

use crate::world::lock;

/// For its last line so many bytes are kept: more than a terminal is wide.
const LINE: usize = 512;

/// Whether a job that was begun still waits until it may run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum JobWait {
    /// It ran at once.
    #[default]
    Never,
    /// It does.
    Waits,
    /// It did.
    RunsSince(Instant),
}

/// What a job printed last.
#[derive(Clone, Debug)]
pub struct OutputTail {
    kept: Arc<Mutex<Vec<u8>>>,
    /// Whether the job waits until it may run, and since when it runs after that.
    waits: Arc<Mutex<JobWait>>,
    /// So many bytes are kept.
    most: usize,
}

impl Default for OutputTail {
    /// Enough for a line.
    fn default() -> Self {
        Self::keeping(LINE)
    }
}

impl OutputTail {
    /// Keeps so many bytes.
    #[must_use]
    pub fn keeping(most: usize) -> Self {
        Self {
            kept: Arc::default(),
            waits: Arc::default(),
            most,
        }
    }

    /// Takes in more.
    pub fn take(&self, bytes: &[u8]) {
        let mut kept = lock(&self.kept);
        kept.extend_from_slice(&bytes[bytes.len().saturating_sub(self.most)..]);
        let over = kept.len().saturating_sub(self.most);
        kept.drain(..over);
    }

    /// Says that the job waits until it may run; what for, or none once it runs.
    pub fn wait_for(&self, what: Option<&str>) {
        let mut kept = lock(&self.kept);
        kept.clear();
        kept.extend_from_slice(what.unwrap_or_default().as_bytes());
        *lock(&self.waits) = match what {
            Some(_) => JobWait::Waits,
            None => JobWait::RunsSince(Instant::now()),
        };
    }

    /// Whether it waits.
    #[must_use]
    pub fn waits(&self) -> JobWait {
        *lock(&self.waits)
    }

    /// All that is kept.
    #[must_use]
    pub fn bytes(&self) -> Vec<u8> {
        lock(&self.kept).clone()
    }

    /// The last line that has anything in it, as far as it is kept. One that was drawn over (`\r`) is what it came to.
    #[must_use]
    pub fn line(&self) -> Vec<u8> {
        let kept = lock(&self.kept);
        let lines = kept.split(|byte| matches!(byte, b'\n' | b'\r'));
        let mut said = lines.filter(|line| !line.trim_ascii().is_empty());
        said.next_back().unwrap_or_default().to_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_it_waits_for_is_told_until_it_runs() {
        let tail = OutputTail::default();
        assert_eq!(tail.waits(), JobWait::Never);
        tail.wait_for(Some("waits for rain"));
        assert_eq!(tail.line(), b"waits for rain");
        assert_eq!(tail.waits(), JobWait::Waits);
        tail.wait_for(None);
        assert_eq!(tail.line(), b"");
        assert!(matches!(tail.waits(), JobWait::RunsSince(_)));
    }

    #[test]
    fn the_last_line_with_anything_in_it_is_told() {
        let tail = OutputTail::default();
        assert_eq!(tail.line(), b"");
        for (bytes, line) in [
            ("one\ntwo", "two"),
            (" and a half\n \n", "two and a half"),
            ("10%\r20%\r", "20%"),
            ("30", "30"),
        ] {
            tail.take(bytes.as_bytes());
            assert_eq!(String::from_utf8_lossy(&tail.line()), line);
        }
        tail.take(&[b'x'; 2000]);
        assert_eq!(tail.line().len(), LINE);
    }
}
