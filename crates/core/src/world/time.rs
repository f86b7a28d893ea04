//! Moments and amounts, as types: no bare number says what it counts.

use std::fmt;
use std::time::Duration;

use serde::Deserialize;
use serde::Serialize;

/// A moment on a clock that never goes back, for durations.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Ticks(Duration);

impl Ticks {
    /// The moment that is so long after the clock's beginning.
    #[must_use]
    pub const fn after(since_the_beginning: Duration) -> Self {
        Self(since_the_beginning)
    }

    /// How long after an earlier moment; nothing when it is not earlier.
    #[must_use]
    pub fn since(self, earlier: Self) -> Duration {
        self.0.saturating_sub(earlier.0)
    }

    /// The moment so much later.
    #[must_use]
    pub fn plus(self, time: Duration) -> Self {
        Self(self.0.saturating_add(time))
    }
}

/// A number of bytes.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct ByteSize(pub u64);

impl ByteSize {
    /// More than there can be.
    pub const UNLIMITED: Self = Self(u64::MAX);

    /// So many bytes.
    #[must_use]
    pub const fn bytes(self) -> u64 {
        self.0
    }
}

impl fmt::Display for ByteSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} bytes", self.0)
    }
}

/// A duration as it is stored: whole nanoseconds.
#[must_use]
pub fn nanoseconds(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

/// A duration as seconds to a tenth of a millisecond, as it is written down for people and programs.
#[must_use]
pub fn rounded_seconds(time: Duration) -> f64 {
    (time.as_secs_f64() * 10_000.0).round() / 10_000.0
}

/// How much one duration is of another, from 0; nothing of none.
#[must_use]
pub fn share(part: Duration, whole: Duration) -> f64 {
    if whole.is_zero() {
        return 0.0;
    }
    part.div_duration_f64(whole)
}

/// Durations in JSON: seconds to a tenth of a millisecond.
pub mod as_seconds {
    use std::time::Duration;

    use serde::Deserialize;
    use serde::Deserializer;
    use serde::Serializer;

    /// Writes one.
    ///
    /// # Errors
    /// When the format fails.
    pub fn serialize<S: Serializer>(time: &Duration, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_f64(super::rounded_seconds(*time))
    }

    /// Reads one; what is no duration is none.
    ///
    /// # Errors
    /// When it is no number.
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Duration, D::Error> {
        let seconds = f64::deserialize(from)?;
        Ok(Duration::try_from_secs_f64(seconds).unwrap_or_default())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_do_not_go_back() {
        let (early, late) = (
            Ticks::after(Duration::from_secs(1)),
            Ticks::after(Duration::from_millis(2500)),
        );
        assert_eq!(late.since(early), Duration::from_millis(1500));
        assert_eq!(early.since(late), Duration::ZERO);
        assert_eq!(early.plus(Duration::from_millis(1500)), late);
    }

    #[test]
    fn seconds_are_rounded_to_a_tenth_of_a_millisecond() {
        assert_eq!(rounded_seconds(Duration::from_nanos(1_234_567)), 0.0012);
        assert_eq!(rounded_seconds(Duration::from_micros(250)), 0.0003);
        assert_eq!(rounded_seconds(Duration::ZERO), 0.0);
    }
}
