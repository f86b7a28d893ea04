//! How far a build has come: what became of each step so far, and the sums.

use hashbrown::HashMap;
use std::collections::HashSet;

use crate::graph::Node;
use crate::graph::NodeId;
use crate::project::Project;
use crate::scheduler::event::Ending;
use crate::scheduler::event::Summary;
use crate::status::learned_edges::FoundEdges;

/// What passes of one build know of each other.
#[derive(Default)]
pub struct Progress {
    /// What became of steps and tasks, by name.
    endings: HashMap<String, Ending>,
    /// The sums.
    pub summary: Summary,
    /// Steps that read what others make, as this build found out, each with that other.
    pub found_edges: FoundEdges,
    /// Whether steps that were done in an earlier pass are judged once more.
    pub rejudges: bool,
    /// Whether no other pass comes behind this one.
    pub is_last_pass: bool,
    /// How many jobs were begun.
    pub begun: usize,
    /// Fleeting steps that were taken away and have to be made again, since something that needs them has to run.
    pub wanted: HashSet<String>,
}

impl Progress {
    /// What became of a step or task so far.
    pub fn ending(&self, name: &str) -> Option<Ending> {
        self.endings.get(name).copied()
    }

    /// Whether a step or task was done well.
    pub fn was_done(&self, name: &str) -> bool {
        self.ending(name).is_some_and(Ending::is_good)
    }

    /// How a node came to a bad end in an earlier pass.
    pub fn bad_ending(&self, project: &Project<'_>, id: NodeId) -> Option<Ending> {
        if self.endings.is_empty() {
            return None;
        }
        let name = match id.node(project) {
            Node::Step(step) => project.step_name(step),
            Node::Task(task) => &project.tasks[task.index()].name,
            Node::Set(_) => return None,
        };
        self.ending(name).filter(|ending| !ending.is_good())
    }

    /// Whether nothing ended yet.
    pub fn is_empty(&self) -> bool {
        self.endings.is_empty()
    }

    /// Notes and counts what became of a step or task.
    pub fn end(&mut self, name: String, ending: Ending) {
        self.endings.insert(name, ending);
        self.summary.count(ending);
    }

    /// Notes that a task without a recipe is done, which nobody counts.
    pub fn end_uncounted(&mut self, name: String) {
        self.endings.insert(name, Ending::Made);
    }

    /// Notes and counts that a step was kept.
    pub fn keep(&mut self, name: &str) {
        if self.endings.is_empty() && self.is_last_pass {
            // Nobody will ask: by far the most steps of a large project end here.
            self.summary.count(Ending::Kept);
        } else if !self.endings.contains_key(name) {
            self.end(name.to_owned(), Ending::Kept);
        }
    }

    /// Everything that was kept is judged once more.
    pub fn forget_kept(&mut self) {
        self.endings.retain(|_, ending| *ending != Ending::Kept);
        self.summary.kept = 0;
    }

    /// How many steps came to a bad end.
    pub fn bad(&self) -> usize {
        self.summary.failed + self.summary.held + self.summary.stopped
    }
}
