//! From a project and what would become of it to a picture of every step.

use std::collections::HashMap;
use std::collections::HashSet;

use crate::graph::Node;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::graph_view::GraphView;
use crate::graph_view::ViewEdge;
use crate::graph_view::ViewKind;
use crate::graph_view::ViewNode;
use crate::graph_view::ViewState;
use crate::graph_view::group::in_common;
use crate::ledger::Ledger;
use crate::project::Need;
use crate::project::PathId;
use crate::project::Project;
use crate::project::SetId;
use crate::project::TaskId;
use crate::project::What;
use crate::project::values::Vars;
use crate::status::dry_run::Decision;
use crate::status::dry_run::Prediction;
use crate::verdict::Reason;
use crate::world::Disk;

/// What a picture is made from.
pub struct GraphSource<'a, 'd> {
    /// The project.
    pub project: &'a Project<'d>,
    /// Its variables.
    pub vars: &'a Vars<'d>,
    /// What is shown.
    pub order: &'a Order,
    /// What would become of each position of `order`.
    pub predictions: &'a PerPosition<Prediction>,
    /// Where sources lie.
    pub disk: &'a dyn Disk,
    /// What earlier runs saw.
    pub ledger: &'a Ledger,
    /// Whether a step or task failed when it last ran.
    pub failed: &'a dyn Fn(&str) -> bool,
}

/// A picture that grows.
struct Drawing<'s, 'a, 'd> {
    source: &'s GraphSource<'a, 'd>,
    view: GraphView,
    /// The node of each position of the order; none for sets that are drawn through.
    of_position: PerPosition<Option<usize>>,
    of_path: HashMap<String, usize>,
    of_set: HashMap<SetId, usize>,
    of_task: HashMap<TaskId, usize>,
}

impl GraphSource<'_, '_> {
    /// The picture, with a node for each step.
    #[must_use]
    pub fn view(&self) -> GraphView {
        let mut drawing = Drawing {
            source: self,
            view: GraphView {
                groups: self.groups(),
                ..GraphView::default()
            },
            of_position: PerPosition::default(),
            of_path: HashMap::new(),
            of_set: HashMap::new(),
            of_task: HashMap::new(),
        };
        let shared = self.shared_sets();
        for position in self.order.positions() {
            let node = drawing.node(position, &shared);
            drawing.of_position.push(node);
        }
        drawing.view.tidy();
        drawing.view.with_sources_put_together()
    }

    /// How each description is named as a whole: targets first, then tasks.
    fn groups(&self) -> Vec<(String, String)> {
        let sources = &self.vars.description.sources;
        let targets = self.project.decls.iter().map(|decl| {
            let items = decl.syntax.outputs.iter().flat_map(|group| &group.items);
            let folder = &self.vars.description.parts[decl.part.index()].folder;
            let words = items.map(|item| format!("{folder}{}", sources.slice(item.word.span)));
            let about = decl.clauses.about.unwrap_or_default();
            (words.collect::<Vec<_>>().join(" "), first_line(about))
        });
        let tasks = self.project.tasks.iter().map(|task| {
            let about = task.decl.clauses.about.unwrap_or_default();
            (task.decl.name.clone(), first_line(about))
        });
        targets.chain(tasks).collect()
    }

    /// Sets of several files that several nodes need: they are drawn, so that a hundred files needed by a
    /// hundred steps are two hundred lines and not ten thousand.
    fn shared_sets(&self) -> HashSet<SetId> {
        let mut uses: HashMap<SetId, usize> = HashMap::new();
        for id in &self.order.nodes {
            for what in self.needed(id.node(self.project)) {
                if let What::Set(set) = what {
                    *uses.entry(set).or_default() += 1;
                }
            }
        }
        let large = |set: SetId| self.project.sets[set.index()].paths.len() > 1;
        uses.into_iter()
            .filter(|&(set, uses)| uses > 1 && large(set))
            .map(|(set, _)| set)
            .collect()
    }

    fn needed(&self, node: Node) -> Vec<What> {
        let of = |needs: &[Need]| needs.iter().map(|need| need.what).collect();
        match node {
            Node::Step(step) => of(self.project.step_needs(self.project.step(step))),
            Node::Task(task) => of(&self.project.tasks[task.index()].needs),
            Node::Set(_) => Vec::new(),
        }
    }
}

impl Drawing<'_, '_, '_> {
    /// Draws what stands at a position of the order, with what leads to it.
    fn node(&mut self, position: Position, shared: &HashSet<SetId>) -> Option<usize> {
        let project = self.source.project;
        let prediction = &self.source.predictions[position];
        let node = prediction.node.node(project);
        let (kind, name, group, files, after) = match node {
            Node::Set(set) if shared.contains(&set) => {
                let node = self.set(set);
                return Some(node);
            }
            Node::Set(_) => return None,
            Node::Step(step) => {
                let decl = project.step(step).decl as usize;
                let outputs = project.step_outputs(project.step(step)).iter();
                let files: Vec<String> = outputs
                    .map(|&(_, path)| project.paths.get(path).to_owned())
                    .collect();
                let after = project.step(step).after.of(&project.needs);
                let after: Vec<What> = after.iter().map(|need| need.what).collect();
                let name = project.step_name(step).to_owned();
                (ViewKind::Step, name, decl, files, after)
            }
            Node::Task(task) => {
                let node = &project.tasks[task.index()];
                let after: Vec<What> = node.after.iter().chain(&node.steps).copied().collect();
                let group = project.decls.len() + task.index();
                (
                    ViewKind::Task,
                    node.decl.name.clone(),
                    group,
                    Vec::new(),
                    after,
                )
            }
        };
        let state = self.state(prediction, kind, &name);
        let shown = ViewNode {
            kind,
            about: self.view.groups[group].1.clone(),
            state,
            count: 1,
            counts: vec![(state, 1)],
            reason: prediction
                .reasons
                .first()
                .map(Reason::brief)
                .unwrap_or_default(),
            files,
            group: Some(group),
            name,
        };
        let at = self.add(shown);
        for file in self.view.nodes[at].files.clone() {
            self.of_path.insert(file, at);
        }
        if let Node::Task(task) = node {
            self.of_task.insert(task, at);
        }
        for what in self.source.needed(node) {
            self.lead(what, at, ViewEdge::Needs);
        }
        for what in after {
            self.lead(what, at, ViewEdge::After);
        }
        if let Node::Step(step) = node
            && project.decl(project.step(step)).clauses.learn.is_some()
        {
            self.learned(project.step_name(step), at);
        }
        Some(at)
    }

    fn state(&self, prediction: &Prediction, kind: ViewKind, name: &str) -> ViewState {
        let failed = || (self.source.failed)(name);
        match prediction.decision {
            Decision::Keep => ViewState::Kept,
            Decision::Run if kind == ViewKind::Task && prediction.reasons.is_empty() => {
                if failed() {
                    ViewState::Failed
                } else {
                    ViewState::None
                }
            }
            Decision::Run if failed() => ViewState::Failed,
            Decision::Run => ViewState::Run,
            Decision::Maybe => ViewState::Maybe,
        }
    }

    fn add(&mut self, node: ViewNode) -> usize {
        self.view.nodes.push(node);
        self.view.nodes.len() - 1
    }

    fn lead(&mut self, what: What, to: usize, edge: ViewEdge) {
        match what {
            What::Task(task) => {
                let found = self.of_task.get(&task).copied();
                if let Some(from) = found.filter(|&from| from != to) {
                    self.view.edges.push((from, to, edge));
                }
            }
            What::Path(path) => self.lead_path(path, to, edge),
            What::Set(set) => match self.of_set.get(&set) {
                Some(&from) => self.view.edges.push((from, to, edge)),
                None => {
                    for &path in &self.source.project.sets[set.index()].paths {
                        self.lead_path(path, to, edge);
                    }
                }
            },
        }
    }

    fn lead_path(&mut self, path: PathId, to: usize, edge: ViewEdge) {
        let project = self.source.project;
        let text = project.paths.get(path);
        let maker = project.maker(path).map(|maker| project.step_name(maker));
        let inside: Vec<usize> = if text.ends_with('/') && maker.is_none() {
            let outputs = project.outputs_in(text);
            let makers = outputs.filter_map(|inside| project.maker(inside));
            let names = makers.filter_map(|maker| self.of_path.get(project.step_name(maker)));
            names.copied().collect()
        } else {
            Vec::new()
        };
        let from = match maker {
            Some(maker) => match self.of_path.get(maker) {
                Some(&from) => from,
                None => return,
            },
            None => self.file(text),
        };
        for from in inside.into_iter().chain([from]) {
            if from != to {
                self.view.edges.push((from, to, edge));
            }
        }
    }

    /// What a step found out itself when it last ran.
    fn learned(&mut self, step: &str, to: usize) {
        let Some(record) = self.source.ledger.step(step) else {
            return;
        };
        let project = self.source.project;
        for edge in record.learned() {
            let maker = project
                .paths
                .find(edge.path)
                .and_then(|path| project.maker(path));
            let from = match maker {
                Some(maker) => self.of_path.get(project.step_name(maker)).copied(),
                None if edge.path.starts_with('/') => None,
                None => Some(self.file(edge.path)),
            };
            if let Some(from) = from.filter(|&from| from != to) {
                self.view.edges.push((from, to, ViewEdge::Learned));
            }
        }
    }

    /// The node of a source.
    fn file(&mut self, path: &str) -> usize {
        if let Some(&known) = self.of_path.get(path) {
            return known;
        }
        let there = matches!(
            self.source.disk.stat(path.trim_end_matches('/')),
            Ok(Some(_))
        );
        let state = if there {
            ViewState::None
        } else {
            ViewState::Missing
        };
        let at = self.add(ViewNode {
            kind: ViewKind::Source,
            name: path.to_owned(),
            about: String::new(),
            state,
            count: 1,
            counts: vec![(state, 1)],
            reason: String::new(),
            files: vec![path.to_owned()],
            group: None,
        });
        self.of_path.insert(path.to_owned(), at);
        at
    }

    /// The node of a set that several need.
    fn set(&mut self, set: SetId) -> usize {
        let project = self.source.project;
        let paths = &project.sets[set.index()].paths;
        let files: Vec<String> = paths
            .iter()
            .map(|&path| project.paths.get(path).to_owned())
            .collect();
        let at = self.add(ViewNode {
            kind: ViewKind::Set,
            name: in_common(&files),
            about: String::new(),
            state: ViewState::None,
            count: files.len(),
            counts: Vec::new(),
            reason: String::new(),
            files,
            group: None,
        });
        for &path in paths {
            self.lead_path(path, at, ViewEdge::Needs);
        }
        self.of_set.insert(set, at);
        at
    }
}

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or_default().to_owned()
}
