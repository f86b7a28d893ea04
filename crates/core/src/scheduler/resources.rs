//! Limited supplies: cores, memory, and what the description names; what each step takes of them.

use std::collections::HashMap;

use crate::graph::Node;
use crate::graph::PerPosition;
use crate::language::TopItem;
use crate::language::Word;
use crate::project::amount_of;
use crate::project::clauses::Clauses;
use crate::project::decl::Decl;
use crate::project::frame::Frame;
use crate::project::values::Vars;
use crate::scheduler::job_builder::PreparedJob;
use crate::scheduler::options::BuildOptions;
use crate::scheduler::options::Placing;
use crate::scheduler::pass_view::PassView;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::world::ByteSize;

/// What a job takes: of each supply, by its number, an amount; sorted by number.
pub type ResourceUse = Vec<(usize, u64)>;

/// Which [`ResourceUse`] a step has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct ResourceUseId(u16);

impl ResourceUseId {
    /// The one with this index.
    pub fn at(index: usize) -> Self {
        Self(u16::try_from(index).unwrap_or(u16::MAX))
    }

    /// As an index.
    pub fn index(self) -> usize {
        usize::from(self.0)
    }
}

const CORES: usize = 0;
const MEMORY: usize = 1;

/// How much there is of each supply, and how much is left.
pub struct ResourcePool {
    names: Vec<String>,
    total: Vec<u64>,
    left: Vec<u64>,
    /// Every combination that steps take.
    uses: Vec<ResourceUse>,
    known: HashMap<ResourceUse, ResourceUseId>,
    /// The names of the places; each has cores and memory behind those of this machine.
    places: Vec<String>,
    /// Whether places that are named count.
    placing: Placing,
}

impl ResourcePool {
    /// The supplies of a description, with as many cores and as much memory as there are unless it says less. `None` when an amount
    /// is wrong, which is reported.
    pub fn new(vars: &Vars<'_>, options: &BuildOptions) -> Option<Self> {
        let mut names = vec!["cores".to_owned(), "memory".to_owned()];
        let mut total = vec![options.jobs as u64, options.memory.bytes()];
        for place in &options.places {
            // No supply of a description has a slash in its name.
            names.extend([
                format!("{}/cores", place.name),
                format!("{}/memory", place.name),
            ]);
            total.extend([place.cores as u64, place.memory.bytes()]);
        }
        for (index, part) in vars.description.parts.iter().enumerate() {
            let part_id = crate::project::PartId(u32::try_from(index).unwrap_or(u32::MAX));
            for item in &part.items {
                let TopItem::Supply(name, word) = item else {
                    continue;
                };
                let amount = amount(vars, &name.text, word, &Frame::of(part_id))?;
                match names.iter().position(|known| **known == *name.text) {
                    Some(known) if known <= MEMORY => total[known] = total[known].min(amount),
                    // The outermost part that names a supply says how much there is.
                    Some(_) => {}
                    None => {
                        names.push(name.text.to_string());
                        total.push(amount);
                    }
                }
            }
        }
        Some(Self {
            left: total.clone(),
            names,
            total,
            uses: Vec::new(),
            known: HashMap::new(),
            places: options
                .places
                .iter()
                .map(|place| place.name.clone())
                .collect(),
            placing: options.placing,
        })
    }

    /// What each active position takes while it runs; `None` when an amount is wrong.
    pub fn uses(
        &mut self,
        view: &PassView<'_, '_>,
        active: &PerPosition<bool>,
    ) -> Option<PerPosition<ResourceUseId>> {
        let (project, vars) = (view.project, view.vars);
        let mut uses = PerPosition::filled(view.order, ResourceUseId::default());
        let mut of_decl: Vec<Option<ResourceUseId>> = vec![None; project.decls.len()];
        for position in active.set() {
            uses[position] = match view.node(position) {
                Node::Set(_) => continue,
                Node::Task(task) => {
                    let decl = &project.tasks[task.index()].decl;
                    self.of(vars, &decl.clauses, &Frame::of(decl.part))?
                }
                Node::Step(step) => {
                    let node = project.step(step);
                    let known = &mut of_decl[node.decl as usize];
                    match *known {
                        Some(known) => known,
                        None => {
                            let decl = project.decl(node);
                            let uses = self.of(vars, &decl.clauses, &decl.fixed_frame())?;
                            *known = Some(uses);
                            uses
                        }
                    }
                }
            };
        }
        Some(uses)
    }

    /// What a target or task takes. One that wants more cores or memory than this machine has takes all; at another place, where
    /// it is asked for on its own, as much as it says.
    fn of(
        &mut self,
        vars: &Vars<'_>,
        clauses: &Clauses<'_>,
        frame: &Frame<'_>,
    ) -> Option<ResourceUseId> {
        let first = self.of_place(vars, clauses, frame)?;
        let mut uses: ResourceUse = vec![(first + CORES, 1)];
        for (name, word) in &clauses.running.takes {
            let mut number = self.names.iter().position(|known| **known == *name.text)?;
            if number <= MEMORY {
                number += first;
            }
            let wanted = amount(vars, &name.text, word, frame)?;
            if wanted > self.total[number] && number >= self.elastic() {
                vars.report(
                    Diagnostic::error(
                        &mistakes::SUPPLY_TOO_SMALL,
                        word.span,
                        format!(
                            "{wanted} of `{}` are wanted, but there are only {}",
                            name.text, self.total[number]
                        ),
                    )
                    .help("take less, or raise the `supply`"),
                );
                return None;
            }
            let is_here = first == CORES && self.placing != Placing::AllElsewhere;
            let amount = match is_here {
                true => wanted.min(self.total[number]),
                false => wanted,
            };
            match uses.iter_mut().find(|(known, _)| *known == number) {
                Some(known) => known.1 = amount,
                None => uses.push((number, amount)),
            }
        }
        if clauses.terminal {
            // Nothing else may use the terminal meanwhile.
            uses[0].1 = self.total[CORES];
        }
        uses.sort_unstable();
        let next = ResourceUseId::at(self.uses.len());
        let id = *self.known.entry(uses.clone()).or_insert(next);
        if id.index() == self.uses.len() {
            self.uses.push(uses);
        }
        Some(id)
    }

    /// The first of the supplies of where a target or task runs: its cores, and behind them its memory.
    fn of_place(&self, vars: &Vars<'_>, clauses: &Clauses<'_>, frame: &Frame<'_>) -> Option<usize> {
        let Some(word) = clauses
            .running
            .on
            .filter(|_| self.placing == Placing::AsDescribed)
        else {
            return Some(CORES);
        };
        let name = vars.single(word, frame)?.text;
        let Some(place) = self.places.iter().position(|known| **known == *name) else {
            vars.report(missing_place(word.span, &name, true));
            return None;
        };
        Some(2 * (place + 1))
    }

    /// Of what comes before this number, who wants more than there is gets all of it.
    fn elastic(&self) -> usize {
        2 * (self.places.len() + 1)
    }

    /// How many jobs can run at once at the places that are used.
    pub fn slots_elsewhere(&self) -> usize {
        let is_used = |number: usize| self.uses.iter().flatten().any(|(used, _)| *used == number);
        let cores = (2..self.elastic())
            .step_by(2)
            .filter(|&number| is_used(number));
        cores
            .map(|number| usize::try_from(self.total[number]).unwrap_or(usize::MAX))
            .sum()
    }

    /// How many cores a job may use.
    pub fn cores(&self, uses: ResourceUseId) -> u64 {
        let mut uses = self.uses[uses.index()].iter();
        uses.find(|(number, _)| *number < self.elastic() && number % 2 == CORES)
            .map_or(1, |(_, amount)| *amount)
    }

    /// How much memory a job said that it takes; none when it did not say.
    pub fn memory(&self, uses: ResourceUseId) -> Option<ByteSize> {
        let mut uses = self.uses[uses.index()].iter();
        let memory = uses.find(|(number, _)| *number < self.elastic() && number % 2 == MEMORY);
        memory.map(|(_, amount)| ByteSize(*amount))
    }

    /// How many different [`ResourceUse`] there are.
    pub fn kinds(&self) -> usize {
        self.uses.len()
    }

    /// Those that take one core and nothing else.
    pub fn plain(&self) -> Option<ResourceUseId> {
        self.known.get(&vec![(CORES, 1)]).copied()
    }

    /// Whether there is enough left.
    pub fn suffice(&self, uses: ResourceUseId) -> bool {
        self.uses[uses.index()]
            .iter()
            .all(|&(number, amount)| self.left[number] >= amount.min(self.total[number]))
    }

    /// A job begins.
    pub fn take(&mut self, uses: ResourceUseId) {
        for &(number, amount) in &self.uses[uses.index()] {
            self.left[number] -= amount.min(self.total[number]).min(self.left[number]);
        }
    }

    /// A job has ended.
    pub fn give_back(&mut self, uses: ResourceUseId) {
        for &(number, amount) in &self.uses[uses.index()] {
            self.left[number] += amount.min(self.total[number]);
        }
    }
}

/// What is said of a place that the settings do not have; a mistake, or what would be one.
pub fn missing_place(span: Span, name: &str, is_error: bool) -> Diagnostic {
    let help = format!(
        "`[place.{name}]` in your settings says how it is reached (docs/cluster.md); `--on here` runs all of it on this machine"
    );
    let title = format!("there is no place `{name}` in the settings");
    let diagnostic = match is_error {
        true => Diagnostic::error(&mistakes::UNKNOWN_PLACE, span, title),
        false => Diagnostic::warning(&mistakes::UNKNOWN_PLACE, span, title),
    };
    diagnostic.help(help)
}

/// What is said of a job that held more memory than it said that it takes.
pub fn memory_remark(job: &PreparedJob, said: ByteSize, held: ByteSize) -> Diagnostic {
    // Rounded up, in the unit that is written there.
    let megabytes = |size: ByteSize| size.bytes().div_ceil(1 << 20);
    let title = format!(
        "`{}` held {}M of memory, and `takes` says {}M",
        job.job.name,
        megabytes(held),
        megabytes(said)
    );
    Diagnostic::warning(&mistakes::MEMORY_EXCEEDED, job.span, title)
        .help("say as much as it needs: others beside it may find too little left")
}

/// How many cores a target takes where there are so many; one when it does not say.
pub fn cores_taken(vars: &Vars<'_>, decl: &Decl<'_>, there: u64) -> u64 {
    let mut takes = decl.clauses.running.takes.iter();
    let own = takes.find(|(name, _)| &*name.text == "cores");
    let wanted = own.and_then(|(name, word)| amount(vars, &name.text, word, &decl.fixed_frame()));
    wanted.unwrap_or(1).min(there)
}

fn amount(vars: &Vars<'_>, supply: &str, word: &Word, frame: &Frame<'_>) -> Option<u64> {
    let text = vars.single(word, frame)?;
    let amount = amount_of(supply, &text.text);
    if amount.is_none() {
        vars.report(
            Diagnostic::error(
                &mistakes::UNREADABLE_AMOUNT,
                word.span,
                format!("`{}` is no amount of {supply}", text.text),
            )
            .help("write a whole number from 1; of memory with `K`, `M` or `G`"),
        );
    }
    amount
}
