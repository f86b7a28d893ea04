//! Writing down a project for the next run: what it was worked out to, and which of its steps have no reason to run.

use std::collections::HashMap;

use zerocopy::IntoBytes;

use crate::content::LearnedPath;
use crate::graph::BuildRequest;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::language::ClauseKind;
use crate::language::Manner;
use crate::language::TopItem;
use crate::language::item_digest;
use crate::language::structure_digest;
use crate::ledger::Ledger;
use crate::ledger::StepView;
use crate::ledger::arrays;
use crate::project::PathId;
use crate::project::Project;
use crate::project::StepId;
use crate::project::TaskNode;
use crate::project::What;
use crate::project::description::Part;
use crate::project::folders::Folders;
use crate::project::values::Vars;
use crate::project_cache::cache_layout::CacheHeader;
use crate::project_cache::cache_layout::DeclRec;
use crate::project_cache::cache_layout::ItemRec;
use crate::project_cache::cache_layout::KeptTask;
use crate::project_cache::cache_layout::KeptWhat;
use crate::project_cache::cache_layout::LAYOUT;
use crate::project_cache::cache_layout::Pair;
use crate::project_cache::cache_layout::number;
use crate::project_cache::looks::LookCollector;
use crate::project_cache::looks::PathRole;
use crate::text::Sources;
use crate::text::Span;
use crate::world::Digest;

/// What a run has to say of itself to be taken over by the next one.
pub struct BuildOutcome<'a, 'd> {
    /// The digest of what the project is worked out from.
    pub key: Digest,
    /// What was asked for.
    pub request: &'a BuildRequest,
    /// The goals.
    pub goals: &'a [NodeId],
    /// All that they reach.
    pub order: &'a Order,
    /// For each position whether its step was judged to have no reason to run.
    pub kept: &'a PerPosition<bool>,
    /// The variables.
    pub vars: &'a Vars<'d>,
    /// The folders that were listed.
    pub folders: &'a Folders<'a>,
    /// Threads that look at files.
    pub threads: usize,
}

/// What of a project holds for the next run.
pub struct Holding {
    /// For each step 1 when it has no reason to run.
    pub good: Vec<u8>,
    /// For each step the paths that it learned of; empty when no step did.
    pub learned: Vec<Vec<u32>>,
    /// For each item of the description the digest of its structure, where that is known; empty when none is.
    pub structures: Vec<Option<u64>>,
    /// How many steps were reached.
    pub steps_in_order: usize,
    /// Whether all that was reached has no reason to run.
    pub all_good: bool,
    /// Whether a step learned of something that another makes, and that the order does not have yet.
    pub has_new_edges: bool,
}

/// Whether a project is of a kind that can be kept.
#[must_use]
pub fn is_keepable(project: &Project<'_>) -> bool {
    let looks_into_trees = project.sets.iter().any(|set| !set.trees.is_empty());
    !looks_into_trees && project.unmaterialized.is_empty() && !has_odd_manner(project)
}

/// Whether a target runs always, or is taken away, or something does not count of a folder: such a project is judged as a whole by each run.
pub fn has_odd_manner(project: &Project<'_>) -> bool {
    let read = (0..project.decls.len()).filter_map(|index| project.decls.read_already(index));
    let mut manners = read.flat_map(|decl| &decl.clauses.manners);
    let mut uses = project.folder_uses.iter();
    uses.any(|used| !used.excluded.is_empty())
        || manners.any(|(manner, _)| matches!(manner, Manner::Always | Manner::Fleeting))
}

/// Which steps have no reason to run, as this run left them, and how all their files are recognised.
pub fn gather(
    project: &mut Project<'_>,
    outcome: &BuildOutcome<'_, '_>,
    ledger: &Ledger,
    looks: &mut LookCollector<'_>,
) -> Holding {
    let mut holding = Holding {
        good: vec![0; project.steps.len()],
        learned: Vec::new(),
        structures: Vec::new(),
        steps_in_order: 0,
        all_good: true,
        has_new_edges: false,
    };
    for (position, kept) in outcome.kept.iter() {
        let id = outcome.order.node(position);
        let step = match id.node(project) {
            Node::Step(step) => step,
            Node::Task(_) => {
                holding.all_good = false;
                continue;
            }
            Node::Set(_) => continue,
        };
        holding.steps_in_order += 1;
        let record = if *kept {
            ledger.step(project.step_name(step))
        } else {
            None
        };
        let is_good =
            record.is_some_and(|record| add_step(project, step, record, &mut holding, looks));
        holding.good[step.index()] = u8::from(is_good);
        holding.all_good &= is_good;
        let before = outcome.order.waits_for(position);
        holding.has_new_edges |= holding.learned.get(step.index()).is_some_and(|learned| {
            let mut makers = learned
                .iter()
                .filter_map(|&path| project.maker(PathId(path)));
            makers.any(|maker| {
                let is_declared = || {
                    let mut before = before.iter().map(|&before| outcome.order.node(before));
                    before.any(|before| before == NodeId::step(maker))
                };
                let is_known = project.learned.binary_search(&(step, maker)).is_ok();
                maker != step && !is_known && !is_declared()
            })
        });
    }
    holding.all_good &= !looks.is_unsure;
    holding
}

/// Gathers the files of one step; whether they are what it saw and made.
fn add_step(
    project: &mut Project<'_>,
    step: StepId,
    record: StepView<'_>,
    holding: &mut Holding,
    looks: &mut LookCollector<'_>,
) -> bool {
    let node = *project.step(step);
    let outputs = project.step_outputs(&node);
    let mut needs = project.open_needs(project.step_needs(&node));
    let mut is_good = outputs.len() == record.outputs().len();
    for (&(_, path), edge) in outputs.iter().zip(record.outputs()) {
        is_good &= edge.digest.is_some() && looks.add(path, &edge, PathRole::Output);
    }
    for edge in record.needs() {
        let Some((_, path)) = needs.next() else {
            return false;
        };
        is_good &= edge.digest.is_some() && looks.add(path, &edge, PathRole::Input);
    }
    is_good &= needs.next().is_none();
    if record.learned().len() > 0 {
        drop(needs);
        holding.learned.resize(project.steps.len(), Vec::new());
        let learned = &mut holding.learned[step.index()];
        for edge in record.learned() {
            let path = project.paths.intern(edge.path);
            learned.push(path.0);
            is_good &= match LearnedPath::of(edge.path) {
                LearnedPath::Names(folder) => {
                    looks.add_names(path, edge.path);
                    looks.names_hold(project, folder, edge.digest)
                }
                LearnedPath::File(_) | LearnedPath::Folder(_) | LearnedPath::Link(_) => {
                    looks.add(path, &edge, PathRole::Input)
                }
            };
        }
    }
    is_good
}

/// Hands the bytes of the body to `take`, in pieces, with the seal that they have; `None` when a project can't be
/// written down.
pub fn body<T>(
    project: &Project<'_>,
    outcome: &BuildOutcome<'_, '_>,
    holding: &Holding,
    key: &[u8; 32],
    take: impl FnOnce(&[&[u8]], [u8; 32]) -> T,
) -> Option<T> {
    let (decls, holes) = kept_decls(project);
    let parts = &outcome.vars.description.parts;
    let sources = &outcome.vars.description.sources;
    let header = CacheHeader {
        parts: parts.iter().map(kept_part).collect(),
        goals: outcome.goals.iter().map(|goal| goal.0).collect(),
        has_default: project.has_default,
        defaults: project
            .defaults
            .iter()
            .map(|&(part, what)| (part.0, KeptWhat::of(what)))
            .collect(),
        holes,
        tasks: project.tasks.iter().map(kept_task).collect(),
        trees: project.trees.iter().map(|tree| tree.0).collect(),
    };
    let known = holding.structures.iter().copied();
    let mut known = known.chain(std::iter::repeat(None));
    let items: Vec<ItemRec> = parts
        .iter()
        .flat_map(|part| part.items.iter().zip(&part.extents))
        .zip(&mut known)
        .map(|((item, extent), structure)| kept_item(item, *extent, structure, sources))
        .collect();
    let small = postcard::to_allocvec(&header).ok()?;
    Some(arrange(
        project, outcome, &small, holding, &decls, &items, key, take,
    ))
}

fn kept_part(part: &Part) -> (String, Option<u32>, u32) {
    let parent = part.parent.map(|parent| parent.0);
    (part.folder.clone(), parent, number(part.items.len()))
}

/// The lines of an item. A target with variables of its own is read at once: secrets may be among them.
fn kept_item(item: &TopItem, extent: Span, structure: Option<u64>, sources: &Sources) -> ItemRec {
    let text = &sources.get(extent.source).text;
    let unread = match item {
        TopItem::Target(target) => {
            let mut kinds = target.clauses.iter().map(|clause| &clause.kind);
            !kinds.any(|kind| matches!(kind, ClauseKind::Let(_)))
        }
        TopItem::Unread(_) => true,
        _ => false,
    };
    let structure = structure.filter(|_| unread);
    let structure = structure.or_else(|| unread.then(|| structure_digest(text, extent))?);
    ItemRec {
        source: extent.source.0.into(),
        start: extent.start.into(),
        end: extent.end.into(),
        unread: u32::from(unread).into(),
        digest: item_digest(text, extent).into(),
        structure: structure.unwrap_or(0).into(),
    }
}

/// Where each target stands, and the lists of hole names that they have.
fn kept_decls(project: &Project<'_>) -> (Vec<DeclRec>, Vec<Vec<String>>) {
    let mut lists: Vec<Vec<String>> = Vec::new();
    let mut of_holes: HashMap<&[String], u32> = HashMap::new();
    let mut records = Vec::with_capacity(project.decls.len());
    for index in 0..project.decls.len() {
        let ((part, item), holes, has_lets) = match project.decls.read_already(index) {
            Some(decl) => (
                (decl.part, decl.item),
                decl.holes.as_slice(),
                !decl.clauses.lets.is_empty(),
            ),
            None => {
                let (place, holes) = project.decls.place(index);
                (place, holes, false)
            }
        };
        let list = *of_holes.entry(holes).or_insert_with(|| {
            lists.push(holes.to_vec());
            number(lists.len() - 1)
        });
        records.push(DeclRec {
            part: part.0.into(),
            item: number(item).into(),
            holes: list.into(),
            has_lets: u32::from(has_lets).into(),
        });
    }
    (records, lists)
}

fn kept_task(task: &TaskNode<'_>) -> KeptTask {
    let whats = |whats: &[What]| whats.iter().copied().map(KeptWhat::of).collect();
    KeptTask {
        part: task.decl.part.0,
        item: number(task.decl.item),
        needs: task
            .needs
            .iter()
            .map(|need| (need.group, KeptWhat::of(need.what)))
            .collect(),
        after: whats(&task.after),
        steps: whats(&task.steps),
        finally: task.finally.iter().map(|task| task.0).collect(),
        call: task.call.clone(),
        is_called: task.is_called,
    }
}

#[expect(clippy::too_many_arguments, reason = "one for each of what is written")]
fn arrange<T>(
    project: &Project<'_>,
    outcome: &BuildOutcome<'_, '_>,
    small: &[u8],
    holding: &Holding,
    decls: &[DeclRec],
    items: &[ItemRec],
    key: &[u8; 32],
    take: impl FnOnce(&[&[u8]], [u8; 32]) -> T,
) -> T {
    let numbers = |ids: &[PathId]| ids.iter().map(|id| id.0).collect::<Vec<u32>>();
    let outputs: Vec<Pair> = project
        .outputs
        .iter()
        .map(|&(group, path)| Pair {
            group: u32::from(group).into(),
            number: path.0.into(),
        })
        .collect();
    let needs: Vec<Pair> = project
        .needs
        .iter()
        .map(|need| {
            let (kind, number) = KeptWhat::of(need.what).numbers();
            Pair {
                group: (u32::from(need.group) | kind << 16).into(),
                number: number.into(),
            }
        })
        .collect();
    let (set_starts, set_paths) = flat(project.sets.iter().map(|set| numbers(&set.paths)));
    let (learned_starts, learned_paths) = flat(holding.learned.iter().cloned());
    let nodes: Vec<u32> = outcome.order.nodes.iter().map(|node| node.0).collect();
    let (order_starts, order_edges) = outcome.order.parts();
    let (arena, ranges, hashes) = project.paths.parts();
    let (values, sorted) = (numbers(&project.values), numbers(&project.sorted_outputs));
    arrays::sealed(
        LAYOUT,
        key,
        &[
            small,
            arena.as_bytes(),
            ranges.as_bytes(),
            hashes.as_bytes(),
            project.steps.as_bytes(),
            values.as_bytes(),
            outputs.as_bytes(),
            needs.as_bytes(),
            project.makers.as_bytes(),
            sorted.as_bytes(),
            set_starts.as_bytes(),
            set_paths.as_bytes(),
            nodes.as_bytes(),
            order_starts.as_bytes(),
            order_edges.as_bytes(),
            learned_starts.as_bytes(),
            learned_paths.as_bytes(),
            &holding.good,
            decls.as_bytes(),
            items.as_bytes(),
        ],
        take,
    )
}

/// Lists one behind the other, and where each begins; one more at the end.
fn flat(lists: impl Iterator<Item = Vec<u32>>) -> (Vec<u32>, Vec<u32>) {
    let (mut starts, mut all) = (vec![0], Vec::new());
    for list in lists {
        all.extend(list);
        starts.push(number(all.len()));
    }
    (starts, all)
}
