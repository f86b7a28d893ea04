//! The store's key: whatever a verdict compares is in it, and nothing else is.

use handloom_core::content::State;
use handloom_core::ledger::Edge;
use handloom_core::ledger::Entry;
use handloom_core::ledger::Given;
use handloom_core::ledger::LOOKED_IN_VAIN;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::MemoryStorage;
use handloom_core::ledger::StepRecord;
use handloom_core::ledger::WATCHED_BY_RUN;
use handloom_core::store::DeclaredStep;
use handloom_core::store::KeyScope;
use handloom_core::store::LearnedList;
use handloom_core::store::RecipeManner;
use handloom_core::store::StoreKey;
use handloom_core::verdict;
use handloom_core::verdict::GivenState;
use handloom_core::verdict::GivenValue;
use handloom_core::verdict::Input;
use handloom_core::verdict::StepState;
use handloom_core::world::Digest;

const ROOT: &str = "/home/keeper/lights";

/// All that a verdict compares of one step, as plain data that can be changed.
#[derive(Clone)]
struct Compared {
    recipe: String,
    parameters: String,
    outputs: Vec<(String, u16, State)>,
    needs: Vec<(String, u16, State)>,
    givens: Vec<GivenState>,
    learned: Vec<(String, u16, State)>,
}

fn content(text: &str) -> State {
    State::Content(Digest::of(text.as_bytes()))
}

fn given(key: &str, value: GivenValue) -> GivenState {
    GivenState {
        key: key.to_owned(),
        value,
    }
}

impl Compared {
    fn base() -> Self {
        let path = |path: &str, group, state| (path.to_owned(), group, state);
        Self {
            recipe: "with sh -eu\nlearn watched\nrecipe:\ncc @{needs} -o @{target}".to_owned(),
            parameters: "unit = a\n".to_owned(),
            outputs: vec![
                path("out/a.o", 0, content("o")),
                path("out/a.map", 1, content("m")),
            ],
            needs: vec![
                path("src/a.c", 0, content("c")),
                path("src/a.h", 1, content("h")),
            ],
            givens: vec![
                given("env CFLAGS", GivenValue::Unset),
                given("output cc --version", GivenValue::Text("12\n".to_owned())),
            ],
            learned: vec![
                path("inc/x.h", 0, content("x")),
                path("inc/y.h", LOOKED_IN_VAIN, State::Missing),
                path("inc//", WATCHED_BY_RUN, content("names")),
            ],
        }
    }

    fn record(&self) -> StepRecord {
        let edges = |of: &[(String, u16, State)], own: bool| -> Vec<Edge> {
            let edges = of.iter();
            edges
                .map(|(path, group, state)| Edge {
                    path: path.clone(),
                    digest: if own {
                        state.own_digest()
                    } else {
                        state.digest()
                    },
                    group: *group,
                })
                .collect()
        };
        let givens = self.givens.iter();
        StepRecord {
            name: "out/a.o".to_owned(),
            recipe_text: self.recipe.clone(),
            parameters: self.parameters.clone(),
            outputs: edges(&self.outputs, true),
            needs: edges(&self.needs, false),
            learned: edges(&self.learned, false),
            givens: givens
                .map(|given| Given {
                    key: given.key.clone(),
                    value: given.value.text().map(str::to_owned),
                })
                .collect(),
            ..StepRecord::default()
        }
    }

    /// Hands what is compared to `look`.
    fn with<T>(&self, look: impl FnOnce(&StepState<'_>) -> T) -> T {
        let inputs = |of: &'static str| {
            let list = if of == "outputs" {
                &self.outputs
            } else {
                &self.needs
            };
            list.iter().map(|(path, group, state)| Input {
                group: *group,
                path,
                state,
            })
        };
        let outputs: Vec<Input<'_>> = inputs("outputs").collect();
        let needs: Vec<Input<'_>> = inputs("needs").collect();
        let learned = |path: &str| self.now(path);
        look(&StepState {
            key: "out/a.o",
            recipe_text: &self.recipe,
            parameters: &self.parameters,
            outputs: &outputs,
            needs: &needs,
            givens: &self.givens,
            asked: false,
            always: false,
            learned: Some(&learned),
            says_learn: true,
        })
    }

    /// What stands at a path that was learned of.
    fn now(&self, path: &str) -> State {
        let known = self.learned.iter().find(|(known, _, _)| known == path);
        known.map_or(State::Missing, |(_, _, state)| state.clone())
    }

    /// Whether a verdict keeps the step when the base was recorded.
    fn is_kept(&self) -> bool {
        let (mut ledger, _) = Ledger::open(Box::new(MemoryStorage::default()), true).unwrap();
        let record = Box::new(Self::base().record());
        ledger.add_all([Entry::Ended(record)]).unwrap();
        self.with(|state| verdict::is_kept(state, &ledger))
    }

    /// The key that it is looked up by; the names are those of the base, as a list in the store has them.
    fn key(&self) -> Option<StoreKey> {
        let scope = KeyScope::new(ROOT, "");
        let declared =
            self.with(|state| DeclaredStep::now(state).map(|now| scope.declared(&now)))?;
        scope.full(declared, &list(&Self::base()), &mut |path| self.now(path))
    }

    /// The key that it is kept under once it has run.
    fn kept_under(&self) -> Option<StoreKey> {
        let scope = KeyScope::new(ROOT, "");
        let record = self.record();
        let declared = scope.declared(&DeclaredStep::seen(&record, true)?);
        scope.full_seen(declared, &list(self), &record.learned)
    }
}

fn list(of: &Compared) -> LearnedList {
    let names = of.learned.iter();
    LearnedList {
        names: names
            .map(|(path, group, _)| (path.clone(), *group))
            .collect(),
        ..LearnedList::default()
    }
}

type Change = (&'static str, fn(&mut Compared));

/// Each thing that a verdict compares, changed.
const COMPARED: [Change; 21] = [
    ("the recipe", |of| of.recipe.push('x')),
    ("its interpreter", |of| {
        of.recipe = of.recipe.replace("sh -eu", "sh");
    }),
    ("a value of a hole", |of| {
        of.parameters = "unit = b\n".to_owned();
    }),
    ("the name of a hole", |of| {
        of.parameters = "name = a\n".to_owned();
    }),
    ("text from the recipe to its values", |of| {
        of.parameters.push_str(&of.recipe.split_off(4));
    }),
    ("an output's name", |of| {
        of.outputs[1].0 = "out/a.lst".to_owned();
    }),
    ("an output's label", |of| of.outputs[1].1 = 2),
    ("one output less", |of| drop(of.outputs.pop())),
    ("the order of outputs", |of| of.outputs.reverse()),
    ("what a prerequisite holds", |of| {
        of.needs[0].2 = content("d");
    }),
    ("that a prerequisite may be run", |of| {
        of.needs[0].2 = State::Content(handloom_core::content::as_executable(Digest::of(b"c")));
    }),
    ("a prerequisite's name", |of| {
        of.needs[0].0 = "src/b.c".to_owned();
    }),
    ("a prerequisite's label", |of| of.needs[1].1 = 2),
    ("one prerequisite more", |of| {
        of.needs.push(("src/z.h".to_owned(), 1, content("z")));
    }),
    ("the order of prerequisites", |of| of.needs.reverse()),
    ("what a command prints", |of| {
        of.givens[1].value = GivenValue::Text("13\n".to_owned());
    }),
    ("that a variable is set, to nothing", |of| {
        of.givens[0].value = GivenValue::Text(String::new());
    }),
    ("one given less", |of| drop(of.givens.pop())),
    ("what a learned file holds", |of| {
        of.learned[0].2 = content("X");
    }),
    ("that a learned file is gone", |of| {
        of.learned[0].2 = State::Missing;
    }),
    ("the names in a listed folder", |of| {
        of.learned[2].2 = content("more names");
    }),
];

#[test]
fn whatever_a_verdict_compares_is_in_the_key() {
    let base = Compared::base();
    assert!(base.is_kept());
    let mut keys = vec![("nothing", base.key().unwrap())];
    assert_eq!(base.kept_under(), base.key());
    for (what, change) in COMPARED {
        let mut changed = base.clone();
        change(&mut changed);
        assert!(!changed.is_kept(), "{what}: the verdict compares it");
        let Some(key) = changed.key() else {
            // A file that is gone can't have been read.
            assert!(what.contains("gone"), "{what} has no key");
            continue;
        };
        if let Some((same, _)) = keys.iter().find(|(_, known)| *known == key) {
            panic!("{what} has the key of {same}");
        }
        keys.push((what, key));
        if !what.contains("listed") && !what.contains("learned") {
            // What it ran with is what it is found by.
            assert_eq!(changed.kept_under(), Some(key), "{what}");
        }
    }
    let mut appeared = base.clone();
    appeared.learned[1].2 = content("there");
    assert!(!appeared.is_kept() && appeared.key().is_none());
    let mut unknown = base;
    unknown.givens[1].value = GivenValue::Unknown;
    assert!(
        unknown.is_kept() && unknown.key().is_none(),
        "what is not known has no key"
    );
    for state in [
        State::Missing,
        State::WrongKind,
        State::Unreadable("x".to_owned()),
    ] {
        let mut missing = Compared::base();
        missing.needs[0].2 = state;
        assert!(!missing.is_kept() && missing.key().is_none());
    }
}

#[test]
fn what_no_verdict_compares_is_not_in_the_key() {
    let base = Compared::base();
    let key = base.key();
    // A path that nobody learned of.
    let mut other = base.clone();
    other
        .learned
        .push(("inc/other.h".to_owned(), 0, content("o")));
    assert!(other.is_kept());
    assert_eq!(other.key(), key);
    // What its outputs hold is compared by the verdict, and is just what the store gives back.
    let mut lost = base.clone();
    lost.outputs[0].2 = State::Missing;
    lost.outputs[1].2 = content("edited");
    assert!(!lost.is_kept());
    assert_eq!(lost.key(), key);
    // Another project folder, as long as nothing names it.
    let elsewhere = KeyScope::new("/srv/mill", "");
    let of =
        |scope: &KeyScope| base.with(|state| scope.declared(&DeclaredStep::now(state).unwrap()));
    assert_eq!(of(&elsewhere), of(&KeyScope::new(ROOT, "")));
}

/// The system and what the settings add; the project's folder, when something names it; how it ran.
#[test]
fn a_key_holds_where_a_result_may_be_used() {
    let declared = |of: &Compared, scope: &KeyScope| {
        of.with(|state| scope.declared(&DeclaredStep::now(state).unwrap()))
    };
    let (here, there) = (KeyScope::new(ROOT, ""), KeyScope::new("/srv/mill", ""));
    let base = Compared::base();
    assert_ne!(
        declared(&base, &here),
        declared(&base, &KeyScope::new(ROOT, "bookworm"))
    );
    let names_root: [fn(&mut Compared); 3] = [
        |of| of.recipe.push_str(" -I/home/keeper/lights/inc"),
        |of| of.parameters = "unit = /home/keeper/lights/a\n".to_owned(),
        |of| of.givens[1].value = GivenValue::Text("/home/keeper/lights\n".to_owned()),
    ];
    for change in names_root {
        let mut bound = Compared::base();
        change(&mut bound);
        assert_ne!(declared(&bound, &here), declared(&bound, &there));
    }
    let key = declared(&base, &here);
    let full = |scope: &KeyScope, list: &LearnedList| {
        scope.full(key, list, &mut |path| base.now(path)).unwrap()
    };
    let plain = list(&base);
    let bound = LearnedList {
        is_bound: true,
        ..plain.clone()
    };
    assert_eq!(full(&here, &plain), full(&there, &plain));
    assert_ne!(full(&here, &bound), full(&there, &bound));
    assert_ne!(full(&here, &bound), full(&here, &plain));
    for manner in [
        RecipeManner { reach: 1, seal: 0 },
        RecipeManner { reach: 0, seal: 1 },
    ] {
        let other = LearnedList {
            manner,
            ..plain.clone()
        };
        assert_ne!(full(&here, &other), full(&here, &plain));
        assert!(manner.serves(RecipeManner::default()) && !RecipeManner::default().serves(manner));
    }
}
