//! Where a result came from that was restored and not made, as a record keeps it.

use std::time::Duration;

use serde::Deserialize;
use serde::Serialize;

/// What a line of a record begins with that says so; no reason is called so.
const LINE: &str = "from-store ";

/// Where a restored result came from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ResultOrigin {
    /// Whether a shared store had it, and not the user's own.
    pub shared: bool,
    /// When it was made, nanoseconds since 1970.
    pub made_at: i64,
    /// How long that took, nanoseconds.
    pub took: u64,
    /// Where: a machine's name and a folder.
    pub made_in: String,
}

impl ResultOrigin {
    /// How long it took to make.
    #[must_use]
    pub fn took(&self) -> Duration {
        Duration::from_nanos(self.took)
    }

    /// As a line of a record, behind the reasons.
    #[must_use]
    pub fn line(&self) -> String {
        let store = if self.shared { "shared" } else { "local" };
        let made_in = self.made_in.replace(['\n', '\t'], " ");
        format!("{LINE}{store} {} {} {made_in}\n", self.made_at, self.took)
    }

    /// The origin among a record's reasons; none of a step that ran.
    #[must_use]
    pub fn among(reasons: &str) -> Option<Self> {
        let mut lines = reasons.lines().rev();
        let line = lines.find_map(|line| line.strip_prefix(LINE))?;
        let mut words = line.splitn(4, ' ');
        Some(Self {
            shared: words.next()? == "shared",
            made_at: words.next()?.parse().ok()?,
            took: words.next()?.parse().ok()?,
            made_in: words.next()?.to_owned(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_origin_is_read_back_and_no_reason_is_taken_for_one() {
        let origin = ResultOrigin {
            shared: true,
            made_at: 1_790_000_000_000_000_000,
            took: 1_500_000_000,
            made_in: "mill: /srv/the almanac".to_owned(),
        };
        let record = format!("never-made \nrecipe-changed \ta\\nb\n{}", origin.line());
        assert_eq!(ResultOrigin::among(&record), Some(origin));
        assert_eq!(
            ResultOrigin::among("prerequisite-changed from-store local 1 2 x\n"),
            None
        );
        assert_eq!(ResultOrigin::among("from-store local x\n"), None);
        for line in record.lines() {
            assert_eq!(
                crate::verdict::Reason::from_line(line).is_none(),
                line.starts_with(LINE)
            );
        }
    }
}
