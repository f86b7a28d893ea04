//! Escape sequences in what a job prints to a terminal, and the text without them.
//!
//! The forms are those of ECMA-48: a control sequence is `ESC [`, parameters, intermediate bytes and one final byte; a
//! control string (`ESC ]` and others) goes up to BEL or `ESC \\`; any other sequence is `ESC`, intermediate bytes and one
//! final byte.

use std::borrow::Cow;

/// A control string that does not end is taken for text after so many bytes.
const LONGEST: usize = 4096;

/// Takes escape sequences out of a stream of bytes, wherever it is cut.
#[derive(Clone, Debug, Default)]
pub struct ControlStripper {
    state: StripState,
    /// Bytes since the sequence began.
    length: usize,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum StripState {
    #[default]
    Text,
    /// Behind `ESC`.
    Escape,
    /// Behind `ESC [`.
    Sequence,
    /// In a control string.
    String,
    /// Behind `ESC` in a control string.
    StringEscape,
}

const ESC: u8 = 0x1b;
const BEL: u8 = 0x07;

impl ControlStripper {
    /// The next bytes without sequences; other control characters stay.
    pub fn take<'b>(&mut self, bytes: &'b [u8]) -> Cow<'b, [u8]> {
        if self.state == StripState::Text && memchr::memchr(ESC, bytes).is_none() {
            return Cow::Borrowed(bytes);
        }
        let mut out = Vec::with_capacity(bytes.len());
        for &byte in bytes {
            self.length += 1;
            self.state = match (self.state, byte) {
                (StripState::Text, ESC) => {
                    self.length = 0;
                    StripState::Escape
                }
                (StripState::Text, byte) => {
                    out.push(byte);
                    StripState::Text
                }
                (StripState::Escape, b'[') => StripState::Sequence,
                (StripState::Escape, b']' | b'P' | b'X' | b'^' | b'_') => StripState::String,
                (StripState::Escape, 0x20..=0x2f) => StripState::Escape,
                (StripState::Sequence, 0x20..=0x3f) if self.length < LONGEST => {
                    StripState::Sequence
                }
                (StripState::Sequence, 0x40..=0x7e) => StripState::Text,
                (StripState::Sequence | StripState::Escape, ESC) => StripState::Escape,
                // A line's end is no part of any sequence: what stands before it was none.
                (StripState::Sequence | StripState::Escape, b'\n' | b'\r') => {
                    out.push(byte);
                    StripState::Text
                }
                (StripState::Escape | StripState::Sequence, _) => StripState::Text,
                (StripState::String | StripState::StringEscape, BEL) => StripState::Text,
                (StripState::String, ESC) => StripState::StringEscape,
                (StripState::StringEscape, b'\\') => StripState::Text,
                (StripState::String | StripState::StringEscape, _) if self.length < LONGEST => {
                    StripState::String
                }
                (StripState::String | StripState::StringEscape, _) => StripState::Text,
            };
        }
        Cow::Owned(out)
    }
}

/// A whole text without its sequences.
#[must_use]
pub fn without_controls(bytes: &[u8]) -> Cow<'_, [u8]> {
    ControlStripper::default().take(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    const PRINTED: &str = "a\x1b[1;31mred\x1b[0m \x1b]8;;file:///x\x07link\x1b]8;;\x1b\\ \x1b(Bb\x1b[2K\rc\x1b[\nd\x1bM\u{fc}";

    #[test]
    fn sequences_go_wherever_the_stream_is_cut() {
        let whole = without_controls(PRINTED.as_bytes());
        assert_eq!(String::from_utf8_lossy(&whole), "ared link b\rc\nd\u{fc}");
        for cut in 1..PRINTED.len() {
            let mut stripper = ControlStripper::default();
            let (first, second) = PRINTED.as_bytes().split_at(cut);
            let mut all = stripper.take(first).into_owned();
            all.extend_from_slice(&stripper.take(second));
            assert_eq!(all, &*whole, "{cut}");
        }
    }

    #[test]
    fn a_string_without_an_end_does_not_swallow_the_rest() {
        let text = format!("\x1b]0;{}", "x".repeat(2 * LONGEST));
        assert!(without_controls(text.as_bytes()).len() > LONGEST / 2);
        assert!(matches!(without_controls(b"plain"), Cow::Borrowed(_)));
    }
}
