//! `[place.NAME]` in the user's settings: where else jobs can run.

use std::path::PathBuf;
use std::time::Duration;

use serde::Deserialize;

use crate::executor::cluster::Allocation;
use crate::executor::cluster::BatchScheduler;
use crate::executor::cluster::slurm::Slurm;
use crate::project::amount_of;
use crate::scheduler::PlaceSupply;
use crate::text::duration;
use crate::world::ByteSize;

/// What `--on` calls the machine where it is typed.
pub const HERE: &str = "here";

/// A place.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PlaceSettings {
    /// Its scheduler.
    pub scheduler: SchedulerKind,
    /// The scheduler's configuration, where it is not the machine's own.
    pub configuration: Option<PathBuf>,
    /// Cores of one worker.
    #[serde(default = "one")]
    pub cores: u64,
    /// Workers at once, at most.
    #[serde(default = "few")]
    pub most: usize,
    /// How long a worker may last.
    #[serde(default = "hour")]
    pub time: String,
    /// A worker that has had nothing to do for so long leaves.
    #[serde(default = "minute")]
    pub idle: String,
    /// Memory of one worker, such as `4G`.
    pub memory: Option<String>,
    /// Further words for the scheduler.
    #[serde(default)]
    pub options: Vec<String>,
    /// The name that workers find this machine by.
    pub address: Option<String>,
    /// The program that is a worker, as all nodes see it; this one, when it is not said.
    pub worker: Option<String>,
}

/// Which scheduler a place has.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum SchedulerKind {
    /// Slurm.
    Slurm,
}

fn one() -> u64 {
    1
}

fn few() -> usize {
    4
}

fn minute() -> String {
    "1m".to_owned()
}

fn hour() -> String {
    "1h".to_owned()
}

impl PlaceSettings {
    /// What is wrong with it, and what to write.
    #[must_use]
    pub fn wrong(&self) -> Option<(String, &'static str)> {
        let memory = self.memory.as_deref();
        if self.cores == 0 || self.cores > 4096 {
            return Some((format!("cores = {}", self.cores), "a number from 1 to 4096"));
        }
        if self.most == 0 || self.most > 4096 {
            return Some((
                format!("most = {}", self.most),
                "a number of workers from 1 to 4096",
            ));
        }
        if duration(&self.time).is_none() {
            return Some((format!("time = \"{}\"", self.time), "a time such as `30m`"));
        }
        if duration(&self.idle).is_none() {
            return Some((format!("idle = \"{}\"", self.idle), "a time such as `1m`"));
        }
        match memory {
            Some(memory) if amount_of("memory", memory).is_none() => {
                Some((format!("memory = \"{memory}\""), "an amount such as `4G`"))
            }
            _ => None,
        }
    }

    /// Jobs at once, when all workers are there.
    #[must_use]
    pub fn slots(&self) -> usize {
        usize::try_from(self.cores)
            .unwrap_or(1)
            .saturating_mul(self.most)
    }

    /// How much it has, for those that name it.
    #[must_use]
    pub fn supply(&self, name: &str) -> PlaceSupply {
        PlaceSupply {
            name: name.to_owned(),
            cores: self.slots().min(4096),
            memory: self.memory(),
        }
    }

    /// Memory of all workers, when all are there; as much as is wished, when it is not said.
    #[must_use]
    pub fn memory(&self) -> ByteSize {
        let one = self
            .memory
            .as_deref()
            .and_then(|memory| amount_of("memory", memory));
        ByteSize(one.map_or(u64::MAX, |one| one.saturating_mul(self.most as u64)))
    }

    /// How long a worker may have nothing to do.
    #[must_use]
    pub fn idle(&self) -> Duration {
        duration(&self.idle).unwrap_or_default()
    }

    /// What a worker is asked for with.
    #[must_use]
    pub fn allocation(&self) -> Allocation {
        let time = duration(&self.time).unwrap_or(Duration::from_secs(3600));
        let memory = self.memory.as_deref();
        Allocation {
            cores: self.cores,
            memory: memory
                .and_then(|memory| amount_of("memory", memory))
                .map(|bytes| bytes.div_ceil(1 << 20)),
            minutes: time.as_secs().div_ceil(60),
            options: self.options.clone(),
            ..Allocation::default()
        }
    }

    /// Who is asked.
    #[must_use]
    pub fn batch_scheduler(&self) -> Box<dyn BatchScheduler> {
        match self.scheduler {
            SchedulerKind::Slurm => Box::new(Slurm {
                configuration: self.configuration.clone(),
            }),
        }
    }
}
