//! `[place.NAME]` in the user's settings, `setting place.NAME.KEY = WORDS` in a description: where else jobs can run.

use std::path::PathBuf;
use std::time::Duration;

use serde::Deserialize;

use crate::executor::cluster::Allocation;
use crate::executor::cluster::BatchScheduler;
use crate::executor::cluster::grid_engine::GridEngine;
use crate::executor::cluster::slurm::Slurm;
use crate::project::amount_of;
use crate::scheduler::PlaceSupply;
use crate::text::duration;
use crate::world::ByteSize;

/// What `--on` calls the machine where it is typed.
pub const HERE: &str = "here";

/// What a place says that is said nowhere else.
const CORES: u64 = 1;
const MOST: usize = 4;
const TIME: Duration = Duration::from_secs(3600);
const IDLE: Duration = Duration::from_secs(60);
const SINGLE: Duration = Duration::from_secs(600);
const SETTLE: Duration = Duration::from_secs(30);
const PARALLEL: &str = "smp";

/// More cores and workers than this no place has.
const LARGEST: usize = 4096;

/// A place. What it does not say is as [`PlaceSettings::cores`] and the others give it.
#[derive(Clone, Debug, Default, Deserialize, PartialEq, Eq)]
#[serde(deny_unknown_fields)]
pub struct PlaceSettings {
    /// Its scheduler.
    pub scheduler: Option<SchedulerKind>,
    /// The scheduler's configuration, where it is not the machine's own.
    pub configuration: Option<PathBuf>,
    /// Cores of one worker.
    cores: Option<u64>,
    /// Workers at once, at most.
    most: Option<usize>,
    /// How long a worker may last.
    time: Option<String>,
    /// A worker that has had nothing to do for so long leaves.
    idle: Option<String>,
    /// A step that takes longer is submitted on its own.
    single: Option<String>,
    /// What one machine has written is waited for so long on another.
    settle: Option<String>,
    /// Memory of one worker, such as `4G`.
    memory: Option<String>,
    /// Further words for the scheduler.
    options: Option<Vec<String>>,
    /// The parallel environment that gives slots of one host (Grid Engine).
    parallel: Option<String>,
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
    /// Grid Engine.
    GridEngine,
}

impl SchedulerKind {
    const ALL: [Self; 2] = [Self::Slurm, Self::GridEngine];

    fn name(self) -> &'static str {
        match self {
            Self::Slurm => "slurm",
            Self::GridEngine => "gridengine",
        }
    }
}

/// What a project may say of a place, and what each may be. Where things are on a user's machine is theirs to say.
pub const PLACE_KEYS: [(&str, &str); 10] = [
    ("scheduler", "`slurm` or `gridengine`"),
    ("cores", "a number from 1 to 4096"),
    ("most", "a number of workers from 1 to 4096"),
    ("time", "a time such as `30m`"),
    ("idle", "a time such as `1m`"),
    ("single", "a time such as `10m`"),
    ("settle", "a time such as `30s`"),
    ("memory", "an amount such as `4G`"),
    ("options", "words for the scheduler"),
    ("parallel", "a name"),
];

/// What only the user may say of a place.
pub const OWN_PLACE_KEYS: [&str; 3] = ["configuration", "address", "worker"];

impl PlaceSettings {
    /// Sets one of [`PLACE_KEYS`]; whether it may be this.
    pub fn set(&mut self, key: &str, text: &str, words: &[String]) -> bool {
        let time = || duration(text).map(|_| text.to_owned());
        let fits = |count: usize| (1..=LARGEST).contains(&count);
        match key {
            "scheduler" => {
                let mut kinds = SchedulerKind::ALL.into_iter();
                self.scheduler = kinds.find(|kind| kind.name() == text);
            }
            "cores" => {
                let cores = text.parse().ok().filter(|cores| fits(*cores));
                self.cores = cores.map(|cores| cores as u64);
            }
            "most" => self.most = text.parse().ok().filter(|most| fits(*most)),
            "time" => self.time = time(),
            "idle" => self.idle = time(),
            "single" => self.single = time(),
            "settle" => self.settle = time(),
            "memory" => self.memory = amount_of("memory", text).map(|_| text.to_owned()),
            "options" => self.options = Some(words.to_vec()),
            "parallel" => self.parallel = (words.len() == 1).then(|| text.to_owned()),
            _ => {}
        }
        self.text(key).is_some()
    }

    /// One of [`PLACE_KEYS`] as a text; none when it is not set.
    #[must_use]
    pub fn text(&self, key: &str) -> Option<String> {
        match key {
            "scheduler" => self.scheduler.map(|kind| kind.name().to_owned()),
            "cores" => self.cores.map(|cores| cores.to_string()),
            "most" => self.most.map(|most| most.to_string()),
            "time" => self.time.clone(),
            "idle" => self.idle.clone(),
            "single" => self.single.clone(),
            "settle" => self.settle.clone(),
            "memory" => self.memory.clone(),
            "options" => self.options.as_ref().map(|options| options.join(" ")),
            "parallel" => self.parallel.clone(),
            _ => None,
        }
    }

    /// These settings, and those of `other` where these say nothing.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self {
            scheduler: self.scheduler.or(other.scheduler),
            configuration: self.configuration.or(other.configuration),
            cores: self.cores.or(other.cores),
            most: self.most.or(other.most),
            time: self.time.or(other.time),
            idle: self.idle.or(other.idle),
            single: self.single.or(other.single),
            settle: self.settle.or(other.settle),
            memory: self.memory.or(other.memory),
            options: self.options.or(other.options),
            parallel: self.parallel.or(other.parallel),
            address: self.address.or(other.address),
            worker: self.worker.or(other.worker),
        }
    }

    /// What is wrong with it, as it is written in the settings, and what to write.
    #[must_use]
    pub fn wrong(&self) -> Option<(String, &'static str)> {
        PLACE_KEYS.into_iter().find_map(|(key, wanted)| {
            let text = self.text(key)?;
            let words: Vec<String> = text.split(' ').map(str::to_owned).collect();
            let is_fine = key == "options" || Self::default().set(key, &text, &words);
            let is_number = matches!(key, "cores" | "most");
            let shown = match is_number {
                true => format!("{key} = {text}"),
                false => format!("{key} = \"{text}\""),
            };
            (!is_fine).then_some((shown, wanted))
        })
    }

    /// Cores of one worker.
    #[must_use]
    pub fn cores(&self) -> u64 {
        self.cores.unwrap_or(CORES)
    }

    /// Workers at once, at most.
    #[must_use]
    pub fn most(&self) -> usize {
        self.most.unwrap_or(MOST)
    }

    /// Jobs at once, when all workers are there.
    #[must_use]
    pub fn slots(&self) -> usize {
        let cores = usize::try_from(self.cores()).unwrap_or(1);
        cores.saturating_mul(self.most())
    }

    /// How much it has, for those that name it.
    #[must_use]
    pub fn supply(&self, name: &str) -> PlaceSupply {
        PlaceSupply {
            name: name.to_owned(),
            cores: self.slots().min(LARGEST),
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
        ByteSize(one.map_or(u64::MAX, |one| one.saturating_mul(self.most() as u64)))
    }

    /// How long a worker may have nothing to do.
    #[must_use]
    pub fn idle(&self) -> Duration {
        self.idle.as_deref().and_then(duration).unwrap_or(IDLE)
    }

    /// A step that takes longer is submitted on its own.
    #[must_use]
    pub fn single(&self) -> Duration {
        self.single.as_deref().and_then(duration).unwrap_or(SINGLE)
    }

    /// How long what one machine has written is waited for on another.
    #[must_use]
    pub fn settle(&self) -> Duration {
        self.settle.as_deref().and_then(duration).unwrap_or(SETTLE)
    }

    /// What a worker is asked for with.
    #[must_use]
    pub fn allocation(&self) -> Allocation {
        let time = self.time.as_deref().and_then(duration).unwrap_or(TIME);
        let memory = self.memory.as_deref();
        Allocation {
            cores: self.cores(),
            memory: memory
                .and_then(|memory| amount_of("memory", memory))
                .map(|bytes| bytes.div_ceil(1 << 20)),
            minutes: time.as_secs().div_ceil(60),
            options: self.options.clone().unwrap_or_default(),
            ..Allocation::default()
        }
    }

    /// Who is asked; none when it is not said.
    #[must_use]
    pub fn batch_scheduler(&self) -> Option<Box<dyn BatchScheduler>> {
        Some(match self.scheduler? {
            SchedulerKind::Slurm => Box::new(Slurm {
                configuration: self.configuration.clone(),
            }),
            SchedulerKind::GridEngine => Box::new(GridEngine {
                configuration: self.configuration.clone(),
                parallel: self.parallel.clone().unwrap_or_else(|| PARALLEL.to_owned()),
            }),
        })
    }
}
