//! Running what has to run: from a project and goals to jobs, in order and side by side.
//!
//! [`Session`] holds what lives as long as one call of Hand Loom; a [`round`] brings one set of goals
//! up to date. The scheduler owns all state; slots ([`slots`]) own the jobs; they only exchange
//! messages.

pub mod event;
pub mod keep;
pub mod prepare;
pub mod states;

mod around;
mod capture;
mod clean;
mod edges;
mod facts;
mod finish;
mod ground;
mod learn;
mod links;
mod local;
mod make_way;
mod marks;
mod outlook;
mod phases;
mod place;
mod plan;
mod processes;
mod recall;
mod recovery;
mod round;
mod running;
mod session;
mod slots;
mod standing;
mod stop;
mod supply;
mod working;

pub use around::Around;
pub use around::Ask;
pub use capture::Capture;
pub use capture::Printed;
pub use clean::Cleaned;
pub use clean::Foreseen;
pub use clean::clean;
pub use clean::foresee_clean;
pub use edges::add_learned;
pub use event::Ended;
pub use event::Ending;
pub use event::Event;
pub use event::Exit;
pub use event::Failure;
pub use event::Problem;
pub use event::Summary;
pub use event::Took;
pub use event::rounded;
pub use facts::Scratch;
pub use facts::Sheets;
pub use ground::Ground;
pub use ground::Touch;
pub use local::GRACE;
pub use local::LocalPlace;
pub use outlook::Prospect;
pub use outlook::Would;
pub use outlook::outlook;
pub use phases::goals;
pub use place::Job;
pub use place::Outcome;
pub use place::Place;
pub use prepare::Workshop;
pub use recall::Known;
pub use recovery::Recovered;
pub use recovery::recover;
pub use session::Asked;
pub use session::GroundTold;
pub use session::Options;
pub use session::Session;
pub use session::Stopped;
pub use standing::Standing;
pub use stop::Stop;
