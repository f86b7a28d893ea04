//! Prerequisites that no target makes must be there before anything begins.

use crate::content::State;
use crate::graph::Node;
use crate::graph::PerPosition;
use crate::graph::Position;
use crate::project::PathId;
use crate::project::What;
use crate::project::clauses::Clauses;
use crate::project::shell::quote_all;
use crate::scheduler::options::BuildError;
use crate::scheduler::pass_view::PassView;
use crate::status::FileStates;
use crate::text::Diagnostic;
use crate::text::Span;
use crate::text::mistakes;
use crate::text::nearest;
use crate::world::Disk;
use crate::world::names::folder_of;

/// What a search for missing sources looks at.
pub struct SourceCheck<'c, 'p, 'd> {
    /// The project.
    pub view: PassView<'p, 'd>,
    /// What stands at its paths.
    pub states: &'c FileStates<'c>,
    /// The file system.
    pub disk: &'c dyn Disk,
}

impl SourceCheck<'_, '_, '_> {
    /// Reports every prerequisite of what is active that is neither there nor made by anybody.
    pub fn check(&self, active: &PerPosition<bool>) -> Result<(), BuildError> {
        let project = self.view.project;
        let mut wrong = false;
        for position in active.set() {
            let needs = match self.view.node(position) {
                Node::Step(step) => project.step_needs(project.step(step)),
                Node::Task(task) => &project.tasks[task.index()].needs,
                Node::Set(_) => continue,
            };
            for need in needs {
                if let What::Path(path) = need.what {
                    wrong |= self.is_missing(position, need.group, path);
                }
            }
        }
        if wrong {
            return Err(BuildError::reported());
        }
        Ok(())
    }

    /// Reports a prerequisite that is neither there nor made by anybody; whether it is so.
    fn is_missing(&self, position: Position, group: u16, path: PathId) -> bool {
        let project = self.view.project;
        let Some((title, help)) = self.what_is_wrong(path) else {
            return false;
        };
        let (clauses, described) = match self.view.node(position) {
            Node::Step(step) => {
                let decl = project.decl(project.step(step));
                (&decl.clauses, decl.syntax.span)
            }
            Node::Task(task) => {
                let decl = &project.tasks[task.index()].decl;
                (&decl.clauses, decl.syntax.span)
            }
            Node::Set(_) => return false,
        };
        let span = self.need_word(clauses, group, path).unwrap_or(described);
        let needed_by = format!("needed by `{}`", self.view.name(position));
        let diagnostic = Diagnostic::error(&mistakes::MISSING_SOURCE, span, title).here(needed_by);
        self.view
            .vars
            .report(diagnostic.maybe_help(help.or_else(|| {
                Some("check the name; paths are seen from the folder of this hand.loom".to_owned())
            })));
        true
    }

    /// What is wrong with a prerequisite, and what to do; nothing when it is there or made.
    fn what_is_wrong(&self, path: PathId) -> Option<(String, Option<String>)> {
        let project = self.view.project;
        if project.maker(path).is_some() {
            return None;
        }
        let name = project.paths.get(path);
        match self.states.get(path) {
            state @ State::Linked(_) if state.is_dangling() => Some((
                format!("`{name}` is needed, but it is a link to something that is not there"),
                Some(match self.disk.read_link(name) {
                    Ok(end) => format!("it says `{end}`; mend the link, or make what it leads to"),
                    Err(_) => "mend the link, or make what it leads to".to_owned(),
                }),
            )),
            State::Content(_) | State::Linked(_) => None,
            State::Missing => {
                let makes = project
                    .outputs_in(if name.ends_with('/') { name } else { "\0" })
                    .next()
                    .is_some();
                (!makes).then(|| {
                    (
                        format!("`{name}` is needed, but it is not there and no target makes it"),
                        self.near_file(name).or_else(|| sketched(name)),
                    )
                })
            }
            State::WrongKind if name.ends_with('/') => Some((
                format!("`{name}` is needed as a folder, but it is a file"),
                Some(format!("write `{}`", name.trim_end_matches('/'))),
            )),
            State::WrongKind => Some((
                format!("`{name}` is needed as a file, but it is a folder"),
                Some(format!("write `{name}/` for the whole folder")),
            )),
            State::Unreadable(why) => Some((format!("`{name}` can't be read: {why}"), None)),
        }
    }

    /// The word that a prerequisite was written with: the one that names it, or the first of its group.
    fn need_word(&self, clauses: &Clauses<'_>, group: u16, path: PathId) -> Option<Span> {
        let sources = &self.view.vars.description.sources;
        let items = &clauses.needs.get(group as usize)?.items;
        let name = self.view.project.paths.get(path);
        let named = items
            .iter()
            .find(|item| name.ends_with(sources.slice(item.word.span).trim_start_matches("./")));
        named.or(items.first()).map(|item| item.word.span)
    }

    fn near_file(&self, name: &str) -> Option<String> {
        let folder = folder_of(name);
        let listing = self.view.vars.folders.list(folder);
        let here: Vec<String> = listing
            .iter()
            .map(|entry| format!("{folder}{}", entry.name))
            .collect();
        let project = self.view.project;
        let outputs = project
            .outputs_in(folder)
            .take(1000)
            .map(|path| project.paths.get(path));
        // The file itself is there when it came, or came back, just now.
        let others = here.iter().map(String::as_str).chain(outputs);
        nearest(name, others.filter(|other| *other != name))
            .map(|near| format!("did you mean `{near}`?"))
    }
}

/// How a first version of a missing script is had.
fn sketched(name: &str) -> Option<String> {
    let is_script = [".py", ".R", ".r", ".sh", ".awk"]
        .iter()
        .any(|ending| name.ends_with(ending));
    is_script.then(|| {
        let name = quote_all(std::iter::once(name));
        format!("check the name, or write a first version with `handloom sketch {name}`")
    })
}
