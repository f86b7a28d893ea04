//! Slurm, by its own commands: sbatch(1), squeue(1), scancel(1).

use std::collections::HashMap;
use std::path::PathBuf;
use std::process::Command;

use crate::executor::cluster::commands::output_of;
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
        command
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
        let said = output_of(command, &allocation.script).map_err(|failed| {
            let is_away = AWAY.iter().any(|words| failed.says(words));
            let error = failed
                .in_words()
                .replace("sbatch: sbatch: error: ", "sbatch: ");
            match is_away {
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
        let said = output_of(command, "").map_err(|failed| failed.in_words())?;
        let states = said.lines().filter_map(|line| {
            let mut fields = line.split('|').map(str::trim);
            let (id, state, reason) = (fields.next()?, fields.next()?, fields.next()?);
            Some((id.to_owned(), state_of(state, reason)))
        });
        Ok(states.collect())
    }

    fn id_in_paths(&self) -> &'static str {
        "%j"
    }

    fn literal_in_paths(&self, path: &str) -> Option<String> {
        // A backslash would make all of the path literal, the number too.
        (!path.contains('\\')).then(|| path.replace('%', "%%"))
    }

    fn cancel_one(&self, id: &AllocationId) -> Result<(), String> {
        let mut command = self.command("scancel");
        command.arg(id);
        output_of(command, "")
            .map(drop)
            .map_err(|failed| failed.in_words())
    }

    fn cancel(&self, name: &str) -> Result<(), String> {
        let mut command = self.command("scancel");
        command.arg(format!("--name={name}"));
        output_of(command, "")
            .map(drop)
            .map_err(|failed| failed.in_words())
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
