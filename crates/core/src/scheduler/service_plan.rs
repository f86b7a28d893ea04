//! From the job of a task that stays to how it goes on running beside others.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use crate::executor::job::Job;
use crate::executor::job::SlotId;
use crate::project::clauses::Clauses;
use crate::project::frame::Frame;
use crate::project::script;
use crate::project::shell;
use crate::project::values::Vars;

/// What must be ready, and does not say within how long.
const READY_WITHIN: Duration = Duration::from_secs(60);

/// How a job goes on running beside others.
#[derive(Clone, Debug)]
pub struct ServicePlan {
    /// Succeeds once it is ready.
    pub ready: Option<Job>,
    /// It must be ready within so long.
    pub within: Duration,
}

/// Makes a job one that goes on running, with something that ends it; its limit is that of getting ready.
pub fn service_plan<'d>(
    vars: &Vars<'d>,
    job: &mut Arc<Job>,
    clauses: &Clauses<'d>,
    frame: &Frame<'_>,
) -> Option<ServicePlan> {
    let job = Arc::make_mut(job);
    job.stays = true;
    job.stop = Some(Arc::<AtomicBool>::default());
    let within = job.limit.take().unwrap_or(READY_WITHIN);
    let ready = match clauses.ready {
        None => None,
        Some(script) => {
            let interpreter = script::interpreter(vars, script, frame)?;
            Some(Job {
                script: script::render(vars, script, frame, &interpreter)?,
                shell: shell::is_shell(&interpreter),
                interpreter,
                limit: Some(within),
                // It has a file of its own that says what it is to know.
                slot: SlotId::at(job.slot.index() + 1),
                log: None,
                stop: Some(Arc::default()),
                ..job.clone()
            })
        }
    };
    Some(ServicePlan { ready, within })
}
