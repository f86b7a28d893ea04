//! The core on its own, with a made-up file system, clock and place for jobs.

mod histories;
mod made_up;
