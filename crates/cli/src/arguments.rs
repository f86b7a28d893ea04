//! What can be typed, and nothing of what it does.

mod examples;
mod of_projects;
mod of_runs;

use std::path::PathBuf;
use std::time::Duration;

use clap::Args;
use clap::Parser;
use clap::Subcommand;
use clap::ValueEnum;

use handloom_core::text::duration;

use handloom_core::workspace::settings::OutputMode;

pub use examples::definition;
pub use of_projects::DemoArguments;
pub use of_projects::Example;
pub use of_projects::ExportArguments;
pub use of_projects::ExportForm;
pub use of_projects::NewArguments;
pub use of_projects::SketchArguments;
pub use of_runs::FindingsArguments;
pub use of_runs::HistoryArguments;
pub use of_runs::LineageArguments;
pub use of_runs::LogArguments;
pub use of_runs::ReportArguments;

/// Build files from their sources as `hand.loom` describes, and rebuild only what has a reason to be.
///
/// Without a command, builds the default targets of the project. Names of files and tasks can be given directly:
/// `handloom out/report.html`.
#[derive(Debug, Parser)]
#[command(
    name = "handloom",
    version,
    disable_help_subcommand = true,
    max_term_width = 100
)]
pub struct Arguments {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
    /// Options of all commands.
    #[command(flatten)]
    pub common: Common,
}

/// Options of all commands.
#[derive(Args, Clone, Debug, Default)]
#[command(next_help_heading = "Options of all commands")]
pub struct Common {
    /// Work as if called in this folder.
    #[arg(long, global = true, value_name = "FOLDER")]
    pub project: Option<PathBuf>,
    /// Set a variable of the description for this run; `+=` adds to what it holds.
    #[arg(long = "let", global = true, value_name = "NAME=WORDS")]
    pub lets: Vec<String>,
    /// When to use colours.
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: ColorChoice,
    /// Say only what went wrong.
    #[arg(short, long, global = true, conflicts_with = "verbose")]
    pub quiet: bool,
    /// Say more: each reason, and each script that runs.
    #[arg(short, long, global = true)]
    pub verbose: bool,
}

/// When to use colours.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum ColorChoice {
    /// On a terminal, unless NO_COLOR is set.
    #[default]
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Build targets and run tasks; `handloom NAME…` is short for it.
    Weave(WeaveArguments),
    /// Run one task with arguments.
    Run(RunArguments),
    /// List what can be built and run.
    List(ListArguments),
    /// Show what a build would run now, and why, without running anything.
    Preview(PreviewArguments),
    /// Explain why one file would be rebuilt, or why it was.
    Why(WhyArguments),
    /// Draw the dependency graph, and what each step would do now.
    Graph(GraphArguments),
    /// Show the last runs with their times, or one step through them.
    History(HistoryArguments),
    /// Show the output of a step or a task: of its last run, or as it comes.
    Log(LogArguments),
    /// Show the errors and warnings that compilers and checkers printed, by source file.
    Findings(FindingsArguments),
    /// Show how a file came about: its steps, recipes and sources, and whether it would come about so again.
    Lineage(LineageArguments),
    /// Analyse one run: what took long, what held up what, and why each step ran.
    Report(ReportArguments),
    /// Write the project for others: as a plain shell script, or how each source is compiled.
    Export(ExportArguments),
    /// Build, and rebuild at every change of a source or the description.
    Watch(WatchArguments),
    /// Mark files as up to date as they stand, without running anything.
    Accept(AcceptArguments),
    /// Delete what was built, as far as nobody edited it.
    Clean(CleanArguments),
    /// Show what the cache of results holds and saved, and make room in it.
    Store(StoreArguments),
    /// Write a first `hand.loom` for the sources, scripts and data that are here.
    New(NewArguments),
    /// Write a first version of each script that a step needs and that is missing.
    Sketch(SketchArguments),
    /// Format `hand.loom` in the one standard way.
    Tidy(TidyArguments),
    /// Show each setting and variable with its value and where it comes from.
    Settings(SettingsArguments),
    /// Write an example project into a folder and build it.
    Demo(DemoArguments),
    /// Answer an editor about descriptions, in the Language Server Protocol on standard input and output.
    LanguageServer,
    /// Print the script that completes names on the Tab key.
    Completions(CompletionsArguments),
    /// Write the manual pages into a folder.
    Manual(ManualArguments),
}

/// `handloom accept`
#[derive(Args, Debug)]
pub struct AcceptArguments {
    /// Files, folders or quoted patterns.
    #[arg(value_name = "FILE", required = true)]
    pub names: Vec<String>,
    /// Fail at once when another run works in this project, instead of waiting for it.
    #[arg(long)]
    pub no_wait: bool,
}

/// `handloom store`
#[derive(Args, Debug)]
pub struct StoreArguments {
    /// Take away what was not used for longest, until the store is no larger than `store.size`.
    #[arg(long)]
    pub trim: bool,
    /// Take away all results, of all your projects.
    #[arg(long, conflicts_with = "trim")]
    pub empty: bool,
    /// Do not ask before that.
    #[arg(short, long)]
    pub yes: bool,
    /// How to answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// `handloom manual`
#[derive(Args, Debug)]
pub struct ManualArguments {
    /// The folder; it is made where it is not there.
    #[arg(value_name = "FOLDER", default_value = "man")]
    pub folder: PathBuf,
}

/// `handloom completions`
#[derive(Args, Debug)]
pub struct CompletionsArguments {
    /// The shell.
    #[arg(value_name = "SHELL")]
    pub shell: Shell,
}

/// Shells that complete names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Shell {
    /// `source <(handloom completions bash)` in `~/.bashrc`
    Bash,
    /// `source <(handloom completions zsh)` in `~/.zshrc`
    Zsh,
    /// `handloom completions fish | source` in `config.fish`
    Fish,
}

/// How to run.
#[derive(Args, Clone, Debug)]
pub struct RunningArguments {
    /// Jobs that may run at once [default: the number of cores].
    #[arg(short, long, value_name = "N")]
    pub jobs: Option<usize>,
    /// What to do when a recipe fails [default: stop].
    #[arg(long, value_name = "WHAT")]
    pub on_failure: Option<FailureChoice>,
    /// How what jobs print is shown.
    #[arg(long, value_name = "HOW")]
    pub output: Option<Output>,
    /// Write what happens to a file, one JSON object a line; `-` is standard output.
    #[arg(long, value_name = "FILE")]
    pub events: Option<PathBuf>,
    /// Run the jobs at a place of the settings, such as a cluster.
    #[arg(long, value_name = "PLACE")]
    pub on: Option<String>,
    /// Watch every recipe that runs for what it reads, lists and looks for in vain.
    #[arg(long, conflicts_with = "sealed")]
    pub watched: bool,
    /// Let every recipe that runs read only what it names and the system, and write only its outputs.
    #[arg(long)]
    pub sealed: bool,
    /// Run each step that runs a second time, or compare it with what the store has, and tell what came out differently.
    #[arg(long)]
    pub twice: bool,
    /// Neither take results from the store nor keep them there.
    #[arg(long)]
    pub no_store: bool,
    /// Fail at once when another run works in this project, instead of waiting for it.
    #[arg(long)]
    pub no_wait: bool,
}

/// How what jobs print is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Output {
    /// In one piece below the job's line, when it has ended.
    Grouped,
    /// Line by line as it comes, with the job's name in front.
    Live,
    /// Only for jobs that fail.
    Failures,
}

impl From<OutputMode> for Output {
    fn from(mode: OutputMode) -> Self {
        match mode {
            OutputMode::Grouped => Self::Grouped,
            OutputMode::Live => Self::Live,
            OutputMode::Failures => Self::Failures,
        }
    }
}

impl Output {
    /// Its name on the command line and in the settings.
    pub fn name(self) -> &'static str {
        match self {
            Self::Grouped => "grouped",
            Self::Live => "live",
            Self::Failures => "failures",
        }
    }
}

/// What to do when a recipe fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum FailureChoice {
    /// Begin nothing new.
    Stop,
    /// Finish all that does not depend on it.
    Continue,
}

/// `handloom weave`
#[derive(Args, Debug)]
pub struct WeaveArguments {
    /// Files, tasks, folders or quoted patterns [default: what the description calls default].
    #[arg(value_name = "NAME")]
    pub names: Vec<String>,
    /// Make the named ones, reason or not.
    #[arg(long)]
    pub again: bool,
    /// How to run.
    #[command(flatten)]
    pub running: RunningArguments,
}

/// `handloom watch`
#[derive(Args, Debug)]
pub struct WatchArguments {
    /// Files, tasks, folders or quoted patterns [default: what the description calls default].
    #[arg(value_name = "NAME")]
    pub names: Vec<String>,
    /// Also look at the files every so often, for file systems that do not tell of all changes [default: 2s,
    /// where that is needed].
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub look_every: Option<Duration>,
    /// Weave nothing: only stand there, so that `handloom` and `preview` typed elsewhere are answered at once while
    /// nothing changed.
    #[arg(long)]
    pub quietly: bool,
    /// How to run.
    #[command(flatten)]
    pub running: RunningArguments,
}

/// `handloom run`
#[derive(Args, Debug)]
pub struct RunArguments {
    /// The task.
    #[arg(value_name = "TASK")]
    pub task: String,
    /// Values of its parameters, in order or as name=value.
    #[arg(value_name = "VALUE")]
    pub values: Vec<String>,
    /// Words that the task hands on.
    #[arg(last = true, value_name = "EXTRA")]
    pub extra: Vec<String>,
    /// Run a task that is remembered, reason or not.
    #[arg(long)]
    pub again: bool,
    /// How to run.
    #[command(flatten)]
    pub running: RunningArguments,
}

/// `handloom list`
#[derive(Args, Debug)]
pub struct ListArguments {
    /// Whether commands may be asked.
    #[command(flatten)]
    pub asking: Asking,
    /// Show every step, not one line for each target.
    #[arg(long)]
    pub all: bool,
    /// Show what the step that makes this file read when it last ran.
    #[arg(long, value_name = "NAME", conflicts_with = "all")]
    pub reads: Option<String>,
    /// How to answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// Whether a command that only reads may run something from the project.
#[derive(Args, Clone, Copy, Debug, Default)]
pub struct Asking {
    /// Run the commands whose output is a value, instead of taking what they printed last.
    #[arg(long)]
    pub ask: bool,
}

/// How to answer a question.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
}

/// `handloom preview`
#[derive(Args, Debug)]
pub struct PreviewArguments {
    /// Whether commands may be asked.
    #[command(flatten)]
    pub asking: Asking,
    /// Files, tasks, folders or quoted patterns [default: what the description calls default].
    #[arg(value_name = "NAME")]
    pub names: Vec<String>,
    /// As if these had been asked for, reason or not.
    #[arg(long)]
    pub again: bool,
    /// How to answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// `handloom why`
#[derive(Args, Debug)]
pub struct WhyArguments {
    /// Whether commands may be asked.
    #[command(flatten)]
    pub asking: Asking,
    /// The file, or a task that is remembered.
    #[arg(value_name = "NAME")]
    pub name: String,
    /// Tell why it ran the last time.
    #[arg(long)]
    pub last: bool,
    /// How to answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// `handloom graph`
#[derive(Args, Debug)]
pub struct GraphArguments {
    /// Whether commands may be asked.
    #[command(flatten)]
    pub asking: Asking,
    /// Files, tasks, folders or quoted patterns, with all that leads to them [default: the whole project].
    #[arg(value_name = "NAME")]
    pub names: Vec<String>,
    /// Write a picture: svg, dot, mermaid or json to standard output, or a file that ends so.
    #[arg(long, value_name = "WHAT")]
    pub to: Option<String>,
    /// Show every step, also of a large project.
    #[arg(long)]
    pub all: bool,
    /// Only what lies around this file or task.
    #[arg(long, value_name = "NAME")]
    pub around: Option<String>,
    /// How far around.
    #[arg(long, value_name = "STEPS", default_value = "1", requires = "around")]
    pub depth: usize,
    /// How to answer without `--to`.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

/// `handloom clean`
#[derive(Args, Debug)]
pub struct CleanArguments {
    /// Files, folders or quoted patterns [default: everything that was made].
    #[arg(value_name = "NAME")]
    pub names: Vec<String>,
    /// Only what the description no longer describes.
    #[arg(long, conflicts_with = "names")]
    pub leftovers: bool,
    /// What was set aside, and what failed recipes left, instead of what was made.
    #[arg(long, conflicts_with_all = ["names", "leftovers"])]
    pub aside: bool,
    /// Only say what would be taken away.
    #[arg(long)]
    pub preview: bool,
    /// Do not ask before taking away what took long to make.
    #[arg(short, long)]
    pub yes: bool,
    /// Fail at once when another run works in this project, instead of waiting for it.
    #[arg(long)]
    pub no_wait: bool,
}

/// `handloom tidy`
#[derive(Args, Debug)]
pub struct TidyArguments {
    /// Change nothing; end with 1 when something would change.
    #[arg(long)]
    pub check: bool,
    /// Write what is likely meant where a message says "did you mean"; the difference is shown first.
    #[arg(long, conflicts_with = "check")]
    pub mend: bool,
    /// Do not ask before it is written.
    #[arg(short, long, requires = "mend")]
    pub yes: bool,
}

/// `handloom settings`
#[derive(Args, Debug)]
pub struct SettingsArguments {
    /// Whether commands may be asked.
    #[command(flatten)]
    pub asking: Asking,
    /// How to answer.
    #[arg(long, value_name = "FORMAT", default_value = "text")]
    pub format: Format,
}

impl Arguments {
    /// What the program's name alone means.
    pub fn bare() -> Self {
        Self {
            command: Command::Weave(WeaveArguments {
                names: Vec::new(),
                again: false,
                running: RunningArguments {
                    jobs: None,
                    on: None,
                    on_failure: None,
                    output: None,
                    events: None,
                    watched: false,
                    sealed: false,
                    twice: false,
                    no_store: false,
                    no_wait: false,
                },
            }),
            common: Common::default(),
        }
    }
}

fn time(text: &str) -> Result<Duration, &'static str> {
    duration(text).ok_or("write a number and `s`, `m` or `h`, such as `5s`")
}
