//! From a project and what would become of it to a picture of every step.

use std::collections::HashMap;

use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph_view::GraphView;
use crate::graph_view::ViewKind;
use crate::graph_view::ViewNode;
use crate::graph_view::ViewState;
use crate::graph_view::group::in_common;
use crate::graph_view::links::Drawn;
use crate::graph_view::links::DrawnId;
use crate::graph_view::links::Links;
use crate::graph_view::links::Neighbourhood;
use crate::project::Project;
use crate::project::SetId;
use crate::project::values::Vars;
use crate::status::dry_run::Decision;
use crate::status::dry_run::Prediction;
use crate::verdict::Reason;

/// What a picture is made from.
pub struct GraphSource<'a, 'd> {
    /// The project.
    pub project: &'a Project<'d>,
    /// Its variables.
    pub vars: &'a Vars<'d>,
    /// What leads to what.
    pub links: &'a Links<'a, 'd>,
    /// What alone is shown.
    pub only: Option<&'a Neighbourhood>,
    /// In which order.
    pub order: &'a Order,
    /// What would become of each position of `order`.
    pub predictions: &'a PerPosition<Prediction>,
    /// Whether something stands at a path.
    pub is_there: &'a dyn Fn(&str) -> bool,
    /// Whether a step or task failed when it last ran.
    pub failed: &'a dyn Fn(&str) -> bool,
    /// Whether what a step made last came from the store.
    pub restored: &'a dyn Fn(&str) -> bool,
}

/// Nothing is drawn for this yet.
const NOWHERE: u32 = u32::MAX;

/// A picture that grows.
struct Drawing<'s, 'a, 'd> {
    source: &'s GraphSource<'a, 'd>,
    view: GraphView,
    /// Where each is drawn, by its number among the links.
    drawn_at: Vec<u32>,
    /// The number of each description's group; targets come first, then tasks.
    of_description: HashMap<usize, usize>,
}

impl GraphSource<'_, '_> {
    /// The picture, with a node for each step.
    #[must_use]
    pub fn view(&self) -> GraphView {
        let mut drawing = Drawing {
            source: self,
            view: GraphView::default(),
            drawn_at: vec![NOWHERE; self.links.len()],
            of_description: HashMap::new(),
        };
        for prediction in self.predictions.values() {
            drawing.node(prediction);
        }
        if let Some(only) = self.only {
            drawing.lone(only.centre());
        }
        drawing.view.tidy();
        drawing.view.with_sources_put_together()
    }

    fn shows(&self, id: DrawnId) -> bool {
        self.only.is_none_or(|only| only.holds(id))
    }
}

impl Drawing<'_, '_, '_> {
    /// Draws what stands at a position of the order, with what leads to it.
    fn node(&mut self, prediction: &Prediction) {
        let (project, links) = (self.source.project, self.source.links);
        let id = links.of_node(prediction.node);
        if !self.source.shows(id) {
            return;
        }
        let node = match prediction.node.node(project) {
            Node::Set(set) if links.is_shared(set) => self.set(set),
            // It is drawn through.
            Node::Set(_) => return,
            Node::Step(step) => {
                let node = project.step(step);
                let decl = project.decl(node);
                let group = self.group(node.decl as usize, decl.clauses.about, || {
                    let items = decl.syntax.outputs.iter().flat_map(|group| &group.items);
                    let description = self.source.vars.description;
                    let folder = &description.parts[decl.part.index()].folder;
                    let slice = |span| description.sources.slice(span);
                    let words = items.map(|item| format!("{folder}{}", slice(item.word.span)));
                    words.collect::<Vec<_>>().join(" ")
                });
                let outputs = project.step_outputs(node).iter();
                let files = outputs.map(|&(_, path)| project.paths.get(path).to_owned());
                let name = project.step_name(step);
                self.described(ViewKind::Step, name, group, files.collect(), prediction)
            }
            Node::Task(task) => {
                let name = &project.tasks[task.index()].name;
                let decl = &project.tasks[task.index()].decl;
                let at = project.decls.len() + task.index();
                let group = self.group(at, decl.clauses.about, || name.clone());
                self.described(ViewKind::Task, name, group, Vec::new(), prediction)
            }
        };
        let at = self.add(id, node);
        self.lead(prediction.node, at);
    }

    /// The number of a description's group.
    fn group(&mut self, at: usize, about: Option<&str>, name: impl FnOnce() -> String) -> usize {
        if let Some(&known) = self.of_description.get(&at) {
            return known;
        }
        let number = self.view.groups.len();
        let about = first_line(about.unwrap_or_default());
        self.view.groups.push((name(), about));
        self.of_description.insert(at, number);
        number
    }

    fn described(
        &self,
        kind: ViewKind,
        name: &str,
        group: usize,
        files: Vec<String>,
        prediction: &Prediction,
    ) -> ViewNode {
        let state = self.state(prediction, kind, name);
        let reason = prediction.reasons.first().map(Reason::brief);
        ViewNode {
            restored: kind == ViewKind::Step && (self.source.restored)(name),
            kind,
            about: self.view.groups[group].1.clone(),
            state,
            count: 1,
            counts: vec![(state, 1)],
            reason: reason.unwrap_or_default(),
            files,
            group: Some(group),
            name: name.to_owned(),
        }
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

    fn add(&mut self, id: DrawnId, node: ViewNode) -> usize {
        let at = self.view.nodes.len();
        self.drawn_at[id.index()] = u32::try_from(at).unwrap_or(NOWHERE);
        self.view.nodes.push(node);
        at
    }

    /// Draws what leads to a node. What stands behind it in the order, as a learned file may, does not lead to it:
    /// pictures go round in no circles.
    fn lead(&mut self, to: NodeId, at: usize) {
        let links = self.source.links;
        for &(from, edge) in links.to(to) {
            if !self.source.shows(from) {
                continue;
            }
            let from = match (self.drawn_at[from.index()], links.drawn(from)) {
                (NOWHERE, Drawn::Node(_)) => continue,
                (NOWHERE, Drawn::Source(path)) => {
                    let node = self.file(path);
                    self.add(from, node)
                }
                (from, _) => from as usize,
            };
            if from != at {
                self.view.edges.push((from, at, edge));
            }
        }
    }

    /// Draws what a neighbourhood is around, when it is a source and nothing near reads it.
    fn lone(&mut self, centre: DrawnId) {
        if self.drawn_at[centre.index()] == NOWHERE
            && let Drawn::Source(path) = self.source.links.drawn(centre)
        {
            let node = self.file(path);
            self.add(centre, node);
        }
    }

    /// The node of a source.
    fn file(&self, path: &str) -> ViewNode {
        let state = if (self.source.is_there)(path) {
            ViewState::None
        } else {
            ViewState::Missing
        };
        ViewNode {
            restored: false,
            kind: ViewKind::Source,
            name: path.to_owned(),
            about: String::new(),
            state,
            count: 1,
            counts: vec![(state, 1)],
            reason: String::new(),
            files: vec![path.to_owned()],
            group: None,
        }
    }

    /// The node of a set that several need.
    fn set(&self, set: SetId) -> ViewNode {
        let project = self.source.project;
        let paths = &project.sets[set.index()].paths;
        let files: Vec<String> = paths
            .iter()
            .map(|&path| project.paths.get(path).to_owned())
            .collect();
        ViewNode {
            restored: false,
            kind: ViewKind::Set,
            name: in_common(&files),
            about: String::new(),
            state: ViewState::None,
            count: files.len(),
            counts: Vec::new(),
            reason: String::new(),
            files,
            group: None,
        }
    }
}

fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or_default().to_owned()
}
