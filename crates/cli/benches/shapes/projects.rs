//! Projects of every shape that large ones have, of any size, built without starting a process.
//!
//! The recipes are real and run as they are; [`build`] carries them out in this process instead, so that a
//! project of 100,000 steps stands after seconds.

use std::fmt::Write;
use std::io;
use std::path::Path;

use handloom_core::executor::CancelToken;
use handloom_core::executor::Exit;
use handloom_core::executor::Job;
use handloom_core::executor::JobRunner;
use handloom_core::executor::Outcome;
use handloom_core::executor::watching::Observed;
use handloom_core::executor::watching::Sight;
use handloom_core::graph::BuildRequest;
use handloom_core::scheduler::Build;
use handloom_core::scheduler::BuildContext;
use handloom_core::scheduler::BuildOptions;
use handloom_core::scheduler::EventHub;
use handloom_core::scheduler::Summary;
use handloom_core::workspace::Access;
use handloom_core::workspace::OpenOptions;
use handloom_core::workspace::ProjectLocation;
use handloom_core::workspace::ProjectLock;
use handloom_core::workspace::UserFolders;
use handloom_core::workspace::Workspace;

/// How a project's steps hang together, and how they are described.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// One pattern that gives all steps.
    Pattern,
    /// Each step described by itself.
    Alone,
    /// Layers of a thousand, each step reading three of the layer below.
    Layers,
    /// Each step reads what the one before made.
    Chain,
    /// One step with as many prerequisites.
    Wide,
    /// Parts of a thousand steps each.
    Parts,
    /// The same sources in two configurations.
    Configurations,
    /// Labels, and two outputs a step.
    Pairs,
    /// Each step has learned of 300 prerequisites out of 2,000.
    Learned,
    /// Each step was watched: it read 300 of the same 2,000 files, looked for as many others in vain and listed two
    /// folders.
    Watched,
    /// Each step reads a whole folder.
    Folders,
    /// A table's rows give the steps, each with its file and a value of its own.
    Rows,
}

impl Shape {
    /// All of them.
    pub const ALL: [Self; 12] = [
        Self::Pattern,
        Self::Alone,
        Self::Layers,
        Self::Chain,
        Self::Wide,
        Self::Parts,
        Self::Configurations,
        Self::Pairs,
        Self::Learned,
        Self::Watched,
        Self::Folders,
        Self::Rows,
    ];

    /// Its name in tables and on the command line.
    pub fn name(self) -> &'static str {
        match self {
            Self::Pattern => "pattern",
            Self::Alone => "alone",
            Self::Layers => "layers",
            Self::Chain => "chain",
            Self::Wide => "wide",
            Self::Parts => "parts",
            Self::Configurations => "configurations",
            Self::Pairs => "pairs",
            Self::Learned => "learned",
            Self::Watched => "watched",
            Self::Folders => "folders",
            Self::Rows => "rows",
        }
    }

    /// The name of one of its outputs, in the middle.
    pub fn output(self, steps: usize) -> String {
        let middle = steps / 2;
        match self {
            Self::Wide => "out/all".to_owned(),
            Self::Parts => format!("p{:03}/out/f{:03}.o", middle / 1000, middle % 1000),
            Self::Configurations => format!("out/debug/{}.o", name(middle / 2)),
            Self::Pairs => format!("out/{}.csv", name(middle)),
            Self::Rows => format!("out/{middle}.o"),
            _ => format!("out/{}.o", name(middle)),
        }
    }

    /// Changes the description of one step in the middle, in shapes that describe each step by itself.
    ///
    /// # Errors
    /// When the disk fails.
    pub fn edit_description(self, root: &Path, steps: usize, round: usize) -> io::Result<bool> {
        let path = root.join("hand.loom");
        let loom = std::fs::read_to_string(&path)?;
        let middle = steps / 2;
        let (Some(start), Some(end)) = (
            loom.find(&format!("recipe: echo {middle}")),
            loom.find(&format!("target out/{}.o", name(middle + 1))),
        ) else {
            return Ok(false);
        };
        let recipe = format!("recipe: echo {middle} {round} > @{{target}}\n");
        let learns = loom[start..end].find("; cp");
        let recipe = match learns {
            Some(at) => recipe.trim_end().to_owned() + &loom[start + at..end],
            None => recipe,
        };
        std::fs::write(path, format!("{}{recipe}{}", &loom[..start], &loom[end..]))?;
        Ok(true)
    }

    /// Gives the target in the middle one prerequisite more, or takes it away again; whether the shape has such a
    /// target.
    ///
    /// # Errors
    /// When the disk fails.
    pub fn rewire(self, root: &Path, steps: usize) -> io::Result<bool> {
        let path = root.join("hand.loom");
        let loom = std::fs::read_to_string(&path)?;
        let target = format!("target out/{}.o\n  needs ", name(steps / 2));
        let Some(start) = loom.find(&target) else {
            return Ok(false);
        };
        let start = start + target.len();
        let end = start + loom[start..].find('\n').unwrap_or(0);
        let more = format!(" src/{}.c", name(1));
        let needs = &loom[start..end];
        let needs = match needs.strip_suffix(&more) {
            Some(needs) => needs.to_owned(),
            None => format!("{needs}{more}"),
        };
        std::fs::write(path, format!("{}{needs}{}", &loom[..start], &loom[end..]))?;
        Ok(true)
    }

    /// One of its sources: that of the step in the middle, where it has its own.
    pub fn source(self, steps: usize) -> String {
        let middle = steps / 2;
        match self {
            Self::Parts => format!("p{:03}/src/f{:03}.c", middle / 1000, middle % 1000),
            Self::Configurations => format!("src/{}.c", name(middle / 2)),
            Self::Layers => format!("src/{}.c", name(middle.min(999) / 2)),
            Self::Chain => format!("src/{}.c", name(0)),
            Self::Pairs => format!("logs/{}.log", name(middle)),
            Self::Folders => format!("data/{}/b", name(middle)),
            _ => format!("src/{}.c", name(middle)),
        }
    }

    /// Writes the project's sources and description.
    ///
    /// # Errors
    /// When the disk fails.
    pub fn write(self, root: &Path, steps: usize) -> io::Result<()> {
        let mut loom = String::new();
        let alone = |loom: &mut String, step: usize, needs: &str| {
            let _ = write!(
                loom,
                "target out/{0}.o\n  needs {needs}\n  recipe: echo {step} > @{{target}}\n",
                name(step)
            );
        };
        match self {
            Self::Pattern => {
                sources(root, "src", "c", steps)?;
                loom.push_str(
                    "target out/<d>/<unit>.o\n  needs each src/<d>/<unit>.c\n  recipe: echo @{unit} > @{target}\n",
                );
            }
            Self::Alone => {
                sources(root, "src", "c", steps)?;
                for step in 0..steps {
                    alone(&mut loom, step, &format!("src/{}.c", name(step)));
                }
            }
            Self::Layers => {
                let width = steps.min(1000);
                sources(root, "src", "c", width)?;
                for step in 0..steps {
                    let needs = match step.checked_sub(width) {
                        None => format!("src/{}.c", name(step)),
                        Some(below) => {
                            let layer = below / width * width;
                            let of = |more: usize| layer + (below + more) % width;
                            let [one, two, three] = [of(0), of(7), of(331)].map(name);
                            format!("out/{one}.o out/{two}.o out/{three}.o")
                        }
                    };
                    alone(&mut loom, step, &needs);
                }
            }
            Self::Chain => {
                sources(root, "src", "c", 1)?;
                alone(&mut loom, 0, &format!("src/{}.c", name(0)));
                for step in 1..steps {
                    alone(&mut loom, step, &format!("out/{}.o", name(step - 1)));
                }
            }
            Self::Wide => {
                sources(root, "src", "c", steps)?;
                loom.push_str(
                    "target out/all\n  needs src/*/*.c\n  recipe: echo all > @{target}\n",
                );
            }
            Self::Parts => {
                for part in 0..steps.div_ceil(1000) {
                    let _ = writeln!(loom, "include p{part:03}/");
                    let folder = root.join(format!("p{part:03}"));
                    std::fs::create_dir_all(folder.join("src"))?;
                    for step in 0..(steps - part * 1000).min(1000) {
                        std::fs::write(folder.join(format!("src/f{step:03}.c")), "1")?;
                    }
                    std::fs::write(
                        folder.join("hand.loom"),
                        "target out/<unit>.o\n  needs each src/<unit>.c\n  recipe: echo @{unit} > @{target}\n",
                    )?;
                }
            }
            Self::Configurations => {
                sources(root, "src", "c", steps / 2)?;
                loom.push_str(
                    "target out/<mode>/<d>/<unit>.o\n  each mode in debug release\n  needs each src/<d>/<unit>.c\n  recipe: echo @{mode} > @{target}\n",
                );
            }
            Self::Pairs => {
                sources(root, "logs", "log", steps)?;
                std::fs::write(root.join("tool.sh"), "1")?;
                loom.push_str(
                    "target table: out/<d>/<n>.csv  curve: out/<d>/<n>.svg\n  needs\n    log: each logs/<d>/<n>.log\n    tool: tool.sh\n  recipe: echo @{n} > @{table}; echo @{n} > @{curve}\n",
                );
            }
            Self::Learned => {
                sources(root, "src", "c", steps)?;
                std::fs::create_dir_all(root.join("include"))?;
                for header in 0..2000 {
                    std::fs::write(root.join(format!("include/h{header:04}.h")), "1")?;
                }
                for listing in 0..100 {
                    let mut text = "it:".to_owned();
                    for more in 0..300 {
                        let _ = write!(text, " include/h{:04}.h", (listing * 17 + more * 7) % 2000);
                    }
                    std::fs::write(root.join(format!("l{listing:02}.d")), text)?;
                }
                for step in 0..steps {
                    let _ = write!(
                        loom,
                        "target out/{0}.o\n  needs src/{0}.c\n  learn\n  recipe: echo {step} > @{{target}}; cp l{1:02}.d @{{learn}}\n",
                        name(step),
                        step % 100
                    );
                }
            }
            Self::Watched => {
                sources(root, "src", "c", steps)?;
                std::fs::create_dir_all(root.join("include"))?;
                std::fs::create_dir_all(root.join("ours"))?;
                std::fs::write(root.join("ours/readme.txt"), "1")?;
                for header in 0..2000 {
                    std::fs::write(root.join(format!("include/h{header:04}.h")), "1")?;
                }
                loom.push_str(
                    "target out/<d>/<unit>.o\n  needs each src/<d>/<unit>.c\n  learn watched\n  recipe: cp @{needs} @{target}\n",
                );
            }
            Self::Rows => {
                sources(root, "src", "c", steps)?;
                let mut table = "sample,file,rate,remark\n".to_owned();
                for step in 0..steps {
                    let _ = writeln!(table, "{step},src/{}.c,{},none", name(step), step % 7);
                }
                std::fs::write(root.join("samples.csv"), table)?;
                loom.push_str(
                    "target out/<sample>.o\n  each sample file rate in table samples.csv\n  needs @{file}\n  recipe: echo @{rate} > @{target}\n",
                );
            }
            Self::Folders => {
                for step in 0..steps {
                    let folder = root.join(format!("data/{}", name(step)));
                    std::fs::create_dir_all(&folder)?;
                    for file in ["a", "b", "c"] {
                        std::fs::write(folder.join(file), file)?;
                    }
                    alone(&mut loom, step, &format!("data/{}/", name(step)));
                }
            }
        }
        std::fs::write(root.join("hand.loom"), loom)
    }
}

/// The name of the source or output with this number, below its folder.
fn name(index: usize) -> String {
    format!("{:03}/f{index:06}", index / 1000)
}

fn sources(root: &Path, folder: &str, ending: &str, count: usize) -> io::Result<()> {
    for index in 0..count {
        if index % 1000 == 0 {
            std::fs::create_dir_all(root.join(format!("{folder}/{:03}", index / 1000)))?;
        }
        let path = format!("{folder}/{}.{ending}", name(index));
        std::fs::write(root.join(path), index.to_string())?;
    }
    Ok(())
}

/// Weaves a project as the program would, with its recipes carried out in this process.
pub fn build(root: &Path) -> Summary {
    let user = &UserFolders::from_env();
    let location = ProjectLocation::find(Some(root), user).expect("it is a project");
    location.make_own().expect("a folder");
    let lock = ProjectLock::take(&location.own(), "bench", true, |_| {}).expect("nobody has it");
    let options = OpenOptions {
        access: Access::Run,
        ..OpenOptions::default()
    };
    let workspace =
        Workspace::open(location, user, &options, &mut |_| {}).expect("it can be opened");
    let environment = workspace.environment();
    let executor = RecipeReader {
        cancel: CancelToken::default(),
        root: workspace.location.root.clone(),
    };
    let context = BuildContext {
        store: None,
        disk: &workspace.disk,
        clock: &workspace.clock,
        executor: &executor,
        ledger: &workspace.ledger,
        environment: &environment,
    };
    let options = BuildOptions {
        jobs: 2,
        threads: 2,
        ..BuildOptions::default()
    };
    let mut build = Build::new(context, options, EventHub::new(&workspace.clock));
    build.with_front(workspace.take_front());
    let summary = build
        .run(
            &workspace.description,
            &workspace.outside,
            &BuildRequest::default(),
        )
        .expect("a run");
    drop(lock);
    summary
}

/// Carries out what recipes of these projects say, without a shell.
struct RecipeReader {
    cancel: CancelToken,
    root: std::path::PathBuf,
}

impl JobRunner for RecipeReader {
    fn cancel(&self) -> &CancelToken {
        &self.cancel
    }

    fn run(&self, job: &Job, _: &mut dyn FnMut(&[u8])) -> Outcome {
        let root = self.root.join(&job.folder);
        let observed = job.watched.map(|_| Box::new(observed(group_of(job))));
        let done = job.script.split(';').all(|command| {
            let words: Vec<&str> = command.split_whitespace().collect();
            match words[..] {
                ["echo", text, ">", to] => {
                    let text = text.trim_matches('\'');
                    std::fs::write(root.join(to), format!("{text}\n")).is_ok()
                }
                ["cp", from, to] => std::fs::copy(root.join(from), root.join(to)).is_ok(),
                _ => false,
            }
        });
        Outcome {
            observed,
            ..Outcome::silent(Exit::Status(i32::from(!done)))
        }
    }
}

/// Which of twenty kinds a job is, by its name.
fn group_of(job: &Job) -> usize {
    job.name.bytes().map(usize::from).sum::<usize>() % 20
}

/// What every recipe of the shape `watched` is said to have looked at.
fn observed(group: usize) -> Observed {
    let headers = |folder: &str, sight| -> Vec<(String, Sight)> {
        let path = |more: usize| {
            let header = (group * 17 + more * 7) % 2000;
            (format!("{folder}/h{header:04}.h"), sight)
        };
        (0..300_usize).map(path).collect()
    };
    let mut paths = headers("include", Sight::Read);
    paths.extend(headers("ours", Sight::Absent));
    paths.sort_unstable();
    let mut names: Vec<String> = (0..2000).map(|header| format!("h{header:04}.h")).collect();
    names.sort_unstable();
    Observed {
        paths,
        listed: vec![
            ("include".to_owned(), names),
            ("ours".to_owned(), vec!["readme.txt".to_owned()]),
        ],
        ..Observed::default()
    }
}

/// Writes down the project's files for the floor: beside it, names with a NUL behind each.
///
/// # Errors
/// When the disk fails.
pub fn write_list(root: &Path) -> io::Result<()> {
    let mut list = Vec::new();
    for file in files(root) {
        list.extend_from_slice(file.as_os_str().as_encoded_bytes());
        list.push(0);
    }
    std::fs::write(root.with_extension("list"), list)
}

/// All files of a project but Hand Loom's own and its description, sorted: those that a run looks at.
fn files(root: &Path) -> Vec<std::path::PathBuf> {
    let mut found = Vec::new();
    let mut folders = vec![root.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
            let (path, name) = (entry.path(), entry.file_name());
            if name == ".handloom"
                || name == "hand.loom"
                || path.extension().is_some_and(|e| e == "d")
            {
                continue;
            }
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                folders.push(path);
            } else {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}
