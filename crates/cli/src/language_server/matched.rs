//! What a pattern matches: it is looked for in folders, which may be many.

use handloom_core::project::folders::Folders;
use handloom_core::project::pattern::Pattern;

use crate::language_server::project_text::ProjectText;

/// So many files that a pattern matches are named.
const MOST_FILES: usize = 12;

/// A pattern that is asked about.
pub struct PatternQuestion {
    /// From the root.
    pub pattern: String,
    /// What it matches of what targets make.
    pub made: Vec<String>,
}

/// What a pattern matches now: files, and what targets make.
pub fn matched(project: &ProjectText, asked: PatternQuestion) -> Option<String> {
    let PatternQuestion { pattern, made } = asked;
    let compiled = Pattern::compile(&pattern).ok()?;
    let mut found: Vec<String> = Vec::new();
    Folders::new(project.disk())
        .walk(&compiled, &mut |path| found.push(path.to_owned()))
        .ok()?;
    found.extend(made);
    found.sort_unstable();
    found.dedup();
    let count = match found.len() {
        0 => "nothing now".to_owned(),
        1 => "one file now".to_owned(),
        count => format!("{count} files now"),
    };
    let mut text = format!("`{pattern}` matches {count}");
    if !found.is_empty() {
        let more = found.len().saturating_sub(MOST_FILES);
        found.truncate(MOST_FILES);
        if more > 0 {
            found.push(format!("… and {more} more"));
        }
        text.push_str(&format!("\n```\n{}\n```", found.join("\n")));
    }
    Some(text)
}
