//! What the names of a step's recipe stand for, and its script.

use crate::executor::job::JobRoom;
use crate::language::LearnHow;
use crate::language::Piece;
use crate::language::Word;
use crate::language::script_names;
use crate::project::PathId;
use crate::project::StepId;
use crate::project::frame::Frame;
use crate::project::script;
use crate::project::script::LearnFile;
use crate::project::shell;
use crate::project::value::Value;
use crate::scheduler::job_builder::JobBuilder;

/// The folder of files that only live as long as a job.
pub const SCRATCH: &str = ".handloom/jobs";

/// What the names of a step's recipe stand for, and what that was worked out from.
pub(super) struct StepFrame<'f> {
    pub frame: Frame<'f>,
    pub folder: String,
    pub learn: Option<LearnFile>,
    pub needs: Vec<(u16, PathId)>,
}

impl<'d> JobBuilder<'_, 'd> {
    /// What the names of a step's recipe stand for.
    pub(super) fn step_frame(&self, step: StepId, room: JobRoom) -> Option<StepFrame<'_>> {
        let project = self.project;
        let node = project.step(step);
        let decl = project.decl(node);
        let values = project.step_values(node);
        let frame = decl.frame(self.vars, &values[..decl.holes.len().min(values.len())])?;
        let learn = match &decl.clauses.learn {
            Some((LearnHow::Watched | LearnHow::WatchedEverywhere, _)) | None => None,
            Some((how, file)) => Some(self.learn_file(*how, *file, &frame, room)?),
        };
        let needs: Vec<(u16, PathId)> = project.open_needs(project.step_needs(node)).collect();
        let (mut frame, folder) =
            script::step_frame(self.vars, project, decl, node, &needs, learn.as_ref())?;
        self.set_cores(&mut frame, room);
        Some(StepFrame {
            frame,
            folder,
            learn,
            needs,
        })
    }

    /// The script of a step's recipe for a shell, in which `stand_in` may put something else in the place of variables of the
    /// project that it names plainly; `None` when the recipe is for another program or its description is wrong, or what is put
    /// in its place can't stand there, which is reported.
    pub fn step_script(
        &self,
        step: StepId,
        room: JobRoom,
        stand_in: &mut dyn FnMut(&'d str, &Value) -> Option<Value>,
    ) -> Option<String> {
        let project = self.project;
        let decl = project.decl(project.step(step));
        let StepFrame { mut frame, .. } = self.step_frame(step, room)?;
        let script = decl.clauses.recipe?;
        let interpreter = script::interpreter(self.vars, script, &frame)?;
        if !shell::is_shell(&interpreter) {
            return None;
        }
        let is_plain = |name: &str| {
            script.pieces.iter().all(|piece| match piece {
                Piece::Var(used) if *used.name.text == *name => !used.raw && used.select.is_empty(),
                _ => true,
            })
        };
        for (name, _) in script_names(script) {
            if frame.local(name).is_none()
                && is_plain(name)
                && let Some(value) = self.vars.known_value(frame.part, name)
                && let Some(value) = stand_in(name, &value)
            {
                frame.set(name, value);
            }
        }
        script::render(self.vars, script, &frame, &interpreter)
    }

    /// Where a recipe is to write what it learned: the file that it names, or a scratch file.
    fn learn_file(
        &self,
        how: LearnHow,
        file: Option<&Word>,
        frame: &Frame<'_>,
        room: JobRoom,
    ) -> Option<LearnFile> {
        let folder = &self.vars.description.parts[frame.part.index()].folder;
        Some(match file {
            Some(word) => LearnFile {
                how,
                path: self
                    .vars
                    .from_root(folder, &script::filled(self.vars, word, frame)?),
                scratch: false,
            },
            None => LearnFile {
                how,
                path: format!("{SCRATCH}/{}.learn", room.slot.index()),
                scratch: true,
            },
        })
    }
}
