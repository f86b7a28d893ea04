//! What a project does, for those who have no Hand Loom: a plain shell script, and how each source is compiled.

pub mod compile_commands;
pub mod script;

mod shell_variables;

use crate::executor::job::JobRoom;
use crate::executor::job::SlotId;

/// A recipe that is written down runs alone, and with one core: how many there are where it runs is not known.
fn room() -> JobRoom {
    JobRoom {
        slot: SlotId::default(),
        cores: 1,
        memory: None,
    }
}
