//! Slurm, by its own commands: sbatch(1), squeue(1), scancel(1).

use std::collections::HashMap;
use std::io::Write;
use std::path::PathBuf;
use std::process::Command;
use std::process::Stdio;

use crate::executor::cluster::scheduler::Allocation;
use crate::executor::cluster::scheduler::AllocationId;
use crate::executor::cluster::scheduler::AllocationState;
use crate::executor::cluster::scheduler::BatchScheduler;
use crate::executor::cluster::scheduler::SubmitError;

/// The scheduler of one cluster.
#[derive(Clone, Debug, Default)]
pub struct Slurm {
    /// Its configuration (`SLURM_CONF`), where it is not the machine's own.
    pub configuration: Option<PathBuf>,
}

/// Reasons to wait that do not pass by themselves: the squeue(1) manual names them.
const NEVER: [&str; 10] = [
    "PartitionConfig",
    "PartitionNodeLimit",
    "PartitionTimeLimit",
    "BadConstraints",
    "InvalidAccount",
    "InvalidQOS",
    "AccountNotAllowed",
    "JobHeldAdmin",
    "JobHeldUser",
    "MaxMemPerLimit",
];

/// What the commands say when the controller does not answer.
const AWAY: [&str; 4] = [
    "Unable to contact slurm controller",
    "Socket timed out",
    "Connection refused",
    "Transport endpoint",
];

impl Slurm {
    fn command(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        if let Some(configuration) = &self.configuration {
            command.env("SLURM_CONF", configuration);
        }
        command.stdin(Stdio::null());
        command
    }

    fn run(mut command: Command, input: &str) -> Result<String, String> {
        let program = command.get_program().to_string_lossy().into_owned();
        let said = |error: &std::io::Error| format!("`{program}` can't be run: {error}");
        command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().map_err(|error| said(&error))?;
        if let Some(mut stdin) = child.stdin.take() {
            // One that does not read it says why it ended.
            let _ = stdin.write_all(input.as_bytes());
        }
        let output = child.wait_with_output().map_err(|error| said(&error))?;
        if output.status.success() {
            return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
        }
        let error = String::from_utf8_lossy(&output.stderr);
        let line = error
            .lines()
            .find(|line| !line.trim().is_empty())
            .unwrap_or("it says nothing");
        Err(format!(
            "{program}: {}",
            line.trim_start_matches("sbatch: error: ").trim()
        ))
    }
}

impl BatchScheduler for Slurm {
    fn name(&self) -> &'static str {
        "slurm"
    }

    fn submit(&self, allocation: &Allocation) -> Result<AllocationId, SubmitError> {
        let mut command = self.command("sbatch");
        command
            .arg("--parsable")
            .arg(format!("--job-name={}", allocation.name))
            .arg("--nodes=1")
            .arg("--ntasks=1")
            .arg(format!("--cpus-per-task={}", allocation.cores))
            .arg(format!("--time={}", allocation.minutes.max(1)))
            .arg(format!("--output={}", allocation.output))
            .arg("--open-mode=append")
            .arg("--no-requeue")
            .arg("--export=ALL");
        if let Some(memory) = allocation.memory {
            command.arg(format!("--mem={memory}M"));
        }
        command.args(&allocation.options);
        command.envs(allocation.env.iter().map(|(name, value)| (name, value)));
        let said = Self::run(command, &allocation.script).map_err(|error| {
            match AWAY.iter().any(|words| error.contains(words)) {
                true => SubmitError::Away(error),
                false => SubmitError::Refused(error),
            }
        })?;
        let id = said.trim().split(';').next().unwrap_or("").to_owned();
        if id.is_empty() {
            return Err(SubmitError::Refused("sbatch: it gave no number".to_owned()));
        }
        Ok(id)
    }

    fn ask(&self, name: &str) -> Result<HashMap<AllocationId, AllocationState>, String> {
        let mut command = self.command("squeue");
        command.args(["--noheader", "--states=all", "--format=%i|%T|%r"]);
        command.arg(format!("--name={name}"));
        let said = Self::run(command, "")?;
        let states = said.lines().filter_map(|line| {
            let mut fields = line.split('|').map(str::trim);
            let (id, state, reason) = (fields.next()?, fields.next()?, fields.next()?);
            Some((id.to_owned(), state_of(state, reason)))
        });
        Ok(states.collect())
    }

    fn cancel(&self, name: &str) -> Result<(), String> {
        let mut command = self.command("scancel");
        command.arg(format!("--name={name}"));
        Self::run(command, "").map(|_| ())
    }
}

fn state_of(state: &str, reason: &str) -> AllocationState {
    match state {
        "PENDING" if NEVER.contains(&reason) => AllocationState::Never(reason.to_owned()),
        "PENDING" | "CONFIGURING" | "REQUEUED" | "REQUEUE_HOLD" | "RESV_DEL_HOLD" => {
            AllocationState::Waiting(reason.to_owned())
        }
        "RUNNING" | "COMPLETING" | "SUSPENDED" | "STOPPED" | "SIGNALING" | "STAGE_OUT" => {
            AllocationState::Running
        }
        ended => AllocationState::Ended(match reason {
            "None" | "" => ended.to_lowercase(),
            reason => format!("{}, {reason}", ended.to_lowercase()),
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn states_are_told_apart() {
        for (state, reason, expected) in [
            (
                "PENDING",
                "Resources",
                AllocationState::Waiting("Resources".to_owned()),
            ),
            (
                "PENDING",
                "PartitionTimeLimit",
                AllocationState::Never("PartitionTimeLimit".to_owned()),
            ),
            ("RUNNING", "None", AllocationState::Running),
            (
                "TIMEOUT",
                "TimeLimit",
                AllocationState::Ended("timeout, TimeLimit".to_owned()),
            ),
            (
                "NODE_FAIL",
                "None",
                AllocationState::Ended("node_fail".to_owned()),
            ),
        ] {
            assert_eq!(state_of(state, reason), expected);
        }
    }
}
