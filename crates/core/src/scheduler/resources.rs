//! Limited supplies: cores, memory, and what the description names; what each step takes of them.

use std::collections::HashMap;

use crate::language::TopItem;
use crate::language::Word;
use crate::project::amount_of;
use crate::project::decl::Clauses;
use crate::project::frame::Frame;
use crate::project::values::Vars;
use crate::text::Diagnostic;

/// What a job takes: of each supply, by its number, an amount; sorted by number.
pub type ResourceUse = Vec<(usize, u64)>;

/// Which [`ResourceUse`] a step has.
pub type ResourceUseId = u16;

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
}

impl ResourcePool {
    /// The supplies of a description, with so many cores and so many bytes of memory unless it says
    /// less. `None` when an amount is wrong, which is reported.
    pub fn new(vars: &Vars<'_>, cores: usize, memory: u64) -> Option<Self> {
        let mut names = vec!["cores".to_owned(), "memory".to_owned()];
        let mut total = vec![cores as u64, memory];
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
        })
    }

    /// What a target or task takes. One that wants more cores or memory than there are takes all.
    pub fn of(
        &mut self,
        vars: &Vars<'_>,
        clauses: &Clauses<'_>,
        frame: &Frame<'_>,
    ) -> Option<ResourceUseId> {
        let mut uses: ResourceUse = vec![(CORES, 1)];
        for (name, word) in &clauses.running.uses {
            let number = self.names.iter().position(|known| **known == *name.text)?;
            let wanted = amount(vars, &name.text, word, frame)?;
            if wanted > self.total[number] && number > MEMORY {
                vars.report(
                    Diagnostic::error(
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
            let amount = wanted.min(self.total[number]);
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
        let next = ResourceUseId::try_from(self.uses.len()).unwrap_or(ResourceUseId::MAX);
        let id = *self.known.entry(uses.clone()).or_insert(next);
        if usize::from(id) == self.uses.len() {
            self.uses.push(uses);
        }
        Some(id)
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
        self.uses[usize::from(uses)]
            .iter()
            .all(|&(number, amount)| self.left[number] >= amount)
    }

    /// A job begins.
    pub fn take(&mut self, uses: ResourceUseId) {
        for &(number, amount) in &self.uses[usize::from(uses)] {
            self.left[number] = self.left[number].saturating_sub(amount);
        }
    }

    /// A job has ended.
    pub fn give_back(&mut self, uses: ResourceUseId) {
        for &(number, amount) in &self.uses[usize::from(uses)] {
            self.left[number] += amount;
        }
    }
}

fn amount(vars: &Vars<'_>, supply: &str, word: &Word, frame: &Frame<'_>) -> Option<u64> {
    let text = vars.single(word, frame)?;
    let amount = amount_of(supply, &text.text);
    if amount.is_none() {
        vars.report(
            Diagnostic::error(
                word.span,
                format!("`{}` is no amount of {supply}", text.text),
            )
            .help("write a whole number from 1; of memory with `K`, `M` or `G`"),
        );
    }
    amount
}
