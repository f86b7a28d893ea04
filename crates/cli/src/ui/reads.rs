//! What watched steps read and do not name, and the like: gathered while a run goes on, said once at its end.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use handloom_core::executor::watching::SealRefusal;
use handloom_core::project::shell::quote_all;
use handloom_core::scheduler::ReadReport;

use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

/// So many groups of steps are named for each matter.
const MOST_GROUPS: usize = 6;
/// So many files of each.
const MOST_FILES: usize = 12;

/// For each list of files the steps that it is said of.
type Groups = BTreeMap<Vec<String>, Vec<String>>;

/// What is to be said at the end of a run.
#[derive(Default)]
pub struct ReadNotes {
    undeclared: Groups,
    outside: Groups,
    unread: Groups,
    written: Groups,
    refused: Groups,
    refused_writes: Groups,
    gaps: BTreeMap<String, Vec<String>>,
}

impl ReadNotes {
    /// Takes in what one step read.
    pub fn add(&mut self, report: &ReadReport) {
        let mut enter = |groups: fn(&mut Self) -> &mut Groups, files: &[String]| {
            if !files.is_empty() {
                let steps = groups(self).entry(files.to_vec()).or_default();
                steps.push(report.step.clone());
            }
        };
        enter(|notes| &mut notes.undeclared, &report.undeclared);
        if report.first {
            enter(|notes| &mut notes.outside, &by_folder(&report.outside));
            enter(|notes| &mut notes.unread, &report.unread);
            enter(|notes| &mut notes.written, &report.written);
        }
        enter(|notes| &mut notes.refused, &report.refused);
        enter(|notes| &mut notes.refused_writes, &report.refused_writes);
        for gap in &report.gaps {
            let steps = self.gaps.entry(gap.clone()).or_default();
            steps.push(report.step.clone());
        }
    }

    /// All of it as text; empty when there is nothing to say.
    pub fn text(&self, theme: Theme) -> String {
        let mut out = String::new();
        let mut section = |title: &str, groups: &Groups, keyword: &str| {
            if groups.is_empty() {
                return;
            }
            let _ = writeln!(out, "{}", theme.paint(Role::Held, title));
            for (files, steps) in groups.iter().take(MOST_GROUPS) {
                let _ = writeln!(out, "  {}", theme.paint(Role::Name, &named(steps)));
                let _ = writeln!(out, "    {keyword}{}", words(files));
            }
            if let Some(more) = groups
                .len()
                .checked_sub(MOST_GROUPS)
                .filter(|more| *more > 0)
            {
                let _ = writeln!(
                    out,
                    "  and more for {more} other lists of files; `--events` has all"
                );
            }
        };
        section(
            "read and not named, and learned all the same; to name it:",
            &self.undeclared,
            "needs ",
        );
        section(
            "read outside of the project, which only `learn watched everywhere` compares:",
            &self.outside,
            "",
        );
        section("named and not read:", &self.unread, "");
        section(
            "left beside the outputs, where nobody knows of it:",
            &self.written,
            "",
        );
        section(
            "hidden from what is sealed; to let it be read:",
            &self.refused,
            "needs ",
        );
        section(
            "not let be written, since it is no output:",
            &self.refused_writes,
            "",
        );
        if !self.gaps.is_empty() {
            let _ = writeln!(out, "{}", theme.paint(Role::Held, "perhaps not seen:"));
        }
        for (gap, steps) in self.gaps.iter().take(MOST_GROUPS) {
            let _ = writeln!(out, "  {}", theme.paint(Role::Name, &named(steps)));
            let _ = writeln!(out, "    {}", text::safe(gap));
        }
        out
    }
}

/// Files and folders that a sealed job was refused, as lines that let it have them.
pub fn refusals(refused: &[SealRefusal]) -> Vec<String> {
    let line = |one: &SealRefusal| {
        let path = quote_all(std::iter::once(one.path.as_str()));
        match (one.write, one.path.starts_with('/')) {
            (true, _) => format!(
                "write {path}   only its outputs can be written; name it as one, or use $TMPDIR"
            ),
            (false, true) => format!("read {path}   `setting sealed-read = {path}` lets it"),
            (false, false) => format!("read {path}   `needs {path}` lets it"),
        }
    };
    let mut lines: Vec<String> = refused.iter().take(MOST_FILES).map(line).collect();
    if let Some(more) = refused
        .len()
        .checked_sub(MOST_FILES)
        .filter(|more| *more > 0)
    {
        lines.push(format!("and {more} more"));
    }
    lines
}

/// Many files below one folder, as what was installed there, are named by that.
fn by_folder(files: &[String]) -> Vec<String> {
    const FEW: usize = 3;
    let around = |file: &str| {
        let mut slashes = file.match_indices('/').map(|(at, _)| at);
        slashes.nth(2).map_or(file.len(), |at| at + 1)
    };
    let mut folders: BTreeMap<&str, Vec<&String>> = BTreeMap::new();
    for file in files {
        folders.entry(&file[..around(file)]).or_default().push(file);
    }
    let named = folders.into_iter().flat_map(|(folder, files)| {
        if files.len() > FEW {
            vec![format!("{folder} ({} files)", files.len())]
        } else {
            files.into_iter().cloned().collect()
        }
    });
    named.collect()
}

/// The steps that something is said of.
fn named(steps: &[String]) -> String {
    let first = steps.first().map_or("", String::as_str);
    match steps.len() {
        0 | 1 => text::safe(first),
        2 => format!("{} and {}", text::safe(first), text::safe(&steps[1])),
        count => format!("{} and {} other steps", text::safe(first), count - 1),
    }
}

/// Files as words of a description.
fn words(files: &[String]) -> String {
    let shown = files.iter().take(MOST_FILES).map(String::as_str);
    let shown = if files.iter().any(|file| file.ends_with(" files)")) {
        shown.collect::<Vec<_>>().join(" ")
    } else {
        quote_all(shown)
    };
    let shown = text::safe(&shown);
    match files.len().checked_sub(MOST_FILES) {
        Some(more) if more > 0 => format!("{shown} # and {more} more"),
        _ => shown,
    }
}
