//! What a project does, for those who have no Hand Loom: a plain shell script, and how each source is compiled.

pub mod compile_commands;
pub mod script;

mod shell_variables;
