//! What a job printed last, for whoever shows it while the job runs or when something fails.

use std::sync::Arc;
use std::sync::Mutex;

use crate::world::lock;

/// For its last line so many bytes are kept: more than a terminal is wide.
const LINE: usize = 512;

/// What a job printed last.
#[derive(Clone, Debug)]
pub struct OutputTail {
    kept: Arc<Mutex<Vec<u8>>>,
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
