//! How a file came about, in each of its forms.

pub mod json;
pub mod plain;
pub mod prov;
pub mod run_crate;

use handloom_core::lineage::HowMade;
use handloom_core::lineage::LineageStep;

/// When a step's outputs were made, nanoseconds since 1970: its recipe's beginning and end; of what was restored, those of
/// when it was made. Nothing made what was accepted.
fn made_between(step: &LineageStep) -> Option<(i64, i64)> {
    let (end, took) = match &step.how {
        HowMade::Made => (step.ended_at, step.took),
        HowMade::Restored(origin) => (origin.made_at, origin.took),
        HowMade::Accepted => return None,
    };
    let took = i64::try_from(took).unwrap_or(i64::MAX);
    Some((end.saturating_sub(took), end))
}
