//! From a syntax tree to a [`Project`]: variables put in, patterns matched, steps and tasks known.

pub mod decl;
pub mod decls;
pub mod description;
pub mod environment;
pub mod folders;
pub mod frame;
pub mod overrides;
pub mod paths;
pub mod pattern;
pub mod recipe_text;
pub mod script;
pub mod secret;
pub mod shell;
pub mod value;
pub mod values;

mod build;
pub mod check;
mod circles;
mod definition;
mod each;
mod each_match;
mod expand;
mod model;
mod name_resolver;
mod needs;
mod outputs;
mod words;

pub use build::ProjectBuilder;
pub use check::amount_of;
pub use description::Description;
pub use description::PartId;
pub use model::FileSet;
pub use model::IndexRange;
pub use model::Need;
pub use model::Project;
pub use model::SetId;
pub use model::Step;
pub use model::StepId;
pub use model::TaskId;
pub use model::TaskNode;
pub use model::What;
pub use model::near_goal;
pub use paths::PathId;
pub use paths::Paths;
