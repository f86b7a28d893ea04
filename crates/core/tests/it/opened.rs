//! Opening a project as commands and an editor's server do, and building in it with real processes.

use std::fs;
use std::path::Path;

use tempfile::TempDir;

use handloom_core::graph::BuildRequest;
use handloom_core::scheduler::Build;
use handloom_core::scheduler::BuildContext;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::EventHub;
use handloom_core::scheduler::Summary;
use handloom_core::workspace::Access;
use handloom_core::workspace::Note;
use handloom_core::workspace::OpenOptions;
use handloom_core::workspace::ProjectLocation;
use handloom_core::workspace::ProjectLock;
use handloom_core::workspace::UserFolders;
use handloom_core::workspace::Workspace;
use handloom_core::workspace::WorkspaceError;

/// A project in a folder of its own, and a user who has nothing yet.
struct Place {
    folder: TempDir,
    user: UserFolders,
}

impl Place {
    fn new(loom: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("project")).unwrap();
        let place = Self {
            user: UserFolders::below(&folder.path().join("user")),
            folder,
        };
        place.write("hand.loom", loom);
        place
    }

    fn write(&self, path: &str, text: &str) {
        let path = self.folder.path().join("project").join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn locate(&self, inside: &str) -> Result<ProjectLocation, WorkspaceError> {
        let folder = self.folder.path().join("project").join(inside);
        ProjectLocation::find(Some(&folder), &self.user)
    }

    /// Opens the project; what was said meanwhile.
    fn open(&self, options: &OpenOptions) -> (Result<Workspace, WorkspaceError>, Vec<String>) {
        let mut notes = Vec::new();
        let opened =
            Workspace::open(
                self.locate("").unwrap(),
                &self.user,
                options,
                &mut |note| match note {
                    Note::LedgerSetAside { reason, .. } => notes.push(reason),
                    Note::Recovered(_) => notes.push("recovered".to_owned()),
                    Note::LikeACommand(name) => notes.push(format!("like a command: {name}")),
                    Note::Warnings(_, warnings) => {
                        notes.extend(warnings.iter().map(|warning| warning.title.clone()));
                    }
                },
            );
        (opened, notes)
    }

    fn build(&self) -> Summary {
        let location = self.locate("").unwrap();
        location.make_own().unwrap();
        let _lock = ProjectLock::take(&location.own(), "a test", true, |_| {}).unwrap();
        let options = OpenOptions {
            access: Access::Run,
            ..OpenOptions::default()
        };
        let (opened, notes) = self.open(&options);
        assert_eq!(notes, [] as [String; 0]);
        let workspace = opened.unwrap();
        let (executor, environment) = (workspace.executor(), workspace.environment());
        let context = BuildContext {
            store: None,
            disk: &workspace.disk,
            clock: &workspace.clock,
            executor: &executor,
            ledger: &workspace.ledger,
            environment: &environment,
        };
        Build::new(
            context,
            BuildOptions::default(),
            EventHub::new(&workspace.clock),
        )
        .run(
            &workspace.description,
            &workspace.outside,
            &BuildRequest::default(),
        )
        .unwrap()
    }
}

const COPY: &str = "target copy\n  needs original\n  recipe: cp @{needs} @{target}\n";

#[test]
fn a_project_is_opened_and_built_without_a_command_line() {
    let place = Place::new(COPY);
    place.write("original", "1");
    assert_eq!(place.build().made, 1);
    let again = place.build();
    assert_eq!((again.made, again.kept), (0, 1));
    place.write("original", "2");
    assert_eq!(place.build().made, 1);
    let made = fs::read_to_string(place.folder.path().join("project/copy"));
    assert_eq!(made.unwrap(), "2");
}

#[test]
fn a_project_is_found_from_inside_and_its_outermost_description_counts() {
    let place = Place::new("include part\n");
    place.write("part/hand.loom", "");
    place.write("part/src/a", "");
    place.write("other/hand.loom", "");
    let found = place.locate("part/src").unwrap();
    assert_eq!(found.folder, "part/src/");
    assert!(found.root.ends_with("project"), "{found:?}");
    let found = place.locate("other").unwrap();
    assert!(found.root.ends_with("project/other"), "{found:?}");
    let error = ProjectLocation::find(Some(Path::new("/proc")), &place.user).unwrap_err();
    assert!(
        matches!(&error, WorkspaceError::Usage { what, .. } if what.contains("there is no `hand.loom`"))
    );
}

#[test]
fn what_is_set_from_outside_and_what_is_odd_is_told() {
    let place = Place::new("let mode = a\ntask list\n  recipe: echo @{mode}\n");
    let options = OpenOptions {
        lets: vec![("mode".to_owned(), "b".to_owned())],
        commands: || vec!["list".to_owned(), "weave".to_owned()],
        ..OpenOptions::default()
    };
    let (opened, notes) = place.open(&options);
    assert!(opened.is_ok());
    assert_eq!(notes, ["like a command: list"]);
    let unknown = OpenOptions {
        lets: vec![("mood".to_owned(), "b".to_owned())],
        ..OpenOptions::default()
    };
    let (opened, _) = place.open(&unknown);
    let Err(WorkspaceError::Description(_, wrong)) = opened else {
        panic!("there is no variable `mood`");
    };
    assert!(
        wrong.iter().any(|wrong| wrong.title.contains("`mood`")),
        "{wrong:?}"
    );
}

#[test]
fn settings_that_cannot_be_understood_are_refused_with_their_place() {
    let place = Place::new(COPY);
    let settings = place.user.settings().unwrap();
    fs::create_dir_all(settings.parent().unwrap()).unwrap();
    fs::write(&settings, "jobs = 3\nrun = 4\n").unwrap();
    let error = place.locate("").unwrap_err();
    let WorkspaceError::Usage { what, help } = error else {
        panic!("{error:?}");
    };
    assert!(
        what.contains("settings.toml") && what.contains("`run`"),
        "{what}"
    );
    assert!(help.contains("jobs = N"), "{help}");
    fs::write(&settings, "grace = \"soon\"\n").unwrap();
    assert!(
        matches!(place.locate(""), Err(WorkspaceError::Usage { what, .. }) if what.contains("`grace = \"soon\"`"))
    );
    fs::write(
        &settings,
        "jobs = 3\noutput = \"live\"\n[let]\nmode = [\"a b\"]\n",
    )
    .unwrap();
    assert!(place.locate("").is_ok());
}

#[test]
fn a_damaged_ledger_is_told_of_and_only_a_run_moves_it() {
    let place = Place::new(COPY);
    place.write("original", "1");
    place.build();
    let state = place.folder.path().join("project/.handloom");
    let ledger = fs::read_dir(&state)
        .unwrap()
        .flatten()
        .map(|entry| entry.path())
        .find(|path| path.file_name().is_some_and(|name| name == "ledger"))
        .unwrap();
    fs::write(
        &ledger,
        "nothing of ours, and long enough to be looked at as a whole file",
    )
    .unwrap();
    let (_, notes) = place.open(&OpenOptions::default());
    assert_eq!(notes.len(), 1, "{notes:?}");
    assert!(ledger.exists(), "a look moves nothing");
    let options = OpenOptions {
        access: Access::Run,
        ..OpenOptions::default()
    };
    let (_, notes) = place.open(&options);
    assert_eq!(notes.len(), 1, "{notes:?}");
    assert_eq!(place.build().made, 1);
}

#[test]
fn one_run_at_a_time() {
    let place = Place::new(COPY);
    let location = place.locate("").unwrap();
    location.make_own().unwrap();
    let take = |command| ProjectLock::take(&location.own(), command, true, |_| {}).unwrap();
    let first = take("first").signed();
    let second = ProjectLock::take(&location.own(), "second", false, |_| {});
    let Err(WorkspaceError::InTheWay(who)) = second else {
        panic!("two at a time");
    };
    assert!(who.contains("`first`"), "{who}");
    drop(first);
    // Who only looks leaves no trace.
    drop(take("look"));
    let again = take("first").signed();
    assert!(again.was_ours, "nobody else changed anything");
    drop(again);
    drop(take("another").signed());
    assert!(!take("first").signed().was_ours, "another did");
    // Whoever signed last and is gone is not whose it is now.
    std::fs::write(location.own().join("lock"), "process 4194304, `gone`").unwrap();
    let look = take("look");
    let other = ProjectLock::take(&location.own(), "other", false, |_| {});
    let Err(WorkspaceError::InTheWay(who)) = other else {
        panic!("two at a time");
    };
    assert!(who.contains("another process"), "{who}");
    drop(look);
}

#[test]
fn a_key_is_made_once_and_kept() {
    let folder = tempfile::tempdir().unwrap();
    let user = UserFolders::below(folder.path());
    let key = user.key().unwrap();
    assert_eq!(user.key(), Some(key));
    assert_ne!(
        UserFolders::below(&folder.path().join("other")).key(),
        Some(key)
    );
    assert_eq!(UserFolders::default().key(), None);
}
