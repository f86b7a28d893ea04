//! The side that runs jobs on a node of a cluster. It is begun by the cluster's scheduler, and told by its environment what
//! it needs to know: nothing that is nobody's business stands on a command line.

use std::ffi::OsString;
use std::path::PathBuf;
use std::process::ExitCode;

use handloom_core::executor::cluster::worker::WorkerOptions;
use handloom_core::executor::cluster::worker::serve;

use crate::arguments::Common;
use crate::failure;
use crate::signals::Signals;
use crate::ui::Ui;

/// Carries it out, when this is what was begun.
pub fn run(typed: &[OsString]) -> Option<ExitCode> {
    let is_worker = typed.len() == 2 && typed[1] == "worker";
    let token = std::env::var("HANDLOOM_WORKER_TOKEN")
        .ok()
        .filter(|_| is_worker)?;
    let var = |name: &str| std::env::var(format!("HANDLOOM_WORKER_{name}")).unwrap_or_default();
    let first = |names: &[&str]| names.iter().find_map(|name| std::env::var(name).ok());
    let node = first(&["SLURMD_NODENAME", "HOSTNAME"]).unwrap_or_default();
    let options = WorkerOptions {
        addresses: var("ADDRESS").split(',').map(str::to_owned).collect(),
        token,
        root: PathBuf::from(var("ROOT")),
        scratch: PathBuf::from(var("SCRATCH")),
        mark: var("MARK"),
        allocation: first(&["SLURM_JOB_ID", "JOB_ID"]).unwrap_or_default(),
        cores: var("CORES").parse().unwrap_or(1),
        order: var("ORDER").parse().unwrap_or(0),
        node,
    };
    let signals = Signals::heed();
    let mut aim = None;
    let served = serve(&options, |control| aim = Some(signals.aim(control, None)));
    drop(aim);
    Some(match served {
        Ok(()) => ExitCode::from(failure::DONE),
        Err(error) => {
            Ui::new(&Common::default()).say(&format!("this worker ends: {error}\n"));
            ExitCode::from(failure::BROKEN)
        }
    })
}
