//! The places jobs run in. [`LocalExecutor`](crate::executor::local::LocalExecutor) is this machine; tests bring a
//! made-up one.

use std::time::Duration;

use crate::executor::cancel::CancelToken;
use crate::executor::capture::Printed;
use crate::executor::exit::Exit;

/// A script to run, with everything it needs.
#[derive(Clone, Debug)]
pub struct Job {
    /// The step's or task's name.
    pub name: String,
    /// The interpreter's words.
    pub interpreter: Vec<String>,
    /// Whether the interpreter is a shell, which takes a short script as an argument.
    pub shell: bool,
    /// The script.
    pub script: String,
    /// A shell's positional parameters: the prerequisites.
    pub arguments: Vec<String>,
    /// The folder to run in, from the root.
    pub folder: String,
    /// Environment variables to set; secrets in them are filled in when it is started.
    pub env: Vec<(String, String)>,
    /// Values of secrets, by the environment variable that holds them: taken out of what it prints.
    pub secrets: Vec<(String, String)>,
    /// Facts for `HANDLOOM_JOB`, as JSON.
    pub facts: String,
    /// Which slot it runs in.
    pub slot: usize,
    /// Stopped after so long.
    pub limit: Option<Duration>,
    /// Whether it has the terminal to itself.
    pub terminal: bool,
    /// Where all that it prints is written, from the root.
    pub log: Option<String>,
}

/// How a job went.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// How it ended.
    pub exit: Exit,
    /// What it printed, both streams in order.
    pub output: Printed,
    /// Whether it was ended because the run is stopped.
    pub stopped: bool,
    /// The largest amount of memory any of its processes held, bytes.
    pub memory: u64,
    /// Processor time, nanoseconds.
    pub processor: u64,
    /// The names of programs that were still running when it had ended, and were ended then.
    pub left_behind: Vec<String>,
}

impl Outcome {
    /// A job that ended so, without a word.
    #[must_use]
    pub fn silent(exit: Exit) -> Self {
        Self {
            exit,
            output: Printed::default(),
            stopped: false,
            memory: 0,
            processor: 0,
            left_behind: Vec::new(),
        }
    }
}

/// Something that runs scripts.
pub trait Executor: Sync {
    /// Is told before the first job of a run; after a kill, the next run finds out from what it notes.
    ///
    /// # Errors
    /// When that can't be noted.
    fn prepare(&self) -> std::io::Result<()> {
        Ok(())
    }
    /// Is told when all jobs of a run have ended and everything is where it belongs. Gives the names of
    /// programs that were still running.
    ///
    /// # Errors
    /// When the note can't be taken away.
    fn finish(&self) -> std::io::Result<Vec<String>> {
        Ok(Vec::new())
    }
    /// Runs a job to its end, or until `stop` is raised. Called from several threads at once. `heard`
    /// is given what the job prints as it comes.
    fn run(&self, job: &Job, stop: &CancelToken, heard: &mut dyn FnMut(&[u8])) -> Outcome;
}
