//! A run in the Trace Event Format, which browsers' profilers open.
//!
//! The format is described in "Trace Event Format" of the Chromium project: an object with `traceEvents`;
//! complete events (`"ph":"X"`) with `ts` and `dur` in microseconds; metadata events (`"ph":"M"`) that name
//! processes and threads. Each of the jobs that may run at once is a thread, each machine that they ran on a process.

use std::collections::BTreeSet;
use std::time::Duration;

use serde_json::Value;
use serde_json::json;

use handloom_core::records::JobRecord;
use handloom_core::records::run_analysis::ran;
use handloom_core::world::rounded_seconds;

use crate::reporting::Whole;

/// The trace's text.
pub fn write(whole: &Whole<'_>) -> String {
    let run = whole.run;
    let jobs = || run.jobs.iter().filter(|job| ran(job));
    let mut events = Vec::new();
    // Each machine is a process, this one the first.
    let mut nodes: Vec<Option<&str>> = vec![None];
    for job in jobs() {
        if !nodes.contains(&job.node.as_deref()) {
            nodes.push(job.node.as_deref());
        }
    }
    for (pid, node) in (1..).zip(&nodes) {
        let name = match node {
            None => format!("run {}: {}", run.head.run, run.head.command),
            Some(node) => format!("on {node}"),
        };
        events.push(json!({
            "ph": "M", "pid": pid, "name": "process_name", "args": {"name": name}
        }));
        let slots: BTreeSet<usize> = jobs()
            .filter(|job| job.node.as_deref() == *node)
            .map(|job| job.slot)
            .collect();
        events.extend(slots.into_iter().map(|slot| {
            json!({
                "ph": "M", "pid": pid, "tid": slot, "name": "thread_name",
                "args": {"name": format!("job {}", slot.saturating_add(1))}
            })
        }));
    }
    let pid = |job: &JobRecord| {
        let at = nodes.iter().position(|node| *node == job.node.as_deref());
        at.unwrap_or(0) + 1
    };
    events.extend(jobs().map(|job| {
        json!({
            "ph": "X", "pid": pid(job), "tid": job.slot,
            "name": job.step, "cat": job.ending,
            "ts": microseconds(job.began), "dur": microseconds(job.took),
            "args": {
                "why": job.reasons, "described": job.by, "at": job.place,
                "after": job.after, "exit": job.exit,
                "node": job.node, "on": job.on, "queued": rounded_seconds(job.queued),
                "memory": job.memory, "processor": rounded_seconds(job.processor)
            }
        })
    }));
    let whole: Value = json!({"traceEvents": events, "displayTimeUnit": "ms"});
    format!("{whole}\n")
}

fn microseconds(time: Duration) -> f64 {
    (time.as_secs_f64() * 1e6).round()
}
