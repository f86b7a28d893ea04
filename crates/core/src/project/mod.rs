//! From a syntax tree to a [`Project`]: variables put in, patterns matched, steps and tasks known.

pub mod decl;
pub mod description;
pub mod environment;
pub mod folders;
pub mod frame;
pub mod overrides;
pub mod paths;
pub mod pattern;
pub mod script;
pub mod secret;
pub mod shell;
pub mod value;
pub mod values;

mod build;
mod check;
mod circles;
mod each;
mod expand;
mod needs;
mod outputs;
mod words;

pub use build::FileSet;
pub use build::IndexRange;
pub use build::Need;
pub use build::Project;
pub use build::ProjectBuilder;
pub use build::SetId;
pub use build::Step;
pub use build::StepId;
pub use build::TaskId;
pub use build::TaskNode;
pub use build::What;
pub use check::amount_of;
pub use description::Description;
pub use description::PartId;
pub use paths::PathId;
pub use paths::Paths;
