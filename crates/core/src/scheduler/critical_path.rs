//! The longest way to each job, worked out while the jobs run: what kept the build from ending sooner.

use std::time::Duration;

use crate::executor::JobEnd;
use crate::graph::Order;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::world::Ticks;

/// How a position came to be free, as far as jobs of this pass led to it.
#[derive(Clone, Copy, Debug, Default)]
struct Path {
    /// How long the jobs of the longest way to it took together.
    longest: Duration,
    /// The last position of that way.
    last: Option<Position>,
    /// When it became free.
    free_at: Ticks,
    /// How long its own job took; none when it has none.
    took: Option<Duration>,
}

/// The longest ways of a pass.
#[derive(Debug)]
pub struct CriticalPath(PerPosition<Path>);

impl CriticalPath {
    /// All positions are free now, or will become so.
    pub fn new(order: &Order, now: Ticks) -> Self {
        let path = Path {
            free_at: now,
            ..Path::default()
        };
        Self(PerPosition::filled(order, path))
    }

    /// A position waits for nothing any more.
    pub fn free(&mut self, position: Position, now: Ticks) {
        self.0[position].free_at = now;
    }

    /// A position's job has ended. Gives how long it waited for a slot when nothing else was in its way.
    pub fn ended(&mut self, position: Position, end: &JobEnd) -> Duration {
        let path = &mut self.0[position];
        path.took = Some(end.took());
        end.began.since(path.free_at)
    }

    /// Tells those that wait for a position how long the way to them is.
    pub fn lead_on(&mut self, position: Position, followers: &[Position]) {
        let path = self.0[position];
        // What was spared, and sets, only pass on what they waited for.
        let (longest, last) = match path.took {
            Some(took) => (path.longest + took, Some(position)),
            None => (path.longest, path.last),
        };
        if last.is_none() {
            return;
        }
        for &follower in followers {
            let to = &mut self.0[follower];
            if to.last.is_none() || longest > to.longest {
                (to.longest, to.last) = (longest, last);
            }
        }
    }

    /// The last position of the longest way to a position.
    pub fn last_before(&self, position: Position) -> Option<Position> {
        self.0[position].last
    }
}
