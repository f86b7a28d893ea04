//! The core on its own, with a made-up file system, clock and place for jobs.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod amended;
mod bed;
mod corpus;
mod findings;
mod grammar;
mod histories;
mod house;
mod ledgers;
mod looking;
mod made_up;
mod model;
mod opened;
mod patterns;
mod pictured;
mod records;
mod scheduling;
mod shells;
mod simulated;
mod stored;
mod values;
mod workers;
mod woven;
