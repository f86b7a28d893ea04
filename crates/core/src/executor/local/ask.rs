//! Commands of the project whose output is a value.

use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::process::CommandExt;
use std::process::Stdio;

use crate::executor::exit::Exit;
use crate::executor::local::LocalExecutor;
use crate::executor::local::begun::Begun;
use crate::executor::local::child::ChildProcess;
use crate::executor::local::named;
use crate::executor::local::os;
use crate::project::environment::OutputError;
use crate::world::names;

/// More than this is not taken as a value, bytes.
const MAX_VALUE: usize = 16 << 20;

impl LocalExecutor {
    /// Runs a command of the project for its output, which is a value: with the same group, grace and ways
    /// to end it as a job.
    ///
    /// # Errors
    /// What became of it, to stand behind its name.
    pub fn ask(&self, command: &[String], folder: &str) -> Result<String, OutputError> {
        let (program, arguments) = command.split_first().ok_or(OutputError::NoWords)?;
        let mut asked = named(program, None);
        asked.args(arguments.iter().map(|word| os(word)));
        asked.current_dir(self.root.join(os(folder)));
        asked.process_group(0).stdin(Stdio::null());
        let starting = self.control.starting();
        let started = piped().and_then(|(out, out_writer)| {
            let (said, said_writer) = piped()?;
            asked.stdout(out_writer).stderr(said_writer);
            let child = asked.spawn()?;
            drop(asked);
            Ok((child, out, said))
        });
        let (child, out, said) = started.map_err(|error| match error.kind() {
            io::ErrorKind::NotFound => OutputError::NotFound,
            _ => OutputError::NotStarted(error.to_string()),
        })?;
        let mut output = Vec::new();
        let mut heard = |bytes: &[u8]| {
            output.extend_from_slice(&bytes[..bytes.len().min(MAX_VALUE + 1 - output.len())]);
        };
        let running = ChildProcess::of_command(Begun::Plain(child), out, said, self);
        drop(starting);
        let (outcome, said) = running.wait_for_value(&mut heard);
        if outcome.stopped {
            return Err(OutputError::Interrupted);
        }
        if output.len() > MAX_VALUE {
            return Err(OutputError::TooLong(MAX_VALUE >> 20));
        }
        let said = String::from_utf8_lossy(&said).into_owned();
        match outcome.exit {
            Exit::Status(0) => Ok(names::to_text(&output).into_owned()),
            Exit::Status(status) => Err(OutputError::Status(status, said)),
            _ => Err(OutputError::Signal(said)),
        }
    }
}

/// A pipe: the end to read from, and the one to be given to a process.
fn piped() -> io::Result<(File, Stdio)> {
    let (reader, writer) = io::pipe()?;
    Ok((File::from(OwnedFd::from(reader)), Stdio::from(writer)))
}
