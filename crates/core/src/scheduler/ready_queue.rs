//! Which of the nodes in order have to be looked after, how many each waits for, and which of those
//! that are ready comes first.

use std::cmp::Ordering;
use std::collections::BinaryHeap;
use std::time::Duration;

use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::scheduler::resources::ResourceUseId;

/// A node that may start, as the heap of ready ones holds it: the longest way still to go first,
/// then the earlier in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Ready {
    rank: Duration,
    position: Position,
}

impl PartialOrd for Ready {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Ready {
    fn cmp(&self, other: &Self) -> Ordering {
        let rank = self.rank.cmp(&other.rank);
        rank.then(other.position.cmp(&self.position))
    }
}

/// The part of an order that is not simply kept.
pub struct ReadyQueue {
    active: Vec<Position>,
    /// For each position how many of the nodes it waits for are still open.
    waiting: PerPosition<u32>,
    /// Who waits for a position: where its list begins, one more at the end.
    starts: Vec<u32>,
    followers: Vec<Position>,
    /// For each position the longest way to the end of the run.
    rank: PerPosition<Duration>,
    /// What each position takes while it runs.
    uses: PerPosition<ResourceUseId>,
    /// Those that are ready, by what they take: of one that has to wait for a resource, all others
    /// that take the same have to wait too.
    ready: Vec<BinaryHeap<Ready>>,
    /// How many positions are open.
    pub open: usize,
}

impl ReadyQueue {
    /// A queue of the positions that are `active`; `expected` tells how long each is thought to take,
    /// `uses` which of so many `kinds` of resource uses it has.
    pub fn new(
        order: &Order,
        active: &PerPosition<bool>,
        expected: impl Fn(Position) -> Duration,
        uses: PerPosition<ResourceUseId>,
        kinds: usize,
    ) -> Self {
        let mut waiting = PerPosition::filled(order, 0u32);
        let count = order.nodes.len();
        let mut starts = vec![0u32; count + 1];
        let edges = || {
            active.set().flat_map(|position| {
                let before = order.waits_for(position).iter().copied();
                before
                    .filter(|&before| active[before])
                    .map(move |before| (before, position))
            })
        };
        for (before, position) in edges() {
            waiting[position] += 1;
            starts[before.index() + 1] += 1;
        }
        for index in 1..=count {
            starts[index] += starts[index - 1];
        }
        let mut followers = vec![Position::default(); starts[count] as usize];
        let mut fill = starts.clone();
        for (before, position) in edges() {
            let at = &mut fill[before.index()];
            followers[*at as usize] = position;
            *at += 1;
        }
        let mut queue = Self {
            active: active.set().collect(),
            waiting,
            starts,
            followers,
            rank: PerPosition::filled(order, Duration::ZERO),
            uses,
            ready: (0..kinds.max(1)).map(|_| BinaryHeap::new()).collect(),
            open: active.set().count(),
        };
        for position in active.set().rev() {
            let behind = queue.followers_of(position).iter();
            let behind = behind.map(|&follower| queue.rank[follower]).max();
            queue.rank[position] = behind.unwrap_or_default() + expected(position);
        }
        queue
    }

    /// The positions that wait for nothing from the beginning.
    pub fn free_at_first(&self) -> impl Iterator<Item = Position> {
        let free = |position: &Position| self.waiting[*position] == 0;
        self.active.iter().copied().filter(free)
    }

    /// Who waits for a position.
    pub fn followers_of(&self, position: Position) -> &[Position] {
        let index = position.index();
        &self.followers[self.starts[index] as usize..self.starts[index + 1] as usize]
    }

    /// Marks a position as ready to start.
    pub fn push_ready(&mut self, position: Position) {
        let ready = Ready {
            rank: self.rank[position],
            position,
        };
        if let Some(heap) = self.ready.get_mut(self.uses[position].index()) {
            heap.push(ready);
        }
    }

    /// The ready position that should start first, of those that `may` start now.
    pub fn pop_ready(&mut self, may: impl Fn(ResourceUseId) -> bool) -> Option<Position> {
        let heaps = self.ready.iter().enumerate();
        let (_, first) = heaps
            .filter(|(kind, _)| may(ResourceUseId::at(*kind)))
            .filter_map(|(kind, heap)| Some((*heap.peek()?, kind)))
            .max_by(|(a, _), (b, _)| a.cmp(b))?;
        let ready = self.ready[first].pop()?;
        Some(ready.position)
    }

    /// What a position takes while it runs.
    pub fn uses(&self, position: Position) -> ResourceUseId {
        self.uses[position]
    }

    /// Closes a position; gives those that wait for nothing any more now.
    pub fn close(&mut self, position: Position) -> Vec<Position> {
        self.open -= 1;
        let index = position.index();
        let range = self.starts[index] as usize..self.starts[index + 1] as usize;
        let mut free = Vec::new();
        for at in range {
            let follower = self.followers[at];
            self.waiting[follower] -= 1;
            if self.waiting[follower] == 0 {
                free.push(follower);
            }
        }
        free
    }
}
