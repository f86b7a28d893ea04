//! What each `each` of a target goes through: files, words, the rows of a table.

use std::collections::HashMap;
use std::collections::HashSet;

use crate::language::EachClause;
use crate::language::EachSource;
use crate::language::Word;
use crate::project::each::each_words;
use crate::project::each_match::FileSlot;
use crate::project::each_match::GatheredFiles;
use crate::project::each_match::HoleSlot;
use crate::project::expand::Expander;
use crate::project::file_values::TableRows;
use crate::project::frame::Frame;
use crate::project::model::Project;
use crate::project::paths::PathId;
use crate::project::value::Value;
use crate::text::Diagnostic;
use crate::text::mistakes;

/// The values of an `each`, each row with one for each of its names.
enum EachRows {
    Words(Value),
    Table(TableRows),
}

impl<'d> Expander<'_, 'd> {
    pub(super) fn slots(&self, project: &mut Project<'d>, index: usize) -> Option<Vec<HoleSlot>> {
        let mut slots = Vec::new();
        let decl = &project.decls[index];
        let frame = decl.fixed_frame();
        let folder = &self.vars.description.parts[decl.part.index()].folder;
        for (word, except) in each_words(&decl.clauses) {
            let atom = self.vars.single(word, &frame)?;
            let source = self.vars.source_from_root(folder, &atom.source());
            let pattern = self.vars.pattern(&source, word.span)?;
            let except = self.vars.excluded(except, &frame)?;
            if pattern.holes().is_empty() {
                self.no_hole(word);
                return None;
            }
            let holes = pattern
                .holes()
                .iter()
                .map(|hole| decl.holes.iter().position(|known| known == hole))
                .collect::<Option<Vec<usize>>>()?;
            slots.push(HoleSlot::Files(Box::new(FileSlot {
                span: word.span,
                holes,
                except,
                gathered: pattern.gathers().then(|| GatheredFiles {
                    source,
                    of_values: HashMap::new(),
                }),
                pattern,
                matches: Vec::new(),
                seen: HashSet::new(),
            })));
        }
        let mut lists = Vec::new();
        for each in &decl.clauses.each {
            let holes = each.names.iter().map(|name| {
                let mut known = decl.holes.iter();
                known.position(|hole| **hole == *name.text)
            });
            let holes = holes.collect::<Option<Vec<usize>>>()?;
            lists.push((holes, self.each_rows(each, &frame)?));
        }
        for (holes, rows) in lists {
            let mut seen: HashSet<Vec<PathId>> = HashSet::new();
            let mut values: Vec<Vec<PathId>> = Vec::new();
            let mut add = |row: &mut dyn Iterator<Item = &str>| {
                let row: Vec<PathId> = row.map(|text| project.paths.intern(text)).collect();
                // Equal rows are one step.
                if seen.insert(row.clone()) {
                    values.push(row);
                }
            };
            match &rows {
                EachRows::Words(words) => {
                    words.texts().for_each(|text| add(&mut [text].into_iter()));
                }
                EachRows::Table(rows) => rows
                    .iter()
                    .for_each(|cells| add(&mut cells.iter().map(String::as_str))),
            }
            let row_slot = HoleSlot::Rows {
                holes,
                rows: values,
            };
            slots.push(row_slot);
        }
        Some(slots)
    }

    /// The values of an `each` that goes through words or rows.
    fn each_rows(&self, each: &EachClause, frame: &Frame<'_>) -> Option<EachRows> {
        match &each.from {
            EachSource::Words(words) => self.vars.words(words, frame).map(EachRows::Words),
            EachSource::Table { file, rows } => {
                let columns = each.names.iter().map(|name| name.text.to_string());
                let names = &each.names;
                let span = names.first().zip(names.last());
                let span = span.map_or(file.span, |(first, last)| first.span.to(last.span));
                let rows = rows.as_ref();
                let rows = self
                    .vars
                    .table_rows(file, columns.collect(), rows, span, frame)?;
                Some(EachRows::Table(rows))
            }
        }
    }

    /// Reports a pattern behind an `each` that has no hole.
    fn no_hole(&self, word: &Word) {
        let written = self.vars.description.sources.slice(word.span);
        if let Some(at) = written
            .find('<')
            .filter(|_| written.starts_with(['"', '\'']))
        {
            // The folders in front may need the quotes; the hole must stand outside of them.
            let from = written[..at].rfind('/').map_or(at, |slash| slash + 1);
            let quote = &written[..1];
            let inner = written[from..].trim_end_matches(['"', '\'']);
            self.vars.report(
                Diagnostic::error(
                    &mistakes::EACH_WITHOUT_HOLE,
                    word.span,
                    "holes in quotes are plain text, so this `each` has none",
                )
                .help(format!("write `{}{quote}{inner}`", &written[..from])),
            );
            return;
        }
        self.vars.report(
            Diagnostic::error(&mistakes::EACH_WITHOUT_HOLE, word.span, "this `each` has no hole, so every step would be the same")
                .help("name the part that differs, such as `each src/<unit>.c`; without `each` all matches go into one step"),
        );
    }
}
