//! Several `each` of one target: joined on the holes that they share, combined where they share none.

use std::collections::HashMap;
use std::collections::HashSet;

use crate::project::each_match::HoleSlot;
use crate::project::each_match::Match;
use crate::project::expand::Expander;
use crate::project::expand::MAX_STEPS;
use crate::project::model::Project;
use crate::project::paths::PathId;
use crate::text::Diagnostic;
use crate::text::mistakes;

impl<'d> Expander<'_, 'd> {
    /// Every combination of the slots' matches that agrees on shared holes.
    pub(super) fn join(
        &self,
        project: &Project<'d>,
        each: usize,
        holes: usize,
    ) -> Vec<(Vec<PathId>, Vec<PathId>)> {
        let unset = PathId(u32::MAX);
        let mut rows = vec![(vec![unset; holes], Vec::new())];
        let mut bound: HashSet<usize> = HashSet::new();
        for slot in &self.eaches[each].slots {
            let mut next = Vec::new();
            match slot {
                HoleSlot::Rows {
                    holes: numbers,
                    rows: values,
                } => {
                    let shared = shared_holes(numbers, &bound);
                    let mut index: HashMap<Vec<PathId>, Vec<&Vec<PathId>>> = HashMap::new();
                    for values in values {
                        let key = shared.iter().map(|&at| values[at]).collect();
                        index.entry(key).or_default().push(values);
                    }
                    for (row, matched) in rows {
                        let key: Vec<PathId> = shared.iter().map(|&at| row[numbers[at]]).collect();
                        for values in index.get(&key).into_iter().flatten() {
                            let mut row = row.clone();
                            for (&number, &value) in numbers.iter().zip(*values) {
                                row[number] = value;
                            }
                            next.push((row, matched.clone()));
                            if next.len() > MAX_STEPS {
                                return self.too_many(project, each);
                            }
                        }
                    }
                    bound.extend(numbers);
                }
                HoleSlot::Files(files) => {
                    let (numbers, matches) = (&files.holes, &files.matches);
                    let shared = shared_holes(numbers, &bound);
                    let mut index: HashMap<Vec<PathId>, Vec<&Match>> = HashMap::new();
                    let mut sorted: Vec<&Match> = matches.iter().collect();
                    sorted.sort_by(|a, b| project.paths.get(a.path).cmp(project.paths.get(b.path)));
                    for found in sorted {
                        let key = shared.iter().map(|&at| found.values[at]).collect();
                        index.entry(key).or_default().push(found);
                    }
                    for (row, matched) in rows {
                        let key: Vec<PathId> = shared.iter().map(|&at| row[numbers[at]]).collect();
                        for found in index.get(&key).into_iter().flatten() {
                            let mut row = row.clone();
                            for (&number, &value) in numbers.iter().zip(&found.values) {
                                row[number] = value;
                            }
                            let mut matched: Vec<PathId> = matched.clone();
                            matched.push(found.path);
                            next.push((row, matched));
                            if next.len() > MAX_STEPS {
                                return self.too_many(project, each);
                            }
                        }
                    }
                    bound.extend(numbers);
                }
            }
            rows = next;
        }
        rows
    }

    fn too_many(&self, project: &Project<'d>, each: usize) -> Vec<(Vec<PathId>, Vec<PathId>)> {
        let span = project.decls[self.eaches[each].decl].syntax.span;
        self.vars.report(
            Diagnostic::error(
                &mistakes::TOO_MANY_STEPS,
                span,
                format!("this target comes to more than {MAX_STEPS} steps"),
            )
            .help("let its patterns share a hole, so that they are joined on it"),
        );
        Vec::new()
    }
}

/// Which of a slot's holes have a value already.
fn shared_holes(numbers: &[usize], bound: &HashSet<usize>) -> Vec<usize> {
    let all = 0..numbers.len();
    all.filter(|&at| bound.contains(&numbers[at])).collect()
}
