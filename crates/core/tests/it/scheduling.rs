//! Which jobs run side by side, in which order and when: in a made-up place with a clock of its own, and, where
//! threads matter, on threads. Nothing here sleeps.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::sync::Barrier;
use std::sync::Mutex;
use std::sync::mpsc;
use std::time::Duration;

use proptest::prelude::*;

use handloom_core::executor::CancelToken;
use handloom_core::executor::Executor;
use handloom_core::executor::Exit;
use handloom_core::executor::Job;
use handloom_core::executor::JobRunner;
use handloom_core::executor::Outcome;
use handloom_core::executor::SlotId;
use handloom_core::graph::BuildRequest;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::Ended;
use handloom_core::scheduler::Ending;
use handloom_core::scheduler::Event;
use handloom_core::scheduler::EventHub;
use handloom_core::scheduler::OnFailure;
use handloom_core::scheduler::Summary;
use handloom_core::scheduler::event_channel;
use handloom_core::world::ByteSize;
use handloom_core::world::Clock;
use handloom_core::world::Ticks;

use crate::bed::Bed;
use crate::made_up::Machine;
use crate::simulated::Jobs;
use crate::simulated::Simulated;
use crate::simulated::VirtualClock;

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
    /// How long it takes, milliseconds.
    length: u64,
}

/// What is seen while jobs run.
#[derive(Default)]
struct Watched {
    running: BTreeMap<String, SlotId>,
    ended: BTreeSet<String>,
    /// Names in the order in which they began.
    began: Vec<String>,
    wrong: Vec<String>,
    most: usize,
    /// Nothing new begins: something failed, or the run was asked to end.
    no_more: bool,
}

/// A place in which everything that runs at once is known.
struct Gym<'g> {
    machine: &'g Machine,
    jobs: usize,
    steps: &'g [StepModel],
    on_failure: OnFailure,
    /// The run is asked to end when so many began.
    stop_after: Option<usize>,
    cancel: CancelToken,
    clock: VirtualClock,
    watched: Mutex<Watched>,
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
            on_failure: OnFailure::Stop,
            stop_after: None,
            cancel: CancelToken::default(),
            clock: VirtualClock::default(),
            watched: Mutex::default(),
        }
    }

    fn step(&self, name: &str) -> &StepModel {
        &self.steps[number(name)]
    }

    /// What these steps take together; more cores than there are means all of them.
    fn together<'n>(&self, names: impl Iterator<Item = &'n String>) -> Takes {
        let jobs = self.jobs as u64;
        names.fold(Takes(0, 0, 0), |sum, name| {
            let Takes(cores, memory, gpus) = self.step(name).takes;
            Takes(sum.0 + cores.min(jobs), sum.1 + memory, sum.2 + gpus)
        })
    }

    fn is_within(&self, Takes(cores, memory, gpus): Takes) -> bool {
        cores <= self.jobs as u64 && memory * GIB <= MEMORY && gpus <= GPUS
    }

    fn check_amounts(&self, watched: &mut Watched) {
        let takes = self.together(watched.running.keys());
        if !self.is_within(takes) {
            let text = format!("{takes:?} at once: {:?}", watched.running);
            watched.wrong.push(text);
        }
    }

    /// No slot is empty while a step could begin in it.
    fn check_that_nothing_waits_for_nothing(&self, watched: &mut Watched) {
        if watched.running.len() >= self.jobs || watched.no_more {
            return;
        }
        let ended = &watched.ended;
        let could = (0..self.steps.len()).find(|step| {
            let name = format!("s{step}");
            let mut needs = self.steps[*step].needs.iter();
            !watched.began.contains(&name)
                && !ended.contains(&name)
                && needs.all(|need| ended.contains(&format!("s{need}")))
                && self.is_within(self.together(watched.running.keys().chain([&name])))
        });
        if let Some(step) = could {
            let text = format!("s{step} waits for nothing beside {:?}", watched.running);
            watched.wrong.push(text);
        }
    }
}

impl Jobs for Gym<'_> {
    fn begin(&self, job: &Job) -> Duration {
        let mut watched = self.watched.lock().unwrap();
        let name = &job.name;
        for need in &self.step(name).needs {
            if !watched.ended.contains(&format!("s{need}")) {
                let text = format!("{name} began before s{need} had ended");
                watched.wrong.push(text);
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
        self.check_amounts(&mut watched);
        if self.stop_after == Some(watched.began.len()) {
            self.cancel.raise(2);
            watched.no_more = true;
        }
        Duration::from_millis(self.step(name).length)
    }

    fn end(&self, job: &Job) -> Outcome {
        let step = self.step(&job.name);
        let outcome = if step.fails {
            Outcome::silent(Exit::Status(1))
        } else {
            self.machine.carry_out(job)
        };
        let mut watched = self.watched.lock().unwrap();
        watched.running.remove(&job.name);
        if !step.fails {
            watched.ended.insert(job.name.clone());
        } else if self.on_failure == OnFailure::Stop {
            watched.no_more = true;
        }
        outcome
    }

    fn full(&self) {
        self.check_that_nothing_waits_for_nothing(&mut self.watched.lock().unwrap());
    }
}

/// The same on threads, each job as short as it can be.
struct OnThreads<'g>(&'g Gym<'g>);

impl JobRunner for OnThreads<'_> {
    fn cancel(&self) -> &CancelToken {
        &self.0.cancel
    }

    fn run(&self, job: &Job, _: &mut dyn FnMut(&[u8])) -> Outcome {
        self.0.begin(job);
        self.0.end(job)
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
            "target s{index}\n  needs source {}\n  takes {uses}\n  recipe: whole {index}\n",
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

/// What ended, and the sums.
type Woven = (BTreeMap<String, Ended>, Summary);

fn options(jobs: usize, on_failure: OnFailure) -> BuildOptions {
    BuildOptions {
        jobs,
        on_failure,
        memory: ByteSize(MEMORY),
        ..BuildOptions::default()
    }
}

fn weave_with(gym: &Gym<'_>, executor: &dyn Executor) -> Woven {
    let mut endings: BTreeMap<String, Ended> = BTreeMap::new();
    let bed = Bed {
        machine: gym.machine,
        executor,
        clock: &gym.clock,
        options: options(gym.jobs, gym.on_failure),
    };
    let summary = bed.run(&BuildRequest::default(), |event| {
        if let Event::Ended(job) = event {
            let before = endings.insert(job.step.clone(), (**job).clone());
            assert!(before.is_none(), "it ended twice");
        }
    });
    (endings, summary.unwrap())
}

/// Weaves everything by the made-up clock.
fn weave(gym: &Gym<'_>) -> Woven {
    let place = Simulated {
        jobs: gym,
        clock: &gym.clock,
        cancel: &gym.cancel,
    };
    weave_with(gym, &place)
}

/// Weaves everything on threads.
fn weave_on_threads(gym: &Gym<'_>) -> Woven {
    weave_with(gym, &OnThreads(gym))
}

fn on_failure(goes_on: bool) -> OnFailure {
    if goes_on {
        OnFailure::Continue
    } else {
        OnFailure::Stop
    }
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
    #![proptest_config(ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() })]

    /// Never more than there is of anything, never before what comes first, each once; and a failure holds
    /// what waits for it and nothing else.
    #[test]
    fn jobs_keep_to_order_and_supplies(steps in steps(), jobs in 1usize..5, keep_going in any::<bool>(), threads in any::<bool>()) {
        let machine = machine(&steps);
        let mut gym = Gym::new(&machine, &steps, jobs);
        gym.on_failure = on_failure(keep_going);
        let weave = if threads { weave_on_threads } else { weave };
        let (ended, summary) = weave(&gym);
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
        let (second, _) = weave(&again);
        let watched = again.watched.into_inner().unwrap();
        prop_assert!(watched.wrong.is_empty(), "{:?}", watched.wrong);
        for step in all.keys() {
            let before = endings.get(step) == Some(&Ending::Made);
            prop_assert_eq!(!second.contains_key(step), before, "{}", step);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() })]

    /// Asked to end anywhere: what ran ends as it has to and is told once, nothing else begins, and the runs after
    /// it do exactly what is left.
    #[test]
    fn a_run_that_is_asked_to_end_leaves_exactly_the_rest(steps in steps(), jobs in 1usize..5, stops in proptest::collection::vec(1usize..8, 0..4)) {
        let steps: Vec<StepModel> = steps.into_iter().map(|step| StepModel { fails: false, ..step }).collect();
        let machine = machine(&steps);
        let mut made = BTreeSet::new();
        for stop in stops.into_iter().map(Some).chain([None]) {
            let mut gym = Gym::new(&machine, &steps, jobs);
            gym.stop_after = stop;
            gym.watched.get_mut().unwrap().ended.clone_from(&made);
            let (ended, summary) = weave(&gym);
            let watched = gym.watched.into_inner().unwrap();
            prop_assert!(watched.wrong.is_empty(), "{:?}", watched.wrong);
            let began: BTreeSet<String> = watched.began.iter().cloned().collect();
            prop_assert!(began.is_disjoint(&made), "{:?} after {:?}", began, made);
            if let Some(stop) = stop {
                prop_assert!(began.len() <= stop);
            }
            let endings = endings_of(&ended);
            let of = |ending| -> BTreeSet<String> {
                let those = endings.iter().filter(|(_, found)| **found == ending);
                those.map(|(step, _)| step.clone()).collect()
            };
            prop_assert_eq!(&of(Ending::Made), &began);
            prop_assert_eq!(summary.made, began.len());
            made.extend(began);
        }
        prop_assert_eq!(made.len(), steps.len());
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
    let mut way: Vec<Duration> = Vec::new();
    for (number, step) in steps.iter().enumerate() {
        let before = step.needs.iter().map(|need| way[*need]);
        let longest = before.max().unwrap_or_default();
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
            prop_assert_eq!(way[named], longest, "s{} after s{}", number, named);
        }
        way.push(longest + job.took);
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
        let mut gym = Gym::new(&machine, &steps, 1 + round % 3);
        gym.on_failure = OnFailure::Continue;
        let (ended, summary) = weave_on_threads(&gym);
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
        let (first, _) = weave_on_threads(&gym);
        let began = gym.watched.into_inner().unwrap();
        assert_eq!(began.wrong, [] as [String; 0]);
        assert!(began.began.len() >= 10 + round && began.began.len() <= 14 + round);
        let gym = Gym::new(&machine, &steps, 2);
        let (second, _) = weave_on_threads(&gym);
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

/// As many as may run at once do.
#[test]
fn independent_steps_run_side_by_side() {
    for jobs in 1..=6 {
        let mut steps: Vec<StepModel> = (0..jobs).map(|_| plain(&[], Takes(1, 0, 0))).collect();
        steps.iter_mut().for_each(|step| step.length = 1000);
        let machine = machine(&steps);
        let gym = Gym::new(&machine, &steps, jobs);
        let (ended, summary) = weave(&gym);
        assert!(ended.values().all(|job| job.ending == Ending::Made));
        assert_eq!(gym.watched.into_inner().unwrap().most, jobs);
        // Together they take as long as one.
        assert_eq!(summary.took, Duration::from_secs(1));
        assert_eq!(
            summary.job_time,
            Duration::from_secs(u64::try_from(jobs).unwrap())
        );
    }
}

/// The pool of threads overlaps its jobs: each of them only ends when all of them began.
#[test]
fn threads_run_their_jobs_at_once() {
    struct Together<'t>(&'t Machine, Barrier, CancelToken);
    impl JobRunner for Together<'_> {
        fn cancel(&self) -> &CancelToken {
            &self.2
        }
        fn run(&self, job: &Job, _: &mut dyn FnMut(&[u8])) -> Outcome {
            self.1.wait();
            self.0.carry_out(job)
        }
    }
    let steps: Vec<StepModel> = (0..4).map(|_| plain(&[], Takes(1, 0, 0))).collect();
    let machine = machine(&steps);
    let gym = Gym::new(&machine, &steps, 4);
    let place = Together(&machine, Barrier::new(4), CancelToken::default());
    let (ended, _) = weave_with(&gym, &place);
    assert_eq!(ended.len(), 4);
    assert!(ended.values().all(|job| job.ending == Ending::Made));
}

/// What was handed to a slot ahead is taken back when the job in front of it takes long after all: here it only
/// ends when all others have.
#[test]
fn a_long_job_keeps_nobody_back() {
    struct Patient<'p> {
        machine: &'p Machine,
        cancel: CancelToken,
        tell: mpsc::Sender<()>,
        others: Mutex<mpsc::Receiver<()>>,
    }
    impl JobRunner for Patient<'_> {
        fn cancel(&self) -> &CancelToken {
            &self.cancel
        }
        fn run(&self, job: &Job, _: &mut dyn FnMut(&[u8])) -> Outcome {
            if job.name == "s20" {
                let others = self.others.lock().unwrap();
                for other in 1..40 {
                    let told = others.recv_timeout(Duration::from_secs(30));
                    assert!(told.is_ok(), "{other} of 39 is held back");
                }
            } else {
                self.tell.send(()).unwrap();
            }
            self.machine.carry_out(job)
        }
    }
    let steps: Vec<StepModel> = (0..40).map(|_| plain(&[], Takes(1, 0, 0))).collect();
    for _ in 0..20 {
        let machine = machine(&steps);
        let gym = Gym::new(&machine, &steps, 2);
        let (tell, told) = mpsc::channel();
        let place = Patient {
            machine: &machine,
            cancel: CancelToken::default(),
            tell,
            others: Mutex::new(told),
        };
        let (ended, _) = weave_with(&gym, &place);
        assert!(ended.values().all(|job| job.ending == Ending::Made));
        assert_eq!(ended.len(), 40);
    }
}

/// A step that has to wait for a supply holds up nobody who does not want it, however long its own way is.
#[test]
fn who_waits_for_a_supply_holds_nobody_up() {
    let gpu = Takes(1, 0, 2);
    // The second begins a long way and wants what the first has; the third and fourth want nothing.
    let mut steps = [
        plain(&[], gpu),
        plain(&[], gpu),
        plain(&[], Takes(1, 0, 0)),
        plain(&[2], Takes(1, 0, 0)),
        plain(&[1], Takes(1, 0, 0)),
        plain(&[4], Takes(1, 0, 0)),
    ];
    for step in &mut steps[..2] {
        step.length = 1000;
    }
    for step in &mut steps[2..] {
        step.length = 100;
    }
    let machine = machine(&steps);
    let gym = Gym::new(&machine, &steps, 2);
    let (ended, summary) = weave(&gym);
    let began = |name: &str| ended[name].usage.map(|usage| usage.began);
    let at = |milliseconds| Some(Duration::from_millis(milliseconds));
    // Two that want the same run one after the other; the others fill the second slot meanwhile.
    let mut gpus = [began("s0"), began("s1")];
    gpus.sort_unstable();
    assert_eq!(gpus, [at(0), at(1000)]);
    assert_eq!((began("s2"), began("s3")), (at(0), at(100)));
    assert!(summary.took <= Duration::from_millis(2200));
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
        let (ended, _) = weave(&gym);
        assert_eq!(ended.len(), 4);
        assert_eq!(gym.watched.into_inner().unwrap().began[0], first);
        machine.pass(1_000_000_000);
        machine.write_now("source", b"t");
    }
}

/// What a job waited for a free slot is told, and what it waited for others is not counted to it.
#[test]
fn waiting_for_a_slot_is_told() {
    let mut steps = [
        plain(&[], Takes(1, 0, 0)),
        plain(&[], Takes(1, 0, 0)),
        plain(&[0, 1], Takes(1, 0, 0)),
    ];
    steps.iter_mut().for_each(|step| step.length = 500);
    let machine = machine(&steps);
    let gym = Gym::new(&machine, &steps, 1);
    let (ended, summary) = weave(&gym);
    let mut waited: Vec<Duration> = ended.values().map(|job| job.waited).collect();
    waited.sort_unstable();
    let none = Duration::ZERO;
    assert_eq!(waited, [none, none, Duration::from_millis(500)]);
    assert_eq!(ended["s2"].waited, none);
    assert_eq!(summary.took, Duration::from_millis(1500));
}

/// A reader that does not read holds up no job, and is told what it missed once it reads again.
#[test]
fn a_reader_that_blocks_holds_up_nobody() {
    let steps: Vec<StepModel> = (0..30).map(|_| plain(&[], Takes(1, 0, 0))).collect();
    let machine = machine(&steps);
    let gym = Gym::new(&machine, &steps, 2);
    let place = OnThreads(&gym);
    let (sender, receiver) = event_channel();
    let (blocked, unblock) = mpsc::channel::<()>();
    let reader = std::thread::spawn(move || {
        let mut seen = Vec::new();
        receiver.read_all(|told| {
            // The first event is not read to its end before the run is over.
            let _ = unblock.recv();
            seen.push(told.clone());
        });
        seen
    });
    let ledger = crate::bed::ledger(&machine, true);
    let environment = crate::bed::environment(&machine, &ledger);
    let (description, outside) = crate::bed::describe(&machine, &environment);
    let context = handloom_core::scheduler::BuildContext {
        store: None,
        disk: &machine,
        clock: &gym.clock,
        executor: &place,
        ledger: &ledger,
        environment: &environment,
    };
    let events = EventHub::new(&gym.clock).channel(sender);
    let mut build =
        handloom_core::scheduler::Build::new(context, options(2, OnFailure::Stop), events);
    let summary = build.run(&description, &outside, &BuildRequest::default());
    assert_eq!(summary.unwrap().made, 30);
    drop((build, blocked));
    let seen = reader.join().unwrap();
    let ended = seen
        .iter()
        .filter(|told| matches!(told.event, Event::Ended(_)));
    assert_eq!(ended.count(), 30);
    assert!(matches!(seen.last().unwrap().event, Event::Summary(_)));
}

/// What does not fit into a reader's channel is left out, counted, and never the summary.
#[test]
fn a_full_channel_says_how_much_it_left_out() {
    struct Still;
    impl Clock for Still {
        fn now(&self) -> i64 {
            0
        }
        fn ticks(&self) -> Ticks {
            Ticks::default()
        }
    }
    let (sender, receiver) = event_channel();
    let mut hub = EventHub::new(&Still).channel(sender);
    let printed = |size: usize| Event::Printed {
        step: "a".to_owned(),
        text: vec![b'x'; size],
    };
    for _ in 0..80 {
        hub.tell(printed(1 << 20));
    }
    hub.tell(Event::Summary(Summary::default()));
    drop(hub);
    let mut seen = Vec::new();
    receiver.read_all(|told| seen.push(told.event.clone()));
    assert_eq!(seen.len(), 64 + 1 + 1);
    let Event::Warning(warning) = &seen[64] else {
        panic!("{:?}", seen[64]);
    };
    assert_eq!(
        warning.title,
        "16 events are left out here, since they were not read in time"
    );
    assert!(matches!(seen[65], Event::Summary(_)));
}
