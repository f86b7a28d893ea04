//! What one run of a watched project depends on, and what is noticed while only tasks that stay are left of it.

use std::cell::RefCell;
use std::sync::mpsc::Receiver;

use handloom_core::content::Reader;
use handloom_core::ledger::Ledger;
use handloom_core::scheduler::RunWatcher;
use handloom_core::status::WatchSet;
use handloom_core::workspace::Workspace;
use handloom_core::world::Disk;

use crate::standing::QueryServer;
use crate::standing::StandingAnswer;
use crate::ui::Detail;
use crate::ui::Ui;
use crate::ui::style::Role;
use crate::ui::text;
use crate::watching;
use crate::watching::Notices;
use crate::watching::RebuildRequest;
use crate::watching::WatchEvent;

/// What a run depends on, and who gives the project free for others when only tasks that stay are left.
pub type RunHooks<'a> = (&'a mut WatchSet, &'a mut (dyn FnMut() + 'a));

/// What a run left to know.
pub struct Over<T> {
    pub result: T,
    /// Steps that ran.
    pub ran: Vec<String>,
    /// Whether the description or a folder was changed after it was read and before it was watched.
    pub shifted: bool,
    /// What was noticed while only tasks that stay were left.
    pub noticed: RebuildRequest,
}

/// One run, and who is told of what it depends on.
pub struct WatchedRun<'w> {
    pub workspace: &'w Workspace,
    pub watch_set: &'w mut WatchSet,
    pub notices: &'w mut Notices,
    pub events_in: &'w Receiver<WatchEvent>,
    pub server: Option<&'w QueryServer>,
    /// Steps that ran so far.
    pub ran: &'w RefCell<Vec<String>>,
    /// Whether the description or a folder was changed after it was read and before it was watched.
    pub shifted: bool,
    /// What was noticed while only tasks that stay were left.
    pub noticed: RebuildRequest,
    /// Whether it came so far.
    pub rests: bool,
}

impl RunWatcher for WatchedRun<'_> {
    fn watch_set(&mut self) -> &mut WatchSet {
        self.watch_set
    }

    fn cover(&mut self) {
        self.notices.cover(self.watch_set);
        self.notices.follow(self.watch_set.causes());
        let sources = &self.workspace.description.sources;
        self.shifted |= self.watch_set.begin(&self.workspace.disk, sources);
    }

    fn has_news(&mut self, left: &[&str]) -> bool {
        let noticed = &mut self.noticed;
        if !std::mem::replace(&mut self.rests, true) {
            let ran = self.ran.borrow();
            learned_since(self.workspace, self.watch_set, self.notices, &ran, noticed);
        }
        let disk = &self.workspace.disk;
        watching::glance(self.events_in, noticed, self.watch_set, disk);
        for number in std::mem::take(&mut noticed.asked) {
            if let Some(server) = self.server {
                // What is to be done is not known while a task stays.
                server.answer(number, |_| StandingAnswer::Alone);
            }
        }
        let ledger = self.workspace.ledger.borrow();
        noticed.forget_causes(|path| is_as_recorded(self.workspace, &ledger, path));
        let is_news = noticed.is_one() || self.shifted;
        if is_news {
            // The project is free for others: what they did is to be looked at as well.
            noticed.everything = true;
            noticed.ended = left.iter().map(|name| (*name).to_owned()).collect();
        }
        is_news
    }
}

/// Watches what steps learned that ran just now; what was changed since they read it is a cause.
pub fn learned_since(
    workspace: &Workspace,
    watch_set: &mut WatchSet,
    notices: &mut Notices,
    ran: &[String],
    noticed: &mut RebuildRequest,
) {
    let ledger = workspace.ledger.borrow();
    let new = watch_set.learned_since(ran.iter().map(String::as_str), &ledger);
    notices.cover(watch_set);
    notices.follow(new.iter().map(String::as_str));
    for path in new {
        // It was not watched when the step read it.
        let same = match (ledger.file(&path), workspace.disk.stat(&path)) {
            (Some(record), Ok(Some(stat))) => record.same_stat(&stat),
            (None, Ok(None)) => true,
            _ => false,
        };
        if !same {
            noticed.cause(path);
        }
    }
}

/// Whether a file holds what it held when a step read it: it was only saved anew.
fn is_as_recorded(workspace: &Workspace, ledger: &Ledger, path: &str) -> bool {
    let Some(record) = ledger.file(path) else {
        return false;
    };
    let reader = Reader {
        disk: &workspace.disk,
        clock: &workspace.clock,
        records: ledger,
    };
    let look = reader.look(path, &mut Vec::new());
    look.state.digest() == Some(record.digest)
}

/// What stands above a run's lines: when and why.
pub fn heading(rebuild: &RebuildRequest, ui: Ui) -> Option<String> {
    if ui.detail == Detail::Quiet {
        return None;
    }
    let why = match rebuild.causes.split_first() {
        None if rebuild.now => "asked for".to_owned(),
        None if rebuild.lost => "more changed than the system could tell of".to_owned(),
        None => return None,
        Some((path, [])) => format!("{} changed", text::safe(path)),
        Some((path, more)) => format!("{} and {} more changed", text::safe(path), more.len()),
    };
    let again = match &rebuild.ended[..] {
        [] => String::new(),
        ended => format!(
            "; {} ended, to be begun again",
            text::safe(&ended.join(", "))
        ),
    };
    let line = format!("{}  {why}{again}", text::clock());
    Some(format!("\n{}\n", ui.out.paint(Role::Title, &line)))
}
