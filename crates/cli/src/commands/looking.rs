//! What commands that only read have in common: a project worked out from what is there now, or taken over
//! from the last run where that still holds, with nothing run and nothing written.

use std::cell::RefCell;

use handloom_core::graph;
use handloom_core::graph::NodeId;
use handloom_core::graph::Order;
use handloom_core::project::Build;
use handloom_core::project::Project;
use handloom_core::project::StepId;
use handloom_core::project::TaskId;
use handloom_core::project::folders::Folders;
use handloom_core::project::values::Vars;
use handloom_core::text::Diagnostic;
use handloom_core::weave::Around;
use handloom_core::weave::Asked;
use handloom_core::weave::Known;
use handloom_core::weave::Prospect;
use handloom_core::weave::goals;
use handloom_core::weave::outlook;

use crate::arguments::Common;
use crate::context::Located;
use crate::context::Opened;
use crate::failure::Failure;
use crate::ui::Ui;

/// A project that is looked at.
pub struct Looking<'l, 'd> {
    /// Where everything comes from.
    pub opened: &'d Opened,
    /// The surroundings.
    pub around: &'l Around<'d>,
    /// The variables.
    pub vars: &'l Vars<'d>,
    /// The project.
    pub project: &'l Project<'d>,
    /// What the last run kept, when the project is taken over.
    known: RefCell<Option<Known>>,
    ui: Ui,
}

impl Looking<'_, '_> {
    /// Opens the project and hands it to `look`.
    pub fn at<T>(
        common: &Common,
        ui: Ui,
        look: impl FnOnce(&Looking<'_, '_>) -> Result<T, Failure>,
    ) -> Result<T, Failure> {
        let opened = Opened::open(Located::find(common)?, common, ui, false)?;
        Self::at_opened(&opened, ui, look)
    }

    /// The same for a project that is open.
    pub fn at_opened<T>(
        opened: &Opened,
        ui: Ui,
        look: impl FnOnce(&Looking<'_, '_>) -> Result<T, Failure>,
    ) -> Result<T, Failure> {
        let around = opened.around();
        let folders = Folders::new(&opened.disk);
        let vars = Vars::new(&opened.description, &opened.outside, &around, &folders);
        let known = Known::of_last_run(&opened.description, &Asked::default(), &around);
        let taken_over = known.and_then(|known| {
            let project = known.project(&vars)?;
            Some((project, known))
        });
        let (project, known) = match taken_over {
            Some((project, known)) => (project, Some(known)),
            None => {
                let build = Build {
                    vars: &vars,
                    settled: None,
                };
                (build.project(), None)
            }
        };
        let looking = Looking {
            opened,
            around: &around,
            vars: &vars,
            project: &project,
            known: RefCell::new(known),
            ui,
        };
        let warnings = looking.errors()?;
        ui.diagnostics(&opened.description.sources, &warnings);
        look(&looking)
    }

    /// Fails when something was found wrong; gives the warnings.
    fn errors(&self) -> Result<Vec<Diagnostic>, Failure> {
        let (errors, warnings): (Vec<_>, Vec<_>) = self
            .vars
            .take_diagnostics()
            .into_iter()
            .partition(Diagnostic::is_error);
        if errors.is_empty() {
            Ok(warnings)
        } else {
            Err(self.opened.wrong(errors))
        }
    }

    /// Shows the warnings that came since.
    pub fn warnings(&self) -> Result<(), Failure> {
        let warnings = self.errors()?;
        self.ui
            .diagnostics(&self.opened.description.sources, &warnings);
        Ok(())
    }

    /// What would become of everything that names reach.
    pub fn outlook(
        &self,
        names: &[String],
        remake: bool,
    ) -> Result<(Order, Vec<Prospect>), Failure> {
        let asked = Asked {
            names: names.to_vec(),
            folder: self.opened.located.folder.clone(),
            ..Asked::default()
        };
        let found = goals(self.project, &asked);
        if !found.unknown.is_empty() {
            return Err(self.opened.wrong(found.unknown));
        }
        self.outlook_of(&found.nodes, remake)
    }

    /// What would become of everything in the project.
    pub fn outlook_of_all(&self) -> Result<(Order, Vec<Prospect>), Failure> {
        let steps =
            (0..self.project.steps.len()).map(|step| NodeId::step(StepId::from_index(step)));
        let tasks = (0..self.project.tasks.len())
            .map(|task| NodeId::task(self.project, TaskId::from_index(task)));
        self.outlook_of(&steps.chain(tasks).collect::<Vec<_>>(), false)
    }

    fn outlook_of(
        &self,
        goals: &[NodeId],
        remake: bool,
    ) -> Result<(Order, Vec<Prospect>), Failure> {
        let order = graph::order(self.project, goals).map_err(|cycle| {
            self.opened
                .wrong(vec![graph::describe_cycle(self.project, &cycle)])
        })?;
        let remade: &[NodeId] = if remake { goals } else { &[] };
        let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
        let prospects = outlook(
            self.project,
            self.vars,
            self.around,
            &order,
            remade,
            threads,
            self.known.borrow_mut().as_mut(),
        );
        match prospects {
            Some(prospects) => Ok((order, prospects)),
            None => Err(self
                .errors()
                .err()
                .unwrap_or_else(|| self.opened.wrong(Vec::new()))),
        }
    }
}
