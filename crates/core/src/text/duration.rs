//! Times as people write them.

use std::time::Duration;

/// A time such as `50ms`, `90s`, `5m`, `2h` or `1m30s`; `None` for anything else.
#[must_use]
pub fn duration(text: &str) -> Option<Duration> {
    let mut total = 0.0;
    let mut rest = text;
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit() && c != '.')?;
        let number: f64 = rest[..digits].parse().ok()?;
        let units = [("ms", 0.001), ("s", 1.0), ("m", 60.0), ("h", 3600.0)];
        let behind = &rest[digits..];
        let (seconds, left) = units
            .into_iter()
            .find_map(|(unit, seconds)| Some((seconds, behind.strip_prefix(unit)?)))?;
        total += number * seconds;
        rest = left;
    }
    (total > 0.0)
        .then(|| Duration::try_from_secs_f64(total).ok())
        .flatten()
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::duration;

    #[test]
    fn times() {
        assert_eq!(duration("90s"), Some(Duration::from_secs(90)));
        assert_eq!(duration("1m30s"), Some(Duration::from_secs(90)));
        assert_eq!(duration("50ms"), Some(Duration::from_millis(50)));
        assert_eq!(duration("1m500ms"), Some(Duration::from_millis(60_500)));
        assert_eq!(duration("0.5h"), Some(Duration::from_secs(1800)));
        for wrong in ["", "90", "s", "0s", "1d", "-1s", "9e99h", "1é"] {
            assert_eq!(duration(wrong), None, "{wrong}");
        }
    }
}
