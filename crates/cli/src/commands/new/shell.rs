//! Shell scripts as tasks. They are never run unasked: what they do is not told by what they write.

use std::fmt::Write;

use super::section::Names;
use super::section::Section;
use super::section::word;
use super::survey::Survey;
use super::survey::stem_of;
use crate::ui::text;

/// More scripts than that are not described one by one.
const MOST: usize = 40;

/// The shell scripts of a project.
pub fn describe(survey: &Survey, names: &mut Names) -> Option<Section> {
    let endings = [".sh", ".bash"].into_iter();
    let mut all: Vec<&str> = endings.flat_map(|ending| survey.ending(ending)).collect();
    all.sort_unstable();
    if all.is_empty() {
        return None;
    }
    let surplus = all.split_off(all.len().min(MOST));
    let mut section = Section {
        told: text::count(all.len(), "shell script"),
        ..Section::default()
    };
    for path in all {
        let text = survey.text(path);
        let first = text.lines().next().unwrap_or("");
        let shell = ["bash", "zsh", "ksh"]
            .into_iter()
            .find(|shell| first.starts_with("#!") && first.trim_end().ends_with(shell))
            .unwrap_or(if path.ends_with(".bash") {
                "bash"
            } else {
                "sh"
            });
        let about = says_of_itself(&text).unwrap_or_else(|| format!("Run {}", path.escape_debug()));
        let task = names.task(stem_of(path), "script");
        let dot = if path.starts_with('-') { "./" } else { "" };
        let _ = write!(
            section.body,
            "\ntask {task}\n  about: {about}\n  needs {}\n  recipe: {shell} {dot}@{{needs}} @{{extra}}\n",
            word(path)
        );
        section.covers.push(path.to_owned());
    }
    let surplus = surplus.into_iter();
    section
        .left
        .extend(surplus.map(|path| format!("`{path}`: there are many shell scripts")));
    Some(section)
}

/// The first comment, where it stands before any command.
fn says_of_itself(text: &str) -> Option<String> {
    let mut lines = text.lines().map(str::trim);
    let line = lines.find(|line| !line.starts_with("#!") && *line != "#" && !line.is_empty())?;
    let told: String = line
        .strip_prefix('#')?
        .trim_matches(['#', ' ', '.', '-'])
        .to_owned();
    let told: String = told.chars().filter(|c| !c.is_control()).take(90).collect();
    (!told.is_empty()).then_some(told)
}
