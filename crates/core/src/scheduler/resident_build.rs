//! A run on a project that stays in memory: only what was invalidated is looked at.

use crate::graph::Node;
use crate::graph::request::BuildRequest;
use crate::project::Description;
use crate::project_cache::ResidentProject;
use crate::project_cache::cached_project;
use crate::scheduler::event::Summary;
use crate::scheduler::session::BuildError;
use crate::scheduler::session::Session;

impl Session<'_> {
    /// Brings what was asked for up to date, looking only at what is in doubt; none, and nothing done,
    /// when the project has to be worked out anew.
    ///
    /// # Errors
    /// As [`Session::weave`].
    pub fn weave_resident(
        &mut self,
        resident: &mut ResidentProject<'_, '_>,
        description: &Description,
        asked: &BuildRequest,
    ) -> Result<Option<Summary>, BuildError> {
        let result = self.weave_on(resident, description, asked);
        self.leave_place(result)
    }

    fn weave_on(
        &mut self,
        resident: &mut ResidentProject<'_, '_>,
        description: &Description,
        asked: &BuildRequest,
    ) -> Result<Option<Summary>, BuildError> {
        let start = self.begin(asked);
        if resident.key != cached_project::key(description, self.environment)
            || !resident.holds(self.environment)
        {
            return Ok(None);
        }
        self.last_round = true;
        let ResidentProject {
            vars,
            folders,
            environment: _,
            project,
            known,
            goals,
            order,
            key,
            invalidated,
        } = resident;
        let open = self.open_positions(known, project, order, goals, asked);
        let part = order.part(&open);
        let judged = self.pass(project, vars, (&part, order), goals, Some(known.contents()))?;
        for (&id, kept) in part.nodes.iter().zip(&judged) {
            if let Node::Step(step) = id.node(project)
                && !kept
            {
                for &(_, path) in project.step_outputs(project.step(step)) {
                    *invalidated += usize::from(known.invalidate(path));
                }
            }
        }
        if self.is_calm() {
            let ran = cached_project::BuildOutcome {
                key: *key,
                asked,
                goals,
                order,
                kept: &kept_in(&judged, Some(&open)),
                vars,
                folders,
            };
            let judged = judged.iter().filter(|kept| **kept).count();
            self.keep_for_next(project, &ran, Some(known), judged)?;
        }
        Ok(Some(self.sum_up(start)))
    }
}

/// For each position of a whole order whether its step is kept; only `open` ones were judged.
pub fn kept_in(judged: &[bool], open: Option<&[bool]>) -> Vec<bool> {
    let Some(open) = open else {
        return judged.to_vec();
    };
    let mut judged = judged.iter();
    open.iter()
        .map(|open| !open || judged.next() == Some(&true))
        .collect()
}
