//! What was kept of a project whose description differs now in some targets: the project that it comes to, and which
//! of its steps were there before.

use crate::graph::Node;
use crate::graph::Order;
use crate::ledger::Entry;
use crate::ledger::Ledger;
use crate::project::NOBODY;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::amend::Amendment;
use crate::project::amend::amend;
use crate::project::description::Part;
use crate::project::values::Vars;
use crate::project_cache::cached_project::CachedProject;
use crate::project_cache::writer::Holding;

impl CachedProject {
    /// The project; `None` when the description does not fit after all, or differs in more than can be told from the
    /// rest.
    #[must_use]
    pub fn project<'d>(&mut self, vars: &Vars<'d>) -> Option<Project<'d>> {
        let mut project = self.file.project(vars, self.edit.as_ref())?;
        let Some(edit) = &self.edit else {
            return Some(project);
        };
        let is_reworded = |part, item| edit.reworded.contains(&(part, item));
        self.reworded = self.file.decls_at(is_reworded);
        if !edit.is_structural() {
            return Some(project);
        }
        let gone = self
            .file
            .decls_at(|part, item| edit.place(part, item).is_none());
        let decls_before: Vec<u32> = project.steps.iter().map(|step| step.decl).collect();
        let learned = self.file.learned();
        let origin = amend(
            &mut project,
            vars,
            &Amendment {
                gone: &gone,
                fresh: &edit.fresh,
                is_listed: &|path| self.dependencies().has_listed_around(path),
                learns_any: &|paths| learned.all().any(|path| paths.contains(&path)),
            },
        )?;
        let mut reworded = vec![false; project.decls.len()];
        for (step, before) in project.steps.iter().zip(&origin) {
            let decl = decls_before.get(*before as usize);
            let is = decl.and_then(|decl| self.reworded.get(*decl as usize));
            reworded[step.decl as usize] |= is == Some(&true);
        }
        self.reworded = reworded;
        self.origin = Some(origin);
        Some(project)
    }

    /// Which step one of the project was when this was kept; none when it was not there, or needed something else.
    pub(super) fn origin_of(&self, step: StepId) -> Option<usize> {
        let Some(origin) = &self.origin else {
            return Some(step.index());
        };
        let before = origin.get(step.index()).copied();
        before
            .filter(|before| *before != NOBODY)
            .map(|before| before as usize)
    }

    /// For each step of the project 1 when it had no reason to run.
    pub(super) fn good(&self) -> Vec<u8> {
        let good = self.file.good();
        let Some(origin) = &self.origin else {
            return good;
        };
        let of = |before: &u32| good.get(*before as usize).copied().unwrap_or(0);
        origin.iter().map(of).collect()
    }

    /// What a step of the project learned.
    pub(super) fn learned(&self, step: StepId) -> impl Iterator<Item = PathId> + '_ {
        let before = self.origin_of(step).into_iter();
        before.flat_map(|before| self.file.learned().of(before))
    }

    /// The targets of the project of which only the recipe differs, or what is said about them.
    pub fn reworded_decls(&self) -> impl Iterator<Item = usize> + '_ {
        let reworded = self.reworded.iter().enumerate();
        reworded.filter(|(_, is)| **is).map(|(decl, _)| decl)
    }

    /// Whether the description's texts are others than when this was kept.
    #[must_use]
    pub fn has_other_texts(&self) -> bool {
        self.edit.is_some()
    }

    /// Whether there are other steps than when this was kept, or steps that need something else.
    #[must_use]
    pub fn is_amended(&self) -> bool {
        self.origin.is_some()
    }

    /// Which steps of the project were not there when this was kept, or needed something else.
    pub fn fresh_steps(&self) -> impl Iterator<Item = StepId> + '_ {
        let origin = self.origin.iter().flatten().enumerate();
        let fresh = origin.filter(|(_, before)| **before == NOBODY);
        fresh.map(|(step, _)| StepId::from_index(step))
    }

    /// What of the project holds for the next run, when all that an order reaches is up to date. None when more has to
    /// be looked at than what the journal says of this run.
    pub(super) fn holding(
        &self,
        project: &mut Project<'_>,
        order: &Order,
        parts: &[Part],
        ledger: &Ledger,
    ) -> Option<Holding> {
        let mut good = self.good();
        for entry in ledger.since(&self.front.header.mark).ok()?? {
            // What it saw and made stands in the journal, where the next run reads it.
            if let Entry::Ended(record) = entry
                && let Some(step) = project.maker_of(&record.name)
                && project.step_name(step) == record.name
            {
                good[step.index()] = 1;
            }
        }
        let nodes = order.nodes.iter().map(|id| id.node(project));
        let steps: Vec<StepId> = nodes
            .filter_map(|node| match node {
                Node::Step(step) => Some(step),
                Node::Task(_) | Node::Set(_) => None,
            })
            .collect();
        if !steps.iter().all(|step| good[step.index()] == 1) {
            return None;
        }
        let mut learned = Vec::new();
        for index in 0..project.steps.len() {
            let step = StepId::from_index(index);
            let paths: Vec<u32> = if self.origin_of(step).is_some() {
                self.learned(step).map(|path| path.0).collect()
            } else {
                let record = ledger.step(project.step_name(step)).into_iter();
                let edges = record.flat_map(crate::ledger::StepView::learned);
                let names: Vec<String> = edges.map(|edge| edge.path.to_owned()).collect();
                let paths = names.iter().map(|name| project.paths.intern(name).0);
                paths.collect()
            };
            if !paths.is_empty() {
                learned.resize(project.steps.len(), Vec::new());
                learned[index] = paths;
            }
        }
        Some(Holding {
            good,
            learned,
            structures: self.structures(parts),
            steps_in_order: steps.len(),
            all_good: true,
            has_new_edges: false,
        })
    }

    /// For each item of the description's parts, one behind the other, the digest of its structure, where that is the
    /// same as when this was kept.
    fn structures(&self, parts: &[Part]) -> Vec<Option<u64>> {
        let mut structures = vec![None; parts.iter().map(|part| part.items.len()).sum()];
        let mut records = self.file.items().iter();
        let mut start = 0;
        let places = self.edit.iter().flat_map(|edit| &edit.places);
        for (part, places) in parts.iter().zip(places) {
            for (place, record) in places.iter().zip(records.by_ref()) {
                if let Some(place) = place {
                    structures[start + *place as usize] = Some(record.structure.get());
                }
            }
            start += part.items.len();
        }
        structures
    }
}
