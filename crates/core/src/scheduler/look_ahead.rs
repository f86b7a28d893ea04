//! Looking in a shared store for steps that are free to run, while others run.
//!
//! What is fetched goes into the local store, where the step is looked up once more when a slot begins it: so nothing
//! depends on what was thought of files while it was on its way.

use hashbrown::HashMap;

use crate::executor::queue::Waker;
use crate::graph::Position;
use crate::store::Store;
use crate::store::StoreKey;
use crate::store::shared::Answered;

/// What the local store lacks for a step.
pub struct StoreQuestion {
    /// The step's declared key.
    pub declared: StoreKey,
    /// The full keys that are known of.
    pub candidates: Vec<StoreKey>,
}

/// How far looking for a step has come.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum LookStage {
    /// It is asked what recipes found out that are declared so.
    Lists,
    /// It is asked for results.
    Result,
}

/// Steps that wait for an answer.
#[derive(Default)]
pub struct LookAhead {
    waiting: HashMap<u64, (Position, LookStage)>,
    asked: u64,
}

impl LookAhead {
    /// Whether nobody waits.
    pub fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    /// Asks for what a step lacks; whether there was anything to ask for. `waker` is called with a number when the answer
    /// has come.
    pub fn ask(
        &mut self,
        position: Position,
        stage: LookStage,
        question: StoreQuestion,
        store: &Store,
        waker: &Waker,
    ) -> bool {
        let Some(shared) = store.shared() else {
            return false;
        };
        if stage == LookStage::Result && question.candidates.is_empty() {
            return false;
        }
        let number = self.asked;
        self.asked += 1;
        self.waiting.insert(number, (position, stage));
        let waker = waker.clone();
        let answered: Answered = Box::new(move || waker(number));
        match stage {
            LookStage::Lists => shared.ask_lists(question.declared, answered),
            LookStage::Result => shared.ask_result(question.candidates, answered),
        }
        true
    }

    /// An answer came: which step has waited for it, and at which stage.
    pub fn answered(&mut self, number: u64) -> Option<(Position, LookStage)> {
        self.waiting.remove(&number)
    }
}
