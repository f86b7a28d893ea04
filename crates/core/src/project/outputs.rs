//! The files a step makes: their names put together, checked, and claimed by one step alone.

use crate::project::decl::Decl;
use crate::project::excluded::Excluded;
use crate::project::excluded::FolderUse;
use crate::project::expand::Expander;
use crate::project::folders::OWN_FOLDER;
use crate::project::frame::Frame;
use crate::project::model::NOBODY;
use crate::project::model::Project;
use crate::project::model::StepId;
use crate::project::paths::PathId;
use crate::project::pattern::fill_holes;
use crate::project::pattern::unescape;
use crate::project::value::Atom;
use crate::project::values::Vars;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::text::nearest;
use crate::world::names::folder_of;

/// Bytes of a name, and of a whole path from the root, as Linux takes them (limits.h: `NAME_MAX`, and
/// `PATH_MAX` with room for the root and for where a file is set by).
const MAX_NAME: usize = 255;
const MAX_PATH: usize = 3800;

impl<'d> Expander<'_, 'd> {
    /// A step's outputs, or nothing when its `when` does not hold or a word is wrong.
    pub(super) fn step_outputs(
        &self,
        project: &mut Project<'d>,
        index: usize,
        values: &[PathId],
    ) -> Option<Vec<(u16, PathId, Span)>> {
        let decl = &project.decls[index];
        let texts: Vec<&str> = values.iter().map(|&id| project.paths.get(id)).collect();
        let mut known: Option<Frame<'_>> = None;
        if let Some(when) = decl.clauses.when
            && decl.when_varies()
        {
            let frame = known.insert(decl.frame(self.vars, &texts)?);
            if !self.vars.condition(when, frame)? {
                return None;
            }
        }
        let folder = &self.vars.description.parts[decl.part.index()].folder;
        let mut outputs = Vec::with_capacity(1);
        let mut uses: Vec<(String, Excluded, Span)> = Vec::new();
        for (number, group) in decl.syntax.outputs.iter().enumerate() {
            let number = u16::try_from(number).unwrap_or(0);
            let from = outputs.len();
            for item in &group.items {
                let span = item.word.span;
                if let Some(text) = self.vars.literal(&item.word) {
                    outputs.push((number, self.inside(folder, text, span)?, span));
                    continue;
                }
                if let Some(source) = self.vars.plain_source(&item.word) {
                    let text = self.filled_path(decl, source, &texts, span)?;
                    outputs.push((number, self.inside(folder, &text, span)?, span));
                    continue;
                }
                let frame = match &known {
                    Some(frame) => frame,
                    None => known.insert(decl.frame(self.vars, &texts)?),
                };
                for atom in self.vars.word(&item.word, frame)?.atoms.iter() {
                    let text = self.plain_path(decl, atom, &texts, span)?;
                    outputs.push((number, self.inside(folder, &text, span)?, span));
                }
            }
            if !group.except.is_empty() {
                let frame = match &known {
                    Some(frame) => frame,
                    None => known.insert(decl.frame(self.vars, &texts)?),
                };
                let excluded = self.vars.excluded(&group.except, frame)?;
                for (_, path, span) in &outputs[from..] {
                    self.check_is_folder(path, *span)?;
                    uses.push((path.clone(), excluded.below(path), *span));
                }
            }
        }
        for (path, excluded, span) in uses {
            let path = project.paths.intern(&path);
            project.folder_uses.push(FolderUse {
                path,
                excluded,
                span,
                is_made: true,
            });
        }
        if outputs.is_empty() {
            let (kind, title) = (&mistakes::NAMELESS_TARGET, "this target names no file");
            let help = "its words come to nothing; check the variables in them";
            self.vars
                .report(Diagnostic::error(kind, decl.syntax.span, title).help(help));
            return None;
        }
        let paths = &mut project.paths;
        Some(
            outputs
                .into_iter()
                .map(|(group, path, span)| (group, paths.intern(&path), span))
                .collect(),
        )
    }

    fn check_is_folder(&self, path: &str, span: Span) -> Option<()> {
        if path.ends_with('/') {
            return Some(());
        }
        self.vars.report(
            Diagnostic::error(&mistakes::UNFIT_EXCEPT, span, format!("nothing can be left out of the file `{path}`"))
                .help("`except` stands behind a folder, whose name ends with a slash; a file called `except` goes in quotes"),
        );
        None
    }

    pub(super) fn plain_path(
        &self,
        decl: &Decl<'d>,
        atom: &Atom,
        values: &[&str],
        span: Span,
    ) -> Option<String> {
        match &atom.pattern {
            Some(source) => self.filled_path(decl, source, values, span),
            None => Some(atom.text.to_string()),
        }
    }

    pub(super) fn filled_path(
        &self,
        decl: &Decl<'d>,
        source: &str,
        values: &[&str],
        span: Span,
    ) -> Option<String> {
        let mut missing: Option<String> = None;
        let (filled, left) = fill_holes(source, |name| {
            let at = decl.holes.iter().position(|hole| hole == name);
            if at.is_none() {
                missing.get_or_insert_with(|| name.to_owned());
            }
            at.map(|at| values[at])
        });
        if let Some(name) = missing {
            self.unfilled(decl, &name, span);
            return None;
        }
        if left {
            self.vars.report(
                Diagnostic::error(&mistakes::WILDCARD_OUTPUT, span, "a target's name has a wildcard in it")
                    .help("write the name of the file, with holes such as `<unit>` that an `each` fills; quote characters that are meant as they stand"),
            );
            return None;
        }
        Some(unescape(&filled))
    }

    pub(super) fn unfilled(&self, decl: &Decl<'d>, name: &str, span: Span) {
        unfilled_hole(self.vars, decl, name, span);
    }

    /// An output's path from the root, which must lie in the project.
    pub(super) fn inside(&self, folder: &str, text: &str, span: Span) -> Option<String> {
        let path = self.vars.from_root(folder, text);
        let problem = if path.is_empty() {
            "a target needs a name"
        } else if path.starts_with('/') || path.starts_with("../") {
            "a target lies outside the project"
        } else if path == OWN_FOLDER || path.starts_with(".handloom/") {
            "a target lies in the folder that Hand Loom keeps its own files in"
        } else if self.vars.description.files.contains(&path) {
            "a target has the name of the description itself"
        } else if path.len() > MAX_PATH || path.split('/').any(|name| name.len() > MAX_NAME) {
            "a target has a longer name than the system takes"
        } else {
            return Some(path);
        };
        let shown: String = text.chars().take(80).collect();
        let cut = if shown.len() < text.len() { "…" } else { "" };
        self.vars.report(
            Diagnostic::error(
                &mistakes::INVALID_PATH,
                span,
                format!("{problem}: `{shown}{cut}`"),
            )
            .help("write a path below the project's folder, such as `out/name`"),
        );
        None
    }

    pub(super) fn claim(
        &mut self,
        project: &mut Project<'d>,
        step: StepId,
        (index, of): (usize, &[PathId]),
        path: PathId,
        span: Span,
    ) {
        if project.makers.len() <= path.index() {
            project.makers.resize(path.index() + 1, NOBODY);
        }
        let earlier = project.makers[path.index()];
        if earlier == NOBODY {
            project.makers[path.index()] = step.0;
            self.fresh.push(path);
            if project.paths.get(path).ends_with('/') {
                project.trees.push(path);
            }
            return;
        }
        let name = project.paths.get(path);
        let same = earlier == step.0 || project.steps[earlier as usize].decl as usize == index;
        let diagnostic = if same {
            let values = |step: &[&str]| {
                let holes = project.decls[index].holes.iter().zip(step);
                let shown: Vec<String> = holes
                    .map(|(hole, value)| format!("`<{hole}> = {value}`"))
                    .collect();
                shown.join(", ")
            };
            let first = project
                .steps
                .get(earlier as usize)
                .map(|step| project.step_values(step));
            let now: Vec<&str> = values_of(project, of);
            let both = match first {
                Some(first) if !first.is_empty() && !now.is_empty() => {
                    format!(": with {}, and with {}", values(&first), values(&now))
                }
                _ => String::new(),
            };
            Diagnostic::error(
                &mistakes::OUTPUT_MADE_TWICE,
                span,
                format!("more than one step of this target makes `{name}`{both}"),
            )
            .help("put each hole that differs from step to step into the target's name")
        } else {
            let other = project.decls[project.steps[earlier as usize].decl as usize]
                .syntax
                .span;
            Diagnostic::error(
                &mistakes::OUTPUT_MADE_TWICE,
                span,
                format!("two targets make `{name}`"),
            )
            .also(other, "the other")
            .help("let one of them write to another file")
        };
        self.vars.report(diagnostic);
    }

    /// Refuses outputs inside another target's folder, and a file where another needs a folder.
    pub(super) fn check_overlaps(&self, project: &Project<'d>) {
        for pair in project.sorted_outputs.windows(2) {
            let (first, second) = (project.paths.get(pair[0]), project.paths.get(pair[1]));
            if first.ends_with('/') && second.starts_with(first) {
                self.overlap(
                    project,
                    pair[0],
                    pair[1],
                    "lies in a folder that another target makes as a whole",
                );
            }
        }
        let mut folder_of_last = String::new();
        for &output in &project.sorted_outputs {
            let path = project.paths.get(output);
            let folder = folder_of(path);
            if folder == folder_of_last {
                continue;
            }
            folder.clone_into(&mut folder_of_last);
            for (at, _) in folder.match_indices('/') {
                if let Some(other) = project.paths.find(&path[..at])
                    && project.maker(other).is_some()
                {
                    self.overlap(
                        project,
                        other,
                        output,
                        "lies in what another target makes as a file",
                    );
                }
            }
        }
    }

    pub(super) fn overlap(&self, project: &Project<'d>, outer: PathId, inner: PathId, what: &str) {
        let span = |path: PathId| {
            project
                .maker(path)
                .map(|step| project.decl(project.step(step)).syntax.span)
                .unwrap_or_default()
        };
        self.vars.report(
            Diagnostic::error(
                &mistakes::NESTED_OUTPUTS,
                span(inner),
                format!("`{}` {what}", project.paths.get(inner)),
            )
            .also(span(outer), format!("makes `{}`", project.paths.get(outer)))
            .help("let one of them write somewhere else"),
        );
    }
}

fn values_of<'p>(project: &'p Project<'_>, values: &[PathId]) -> Vec<&'p str> {
    values.iter().map(|&id| project.paths.get(id)).collect()
}

/// Reports a hole that no `each` of a target fills.
pub fn unfilled_hole(vars: &Vars<'_>, decl: &Decl<'_>, name: &str, span: Span) {
    if !crate::language::is_name(name) {
        vars.report(
            Diagnostic::error(&mistakes::NOT_A_HOLE, span, "`<` does not begin a hole here: a hole is a name in `<…>`")
                .help("write `<name>`, or put the word in quotes if its characters are meant as they stand"),
        );
        return;
    }
    let near = nearest(name, decl.holes.iter().map(String::as_str));
    let help = match near {
        Some(near) => format!("did you mean `<{near}>`?"),
        None if decl.holes.is_empty() => {
            format!("name it where the files are matched, such as `needs each src/<{name}>.c`")
        }
        None => format!(
            "this target has: {}",
            decl.holes
                .iter()
                .map(|hole| format!("<{hole}>"))
                .collect::<Vec<_>>()
                .join(" ")
        ),
    };
    let wrong = Diagnostic::error(
        &mistakes::UNFILLED_HOLE,
        span,
        format!("no `each` of this target fills `<{name}>`"),
    )
    .help(help);
    let written = vars.description.sources.slice(span);
    let hole = format!("<{name}>");
    vars.report(match near {
        Some(near) if written.contains(&hole) => {
            wrong.instead(span.of(written, &hole), format!("<{near}>"))
        }
        _ => wrong,
    });
}
