//! A plain model of random projects: what each step saw, and so what should run and what everything should
//! hold then.

use std::collections::BTreeMap;
use std::collections::BTreeSet;
use std::collections::HashMap;
use std::rc::Rc;

use handloom_core::scheduler::Ending;

use crate::made_up::Machine;
use crate::made_up::carry_out;
use crate::made_up::named_in;

/// A step of a random project.
#[derive(Clone, Debug)]
pub struct StepModel {
    /// Sources and earlier steps that it needs.
    pub needs: Vec<Need>,
    pub salt: usize,
    pub coarse: bool,
    pub learns: bool,
    pub outputs: usize,
    /// It runs whenever it is reached.
    pub always: bool,
    /// Left out of what its pattern matches.
    pub but: Option<usize>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Need {
    Source(usize),
    Step(usize),
    /// `more/*`
    Pattern,
}

/// What a step saw and made when it last ran.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    pub recipe: String,
    pub inputs: Vec<(String, Vec<u8>)>,
    pub learned: Option<(String, Option<Vec<u8>>)>,
    pub outputs: Vec<(String, Vec<u8>)>,
}

pub const SOURCES: usize = 4;

/// Contents by path.
pub type Contents = BTreeMap<String, Vec<u8>>;

/// What should end how, what everything should hold then, and what each step would have seen.
pub type Expected = (BTreeMap<String, Ending>, Contents, Vec<(String, Seen)>);

pub struct World {
    pub machine: Rc<Machine>,
    pub steps: Vec<Option<StepModel>>,
    pub variable: usize,
    /// Whether that stands in a file beside another.
    pub from_file: bool,
    pub beside: usize,
    pub seen: HashMap<String, Seen>,
    /// Steps that may have begun without an end.
    pub maybe_unfinished: BTreeSet<String>,
    /// What the user wrote where outputs belong.
    pub foreign: Vec<Vec<u8>>,
    /// How often that was.
    pub intrusions: usize,
    /// Whether the ledger's memory of the last runs may be gone.
    pub forgot: bool,
}

pub fn output(step: usize, number: usize) -> String {
    format!("out/{step}.{number}")
}

impl World {
    pub fn new(steps: Vec<StepModel>, from_file: bool) -> Self {
        let mut files = BTreeMap::new();
        for source in 0..SOURCES {
            files.insert(format!("src/{source}"), vec![b'a' + source as u8]);
        }
        for include in 0..3 {
            files.insert(format!("inc/{include}"), vec![b'i']);
        }
        files.insert("more/0".to_owned(), b"m".to_vec());
        if from_file {
            let text = br#"{"beside": 0, "v": "value0"}"#;
            files.insert("src/params.json".to_owned(), text.to_vec());
        }
        Self {
            machine: Rc::new(Machine::with(&files)),
            steps: steps.into_iter().map(Some).collect(),
            variable: 0,
            from_file,
            beside: 0,
            seen: HashMap::new(),
            maybe_unfinished: BTreeSet::new(),
            foreign: Vec::new(),
            intrusions: 0,
            forgot: false,
        }
    }

    pub fn loom(&self) -> String {
        let mut loom = match self.from_file {
            true => "let v = value src/params.json v\n".to_owned(),
            false => format!("let v = value{}\n", self.variable),
        };
        for (index, step) in self.steps.iter().enumerate() {
            let Some(step) = step else { continue };
            let outputs: Vec<String> = (0..step.outputs)
                .map(|number| output(index, number))
                .collect();
            let needs: Vec<String> = step
                .needs
                .iter()
                .filter_map(|need| self.written(*need))
                .collect();
            let kind = if step.coarse { "coarse" } else { "whole" };
            loom += &format!("target {}\n", outputs.join(" "));
            if !needs.is_empty() {
                let but = step.but.filter(|_| step.needs.contains(&Need::Pattern));
                let but = but.map_or_else(String::new, |but| format!(" except more/{but}"));
                loom += &format!("  needs {}{but}\n", needs.join(" "));
            }
            if self.learns(step) {
                loom += "  learn lines\n";
            }
            if step.always {
                loom += "  always\n";
            }
            let salt = if step.salt == 0 {
                "@{v}".to_owned()
            } else {
                format!("salt{}", step.salt)
            };
            let tells = if self.learns(step) {
                " tells @{learn}"
            } else {
                ""
            };
            loom += &format!("  recipe: {kind} {salt}{tells}\n");
        }
        loom
    }

    /// Only a step whose first prerequisite is a source learns.
    pub fn learns(&self, step: &StepModel) -> bool {
        step.learns && matches!(step.needs.first(), Some(Need::Source(_)))
    }

    fn written(&self, need: Need) -> Option<String> {
        match need {
            Need::Source(source) => Some(format!("src/{source}")),
            Need::Step(step) => self.steps[step].as_ref().map(|_| output(step, 0)),
            Need::Pattern => Some("more/*".to_owned()),
        }
    }

    /// What stands in the file of the variable.
    pub fn parameters(&self) -> String {
        format!(
            r#"{{"beside": {}, "v": "value{}"}}"#,
            self.beside, self.variable
        )
    }

    fn need_paths(&self, step: &StepModel) -> Vec<String> {
        let more: Vec<String> = self
            .machine
            .files()
            .into_keys()
            .filter(|path| path.starts_with("more/"))
            .filter(|path| step.but.is_none_or(|but| *path != format!("more/{but}")))
            .collect();
        step.needs
            .iter()
            .flat_map(|need| match need {
                Need::Pattern => more.clone(),
                need => self.written(*need).into_iter().collect(),
            })
            .collect()
    }

    /// What a step would see and make now; `contents` are those of outputs worked out before.
    fn would_see(
        &self,
        index: usize,
        step: &StepModel,
        contents: &BTreeMap<String, Vec<u8>>,
    ) -> Seen {
        let paths = self.need_paths(step);
        let content = |path: &String| {
            let made = contents.get(path).cloned();
            let content = made.or_else(|| self.machine.content(path));
            content.unwrap_or_default()
        };
        let mut read: Vec<Vec<u8>> = paths.iter().map(content).collect();
        let seen = |path: String| {
            let made = contents.get(&path).cloned();
            let seen = made.or_else(|| self.machine.seen(&path));
            (path, seen.unwrap_or_default())
        };
        let inputs: Vec<(String, Vec<u8>)> = paths.into_iter().map(seen).collect();
        let kind = if step.coarse { "coarse" } else { "whole" };
        let salt = if step.salt == 0 {
            format!("value{}", self.variable)
        } else {
            format!("salt{}", step.salt)
        };
        let learned = self.learns(step).then(|| {
            let named = named_in(&read[0]);
            read.push(self.machine.content(&named).unwrap_or_default());
            let seen = self.machine.seen(&named);
            (named, seen)
        });
        let script = format!("{kind} {salt}");
        let outputs = (0..step.outputs)
            .map(|number| (output(index, number), carry_out(&script, &read, number)))
            .collect();
        Seen {
            recipe: format!("{script}{}", if learned.is_some() { " learns" } else { "" }),
            inputs,
            learned,
            outputs,
        }
    }

    fn goal_steps(&self, goal: Option<usize>) -> BTreeSet<usize> {
        let mut open: Vec<usize> = match goal {
            Some(goal) => vec![goal],
            None => (0..self.steps.len())
                .filter(|&index| self.steps[index].is_some())
                .collect(),
        };
        let mut reached = BTreeSet::new();
        while let Some(index) = open.pop() {
            let Some(step) = &self.steps[index] else {
                continue;
            };
            if reached.insert(index) {
                open.extend(step.needs.iter().filter_map(|need| match need {
                    Need::Step(step) if self.steps[*step].is_some() => Some(*step),
                    _ => None,
                }));
            }
        }
        reached
    }

    /// Which steps should run, and what everything should hold afterwards.
    pub fn expectation(&self, goal: Option<usize>) -> Expected {
        let mut endings = BTreeMap::new();
        let mut contents = BTreeMap::new();
        let mut saw = Vec::new();
        for index in self.goal_steps(goal) {
            let Some(step) = &self.steps[index] else {
                continue;
            };
            let now = self.would_see(index, step, &contents);
            let name = output(index, 0);
            let last = self.seen.get(&name);
            let as_left = last.is_some_and(|last| {
                last.outputs
                    .iter()
                    .all(|(path, content)| self.machine.content(path).as_ref() == Some(content))
            });
            // What was learned last time is compared, not what would be learned now.
            let learned_same = last.is_some_and(|last| match &last.learned {
                Some((path, seen)) => self.machine.seen(path) == *seen,
                None => true,
            });
            let same = last.is_some_and(|last| {
                last.recipe == now.recipe
                    && last.inputs == now.inputs
                    && last.outputs.len() == now.outputs.len()
                    && last.learned.is_some() == now.learned.is_some()
            });
            if step.always || !(as_left && learned_same && same) {
                let came_out_same = last.is_some_and(|last| last.outputs == now.outputs);
                endings.insert(
                    name.clone(),
                    if came_out_same {
                        Ending::Same
                    } else {
                        Ending::Made
                    },
                );
            }
            contents.extend(now.outputs.iter().cloned());
            saw.push((name, now));
        }
        (endings, contents, saw)
    }
}
