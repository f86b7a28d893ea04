//! What a recipe found out itself, with the contents as they are now.

use std::collections::HashSet;

use crate::content::LearnedPath;
use crate::content::State;
use crate::language::LearnHow;
use crate::ledger::Edge;
use crate::project::StepId;
use crate::scheduler::build_state::BuildContext;
use crate::scheduler::dependency_listing;
use crate::scheduler::event::Problem;
use crate::scheduler::job_builder::PreparedJob;
use crate::scheduler::pass_view::PassView;
use crate::scheduler::undeclared_edges::EdgeFinder;
use crate::status::FileStates;
use crate::status::learned_edges::FoundEdges;
use crate::world::names;

/// Reads what a recipe told of its prerequisites.
pub struct LearnedInputs<'c, 's, 'p, 'd> {
    /// What the pass works on.
    pub view: PassView<'p, 'd>,
    /// What comes in from outside.
    pub context: BuildContext<'s>,
    /// What stands at every path.
    pub states: &'c mut FileStates<'s>,
    /// Finds edges that nobody declared.
    pub edges: &'c EdgeFinder,
    /// Those that were found.
    pub found: &'c mut FoundEdges,
}

/// What stands at a path that a recipe read.
pub struct FileSeen {
    pub state: State,
    /// Whether it was something else when the recipe began.
    pub changed: bool,
    /// Whether a step makes it that nothing puts first.
    pub by_luck: bool,
}

impl LearnedInputs<'_, '_, '_, '_> {
    /// What a step's recipe told of; it began at `began`, nanoseconds since 1970.
    pub fn read(
        &mut self,
        step: StepId,
        prepared: &PreparedJob,
        began: i64,
    ) -> Result<Vec<Edge>, Problem> {
        let Some(file) = &prepared.learn else {
            return Ok(Vec::new());
        };
        let bytes = self.context.disk.read(&file.path).map_err(|error| {
            Problem::Learned(format!(
                "`{}`, which the recipe was to write, can't be read: {error}",
                file.path
            ))
        })?;
        let text = names::to_text(&bytes);
        let written = match file.how {
            LearnHow::Listing => dependency_listing::listing(&text),
            LearnHow::Lines | LearnHow::Watched | LearnHow::WatchedEverywhere => {
                dependency_listing::lines(&text)
            }
        };
        let project = self.view.project;
        let node = project.step(step);
        let needs = project.open_needs(project.step_needs(node));
        let own: Vec<&str> = needs
            .chain(project.step_outputs(node).iter().copied())
            .map(|(_, path)| project.paths.get(path))
            .collect();
        let vars = self.view.vars;
        let mut edges = Vec::new();
        let mut seen = HashSet::new();
        for written in written {
            let path = vars.from_root(&prepared.job.folder, &written);
            // What it is by another name comes first, and what leads to it may lead elsewhere once.
            let made = self.states.made_name(project, &path);
            for path in made.into_iter().chain([path]) {
                if !own.contains(&path.as_str()) && seen.insert(path.clone()) {
                    edges.push(self.edge(step, path, began)?);
                }
            }
        }
        Ok(edges)
    }

    /// What a stored result says that the recipe found out, as it was found to be when the result was looked up.
    pub fn restored(&mut self, step: StepId, learned: &[Edge]) -> Vec<Edge> {
        for edge in learned {
            // What another step makes, and nothing puts first, is looked at once more behind that step.
            let path = LearnedPath::of(&edge.path).place();
            self.edges.is_luck(&self.view, self.found, step, path);
        }
        learned.to_vec()
    }

    /// What stands at a path that a recipe read, and whether it was something else before.
    pub(super) fn seen(&mut self, step: StepId, path: &str, began: i64) -> FileSeen {
        let project = self.view.project;
        let made = self.states.made_name(project, path);
        let is_other_name = made.is_some();
        let name = made.as_deref().unwrap_or(path);
        let by_luck = self.edges.is_luck(&self.view, self.found, step, name);
        // What stood behind a link was seen before the target's step ran, perhaps.
        let before = self.states.known(project, path);
        let before = before.filter(|_| !is_other_name);
        let state = self.states.look(path);
        let changed = match before {
            Some(before) => before.digest() != state.digest(),
            None => self.was_written_since(step, began, name),
        };
        // Others that run now may have read it before it changed: for them it must still be what it was.
        if !changed || by_luck {
            self.states.set_learned(project, path, state.clone());
        }
        FileSeen {
            state,
            changed,
            by_luck,
        }
    }

    /// One file that a recipe told of.
    fn edge(&mut self, step: StepId, path: String, began: i64) -> Result<Edge, Problem> {
        let seen = self.seen(step, &path, began);
        if seen.changed && !seen.by_luck {
            return Err(Problem::PrerequisiteChanged(path));
        }
        // What was made meanwhile and in the wrong order is recorded as not there, so that the step is judged
        // anew behind what makes it.
        let digest = seen.state.digest().filter(|_| !seen.changed);
        if let State::Unreadable(why) = &seen.state {
            return Err(Problem::Learned(format!(
                "`{path}`, which the recipe told of, can't be read: {why}"
            )));
        }
        Ok(Edge {
            path,
            digest,
            group: 0,
        })
    }

    /// Whether a file that nobody had looked at was written after a job began: which of its contents the
    /// recipe read is not known then, unless what makes it comes first. A time in the future says nothing.
    fn was_written_since(&self, step: StepId, began: i64, path: &str) -> bool {
        let project = self.view.project;
        let maker = project.paths.find(path).and_then(|id| project.maker(id));
        let comes_first = |maker| self.edges.waits_for(&self.view, step, maker);
        if path.ends_with('/') || maker.is_some_and(comes_first) {
            return false;
        }
        let now = self.context.clock.now();
        let stat = self.context.disk.stat(path);
        matches!(stat, Ok(Some(stat)) if stat.modified > began && stat.modified <= now)
    }
}
