//! A scheduler's own commands.

use std::io::Write;
use std::process::Command;
use std::process::Stdio;

/// A command that failed.
#[derive(Debug)]
pub struct Failed {
    program: String,
    /// Its lines.
    said: String,
}

impl Failed {
    /// Whether it said so.
    pub fn says(&self, words: &str) -> bool {
        self.said.contains(words)
    }

    /// The first line that it said, behind its name.
    pub fn in_words(&self) -> String {
        let mut lines = self.said.lines().map(str::trim);
        let line = lines.find(|line| !line.is_empty());
        format!("{}: {}", self.program, line.unwrap_or("it says nothing"))
    }
}

/// What a command prints that is given this.
///
/// # Errors
/// It can't be run, or fails.
pub fn output_of(mut command: Command, input: &str) -> Result<String, Failed> {
    let program = command.get_program().to_string_lossy().into_owned();
    let failed = |said: String| Failed {
        program: program.clone(),
        said,
    };
    let not_run = |error: &std::io::Error| failed(format!("it can't be run: {error}"));
    command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = command.spawn().map_err(|error| not_run(&error))?;
    if let Some(mut stdin) = child.stdin.take() {
        // One that does not read it says why it ended.
        let _ = stdin.write_all(input.as_bytes());
    }
    let output = child.wait_with_output().map_err(|error| not_run(&error))?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    // Most say what is wrong where errors belong, some do not.
    let said = [&output.stderr, &output.stdout].map(|text| String::from_utf8_lossy(text));
    Err(failed(said.join("\n")))
}
