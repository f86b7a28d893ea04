//! A project as it stands in the editor: its descriptions read from unsaved texts, and what is wrong with them.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Arc;

use handloom_core::graph;
use handloom_core::language::script_names;
use handloom_core::ledger::Ledger;
use handloom_core::ledger::RealStorage;
use handloom_core::project::Description;
use handloom_core::project::decl::TaskDecl;
use handloom_core::project::environment::Overrides;
use handloom_core::project::folders::Folders;
use handloom_core::project::overrides::SetOutside;
use handloom_core::project::values::Vars;
use handloom_core::project_cache::LoadedProject;
use handloom_core::status::RecordingEnvironment;
use handloom_core::status::learned_edges::FoundEdges;
use handloom_core::text::Diagnostic;
use handloom_core::text::SourceId;
use handloom_core::text::Sources;
use handloom_core::text::Span;
use handloom_core::workspace::ProjectLocation;
use handloom_core::workspace::ProjectSettings;
use handloom_core::world::Disk;
use handloom_core::world::RealDisk;
use handloom_core::world::SystemClock;

use crate::language_server::outlook::Outlook;
use crate::language_server::overlay::OverlayDisk;
use crate::project;

/// A project, and the texts that are open in it.
pub struct ProjectText {
    /// Its folder.
    pub root: PathBuf,
    disk: OverlayDisk,
}

/// How far a project is worked out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CheckDepth<'h> {
    /// What is wrong.
    Mistakes,
    /// Also what a target would do, by its header.
    Target(&'h str),
    /// Also what all of it comes to.
    All,
}

impl ProjectText {
    /// The project around a file; that file's folder alone when there is none, or its owner is not trusted.
    pub fn around(file: &Path, open: &HashMap<PathBuf, Arc<str>>) -> Option<Self> {
        let folder = file.parent()?;
        let root = ProjectLocation::find(Some(folder), &project::user())
            .map_or_else(|_| folder.to_owned(), |location| location.root);
        let disk = RealDisk::open(&root).ok()?;
        let below = open.iter().filter_map(|(path, text)| {
            let path = path.strip_prefix(&root).ok()?.to_str()?;
            Some((path.to_owned(), Arc::clone(text)))
        });
        Some(Self {
            disk: OverlayDisk {
                disk,
                texts: below.collect(),
            },
            root,
        })
    }

    /// Its files, with what is open in front of them.
    pub fn disk(&self) -> &dyn Disk {
        &self.disk
    }

    /// All that is read of the description, mistakes or not.
    pub fn description(&self) -> (Description, Vec<Diagnostic>) {
        Description::read(&self.disk)
    }

    /// The source that a file is in a description; none when it is no part of it.
    pub fn source_of(&self, description: &Description, file: &Path) -> Option<SourceId> {
        let name = file.strip_prefix(&self.root).ok()?.to_str()?;
        let mut sources = description.sources.iter();
        sources.find_map(|(id, source)| (source.name == name).then_some(id))
    }

    /// The file of a source.
    pub fn file_of(&self, sources: &Sources, span: Span) -> PathBuf {
        self.root.join(&sources.get(span.source).name)
    }

    /// All that is wrong, worked out as a run would, with nothing asked and nothing written; and what it comes to, when that can be
    /// told.
    pub fn check(&self, depth: CheckDepth<'_>) -> (Sources, Vec<Diagnostic>, Option<Outlook>) {
        let clock = SystemClock::default();
        let (mut description, mut wrong) = self.description();
        let storage = Box::new(RealStorage::new(&self.root.join(".handloom")));
        let Ok((ledger, _)) = Ledger::open(storage, false) else {
            return (description.sources, wrong, None);
        };
        let ledger = RefCell::new(ledger);
        let env = |name: &str| std::env::var(name).ok();
        let root = self.root.to_string_lossy().into_owned();
        let environment = RecordingEnvironment::new(&self.disk, &clock, &ledger, &env, None, root);
        let (outside, more) =
            SetOutside::read(&mut description, &Overrides::default(), &environment);
        wrong.extend(more);
        let _ = ProjectSettings::read(&description, &mut wrong);
        if wrong.iter().any(Diagnostic::is_error) {
            return (description.sources, wrong, None);
        }
        let folders = Folders::new(&self.disk);
        let vars = Vars::new(&description, &outside, &environment, &folders);
        let found = FoundEdges::new();
        let calls = HashMap::new();
        let loaded = LoadedProject::load(&vars, None, None, &found, &ledger.borrow(), &calls);
        let project = loaded.project;
        wrong.extend(vars.take_diagnostics());
        let mut outlook = None;
        if !wrong.iter().any(Diagnostic::is_error) {
            for decl in project.decls.iter() {
                let _ = decl.recipe_text(&vars);
            }
            for task in project.tasks.iter().filter(|task| !task.is_called) {
                work_out(&vars, &task.decl);
            }
            wrong.extend(vars.take_diagnostics());
            wrong.extend(graph::find_cycle(&project));
            let only = match depth {
                CheckDepth::Target(header) => Some(header),
                _ => None,
            };
            if depth != CheckDepth::Mistakes && !wrong.iter().any(Diagnostic::is_error) {
                outlook = Some(Outlook::of(&project, &vars, &environment, only));
                wrong.extend(vars.take_diagnostics());
            }
        }
        drop(project);
        drop(vars);
        (description.sources, wrong, outlook)
    }
}

/// Works out the variables that a task's scripts have in them, as far as no call is needed for that: what is wrong with them is
/// reported.
fn work_out(vars: &Vars<'_>, task: &TaskDecl<'_>) {
    let clauses = &task.clauses;
    let own = |name: &str| {
        let mut parameters = task.syntax.parameters.iter();
        let mut lets = clauses.lets.iter();
        parameters.any(|one| &*one.name.text == name) || lets.any(|one| &*one.name.text == name)
    };
    let scripts = [clauses.recipe, clauses.ready, clauses.finally];
    for (name, _) in scripts.into_iter().flatten().flat_map(script_names) {
        if !own(name) && vars.has_value(task.part, name) {
            // Only what it reports counts.
            let _ = vars.known_value(task.part, name);
        }
    }
}
