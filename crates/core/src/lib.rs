//! Hand Loom's computation, from the text of `hand.loom` to finished work, without any interface.
//!
//! Data flows one way; each room only uses those above it in this list:
//!
//! - [`text`]: sources, places, diagnostics
//! - [`world`]: the file system and the clock, as they come in from outside
//! - [`language`]: text to syntax tree
//! - [`project`]: variables, patterns, parts; every step and task
//! - [`graph`]: order, goals, circles
//! - [`content`]: what files hold, and the record that spares reading
//! - [`ledger`]: what earlier runs saw; durable
//! - [`verdict`]: which steps run, and why
//! - [`weave`]: running them; events out
//! - [`picture`]: the project as nodes and what leads to what, to be drawn
//! - [`history`]: what the last runs did, written from the events

pub mod content;
pub mod graph;
pub mod history;
pub mod language;
pub mod ledger;
pub mod picture;
pub mod project;
pub mod text;
pub mod verdict;
pub mod weave;
pub mod world;
