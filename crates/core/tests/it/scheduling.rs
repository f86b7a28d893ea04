//! Which jobs run side by side: in a made-up place that watches them, and that makes some wait for others.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::sync::Condvar;
use std::sync::Mutex;
use std::time::Duration;

use proptest::prelude::*;

use handloom_core::executor::CancelToken;
use handloom_core::executor::Executor;
use handloom_core::executor::Exit;
use handloom_core::executor::Job;
use handloom_core::executor::Outcome;
use handloom_core::graph::BuildRequest;
use handloom_core::ledger::Ledger;
use handloom_core::project::Description;
use handloom_core::project::environment::Overrides;
use handloom_core::project::overrides::SetOutside;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::Session;
use handloom_core::scheduler::Summary;
use handloom_core::status::RecordingEnvironment;
use handloom_core::world::SystemClock;

use crate::made_up::Machine;

const GIB: u64 = 1 << 30;
const MEMORY: u64 = 2 * GIB;
const GPUS: u64 = 2;

/// What a step takes: cores, memory in GiB, gpus.
#[derive(Clone, Copy, Debug)]
struct Takes(u64, u64, u64);

#[derive(Clone, Debug)]
struct StepModel {
    needs: BTreeSet<usize>,
    takes: Takes,
    fails: bool,
    /// How long it takes, a tenth of a millisecond each.
    length: u64,
}

/// What is seen while jobs run.
#[derive(Default)]
struct Watched {
    running: BTreeMap<String, usize>,
    ended: BTreeSet<String>,
    /// Names in the order in which they began.
    began: Vec<String>,
    wrong: Vec<String>,
    most: usize,
}

/// A place in which everything that runs at once is known.
struct Gym<'g> {
    machine: &'g Machine,
    jobs: usize,
    steps: &'g [StepModel],
    /// A job that is named here only ends once these began.
    waits: BTreeMap<String, Vec<String>>,
    /// The run is asked to end when so many began.
    stop_after: Option<usize>,
    watched: Mutex<Watched>,
    changed: Condvar,
}

fn number(name: &str) -> usize {
    name.trim_start_matches('s').parse().unwrap()
}

impl<'g> Gym<'g> {
    fn new(machine: &'g Machine, steps: &'g [StepModel], jobs: usize) -> Self {
        Self {
            machine,
            jobs,
            steps,
            waits: BTreeMap::new(),
            stop_after: None,
            watched: Mutex::default(),
            changed: Condvar::new(),
        }
    }

    fn begin(&self, job: &Job) {
        let mut watched = self.watched.lock().unwrap();
        let name = &job.name;
        let step = &self.steps[number(name)];
        for need in &step.needs {
            if !watched.ended.contains(&format!("s{need}")) {
                watched
                    .wrong
                    .push(format!("{name} began before s{need} had ended"));
            }
        }
        if let Some(other) = watched.running.iter().find(|(_, slot)| **slot == job.slot) {
            let text = format!("{name} began in the slot of {}", other.0);
            watched.wrong.push(text);
        }
        if watched.began.contains(name) {
            watched.wrong.push(format!("{name} began twice"));
        }
        watched.running.insert(name.clone(), job.slot);
        watched.began.push(name.clone());
        watched.most = watched.most.max(watched.running.len());
        let sum = |part: &dyn Fn(Takes) -> u64| -> u64 {
            let running = watched.running.keys();
            running
                .map(|name| part(self.steps[number(name)].takes))
                .sum()
        };
        let jobs = self.jobs as u64;
        // More cores or memory than there are means all of them.
        let (cores, memory, gpus) = (
            sum(&|takes| takes.0.min(jobs)),
            sum(&|takes| takes.1 * GIB),
            sum(&|takes| takes.2),
        );
        if cores > jobs || memory > MEMORY || gpus > GPUS {
            let text = format!(
                "{cores} cores, {memory} bytes, {gpus} gpus: {:?}",
                watched.running
            );
            watched.wrong.push(text);
        }
        self.changed.notify_all();
    }
}

impl Executor for Gym<'_> {
    fn run(&self, job: &Job, stop: &CancelToken, heard: &mut dyn FnMut(&[u8])) -> Outcome {
        self.begin(job);
        if self.stop_after == Some(self.watched.lock().unwrap().began.len()) {
            stop.raise(2);
        }
        let step = &self.steps[number(&job.name)];
        std::thread::sleep(Duration::from_micros(100 * step.length));
        let watched = self.watched.lock().unwrap();
        let others = self.waits.get(&job.name).cloned().unwrap_or_default();
        let missing =
            |watched: &mut Watched| others.iter().any(|name| !watched.began.contains(name));
        let limit = Duration::from_secs(20);
        let (watched, waited) = self
            .changed
            .wait_timeout_while(watched, limit, missing)
            .unwrap();
        drop(watched);
        let outcome = if step.fails || waited.timed_out() {
            Outcome::silent(Exit::Status(1))
        } else {
            self.machine.run(job, stop, heard)
        };
        let mut watched = self.watched.lock().unwrap();
        watched.running.remove(&job.name);
        if !step.fails {
            watched.ended.insert(job.name.clone());
        }
        outcome
    }
}

fn loom(steps: &[StepModel]) -> String {
    let mut loom = format!("supply gpu = {GPUS}\n");
    for (index, step) in steps.iter().enumerate() {
        let needs: Vec<String> = step.needs.iter().map(|need| format!("s{need}")).collect();
        let Takes(cores, memory, gpus) = step.takes;
        let mut uses = format!("cores={cores}");
        if memory > 0 {
            uses += &format!(" memory={memory}G");
        }
        if gpus > 0 {
            uses += &format!(" gpu={gpus}");
        }
        loom += &format!(
            "target s{index}\n  needs source {}\n  uses {uses}\n  recipe: whole {index}\n",
            needs.join(" ")
        );
    }
    loom
}

fn machine(steps: &[StepModel]) -> Machine {
    Machine::with(&BTreeMap::from([
        ("hand.loom".to_owned(), loom(steps).into_bytes()),
        ("source".to_owned(), b"s".to_vec()),
    ]))
}

/// Weaves everything; what ended, and the sums.
fn weave(gym: &Gym<'_>, keep_going: bool) -> (BTreeMap<String, Ended>, Summary) {
    let machine = gym.machine;
    let (ledger, _) = Ledger::open(machine.storage(), true).unwrap();
    let ledger = RefCell::new(ledger);
    let env = |_: &str| None;
    let environment =
        RecordingEnvironment::new(machine, machine, &ledger, &env, None, "/project".to_owned())
            .with_key(Some([7; 32]));
    let (mut description, wrong) = Description::read(machine);
    assert!(wrong.is_empty(), "{wrong:?}");
    let (outside, _) = SetOutside::read(&mut description, &Overrides::default(), &environment);
    let options = BuildOptions {
        jobs: gym.jobs,
        threads: 1,
        keep_going,
        remake: false,
        memory: MEMORY,
        live: false,
        keep_old: true,
        run: None,
    };
    let mut endings: BTreeMap<String, Ended> = BTreeMap::new();
    let mut observer = |event: Event| {
        if let Event::Ended(job) = event {
            let before = endings.insert(job.step.clone(), *job);
            assert!(before.is_none(), "it ended twice");
        }
    };
    let (stop, clock) = (CancelToken::default(), SystemClock::default());
    let mut session = Session::new(
        machine,
        &clock,
        gym,
        &stop,
        &ledger,
        &environment,
        options,
        &mut observer,
    );
    let summary = session.weave(&description, &outside, &BuildRequest::default());
    drop(session);
    (endings, summary.unwrap())
}

fn steps() -> impl Strategy<Value = Vec<StepModel>> {
    let takes =
        (1u64..4, 0u64..3, 0u64..3).prop_map(|(cores, memory, gpus)| Takes(cores, memory, gpus));
    let takes = prop_oneof![2 => Just(Takes(1, 0, 0)), 1 => takes];
    let needs = proptest::collection::vec(any::<proptest::sample::Index>(), 0..3);
    let step = (needs, takes, proptest::bool::weighted(0.1), 0u64..8);
    proptest::collection::vec(step, 1..16).prop_map(|steps| {
        let steps = steps.into_iter().enumerate();
        steps
            .map(|(number, (needs, takes, fails, length))| StepModel {
                needs: match number {
                    0 => BTreeSet::new(),
                    _ => needs.iter().map(|need| need.index(number)).collect(),
                },
                takes,
                fails,
                length,
            })
            .collect()
    })
}

/// Those that fail, and those that wait for one of them.
fn behind_failures(steps: &[StepModel]) -> (BTreeSet<usize>, BTreeSet<usize>) {
    let (mut fail, mut held) = (BTreeSet::new(), BTreeSet::new());
    for (number, step) in steps.iter().enumerate() {
        if step
            .needs
            .iter()
            .any(|need| fail.contains(need) || held.contains(need))
        {
            held.insert(number);
        } else if step.fails {
            fail.insert(number);
        }
    }
    (fail, held)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 250, failure_persistence: None, ..ProptestConfig::default() })]

    /// Never more than there is of anything, never before what comes first, each once; and a failure holds
    /// what waits for it and nothing else.
    #[test]
    fn jobs_keep_to_order_and_supplies(steps in steps(), jobs in 1usize..5, keep_going in any::<bool>()) {
        let machine = machine(&steps);
        let gym = Gym::new(&machine, &steps, jobs);
        let (ended, summary) = weave(&gym, keep_going);
        longest_ways(&steps, &ended)?;
        let endings = endings_of(&ended);
        let watched = gym.watched.into_inner().unwrap();
        prop_assert!(watched.wrong.is_empty(), "{:?}", watched.wrong);
        prop_assert!(watched.most <= jobs);
        let (fail, held) = behind_failures(&steps);
        let expected = |number: &usize| match (fail.contains(number), held.contains(number)) {
            (true, _) => Ending::Failed,
            (_, true) => Ending::Held,
            _ => Ending::Made,
        };
        let all: BTreeMap<String, Ending> =
            (0..steps.len()).map(|number| (format!("s{number}"), expected(&number))).collect();
        if keep_going || fail.is_empty() {
            prop_assert_eq!(&endings, &all);
            prop_assert_eq!(summary.failed, fail.len());
            prop_assert_eq!(summary.held, held.len());
        } else {
            // What had not begun is not run any more; what ran ended as it had to.
            prop_assert!(summary.failed >= 1);
            for (step, ending) in &endings {
                if *ending != Ending::Held {
                    prop_assert_eq!(ending, &all[step], "{}", step);
                }
            }
        }
        // What was made is not made again, and what failed is tried again.
        let calm: Vec<StepModel> =
            steps.iter().map(|step| StepModel { fails: false, ..step.clone() }).collect();
        let again = Gym::new(&machine, &calm, jobs);
        for (step, ending) in &endings {
            if *ending == Ending::Made {
                again.watched.lock().unwrap().ended.insert(step.clone());
            }
        }
        let (second, _) = weave(&again, keep_going);
        let watched = again.watched.into_inner().unwrap();
        prop_assert!(watched.wrong.is_empty(), "{:?}", watched.wrong);
        for step in all.keys() {
            let before = endings.get(step) == Some(&Ending::Made);
            prop_assert_eq!(!second.contains_key(step), before, "{}", step);
        }
    }
}

fn endings_of(ended: &BTreeMap<String, Ended>) -> BTreeMap<String, Ending> {
    let endings = ended.iter();
    endings
        .map(|(step, job)| (step.clone(), job.ending))
        .collect()
}

/// Each job names the last one of the longest way to it, so that nothing else took longer together.
fn longest_ways(steps: &[StepModel], ended: &BTreeMap<String, Ended>) -> Result<(), TestCaseError> {
    let mut way: Vec<f64> = Vec::new();
    for (number, step) in steps.iter().enumerate() {
        let before = step.needs.iter().map(|need| way[*need]);
        let longest = before.fold(0.0, f64::max);
        let Some(job) = ended
            .get(&format!("s{number}"))
            .filter(|job| job.exit.is_some())
        else {
            way.push(longest);
            continue;
        };
        let named = job.after.as_deref().map(self::number);
        let direct: Vec<usize> = step.needs.iter().copied().collect();
        prop_assert_eq!(named.is_none(), direct.is_empty(), "{}", number);
        if let Some(named) = named {
            prop_assert!(direct.contains(&named));
            prop_assert!(
                (way[named] - longest).abs() < 1e-9,
                "s{number} after s{named}"
            );
        }
        way.push(longest + job.seconds);
    }
    Ok(())
}

fn plain(needs: &[usize], takes: Takes) -> StepModel {
    StepModel {
        needs: needs.iter().copied().collect(),
        takes,
        fails: false,
        length: 0,
    }
}

/// While jobs are short, slots are handed their next ones ahead; after a failure they do not begin them, and
/// another one begins them later, once.
#[test]
fn failures_among_short_jobs_run_nothing_twice() {
    let mut steps: Vec<StepModel> = (0..60).map(|_| plain(&[], Takes(1, 0, 0))).collect();
    for step in steps[10..].iter_mut().step_by(3) {
        step.fails = true;
    }
    for round in 0..40 {
        let machine = machine(&steps);
        let gym = Gym::new(&machine, &steps, 1 + round % 3);
        let (ended, summary) = weave(&gym, true);
        let watched = gym.watched.into_inner().unwrap();
        assert_eq!(watched.wrong, [] as [String; 0]);
        assert_eq!((ended.len(), summary.failed), (60, 17));
        assert_eq!(watched.began.len(), 60);
    }
}

/// What had been handed ahead when the run was asked to end did not begin, and nothing says that it did.
#[test]
fn a_stop_among_short_jobs_leaves_no_mark_on_what_never_began() {
    let steps: Vec<StepModel> = (0..60).map(|_| plain(&[], Takes(1, 0, 0))).collect();
    for round in 0..40 {
        let machine = machine(&steps);
        let mut gym = Gym::new(&machine, &steps, 1 + round % 3);
        gym.stop_after = Some(10 + round);
        let (first, _) = weave(&gym, false);
        let began = gym.watched.into_inner().unwrap();
        assert_eq!(began.wrong, [] as [String; 0]);
        assert!(began.began.len() >= 10 + round && began.began.len() <= 14 + round);
        let gym = Gym::new(&machine, &steps, 2);
        let (second, _) = weave(&gym, false);
        for number in 0..60 {
            let name = format!("s{number}");
            let made = first
                .get(&name)
                .is_some_and(|job| job.ending == Ending::Made);
            assert_eq!(made, began.began.contains(&name), "{name}");
            let again: Option<Vec<&str>> = second.get(&name).map(|job| {
                let reasons = job.reasons.iter();
                reasons.map(|reason| reason.kind.name()).collect()
            });
            let expected = (!made).then(|| vec!["never-made"]);
            assert_eq!(again, expected, "{name}");
        }
    }
}

/// As many as may run at once do: each of them only ends when all of them began.
#[test]
fn independent_steps_run_side_by_side() {
    for jobs in 1..=6 {
        let steps: Vec<StepModel> = (0..jobs).map(|_| plain(&[], Takes(1, 0, 0))).collect();
        let machine = machine(&steps);
        let mut gym = Gym::new(&machine, &steps, jobs);
        let all: Vec<String> = (0..jobs).map(|number| format!("s{number}")).collect();
        gym.waits = all.iter().map(|name| (name.clone(), all.clone())).collect();
        let endings = endings_of(&weave(&gym, false).0);
        assert!(
            endings.values().all(|ending| *ending == Ending::Made),
            "{endings:?}"
        );
        assert_eq!(gym.watched.into_inner().unwrap().most, jobs);
    }
}

/// A step that has to wait for a supply holds up nobody who does not want it, however long its own way is.
#[test]
fn who_waits_for_a_supply_holds_nobody_up() {
    let gpu = Takes(1, 0, 2);
    // The second begins a long way and wants what the first has; the third and fourth want nothing.
    let steps = [
        plain(&[], gpu),
        plain(&[], gpu),
        plain(&[], Takes(1, 0, 0)),
        plain(&[2], Takes(1, 0, 0)),
        plain(&[1], Takes(1, 0, 0)),
        plain(&[4], Takes(1, 0, 0)),
    ];
    let machine = machine(&steps);
    let mut gym = Gym::new(&machine, &steps, 2);
    // Whichever of the two has the gpus only ends when the others ran.
    let others = vec!["s2".to_owned(), "s3".to_owned()];
    gym.waits = BTreeMap::from([("s0".to_owned(), others.clone()), ("s1".to_owned(), others)]);
    let endings = endings_of(&weave(&gym, false).0);
    assert!(
        endings.values().all(|ending| *ending == Ending::Made),
        "{endings:?}"
    );
}

/// With one job at a time the longest way goes first: the most steps while nobody knows how long each
/// takes, and the longest time once that is known.
#[test]
fn the_longest_way_goes_first() {
    let one = Takes(1, 0, 0);
    let mut steps = [
        plain(&[], one),
        plain(&[], one),
        plain(&[1], one),
        plain(&[2], one),
    ];
    steps[0].length = 3000;
    let machine = machine(&steps);
    for first in ["s1", "s0"] {
        let gym = Gym::new(&machine, &steps, 1);
        let endings = endings_of(&weave(&gym, false).0);
        assert_eq!(endings.len(), 4);
        assert_eq!(gym.watched.into_inner().unwrap().began[0], first);
        machine.pass(1_000_000_000);
        machine.write_now("source", b"t");
    }
}
