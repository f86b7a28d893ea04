//! Which of the nodes in order have to be looked after, how many each waits for, and which of those
//! that are ready comes first.

use std::cmp::Ordering;
use std::collections::BinaryHeap;

use crate::graph::Order;
use crate::scheduler::resources::ResourceUseId;

/// A node that may start, as the heap of ready ones holds it: the longest way still to go first,
/// then the earlier in order.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ready {
    rank: f64,
    position: usize,
}

impl Eq for Ready {}

impl PartialOrd for Ready {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Ready {
    fn cmp(&self, other: &Self) -> Ordering {
        self.rank
            .total_cmp(&other.rank)
            .then(other.position.cmp(&self.position))
    }
}

/// The part of an order that is not simply kept.
pub struct ReadyQueue {
    /// For each position how many of the nodes it waits for are still open.
    waiting: Vec<u32>,
    /// Who waits for a position: where its list begins, one more at the end.
    starts: Vec<u32>,
    followers: Vec<u32>,
    /// For each position the longest way to the end of the run, seconds.
    rank: Vec<f64>,
    /// What each position takes while it runs.
    uses: Vec<ResourceUseId>,
    /// Those that are ready, by what they take: of one that has to wait for a supply, all others
    /// that take the same have to wait too.
    ready: Vec<BinaryHeap<Ready>>,
    /// How many positions are open.
    pub open: usize,
}

impl ReadyQueue {
    /// A plan over the positions that are `active`; `seconds` tells how long each is thought to take,
    /// `uses` which of so many `kinds` of supplies it takes.
    pub fn new(
        order: &Order,
        active: &[bool],
        seconds: impl Fn(usize) -> f64,
        uses: Vec<ResourceUseId>,
        kinds: usize,
    ) -> Self {
        let count = order.nodes.len();
        let mut waiting = vec![0u32; count];
        let mut sizes = vec![0u32; count + 1];
        for position in (0..count).filter(|&position| active[position]) {
            for &dependency in order.waits_for(position) {
                if active[dependency as usize] {
                    waiting[position] += 1;
                    sizes[dependency as usize + 1] += 1;
                }
            }
        }
        for index in 1..=count {
            sizes[index] += sizes[index - 1];
        }
        let mut followers = vec![0u32; sizes[count] as usize];
        let mut fill = sizes.clone();
        for position in (0..count).filter(|&position| active[position]) {
            for &dependency in order.waits_for(position) {
                if active[dependency as usize] {
                    let slot = &mut fill[dependency as usize];
                    followers[*slot as usize] = u32::try_from(position).unwrap_or(u32::MAX);
                    *slot += 1;
                }
            }
        }
        let mut queue = Self {
            waiting,
            starts: sizes,
            followers,
            rank: vec![0.0; count],
            uses,
            ready: (0..kinds.max(1)).map(|_| BinaryHeap::new()).collect(),
            open: active.iter().filter(|&&active| active).count(),
        };
        for position in (0..count).rev().filter(|&position| active[position]) {
            let behind = queue
                .followers_of(position)
                .iter()
                .map(|&follower| queue.rank[follower as usize])
                .fold(0.0, f64::max);
            queue.rank[position] = behind + seconds(position);
        }
        queue
    }

    /// Who waits for a position.
    pub fn followers_of(&self, position: usize) -> &[u32] {
        &self.followers[self.starts[position] as usize..self.starts[position + 1] as usize]
    }

    /// Whether a position waits for nothing any more.
    pub fn is_free(&self, position: usize) -> bool {
        self.waiting[position] == 0
    }

    /// Marks a position as ready to start.
    pub fn push_ready(&mut self, position: usize) {
        let ready = Ready {
            rank: self.rank[position],
            position,
        };
        if let Some(heap) = self.ready.get_mut(usize::from(self.uses[position])) {
            heap.push(ready);
        }
    }

    /// The ready position that should start first, of those that `may` start now.
    pub fn pop_ready(&mut self, may: impl Fn(ResourceUseId) -> bool) -> Option<usize> {
        let first = (0u16..)
            .zip(&self.ready)
            .filter(|(uses, _)| may(*uses))
            .filter_map(|(uses, heap)| Some((*heap.peek()?, uses)))
            .max_by(|(a, _), (b, _)| a.cmp(b))?;
        let ready = self.ready[usize::from(first.1)].pop()?;
        Some(ready.position)
    }

    /// What a position takes while it runs.
    pub fn uses(&self, position: usize) -> ResourceUseId {
        self.uses[position]
    }

    /// Closes a position; gives those that wait for nothing any more now.
    pub fn close(&mut self, position: usize) -> Vec<usize> {
        self.open -= 1;
        let range = self.starts[position] as usize..self.starts[position + 1] as usize;
        let mut free = Vec::new();
        for at in range {
            let follower = self.followers[at] as usize;
            self.waiting[follower] -= 1;
            if self.waiting[follower] == 0 {
                free.push(follower);
            }
        }
        free
    }

    /// Closes nobody any more: what is ready is dropped.
    pub fn clear_ready(&mut self) {
        self.ready.iter_mut().for_each(BinaryHeap::clear);
    }
}
