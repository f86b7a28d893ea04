//! A project that stays in memory between runs.
//!
//! A run that begins with what the last one kept still looks at every file once. Whoever is told of each
//! changed file need not: [`Standing`] keeps the project together with which contents are known, and a run
//! on it looks at the files that were changed or written since, and at nothing else. It is only taken while
//! nothing else wrote to the ledger.

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::ledger::Ledger;
use crate::project::Description;
use crate::project::Project;
use crate::project::folders::Folders;
use crate::project::values::Vars;
use crate::weave::around::Around;
use crate::weave::event::Summary;
use crate::weave::recall;
use crate::weave::recall::Known;
use crate::weave::session::Asked;
use crate::weave::session::Session;
use crate::weave::session::Stopped;
use crate::world::Digest;

/// More doubted paths than this, and one in so many, make it worth looking at everything anew.
const MANY: usize = 256;
const SHARE: usize = 32;

/// A project with what is known of its files.
pub struct Standing<'v, 'd> {
    vars: &'v Vars<'d>,
    folders: &'v Folders<'v>,
    /// The surroundings that `vars` asks.
    around: &'v Around<'v>,
    project: Project<'d>,
    known: Known,
    goals: Vec<NodeId>,
    order: Order,
    key: Digest,
    doubted: usize,
}

impl<'v, 'd> Standing<'v, 'd> {
    /// Takes over what the last run kept and looks at each of its files; none when it kept nothing that
    /// holds for what is asked.
    #[must_use]
    pub fn open(
        vars: &'v Vars<'d>,
        folders: &'v Folders<'v>,
        asked: &Asked,
        ledger: &Ledger,
        around: &'v Around<'v>,
        threads: usize,
    ) -> Option<Self> {
        let key = recall::key(vars.description, around);
        let mut known = Known::open(&key, asked, ledger, around)?;
        if !known.answers(asked) {
            return None;
        }
        known.look(around.disk, threads, None);
        let project = known.project(vars)?;
        let (goals, order) = known.order();
        // Made now, so that the first run need not.
        let _ = project.paths.find("");
        let _ = known.contents();
        Some(Self {
            vars,
            folders,
            around,
            project,
            known,
            goals,
            order,
            key,
            doubted: 0,
        })
    }

    /// A path may hold something else than is known.
    pub fn doubt(&mut self, path: &str) {
        if let Some(path) = self.project.paths.find(path) {
            self.doubted += usize::from(self.known.doubt(path));
        }
    }

    /// Whether what the project was worked out from is as it was, asked of fresh surroundings.
    fn holds(&self, around: &Around<'_>) -> bool {
        let same = |(key, text): &(String, String)| around.output_again(key).as_ref() == Some(text);
        self.known.holds(around) && self.around.outputs().iter().all(same)
    }

    /// Whether so much is in doubt that looking at everything would make the next runs faster.
    #[must_use]
    pub fn is_worn(&self) -> bool {
        self.doubted > MANY + self.order.nodes.len() / SHARE
    }
}

impl Session<'_> {
    /// Brings what was asked for up to date, looking only at what is in doubt; none, and nothing done,
    /// when the project has to be worked out anew.
    ///
    /// # Errors
    /// As [`Session::weave`].
    pub fn weave_standing(
        &mut self,
        standing: &mut Standing<'_, '_>,
        description: &Description,
        asked: &Asked,
    ) -> Result<Option<Summary>, Stopped> {
        let result = self.weave_on(standing, description, asked);
        self.leave_place(result)
    }

    fn weave_on(
        &mut self,
        standing: &mut Standing<'_, '_>,
        description: &Description,
        asked: &Asked,
    ) -> Result<Option<Summary>, Stopped> {
        let start = self.begin(asked);
        if standing.key != recall::key(description, self.around) || !standing.holds(self.around) {
            return Ok(None);
        }
        self.last_round = true;
        let Standing {
            vars,
            folders,
            around: _,
            project,
            known,
            goals,
            order,
            key,
            doubted,
        } = standing;
        let open = self.open_positions(known, project, order, goals, asked);
        let part = order.part(&open);
        let judged = self.round(project, vars, (&part, order), goals, Some(known.contents()))?;
        for (&id, kept) in part.nodes.iter().zip(&judged) {
            if let Node::Step(step) = id.node(project)
                && !kept
            {
                for &(_, path) in project.step_outputs(project.step(step)) {
                    *doubted += usize::from(known.doubt(path));
                }
            }
        }
        if self.is_calm() {
            let ran = recall::Ran {
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
