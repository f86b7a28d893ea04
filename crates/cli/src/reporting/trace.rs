//! A run in the Trace Event Format, which browsers' profilers open.
//!
//! The format is described in "Trace Event Format" of the Chromium project: an object with `traceEvents`;
//! complete events (`"ph":"X"`) with `ts` and `dur` in microseconds; metadata events (`"ph":"M"`) that name
//! processes and threads. Each of the jobs that may run at once is a thread.

use std::time::Duration;

use serde_json::Value;
use serde_json::json;

use handloom_core::records::run_analysis::ran;
use handloom_core::world::rounded_seconds;

use crate::reporting::Whole;

/// The trace's text.
pub fn write(whole: &Whole<'_>) -> String {
    let run = whole.run;
    let mut events = vec![json!({
        "ph": "M", "pid": 1, "name": "process_name",
        "args": {"name": format!("run {}: {}", run.head.run, run.head.command)}
    })];
    let jobs = || run.jobs.iter().filter(|job| ran(job));
    let slots = jobs()
        .map(|job| job.slot.saturating_add(1))
        .max()
        .unwrap_or(0);
    events.extend((0..slots).map(|slot| {
        json!({
            "ph": "M", "pid": 1, "tid": slot, "name": "thread_name",
            "args": {"name": format!("job {}", slot + 1)}
        })
    }));
    events.extend(jobs().map(|job| {
        json!({
            "ph": "X", "pid": 1, "tid": job.slot,
            "name": job.step, "cat": job.ending,
            "ts": microseconds(job.began), "dur": microseconds(job.took),
            "args": {
                "why": job.reasons, "described": job.by, "at": job.place,
                "after": job.after, "exit": job.exit,
                "node": job.node, "memory": job.memory, "processor": rounded_seconds(job.processor)
            }
        })
    }));
    let whole: Value = json!({"traceEvents": events, "displayTimeUnit": "ms"});
    format!("{whole}\n")
}

fn microseconds(time: Duration) -> f64 {
    (time.as_secs_f64() * 1e6).round()
}
