//! What a step read when it last ran: for `list --reads`, and for `why`.

use std::process::ExitCode;

use serde::Serialize;

use handloom_core::content::LearnedPath;
use handloom_core::graph::Node;
use handloom_core::ledger::StepView;
use handloom_core::workspace::Access;

use crate::arguments::Common;
use crate::arguments::Format;
use crate::arguments::ListArguments;
use crate::commands::read_only::ReadOnlyProject;
use crate::failure::CommandError;
use crate::project;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;

/// So many paths of each kind are shown, unless all are asked for.
const MOST: usize = 20;

/// What a step saw when it last ran.
#[derive(Serialize)]
pub struct StepReads<'r> {
    /// Its prerequisites, as it names them.
    named: Vec<&'r str>,
    /// Files that it read and does not name.
    read: Vec<&'r str>,
    /// Folders whose names it asked for.
    listed: Vec<&'r str>,
    /// Folders of which it saw that they are there.
    folders: Vec<&'r str>,
    /// What it looked for in vain.
    absent: Vec<&'r str>,
    /// Inputs that are no files.
    given: Vec<&'r str>,
}

#[derive(Serialize)]
struct StepReadsJson<'r> {
    step: &'r str,
    #[serde(flatten)]
    reads: StepReads<'r>,
}

impl<'r> StepReads<'r> {
    /// What a record says.
    pub fn of(record: StepView<'r>) -> Self {
        let mut reads = Self {
            named: record.needs().map(|edge| edge.path).collect(),
            read: Vec::new(),
            listed: Vec::new(),
            folders: Vec::new(),
            absent: Vec::new(),
            given: record.givens().iter().map(|(key, _)| *key).collect(),
        };
        for edge in record.learned() {
            match LearnedPath::of(edge.path) {
                _ if edge.is_in_vain() => reads.absent.push(edge.path),
                LearnedPath::File(path) | LearnedPath::Link(path) => reads.read.push(path),
                LearnedPath::Names("") => reads.listed.push("./"),
                LearnedPath::Names(folder) => reads.listed.push(folder),
                LearnedPath::Folder(folder) => reads.folders.push(folder),
            }
        }
        reads
    }

    /// One paragraph for each kind of input.
    pub fn write(&self, all: bool, out: &mut String) {
        let lists = [
            ("made from", &self.named),
            ("learned of", &self.read),
            ("listed", &self.listed),
            ("saw", &self.folders),
            ("not there", &self.absent),
            ("given", &self.given),
        ];
        for (title, paths) in lists.into_iter().filter(|(_, paths)| !paths.is_empty()) {
            let most = if all { paths.len() } else { MOST };
            let shown = paths.iter().take(most);
            let mut names: Vec<String> = shown.map(|path| text::safe(path)).collect();
            if paths.len() > most {
                names.push(format!("… and {} more", paths.len() - most));
            }
            for (at, line) in text::paragraph(&names, 80).iter().enumerate() {
                let title = if at == 0 { title } else { "" };
                out.push_str(&format!("  {title:<10}  {line}\n"));
            }
        }
    }
}

/// Carries `list --reads NAME` out.
pub fn run(
    common: &Common,
    arguments: &ListArguments,
    name: &str,
    ui: Ui,
) -> Result<ExitCode, CommandError> {
    let approach = project::approach(project::locate(common)?, common)?;
    let workspace = project::open_after(approach, common, ui, Access::Read)?;
    ReadOnlyProject::at_opened_asking(&workspace, arguments.asking, ui, |read_only| {
        let (order, _) = read_only.dry_run(&[name.to_owned()], false)?;
        let node = order.positions().next_back().map(|last| order.node(last));
        let step = node.and_then(|id| match id.node(read_only.project) {
            Node::Step(step) => Some(step),
            Node::Task(_) | Node::Set(_) => None,
        });
        let Some(step) = step else {
            return Err(CommandError::usage(
                format!("`{name}` is nothing that one step makes"),
                "name a file that a target makes; `handloom list --all` shows them",
            ));
        };
        let step = read_only.project.step_name(step);
        let ledger = workspace.ledger.borrow();
        let record = ledger.step(step);
        let reads = record.map(StepReads::of);
        if arguments.format == Format::Json {
            let reads = reads.unwrap_or_else(StepReads::nothing);
            ui.print_json(&StepReadsJson { step, reads })?;
            return Ok(ExitCode::SUCCESS);
        }
        let mut out = String::new();
        let shown = ui.out.paint(Role::Name, &text::safe(step));
        match reads {
            None => out.push_str(&format!("{shown} was never made\n")),
            Some(reads) => {
                out.push_str(&format!("{shown}, as it was made last:\n"));
                reads.write(true, &mut out);
            }
        }
        ui.print(&out)?;
        Ok(ExitCode::SUCCESS)
    })
}

impl StepReads<'_> {
    fn nothing() -> Self {
        Self {
            named: Vec::new(),
            read: Vec::new(),
            listed: Vec::new(),
            folders: Vec::new(),
            absent: Vec::new(),
            given: Vec::new(),
        }
    }
}
