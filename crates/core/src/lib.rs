//! Hand Loom's computation, from the text of `hand.loom` to finished work, without any interface.
//!
//! Describe, weave, and weave again:
//!
//! ```
//! use handloom_core::graph::BuildRequest;
//! use handloom_core::scheduler::{Build, BuildContext, BuildOptions, EventHub, Summary};
//! use handloom_core::workspace::{Access, OpenOptions, ProjectLocation, UserFolders, Workspace};
//!
//! fn weave(folder: &std::path::Path) -> Result<Summary, Box<dyn std::error::Error>> {
//!     let user = UserFolders::below(&folder.join("user"));
//!     let location = ProjectLocation::find(Some(folder), &user)?;
//!     location.make_own()?;
//!     let options = OpenOptions { access: Access::Run, ..OpenOptions::default() };
//!     let workspace = Workspace::open(location, &user, &options, &mut |_| {})?;
//!     let (executor, environment) = (workspace.executor(), workspace.environment());
//!     let context = BuildContext {
//!         disk: &workspace.disk,
//!         clock: &workspace.clock,
//!         executor: &executor,
//!         ledger: &workspace.ledger,
//!         store: None,
//!         environment: &environment,
//!     };
//!     let events = EventHub::new(&workspace.clock).direct(|told| println!("{:?}", told.event));
//!     let mut build = Build::new(context, BuildOptions::default(), events);
//!     Ok(build.run(&workspace.description, &workspace.outside, &BuildRequest::default())?)
//! }
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let folder = tempfile::tempdir()?;
//! let loom = "target copy\n  needs original\n  recipe: cp @{needs} @{target}\n";
//! std::fs::write(folder.path().join("hand.loom"), loom)?;
//! std::fs::write(folder.path().join("original"), "a light on a rock")?;
//! assert_eq!(weave(folder.path())?.made, 1);
//! assert_eq!(weave(folder.path())?.kept, 1);
//! # Ok(())
//! # }
//! ```
//!
//! Data flows one way; each room only uses those above it in this list (`tests/it/house.rs` reads the imports
//! and holds it):
//!
//! - [`text`]: sources, places, diagnostics
//! - [`findings`]: what compilers and checkers said of sources, out of what was printed
//! - [`world`]: the file system and the clock, as they come in from outside; moving files without losing any
//! - [`language`]: text to syntax tree
//! - [`data_files`]: values out of JSON, TOML, YAML, lines and tables
//! - [`project`]: variables, patterns, parts; every step and task
//! - [`graph`]: what was asked for, order, goals, circles
//! - [`content`]: what files hold, and the record that spares reading
//! - [`ledger`]: what earlier runs saw; durable
//! - [`verdict`]: which steps run, and why
//! - [`status`]: files and steps as they are now: dry run, clean, what a change means
//! - [`project_cache`]: the worked-out project, kept between runs
//! - [`store`]: results of earlier runs, by what they were made from
//! - [`executor`]: where jobs run
//! - [`scheduler`]: running them, in order and side by side; events out
//! - [`records`]: what the last runs did, written from the events
//! - [`graph_view`]: the project as nodes and what leads to what, to be drawn
//! - [`lineage`]: how a file came about, back to its sources, as the ledger has it
//! - [`export`]: a project for those who have no Hand Loom: a script, how sources are compiled
//! - [`workspace`]: opening a project, for whoever asks

pub mod content;
pub mod data_files;
pub mod executor;
pub mod export;
pub mod findings;
pub mod graph;
pub mod graph_view;
pub mod language;
pub mod ledger;
pub mod lineage;
pub mod project;
pub mod project_cache;
pub mod records;
pub mod scheduler;
pub mod status;
pub mod store;
pub mod text;
pub mod verdict;
pub mod workspace;
pub mod world;
