//! A build of a project that stays in memory: only what was invalidated is looked at.

use crate::graph::BuildRequest;
use crate::graph::Node;
use crate::project::Description;
use crate::project_cache;
use crate::project_cache::BuildOutcome;
use crate::project_cache::ResidentProject;
use crate::project_cache::cached_project;
use crate::scheduler::build::Build;
use crate::scheduler::event::Summary;
use crate::scheduler::options::BuildError;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::run_pass::keep_for_next;
use crate::scheduler::run_pass::kept_in;
use crate::scheduler::run_pass::run_pass;

impl Build<'_> {
    /// Brings what was asked for up to date, looking only at what was invalidated; none, and nothing done,
    /// when the project has to be worked out anew.
    ///
    /// # Errors
    /// As [`Build::run`].
    pub fn run_resident(
        &mut self,
        resident: &mut ResidentProject<'_, '_>,
        description: &Description,
        request: &BuildRequest,
    ) -> Result<Option<Summary>, BuildError> {
        self.begin();
        let environment = self.state.context.environment;
        if !resident.holds(&project_cache::key(description, environment), environment) {
            return Ok(None);
        }
        let result = self.run_on(resident, request);
        self.state.finish_executor(result).map(Some)
    }

    fn run_on(
        &mut self,
        resident: &mut ResidentProject<'_, '_>,
        request: &BuildRequest,
    ) -> Result<Summary, BuildError> {
        let state = &mut self.state;
        state.progress.is_last_pass = true;
        let again = state.options.again;
        let open = resident.open_positions(again, state.context.disk, state.options.threads);
        let (project, order) = (&resident.loaded.project, &resident.order);
        state.progress.summary.kept += cached_project::kept_steps(project, order, &open);
        let part = order.part(&open);
        let view = PassView {
            project,
            vars: resident.vars,
            order: &part,
            whole: order,
        };
        let cached = resident.loaded.cached.as_ref();
        let judged = run_pass(state, view, &resident.goals, cached)?;
        let made: Vec<_> = part
            .positions()
            .filter(|&position| !judged.kept[position])
            .filter_map(|position| match part.node(position).node(project) {
                Node::Step(step) => Some(step),
                _ => None,
            })
            .collect();
        made.into_iter()
            .for_each(|step| resident.invalidate_outputs(step));
        if state.is_calm() {
            let outcome = BuildOutcome {
                key: resident.key,
                request,
                goals: &resident.goals,
                order: &resident.order,
                kept: &kept_in(&judged.good, Some(&open)),
                vars: resident.vars,
                folders: resident.folders,
                threads: state.options.threads,
            };
            keep_for_next(state, &mut resident.loaded, &outcome, &judged)?;
        }
        Ok(state.sum_up())
    }
}
