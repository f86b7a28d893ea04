//! The way back from a file, as the ledger has it.

use std::collections::HashMap;

use crate::content::LearnedPath;
use crate::content::State;
use crate::ledger::EdgeView;
use crate::ledger::Given;
use crate::ledger::Ledger;
use crate::ledger::RanIn;
use crate::ledger::RunCircumstances;
use crate::ledger::StepView;
use crate::lineage::FileVersion;
use crate::lineage::HowMade;
use crate::lineage::InputOrigin;
use crate::lineage::Lineage;
use crate::lineage::LineageInput;
use crate::lineage::LineageStep;
use crate::lineage::OtherLook;
use crate::lineage::recipe::RecordedRecipe;
use crate::lineage::recipe::parameters;
use crate::status::FileStates;
use crate::verdict::Reason;
use crate::verdict::ResultOrigin;
use crate::verdict::is_accepted;

/// How a file came about; nothing when no step that is recorded made it. `states` are looked at where links are in the way.
#[must_use]
pub fn trace(ledger: &Ledger, states: &mut FileStates<'_>, file: &str) -> Option<Lineage> {
    let maker = ledger.maker(file)?;
    let mut way = Way {
        ledger,
        states,
        lineage: Lineage {
            file: file.to_owned(),
            ..Lineage::default()
        },
        steps: HashMap::new(),
        sources: HashMap::new(),
    };
    way.walk(maker);
    way.close_circles();
    let mut lineage = way.lineage;
    sort_sources(&mut lineage);
    Some(lineage)
}

/// The origin of an input whose step is not done yet.
const OPEN: InputOrigin = InputOrigin::MadeAnewSince(usize::MAX);

struct Way<'l, 's, 'a> {
    ledger: &'l Ledger,
    states: &'s mut FileStates<'a>,
    lineage: Lineage,
    /// The numbers of steps that are done, and nothing of those that are open.
    steps: HashMap<&'l str, Option<usize>>,
    sources: HashMap<FileVersion, usize>,
}

impl<'l> Way<'l, '_, '_> {
    /// Goes to a step's makers before the step; a chain may be as long as a project has steps.
    fn walk(&mut self, last: &'l str) {
        let mut open = vec![last];
        while let Some(&name) = open.last() {
            let Some(step) = self.ledger.step(name).filter(|_| !self.is_done(name)) else {
                open.pop();
                continue;
            };
            if self.steps.insert(name, None).is_none() {
                let before = open.len();
                for edge in step.needs().chain(step.learned()) {
                    if let Some(maker) = self.maker(&edge)
                        && !self.steps.contains_key(maker)
                    {
                        open.push(maker);
                    }
                }
                if open.len() > before {
                    continue;
                }
            }
            open.pop();
            let recorded = self.step(name, step);
            self.steps.insert(name, Some(self.lineage.steps.len()));
            self.lineage.steps.push(recorded);
        }
    }

    fn is_done(&self, name: &str) -> bool {
        matches!(self.steps.get(name), Some(Some(_)))
    }

    /// What led to a step that was still open: records of different runs may go round in a circle. What was seen of it then was
    /// made before what is recorded now.
    fn close_circles(&mut self) {
        for step in &mut self.lineage.steps {
            for input in step.needs.iter_mut().chain(&mut step.learned) {
                if input.from == OPEN {
                    let maker = self.ledger.maker(&input.file.path);
                    let number = maker.and_then(|maker| *self.steps.get(maker)?);
                    input.from = InputOrigin::MadeAnewSince(number.unwrap_or_default());
                }
            }
        }
    }

    /// The step that made what an edge leads to; of one with nothing at its end there is none.
    fn maker(&self, edge: &EdgeView<'l>) -> Option<&'l str> {
        match LearnedPath::of(edge.path) {
            LearnedPath::File(path) | LearnedPath::Link(path) if edge.digest.is_some() => {
                self.ledger.maker(path)
            }
            _ => None,
        }
    }

    fn step(&mut self, name: &str, view: StepView<'l>) -> LineageStep {
        let version = |edge: EdgeView<'_>| FileVersion {
            path: edge.path.to_owned(),
            content: edge.digest,
        };
        let outputs: Vec<FileVersion> = view.outputs().map(version).collect();
        let needs: Vec<LineageInput> = view.needs().map(|edge| self.input(&edge)).collect();
        let (mut learned, mut looks) = (Vec::new(), Vec::new());
        for edge in view.learned() {
            match LearnedPath::of(edge.path) {
                LearnedPath::File(_) if edge.digest.is_some() => learned.push(self.input(&edge)),
                // What a link says is no file's content, unless a step made the link.
                LearnedPath::Link(_) if self.maker(&edge).is_some() => {
                    learned.push(self.input(&edge));
                }
                _ => looks.push(OtherLook {
                    path: edge.path.to_owned(),
                    content: edge.digest,
                }),
            }
        }
        let givens = view.givens().into_iter().map(|(key, value)| Given {
            key: key.to_owned(),
            value: value.map(str::to_owned),
        });
        let reasons = view.reasons();
        let ran_in = RanIn::among(reasons);
        if let Some(ran) = &ran_in
            && let Some(run) = RunCircumstances::of(self.ledger, ran.run)
        {
            self.lineage.runs.insert(ran.run, run);
        }
        LineageStep {
            name: name.to_owned(),
            recipe: RecordedRecipe::read(view.recipe_text()),
            parameters: parameters(view.parameters()),
            givens: givens.collect(),
            reasons: reasons.lines().filter_map(Reason::from_line).collect(),
            how: match ResultOrigin::among(reasons) {
                Some(origin) => HowMade::Restored(origin),
                None if is_accepted(reasons) => HowMade::Accepted,
                None => HowMade::Made,
            },
            ran_in,
            ended_at: view.ended_at(),
            took: u64::try_from(view.took().as_nanos()).unwrap_or(u64::MAX),
            memory: view.memory().bytes(),
            processor: u64::try_from(view.processor().as_nanos()).unwrap_or(u64::MAX),
            outputs,
            needs,
            learned,
            looks,
        }
    }

    /// Where a file came from that a step saw.
    fn input(&mut self, edge: &EdgeView<'l>) -> LineageInput {
        let file = FileVersion {
            path: LearnedPath::of(edge.path).shown(),
            content: edge.digest,
        };
        let maker = self.maker(edge);
        let maker = maker.and_then(|maker| Some((maker, *self.steps.get(maker)?)));
        let from = match maker {
            Some((_, None)) => OPEN,
            Some((maker, Some(number))) if self.is_as_made(maker, edge) => {
                InputOrigin::Step(number)
            }
            Some((_, Some(number))) => InputOrigin::MadeAnewSince(number),
            None => {
                let next = self.lineage.sources.len();
                let number = *self.sources.entry(file.clone()).or_insert(next);
                if number == next {
                    self.lineage.sources.push(file.clone());
                }
                InputOrigin::Source(number)
            }
        };
        LineageInput { file, from }
    }

    /// Whether what was seen is what the step that made it last left there.
    fn is_as_made(&mut self, maker: &str, edge: &EdgeView<'_>) -> bool {
        let Some(record) = self.ledger.step(maker) else {
            return false;
        };
        let Some(output) = record.outputs().find(|output| output.path == edge.path) else {
            // It lies in a whole folder, of which only the whole is recorded.
            return true;
        };
        if output.digest == edge.digest || output.legacy || edge.legacy {
            return true;
        }
        // Whoever reads a link sees what stands at its end, and its step only made what it says.
        match self.states.look(edge.path) {
            State::Linked(linked) => {
                Some(linked.own) == output.digest && Some(linked.seen) == edge.digest
            }
            _ => false,
        }
    }
}

/// Brings the sources in the order of their names.
fn sort_sources(lineage: &mut Lineage) {
    let mut order: Vec<usize> = (0..lineage.sources.len()).collect();
    order.sort_by(|&a, &b| lineage.sources[a].cmp(&lineage.sources[b]));
    let mut place = vec![0; order.len()];
    for (new, &old) in order.iter().enumerate() {
        place[old] = new;
    }
    lineage.sources = order
        .iter()
        .map(|&old| lineage.sources[old].clone())
        .collect();
    for step in &mut lineage.steps {
        for input in step.needs.iter_mut().chain(&mut step.learned) {
            if let InputOrigin::Source(number) = &mut input.from {
                *number = place[*number];
            }
        }
    }
}
