//! Files of targets that are named by another name, which leads to them through a link.
//!
//! By its name alone such a prerequisite is a source, so nobody would wait for its target, and what was read is what stood
//! there before. Each folder that holds sources or outputs is followed once. A source that is a link itself is seen to be one
//! when it is looked at, and who reads it comes behind what it leads to (`scheduler/undeclared_edges.rs`).

use std::collections::HashMap;

use crate::project::model::Project;
use crate::project::model::StepId;
use crate::project::needs::Resolver;
use crate::project::paths::PathId;
use crate::project::paths::relative;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::world::names::folder_of;

/// Where folders lead to, by their paths; nothing for those that lead to themselves, or out of the project.
#[derive(Default)]
pub(super) struct LinkedFolders(HashMap<String, Option<String>>);

impl<'d> Resolver<'_, 'd> {
    /// Reports a prerequisite that is the file of a target behind a link; the folder is that of the description.
    pub(super) fn check_links(
        &mut self,
        project: &Project<'d>,
        path: PathId,
        (span, folder): (Span, &str),
    ) {
        if project.maker(path).is_some() {
            return;
        }
        let name = project.paths.get(path);
        let Some(real) = self.behind_link(project, name) else {
            return;
        };
        if project.tree_around(name).is_some() {
            return;
        }
        let is_made = match name.ends_with('/') {
            true => project.outputs_in(&real).next().is_some(),
            false => project.maker_of(&real).is_some(),
        };
        if is_made {
            // The root itself is written so.
            let real = if real.is_empty() { "./" } else { &*real };
            let wanted = relative(real, folder);
            self.vars.report(
                Diagnostic::error(
                    &mistakes::BEHIND_LINK,
                    span,
                    format!("`{name}` is `{real}`, which a target makes, behind a link"),
                )
                .help(format!(
                    "write `{wanted}`: what is behind a link is not known to be made first"
                )),
            );
        }
    }

    /// Reports files of targets that lie behind a link and are used by their own name as well.
    pub(super) fn check_outputs(
        &mut self,
        project: &Project<'d>,
        steps: impl Iterator<Item = StepId>,
    ) {
        for step in steps {
            let step = project.step(step);
            for &(_, path) in step.outputs.of(&project.outputs) {
                let name = project.paths.get(path);
                let folder = folder_of(name.trim_end_matches('/'));
                let Some(real) = self.folder_behind(project, folder) else {
                    continue;
                };
                let real = format!("{real}{}", &name[folder.len()..]);
                if project.paths.find(&real).is_some() {
                    let decl = project.decl(step);
                    self.vars.report(
                        Diagnostic::error(
                            &mistakes::BEHIND_LINK,
                            decl.syntax.span,
                            format!("`{name}` is `{real}` behind a link, and both names are used"),
                        )
                        .help("use one name for it everywhere"),
                    );
                }
            }
        }
    }

    /// Where a prerequisite leads, when that is not where it stands.
    fn behind_link(&mut self, project: &Project<'d>, name: &str) -> Option<String> {
        if name.ends_with('/') {
            return self.folder_behind(project, name);
        }
        let folder = folder_of(name);
        let real = self.folder_behind(project, folder)?;
        Some(format!("{real}{}", &name[folder.len()..]))
    }

    fn folder_behind(&mut self, project: &Project<'d>, folder: &str) -> Option<String> {
        if let Some(known) = self.linked_folders.0.get(folder) {
            return known.clone();
        }
        let real = self.vars.folders.real_path(folder);
        if real.is_err() && project.outputs_in(folder).next().is_none() {
            // What comes there is looked at again.
            self.vars.folders.is_folder(folder);
        }
        let real = real.ok().flatten();
        let mut real = real.filter(|real| real != folder.trim_end_matches('/'));
        if let Some(real) = &mut real
            && !real.is_empty()
        {
            real.push('/');
        }
        let known = real.clone();
        self.linked_folders.0.insert(folder.to_owned(), known);
        real
    }
}
