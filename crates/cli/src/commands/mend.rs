//! `handloom tidy --mend`: writes what is likely meant in place of what is wrong, where a message says "did you mean", and shows the
//! difference first.

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::Arc;

use handloom_core::project::description::FILE_NAME;
use handloom_core::text::Diagnostic;
use handloom_core::text::Replacement;
use handloom_core::text::Sources;

use crate::arguments::Common;
use crate::arguments::TidyArguments;
use crate::commands::clean::confirm;
use crate::commands::clean::is_attended;
use crate::failure::CommandError;
use crate::failure::DESCRIPTION;
use crate::failure::RECIPE;
use crate::language_server::CheckDepth;
use crate::language_server::ProjectText;
use crate::project;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// One mended mistake may be in front of another; a circle of them ends here.
const ROUNDS: usize = 20;

/// Carries it out.
pub fn run(common: &Common, arguments: &TidyArguments, ui: Ui) -> Result<ExitCode, CommandError> {
    let root = project::locate(common)?.root;
    let description = root.join(FILE_NAME);
    let mut mended: HashMap<PathBuf, Arc<str>> = HashMap::new();
    let mut shown = String::new();
    let mut round = 0;
    let (sources, left) = loop {
        let opened = ProjectText::around(&description, &mended);
        let opened = opened.ok_or_else(|| {
            CommandError::io(
                "can't read the project",
                std::io::Error::other("its folder is not there"),
            )
        })?;
        let (sources, wrong, _) = opened.check(CheckDepth::Mistakes);
        let replacements = replacements(&wrong);
        if replacements.is_empty() || round == ROUNDS {
            break (sources, wrong);
        }
        round += 1;
        for (name, text) in mend(&sources, &replacements, ui, &mut shown) {
            mended.insert(opened.root.join(name), text.into());
        }
    };
    let left: Vec<Diagnostic> = left.into_iter().filter(Diagnostic::is_error).collect();
    if mended.is_empty() {
        ui.diagnostics(&sources, &left);
        let nothing = match left.is_empty() {
            true => "nothing is wrong\n",
            false => "none of it can be mended like this\n",
        };
        ui.print(nothing)?;
        return Ok(ExitCode::from(if left.is_empty() {
            0
        } else {
            DESCRIPTION
        }));
    }
    ui.print(&shown)?;
    let question = format!("{}; write it? [y/N] ", text::count(mended.len(), "file"));
    let is_wanted = arguments.yes || is_attended() && confirm(&question)?;
    if !is_wanted {
        ui.say("nothing is written; `--yes` writes it\n");
        return Ok(ExitCode::from(RECIPE));
    }
    for (path, new) in &mended {
        project::write_description(path, &path.display().to_string(), new)?;
    }
    ui.print(&format!("mended {}\n", text::count(mended.len(), "file")))?;
    ui.diagnostics(&sources, &left);
    Ok(ExitCode::from(if left.is_empty() {
        0
    } else {
        DESCRIPTION
    }))
}

/// What can well be meant alone, no two at one place, the last of each file first.
fn replacements(wrong: &[Diagnostic]) -> Vec<&Replacement> {
    let errors = wrong.iter().filter(|one| one.is_error());
    let all = errors.filter_map(|one| one.replacement.as_ref());
    let mut all: Vec<&Replacement> = all.filter(|one| one.is_sure).collect();
    all.sort_by_key(|one| (one.span.source, std::cmp::Reverse(one.span.start)));
    all.dedup_by(|next, before| {
        next.span.source == before.span.source && next.span.end > before.span.start
    });
    all
}

/// The texts with what is likely meant in them; the lines that change are added to what is shown.
fn mend(
    sources: &Sources,
    replacements: &[&Replacement],
    ui: Ui,
    shown: &mut String,
) -> BTreeMap<String, String> {
    let mut texts: BTreeMap<String, String> = BTreeMap::new();
    for one in replacements {
        let source = sources.get(one.span.source);
        let (start, end) = (one.span.start as usize, one.span.end as usize);
        let new = texts
            .entry(source.name.clone())
            .or_insert_with(|| source.text.clone());
        let first = new[..start].rfind('\n').map_or(0, |at| at + 1);
        let line = |text: &str| text[first..].lines().next().unwrap_or_default().to_owned();
        let before = line(new);
        new.replace_range(start..end, &one.text);
        let place = sources.name_and_line(one.span);
        shown.push_str(&format!(
            "{}\n  {}\n  {}\n",
            ui.out.paint(Role::Faint, &text::safe(&place)),
            ui.out
                .paint(Role::Failed, &format!("- {}", text::safe(before.trim()))),
            ui.out
                .paint(Role::Made, &format!("+ {}", text::safe(line(new).trim()))),
        ));
    }
    texts
}
