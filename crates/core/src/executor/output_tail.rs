//! The line that a job printed last, for whoever shows it while the job runs.

use std::sync::Arc;
use std::sync::Mutex;

use crate::world::lock;

/// So many bytes are kept: more than a terminal is wide.
const KEPT: usize = 512;

/// What a job printed last.
#[derive(Clone, Debug, Default)]
pub struct OutputTail(Arc<Mutex<Vec<u8>>>);

impl OutputTail {
    /// Takes in more.
    pub fn take(&self, bytes: &[u8]) {
        let mut kept = lock(&self.0);
        kept.extend_from_slice(&bytes[bytes.len().saturating_sub(KEPT)..]);
        let over = kept.len().saturating_sub(KEPT);
        kept.drain(..over);
    }

    /// The last line that has anything in it, as far as it is kept. One that was drawn over (`\r`) is what it came to.
    #[must_use]
    pub fn line(&self) -> Vec<u8> {
        let kept = lock(&self.0);
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
        assert_eq!(tail.line().len(), KEPT);
    }
}
