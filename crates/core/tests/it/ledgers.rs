//! The ledger: what is put in comes out, from the journal and from the snapshot alike; every write may
//! be cut short; nothing that is damaged passes as good.

use proptest::prelude::*;

use handloom_core::content::Record;
use handloom_core::ledger::BadEnd;
use handloom_core::ledger::Beginning;
use handloom_core::ledger::Edge;
use handloom_core::ledger::Entry;
use handloom_core::ledger::Given;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::MemoryStorage;
use handloom_core::ledger::StepRecord;
use handloom_core::ledger::StepView;
use handloom_core::world::Digest;
use handloom_core::world::nanoseconds;

fn digest(number: u8) -> Digest {
    Digest::of(&[number])
}

fn edge(path: &str, number: u8) -> Edge {
    Edge {
        path: path.to_owned(),
        digest: (number != 0).then(|| digest(number)),
        group: u16::from(number % 3),
    }
}

fn record(number: u8) -> Record {
    Record {
        size: u64::from(number),
        modified: i64::from(number) - 100,
        changed: i64::MAX - i64::from(number),
        inode: u64::MAX - u64::from(number),
        read_at: i64::MIN + i64::from(number),
        digest: digest(number),
    }
}

fn step(name: &str, number: u8) -> StepRecord {
    StepRecord {
        name: name.to_owned(),
        recipe_text: format!("with sh\nrecipe:\n{}", "x".repeat(usize::from(number))),
        parameters: String::new(),
        outputs: vec![
            edge(name, number.max(1)),
            edge(&format!("{name}.second"), 7),
        ],
        needs: (0..number % 5)
            .map(|at| edge(&format!("src/{at}"), at + 1))
            .collect(),
        learned: vec![edge("inc/a", 0), edge("inc/b", number.max(1))],
        givens: vec![
            Given {
                key: "env A".to_owned(),
                value: None,
            },
            Given {
                key: "output b".to_owned(),
                value: Some(format!("{number}\n")),
            },
        ],
        reasons: "never-made \n".to_owned(),
        ended_at: i64::from(number) * 1_000_000,
        took: u64::from(number),
        memory: 1 << 40,
        processor: 3,
    }
}

/// A view as a record again.
fn read_back(name: &str, view: StepView<'_>) -> StepRecord {
    let edges = |edges: Vec<handloom_core::ledger::EdgeView<'_>>| {
        edges
            .into_iter()
            .map(|edge| Edge {
                path: edge.path.to_owned(),
                digest: edge.digest,
                group: edge.group,
            })
            .collect()
    };
    StepRecord {
        name: name.to_owned(),
        recipe_text: view.recipe_text().to_owned(),
        parameters: view.parameters().to_owned(),
        outputs: edges(view.outputs().collect()),
        needs: edges(view.needs().collect()),
        learned: edges(view.learned().collect()),
        givens: view
            .givens()
            .into_iter()
            .map(|(key, value)| Given {
                key: key.to_owned(),
                value: value.map(str::to_owned),
            })
            .collect(),
        reasons: view.reasons().to_owned(),
        ended_at: view.ended_at(),
        took: nanoseconds(view.took()),
        memory: view.memory().bytes(),
        processor: nanoseconds(view.processor()),
    }
}

fn open(storage: &MemoryStorage) -> Ledger {
    let (ledger, damage) = Ledger::open(Box::new(storage.clone()), true).unwrap();
    assert_eq!(damage, None);
    ledger
}

#[derive(Clone, Debug)]
enum Act {
    File(u8, u8),
    Begin(u8),
    Beginning(u8),
    Bad(u8, bool),
    End(u8, u8),
    Forget(u8),
    Command(u8, u8),
    Folder(u8, bool),
    Fold,
    Reopen,
    /// The next write is cut short after so many bytes.
    Full(usize),
    Sync,
    /// The power fails; the number says what of the rest was lost.
    PowerLoss(u64),
}

/// What a ledger should hold, kept in the plainest way.
#[derive(Clone, Debug, Default, PartialEq)]
struct Model {
    files: std::collections::BTreeMap<String, Record>,
    steps: std::collections::BTreeMap<String, StepRecord>,
    begun: std::collections::BTreeSet<String>,
    bad: std::collections::BTreeMap<String, BadEnd>,
    commands: std::collections::BTreeMap<String, String>,
    folders: std::collections::BTreeSet<String>,
}

impl Model {
    fn apply(&mut self, entry: &Entry) {
        match entry.clone() {
            Entry::File(path, record) => {
                self.files.insert(path, record);
            }
            Entry::Began(step) => {
                self.begun.insert(step);
            }
            Entry::Beginning(beginning) => {
                self.begun.insert(beginning.step);
            }
            Entry::EndedBadly(step, how) => {
                self.begun.remove(&step);
                self.bad.insert(step, how);
            }
            Entry::Ended(record) => {
                self.begun.remove(&record.name);
                self.bad.remove(&record.name);
                self.steps.insert(record.name.clone(), *record);
            }
            Entry::Forgotten(step) => {
                self.begun.remove(&step);
                self.bad.remove(&step);
                self.steps.remove(&step);
            }
            Entry::NotBegun(step) => {
                self.begun.remove(&step);
            }
            Entry::Command(key, output) => {
                self.commands.insert(key, output);
            }
            Entry::Folder(path) => {
                self.folders.insert(path);
            }
            Entry::FolderGone(path) => {
                self.folders.remove(&path);
            }
            Entry::UpToDate(_) => {}
        }
    }

    fn check(&self, ledger: &Ledger) -> Result<(), TestCaseError> {
        for number in 0..6 {
            let name = format!("out/{number}");
            let found = ledger.step(&name).map(|view| read_back(&name, view));
            prop_assert_eq!(found.as_ref(), self.steps.get(&name));
            prop_assert_eq!(ledger.is_unfinished(&name), self.begun.contains(&name));
            prop_assert_eq!(ledger.bad_end(&name), self.bad.get(&name).copied());
            let maker = ledger.maker(&format!("{name}.second"));
            prop_assert_eq!(maker, self.steps.get(&name).map(|_| name.as_str()));
            let key = format!("command {number}");
            prop_assert_eq!(
                ledger.command(&key),
                self.commands.get(&key).map(String::as_str)
            );
            // Records of files that no step speaks of may be dropped by a fold, but are never wrong.
            if let Some(found) = ledger.file(&format!("src/{number}")) {
                prop_assert_eq!(Some(&found), self.files.get(&format!("src/{number}")));
            }
        }
        let mut names = ledger.step_names();
        names.sort_unstable();
        prop_assert_eq!(names, self.steps.keys().cloned().collect::<Vec<_>>());
        prop_assert_eq!(
            ledger.folders(),
            self.folders.iter().map(String::as_str).collect::<Vec<_>>()
        );
        Ok(())
    }
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        3 => (0u8..6, 1u8..50).prop_map(|(path, number)| Act::File(path, number)),
        3 => (0u8..6).prop_map(Act::Begin),
        3 => (0u8..6).prop_map(Act::Beginning),
        2 => (0u8..6, any::<bool>()).prop_map(|(step, cut)| Act::Bad(step, cut)),
        6 => (0u8..6, 0u8..50).prop_map(|(step, number)| Act::End(step, number)),
        1 => (0u8..6).prop_map(Act::Forget),
        1 => (0u8..6, 0u8..50).prop_map(|(key, number)| Act::Command(key, number)),
        1 => (0u8..6, any::<bool>()).prop_map(|(folder, there)| Act::Folder(folder, there)),
        2 => Just(Act::Fold),
        3 => Just(Act::Reopen),
        1 => (0usize..400).prop_map(Act::Full),
        2 => Just(Act::Sync),
        2 => any::<u64>().prop_map(Act::PowerLoss),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_ledger_remembers_what_it_was_told(acts in proptest::collection::vec(act(), 1..60)) {
        let storage = MemoryStorage::default();
        let mut ledger = open(&storage);
        let mut model = Model::default();
        // As it was at the last moment that is durable, and after each entry since.
        let mut since_durable = vec![Model::default()];
        for act in acts {
            let entry = match act {
                Act::File(path, number) => Entry::File(format!("src/{path}"), record(number)),
                Act::Begin(step) => Entry::Began(format!("out/{step}")),
                Act::Beginning(step) => Entry::Beginning(Box::new(Beginning {
                    step: format!("out/{step}"),
                    outputs: vec![format!("out/{step}"), format!("out/{step}.second")],
                    set_by: vec![format!("out/{step}")],
                })),
                Act::Bad(step, cut) => {
                    let how = if cut { BadEnd::CutShort } else { BadEnd::Failed };
                    Entry::EndedBadly(format!("out/{step}"), how)
                }
                Act::End(name, number) => Entry::Ended(Box::new(step(&format!("out/{name}"), number))),
                Act::Forget(step) => Entry::Forgotten(format!("out/{step}")),
                Act::Command(key, number) => Entry::Command(format!("command {key}"), number.to_string()),
                Act::Folder(folder, true) => Entry::Folder(format!("out/f{folder}")),
                Act::Folder(folder, false) => Entry::FolderGone(format!("out/f{folder}")),
                Act::Fold => {
                    ledger.fold().unwrap();
                    since_durable = vec![model.clone()];
                    continue;
                }
                Act::Sync => {
                    ledger.sync().unwrap();
                    since_durable = vec![model.clone()];
                    continue;
                }
                Act::PowerLoss(mut number) => {
                    drop(ledger);
                    storage.lose_power(|| {
                        number = number.rotate_left(1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
                        number >> 62 != 0
                    });
                    ledger = open(&storage);
                    // Nothing durable is lost, and of the rest there is what was written first.
                    let fits = since_durable.iter().rev().find(|model| model.check(&ledger).is_ok());
                    prop_assert!(fits.is_some(), "durable entries are gone");
                    model = fits.cloned().unwrap_or_default();
                    since_durable = vec![model.clone()];
                    continue;
                }
                Act::Reopen => {
                    drop(ledger);
                    ledger = open(&storage);
                    model.check(&ledger)?;
                    continue;
                }
                Act::Full(room) => {
                    storage.limit(Some(room));
                    let entry = Entry::Ended(Box::new(step("out/0", 49)));
                    let added = ledger.add(entry.clone());
                    storage.limit(None);
                    match added {
                        Ok(()) => {
                            model.apply(&entry);
                            since_durable.push(model.clone());
                        }
                        // What was written before stays good, here and after a restart.
                        Err(_) => model.check(&open(&storage))?,
                    }
                    continue;
                }
            };
            ledger.add(entry.clone()).unwrap();
            model.apply(&entry);
            since_durable.push(model.clone());
        }
        model.check(&ledger)?;
        model.check(&open(&storage))?;
        let mut folded = open(&storage);
        folded.fold().unwrap();
        model.check(&folded)?;
        model.check(&open(&storage))?;
    }
}

#[test]
fn a_fold_that_finds_no_room_leaves_the_old_ledger() {
    let storage = MemoryStorage::default();
    let mut ledger = open(&storage);
    ledger
        .add(Entry::Ended(Box::new(step("out/0", 9))))
        .unwrap();
    for room in [0, 10, 100, 300] {
        storage.limit(Some(room));
        assert!(ledger.fold().is_err());
        storage.limit(None);
        let reopened = open(&storage);
        assert_eq!(
            reopened.step("out/0").map(|view| read_back("out/0", view)),
            Some(step("out/0", 9))
        );
    }
}

#[test]
fn a_crash_between_the_new_snapshot_and_its_journal_loses_nothing() {
    let storage = MemoryStorage::default();
    let mut ledger = open(&storage);
    ledger
        .add(Entry::Ended(Box::new(step("out/0", 9))))
        .unwrap();
    let mut old_journal = Vec::new();
    storage.damage(|_, journal| old_journal.clone_from(journal));
    ledger.fold().unwrap();
    ledger
        .add(Entry::Ended(Box::new(step("out/0", 10))))
        .unwrap();
    // The old journal is still there: it does not belong to the new snapshot.
    storage.damage(|_, journal| journal.clone_from(&old_journal));
    let reopened = open(&storage);
    assert_eq!(
        reopened.step("out/0").map(|view| read_back("out/0", view)),
        Some(step("out/0", 9))
    );
}

#[test]
fn what_many_steps_learned_is_kept_once() {
    let alike = |name: &str, number: u8| StepRecord {
        learned: (0..200)
            .map(|at| edge(&format!("include/header{at}.h"), at % 7 + number % 2))
            .collect(),
        ..step(name, number)
    };
    let names: Vec<String> = (0..100).map(|at| format!("out/{at}")).collect();
    let sizes = |learn: bool| {
        let storage = MemoryStorage::default();
        let mut ledger = open(&storage);
        for (at, name) in (0..).zip(&names) {
            let record = if learn {
                alike(name, at)
            } else {
                step(name, at)
            };
            ledger.add(Entry::Ended(Box::new(record))).unwrap();
            if at == 50 {
                // Whoever reads from a mark on knows nothing of what stands before it.
                let mark = ledger.mark().unwrap().unwrap();
                ledger
                    .add(Entry::Ended(Box::new(alike("out/marked", 1))))
                    .unwrap();
                let since = ledger.since(&mark).unwrap().unwrap();
                assert_eq!(since, [Entry::Ended(Box::new(alike("out/marked", 1)))]);
            }
        }
        let mut sizes = Vec::new();
        for _ in 0..2 {
            let mut reopened = open(&storage);
            for (at, name) in (0..).zip(&names) {
                let record = if learn {
                    alike(name, at)
                } else {
                    step(name, at)
                };
                let found = reopened.step(name).map(|view| read_back(name, view));
                assert_eq!(found, Some(record));
            }
            storage.damage(|snapshot, journal| {
                sizes.push(snapshot.as_ref().map_or(0, Vec::len) + journal.len());
            });
            reopened.fold().unwrap();
        }
        sizes
    };
    let (plain, learned) = (sizes(false), sizes(true));
    // 200 edges are some 10,000 bytes; only two different lists are there, and one more behind the mark.
    assert!(learned[0] < plain[0] + 60_000, "{plain:?} {learned:?}");
    assert!(learned[1] < plain[1] + 40_000, "{plain:?} {learned:?}");
}

#[test]
fn every_damage_to_the_snapshot_is_noticed() {
    let storage = MemoryStorage::default();
    let mut ledger = open(&storage);
    ledger
        .add(Entry::Ended(Box::new(step("out/0", 9))))
        .unwrap();
    ledger.fold().unwrap();
    drop(ledger);
    let mut good = Vec::new();
    storage.damage(|snapshot, _| good = snapshot.clone().unwrap());
    let damages = |bytes: Vec<u8>| {
        let storage = MemoryStorage::default();
        storage.damage(|snapshot, _| *snapshot = Some(bytes));
        let (ledger, damage) = Ledger::open(Box::new(storage), true).unwrap();
        (ledger.step("out/0").is_some(), damage.is_some())
    };
    assert_eq!(damages(good.clone()), (true, false));
    for at in 0..good.len() {
        let mut bytes = good.clone();
        bytes[at] ^= 0x10;
        let (known, damaged) = damages(bytes);
        // The seed of the journal and the flags are the only bytes whose change leaves all else as it was.
        assert!(
            damaged != known || (8..40).contains(&at) || (56..64).contains(&at),
            "byte {at}"
        );
    }
    for length in 0..good.len() {
        assert_eq!(
            damages(good[..length].to_vec()),
            (false, true),
            "{length} bytes"
        );
    }
}
