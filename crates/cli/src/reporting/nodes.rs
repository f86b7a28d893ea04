//! Which of a run's jobs ran where, when not all ran on this machine.

use std::time::Duration;

use handloom_core::records::JobRecord;
use handloom_core::records::RunRecord;

/// What the machine is called where the run was typed.
const HERE: &str = "this machine";

/// The jobs of a node.
pub struct NodeShare<'r> {
    /// The node, and in front of it the place where it is.
    pub name: String,
    /// The jobs that ran there.
    pub jobs: Vec<&'r JobRecord>,
    /// How long they took together.
    pub took: Duration,
    /// How long the one of them that waited longest for a worker did.
    pub queued: Duration,
}

/// The nodes of a run, this machine first; none when all ran here.
pub fn shares(run: &RunRecord) -> Vec<NodeShare<'_>> {
    if run.jobs.iter().all(|job| job.node.is_none()) {
        return Vec::new();
    }
    let mut shares: Vec<NodeShare<'_>> = Vec::new();
    for job in run.jobs.iter().filter(|job| job.exit.is_some()) {
        let name = match (&job.on, &job.node) {
            (_, None) => HERE.to_owned(),
            (None, Some(node)) => node.clone(),
            (Some(place), Some(node)) => format!("{place} {node}"),
        };
        let share = match shares.iter_mut().find(|share| share.name == name) {
            Some(share) => share,
            None => {
                shares.push(NodeShare {
                    name,
                    jobs: Vec::new(),
                    took: Duration::ZERO,
                    queued: Duration::ZERO,
                });
                let last = shares.len() - 1;
                &mut shares[last]
            }
        };
        share.jobs.push(job);
        share.took += job.took;
        share.queued = share.queued.max(job.queued);
    }
    shares.sort_by(|one, other| {
        let key = |share: &NodeShare<'_>| (share.name != HERE, share.name.clone());
        key(one).cmp(&key(other))
    });
    shares
}
