//! Writing down a project for the next run: what it was worked out to, and under which stats the
//! contents of its files are known.

use zerocopy::IntoBytes;

use crate::content::Record;
use crate::graph::BuildRequest;
use crate::graph::Node;
use crate::graph::NodeId;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::language::TopItem;
use crate::ledger::Ledger;
use crate::ledger::Mark;
use crate::ledger::arrays;
use crate::project::PathId;
use crate::project::Project;
use crate::project::What;
use crate::project::folders::Folders;
use crate::project::values::Vars;
use crate::project_cache::cache_layout::CacheHeader;
use crate::project_cache::cache_layout::CachedRequest;
use crate::project_cache::cache_layout::KeptTask;
use crate::project_cache::cache_layout::KeptWhat;
use crate::project_cache::cache_layout::LAYOUT;
use crate::project_cache::cache_layout::LookRec;
use crate::project_cache::cache_layout::Pair;
use crate::project_cache::cache_layout::number;
use crate::project_cache::dependencies::CacheDependencies;
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
}

/// What of the files of steps without a reason to run is known.
#[derive(Default)]
struct Looks {
    records: Vec<(PathId, Option<Record>)>,
    seen: Vec<bool>,
    /// Paths whose content cannot be known without reading.
    unknown: bool,
}

impl Looks {
    fn add(&mut self, path: PathId, text: &str, digest: Option<Digest>, ledger: &Ledger) {
        if self.seen.len() <= path.index() {
            self.seen.resize(path.index() + 1, false);
        }
        if std::mem::replace(&mut self.seen[path.index()], true) {
            return;
        }
        let record = match digest {
            None => None,
            Some(digest) => {
                let record = ledger
                    .file(text)
                    .filter(|record| record.settled() && record.digest == digest);
                if record.is_none() {
                    self.unknown = true;
                    return;
                }
                record
            }
        };
        self.records.push((path, record));
    }
}

/// The bytes of an image; `None` when a project is of a kind that is always worked out.
pub fn write<'d>(
    project: &mut Project<'d>,
    outcome: &BuildOutcome<'_, 'd>,
    dependencies: CacheDependencies,
    mark: Mark,
    ledger: &Ledger,
) -> Option<Vec<u8>> {
    let looks_into_trees = project.sets.iter().any(|set| !set.trees.is_empty());
    if looks_into_trees || !project.unmaterialized.is_empty() {
        return None;
    }
    let mut good = vec![0u8; project.steps.len()];
    let mut looks = Looks::default();
    let mut learned: Vec<Vec<u32>> = Vec::new();
    let mut steps_in_order = 0;
    let mut all_good = true;
    for (id, kept) in outcome.order.nodes.iter().zip(outcome.kept.values()) {
        let step = match id.node(project) {
            Node::Step(step) => step,
            Node::Task(_) => {
                all_good = false;
                continue;
            }
            Node::Set(_) => continue,
        };
        steps_in_order += 1;
        let record = if *kept {
            ledger.step(project.step_name(step))
        } else {
            None
        };
        let Some(record) = record else {
            all_good = false;
            continue;
        };
        good[step.index()] = 1;
        let node = project.step(step);
        let own = project
            .step_outputs(node)
            .iter()
            .copied()
            .chain(project.open_needs(project.step_needs(node)));
        for ((_, path), edge) in own.zip(record.outputs().chain(record.needs())) {
            looks.add(path, edge.path, edge.digest, ledger);
        }
        if record.learned().len() > 0 {
            learned.resize(project.steps.len(), Vec::new());
            for edge in record.learned() {
                let path = project.paths.intern(edge.path);
                learned[step.index()].push(path.0);
                looks.add(path, edge.path, edge.digest, ledger);
            }
        }
    }
    all_good &= !looks.unknown;
    let header = CacheHeader {
        key: outcome.key,
        request: CachedRequest::of(outcome.request),
        mark,
        dependencies,
        all_good,
        steps_in_order,
        goals: outcome.goals.iter().map(|goal| goal.0).collect(),
        has_default: project.has_default,
        defaults: project
            .defaults
            .iter()
            .map(|&(part, what)| (part.0, KeptWhat::of(what)))
            .collect(),
        decls: kept_decls(project, outcome.vars)?,
        tasks: kept_tasks(project, outcome.vars)?,
        trees: project.trees.iter().map(|tree| tree.0).collect(),
    };
    arrange(project, outcome, &header, looks, &learned, &good)
}

/// Where each declared target stands; both lists are in the order of the description.
fn kept_decls(project: &Project<'_>, vars: &Vars<'_>) -> Option<Vec<(u32, u32, Vec<String>)>> {
    let mut decls = project.decls.iter().peekable();
    let mut kept = Vec::with_capacity(project.decls.len());
    for (part, description) in vars.description.parts.iter().enumerate() {
        for (at, item) in description.items.iter().enumerate() {
            if let TopItem::Target(target) = item
                && let Some(decl) =
                    decls.next_if(|decl| std::ptr::eq(decl.syntax, &raw const **target))
            {
                kept.push((number(part), number(at), decl.holes.clone()));
            }
        }
    }
    decls.peek().is_none().then_some(kept)
}

fn kept_tasks(project: &Project<'_>, vars: &Vars<'_>) -> Option<Vec<KeptTask>> {
    let mut tasks = project.tasks.iter().peekable();
    let mut kept = Vec::with_capacity(project.tasks.len());
    let whats = |whats: &[What]| whats.iter().copied().map(KeptWhat::of).collect();
    for (part, description) in vars.description.parts.iter().enumerate() {
        for (at, item) in description.items.iter().enumerate() {
            if let TopItem::Task(syntax) = item
                && let Some(task) =
                    tasks.next_if(|task| std::ptr::eq(task.decl.syntax, &raw const **syntax))
            {
                kept.push(KeptTask {
                    part: number(part),
                    item: number(at),
                    needs: task
                        .needs
                        .iter()
                        .map(|need| (need.group, KeptWhat::of(need.what)))
                        .collect(),
                    after: whats(&task.after),
                    steps: whats(&task.steps),
                });
            }
        }
    }
    tasks.peek().is_none().then_some(kept)
}

fn arrange(
    project: &Project<'_>,
    outcome: &BuildOutcome<'_, '_>,
    header: &CacheHeader,
    mut looks: Looks,
    learned: &[Vec<u32>],
    good: &[u8],
) -> Option<Vec<u8>> {
    // Outputs come sorted, and prerequisites nearly so: a stable sort goes by runs.
    looks
        .records
        .sort_by(|(a, _), (b, _)| project.paths.get(*a).cmp(project.paths.get(*b)));
    let looked: Vec<LookRec> = looks.records.iter().map(look_rec).collect();
    let digests: Vec<[u8; 32]> = looks
        .records
        .iter()
        .map(|(_, record)| record.map_or([0; 32], |record| record.digest.0))
        .collect();
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
    let (learned_starts, learned_paths) = flat(learned.iter().cloned());
    let nodes: Vec<u32> = outcome.order.nodes.iter().map(|node| node.0).collect();
    let (order_starts, order_edges) = outcome.order.parts();
    let (arena, ranges, hashes) = project.paths.parts();
    let small = postcard::to_allocvec(header).ok()?;
    let (values, sorted) = (numbers(&project.values), numbers(&project.sorted_outputs));
    Some(arrays::write(
        LAYOUT,
        &[0; 32],
        0,
        &[
            &small,
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
            good,
            looked.as_bytes(),
            digests.as_bytes(),
        ],
    ))
}

fn look_rec((path, record): &(PathId, Option<Record>)) -> LookRec {
    LookRec {
        path: path.0.into(),
        absent: u32::from(record.is_none()).into(),
        size: record.map_or(0, |record| record.size).into(),
        modified: record.map_or(0, |record| record.modified).into(),
        changed: record.map_or(0, |record| record.changed).into(),
        inode: record.map_or(0, |record| record.inode).into(),
    }
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
