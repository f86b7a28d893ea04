//! What the one that watches answers to others, and how it only stands there.

use handloom_core::content::Reader;
use handloom_core::graph::BuildRequest;
use handloom_core::graph::Node;
use handloom_core::graph::goals;
use handloom_core::project::folders::Folders;
use handloom_core::project_cache::BUILD;
use handloom_core::project_cache::ResidentProject;
use handloom_core::status::WatchSet;
use handloom_core::verdict::is_as_left;
use handloom_core::workspace::Access;
use handloom_core::workspace::ProjectLock;
use handloom_core::workspace::Workspace;

use crate::commands::list;
use crate::commands::run_options::cores;
use crate::commands::running;
use crate::commands::unchanged::hex;
use crate::commands::watch::Watch;
use crate::commands::why;
use crate::failure::CommandError;
use crate::project;
use crate::standing::StandingAnswer;
use crate::standing::StandingQuery;
use crate::standing::StandingWish;
use crate::watching;
use crate::watching::RebuildRequest;

/// More files than this that were noticed are not looked at to answer a question.
const MOST: usize = 256;

/// What is known of a project in which nothing has to be done.
pub struct Standing<'s, 'v, 'd> {
    workspace: &'s Workspace,
    resident: &'s ResidentProject<'v, 'd>,
    /// How many steps there are, while nothing was noticed.
    pub kept: Option<usize>,
    names: Vec<String>,
    /// Whether it weaves nothing itself.
    is_quiet: bool,
    environment: Vec<(String, Option<String>)>,
}

impl<'s, 'v, 'd> Standing<'s, 'v, 'd> {
    /// What a resident project can answer; none when more decides than what is told by notices.
    pub fn new(
        workspace: &'s Workspace,
        resident: &'s ResidentProject<'v, 'd>,
        names: &[String],
        kept: Option<usize>,
        is_quiet: bool,
    ) -> Option<Self> {
        if workspace.description.is_remarkable || workspace.is_personal {
            return None;
        }
        let environment = resident.environment_alone()?.into_iter();
        let told = environment.map(|(name, digest)| (name, digest.map(|digest| hex(&digest))));
        Some(Self {
            workspace,
            resident,
            kept,
            is_quiet,
            names: names.to_vec(),
            environment: told.collect(),
        })
    }

    /// The answer to a question, when `rebuild` is all that was noticed since nothing had to be done.
    pub fn answer(&self, query: &StandingQuery, rebuild: &mut RebuildRequest) -> StandingAnswer {
        let location = &self.workspace.location;
        let is_asked =
            query.build == BUILD && query.outside == hex(&self.workspace.outside_digest());
        let Some(kept) = self.kept.filter(|_| is_asked) else {
            return StandingAnswer::Alone;
        };
        if !self.is_quiet {
            self.forget_own(rebuild);
        }
        // Nobody else must have run since; one that only stands there is told of that.
        let is_alone = self.is_quiet || ProjectLock::is_signed_by_us(&location.own());
        if !rebuild.is_calm() || rebuild.others_wrote && self.is_quiet || !is_alone {
            return StandingAnswer::Alone;
        }
        let environment = self.environment.clone();
        let text = match query.wish {
            StandingWish::Unchanged => {
                let is_same = query.names == self.names && query.folder == location.folder;
                return match is_same {
                    true => StandingAnswer::Unchanged { kept, environment },
                    false => StandingAnswer::Alone,
                };
            }
            StandingWish::Why { last, style } => self
                .kept_step(query)
                .and_then(|step| why::of_kept(self.workspace, step, last, style).ok()),
            StandingWish::List { all, style } => {
                let project = &self.resident.loaded.project;
                list::of_project(self.resident.vars, project, all, style).ok()
            }
        };
        match text {
            Some(text) => StandingAnswer::Text { text, environment },
            None => StandingAnswer::Alone,
        }
    }

    /// The one step that is named, when it is among those that would be kept.
    fn kept_step(&self, query: &StandingQuery) -> Option<&str> {
        let project = &self.resident.loaded.project;
        let asked = BuildRequest {
            names: query.names.clone(),
            folder: query.folder.clone(),
            ..BuildRequest::default()
        };
        let found = goals(project, &asked);
        match (&found.unknown[..], &found.nodes[..]) {
            ([], [node]) if self.resident.order.nodes.contains(node) => match node.node(project) {
                Node::Step(step) => Some(project.step_name(step)),
                Node::Task(_) | Node::Set(_) => None,
            },
            _ => None,
        }
    }

    /// Forgets notices of what this process wrote itself: outputs that are as their steps left them.
    fn forget_own(&self, rebuild: &mut RebuildRequest) {
        if rebuild.invalidated.len() > MOST {
            return;
        }
        let ledger = self.workspace.ledger.borrow();
        let reader = Reader {
            disk: &self.workspace.disk,
            clock: &self.workspace.clock,
            records: &*ledger,
        };
        let mut buffer = Vec::new();
        rebuild.invalidated.retain(|path| {
            let step = ledger.maker(path).and_then(|maker| ledger.step(maker));
            let made = step.and_then(|step| step.outputs().find(|output| output.path == path));
            made.is_none_or(|made| !is_as_left(&made, &reader.look(path, &mut buffer).state))
        });
    }
}

impl Watch<'_> {
    /// Stands in the project without weaving, and answers questions while nothing was changed; gives what came.
    pub fn stand_quietly(&mut self) -> Result<RebuildRequest, CommandError> {
        let mut watch_set = WatchSet::default();
        let location = project::locate(self.common)?;
        if location.own().is_dir() {
            // A run that is at work writes for as long as it is.
            let name = "handloom watch --quietly";
            drop(ProjectLock::take(&location.own(), name, true, |_| {})?);
        }
        let workspace = match project::open(location, self.common, self.ui, Access::Read) {
            Ok(workspace) => workspace,
            Err(failure) => return self.mend(failure, watch_set),
        };
        let environment = workspace.environment();
        let folders = Folders::new(&workspace.disk);
        let vars = workspace.vars(&environment, &folders);
        let asked = running::request(&workspace, self.work);
        let resident = {
            let ledger = workspace.ledger.borrow();
            let cores = cores();
            ResidentProject::open(&vars, &folders, &asked, &ledger, &environment, cores)
        };
        watch_set.add_description(&workspace.description.sources);
        if let Some(resident) = &resident {
            let ledger = workspace.ledger.borrow();
            resident.watch(&mut watch_set, &ledger);
        }
        self.notices.cover(&watch_set);
        self.notices.follow(watch_set.causes());
        self.notices.hear(".handloom/");
        let mut rebuild = RebuildRequest::default();
        // What came before is in what is looked at now.
        watching::drain(&self.events_in, &mut rebuild, &watch_set);
        let shifted = watch_set.begin(&workspace.disk, &workspace.description.sources);
        // What always seems to shift is not looked at for ever.
        let again = self.is_news(shifted);
        self.say_of_polling();
        let kept = if shifted || self.notices.is_blind() || rebuild.ends() {
            None
        } else {
            let mut approach = project::approach(project::locate(self.common)?, self.common)?;
            approach.unchanged(&asked, cores(), None)
        };
        let standing = resident
            .as_ref()
            .and_then(|resident| Standing::new(&workspace, resident, &self.work.names, kept, true));
        rebuild = RebuildRequest {
            quit: rebuild.quit,
            interrupted: rebuild.interrupted,
            asked: rebuild.asked,
            everything: again,
            others_wrote: again,
            ..RebuildRequest::default()
        };
        Ok(self.wait(
            rebuild,
            &watch_set,
            &workspace.disk,
            false,
            standing.as_ref(),
        ))
    }
}
