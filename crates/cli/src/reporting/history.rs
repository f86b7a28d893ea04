//! All runs that are kept, as text and as programs read them.

use serde::Serialize;

use handloom_core::records::history_analysis::HistoryAnalysis;
use handloom_core::records::history_analysis::RunSums;
use handloom_core::world::rounded_seconds;

use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;
use crate::ui::text::started;

/// Lists show so many.
const MOST: usize = 15;

/// How much of a run's jobs was restored, of 100.
pub fn restored_share(run: &RunSums) -> usize {
    (100 * run.restored + (run.ran + run.restored) / 2)
        .checked_div(run.ran + run.restored)
        .unwrap_or(0)
}

/// A history for a terminal.
pub fn plain(history: &HistoryAnalysis, theme: Theme) -> String {
    let (Some(first), Some(last)) = (history.runs.first(), history.runs.last()) else {
        return "nothing has run in this project yet\n".to_owned();
    };
    let title = |text: &str| theme.paint(Role::Title, text);
    let mut out = format!(
        "{}  {} to {}\n",
        title(&text::count(history.runs.len(), "run")),
        started(first.started).plain,
        started(last.started).plain
    );
    let times: Vec<_> = history.runs.iter().map(|run| run.took).collect();
    let most = times.iter().copied().max().unwrap_or_default();
    out.push_str(&format!(
        "  {}  up to {}\n",
        text::blocks(&times, most),
        text::seconds(most)
    ));
    let restored: usize = history.runs.iter().map(|run| run.restored).sum();
    let ran: usize = history.runs.iter().map(|run| run.ran).sum();
    let saved = history.runs.iter().map(|run| run.saved).sum();
    let failed = history.runs.iter().filter(|run| run.failed > 0).count();
    out.push_str(&format!(
        "  {}, {restored} restored, which saved {}; {} with failures\n",
        text::count(ran, "job"),
        text::seconds(saved),
        text::count(failed, "run"),
    ));
    if !history.failing.is_empty() {
        out.push_str(&format!("\n{}\n", title("what failed")));
    }
    for step in history.failing.iter().take(MOST) {
        let now = if step.failed_last {
            "as it did when it last ran"
        } else {
            "it went well since"
        };
        out.push_str(&format!(
            "  {}  {}\n",
            theme.paint(Role::Name, &text::safe(&step.step)),
            theme.paint(
                Role::Faint,
                &text::safe(&format!(
                    "in {} of {}, last in run {}: {}; {now}",
                    step.failed,
                    text::count(step.ran, "run"),
                    step.last,
                    step.exit
                ))
            )
        ));
    }
    out.push_str(&format!(
        "\n{}\n",
        title("what took longest, all runs together")
    ));
    for step in history.steps.iter().take(MOST) {
        let times: Vec<_> = step.ran().collect();
        let most = times.iter().copied().max().unwrap_or_default();
        out.push_str(&format!(
            "{:>7}  {}  {}  {}\n",
            text::seconds(step.total),
            theme.paint(Role::Name, &text::safe(&step.step)),
            text::blocks(&times, most),
            theme.paint(
                Role::Faint,
                &format!(
                    "{}, the middle one {}",
                    text::count(times.len(), "time"),
                    text::seconds(step.middle())
                )
            )
        ));
    }
    out
}

#[derive(Serialize)]
struct HistoryJson<'a> {
    runs: Vec<RunSumsJson<'a>>,
    steps: Vec<StepTimesJson<'a>>,
    failing: Vec<FailingJson<'a>>,
}

#[derive(Serialize)]
struct RunSumsJson<'a> {
    run: u64,
    started: String,
    command: &'a str,
    killed: bool,
    seconds: f64,
    ran: usize,
    restored: usize,
    failed: usize,
    saved: f64,
}

#[derive(Serialize)]
struct StepTimesJson<'a> {
    step: &'a str,
    total: f64,
    middle: f64,
    /// In each run; null where it did not run.
    seconds: Vec<Option<f64>>,
}

#[derive(Serialize)]
struct FailingJson<'a> {
    step: &'a str,
    failed: usize,
    ran: usize,
    last: u64,
    exit: &'a str,
    failed_last: bool,
}

/// A history as programs read it.
pub fn json(history: &HistoryAnalysis) -> impl Serialize + '_ {
    HistoryJson {
        runs: history
            .runs
            .iter()
            .map(|run| RunSumsJson {
                run: run.run,
                started: started(run.started).iso,
                command: &run.command,
                killed: run.killed,
                seconds: rounded_seconds(run.took),
                ran: run.ran,
                restored: run.restored,
                failed: run.failed,
                saved: rounded_seconds(run.saved),
            })
            .collect(),
        steps: history
            .steps
            .iter()
            .map(|step| StepTimesJson {
                step: &step.step,
                total: rounded_seconds(step.total),
                middle: rounded_seconds(step.middle()),
                seconds: step
                    .times
                    .iter()
                    .map(|time| time.map(rounded_seconds))
                    .collect(),
            })
            .collect(),
        failing: history
            .failing
            .iter()
            .map(|step| FailingJson {
                step: &step.step,
                failed: step.failed,
                ran: step.ran,
                last: step.last,
                exit: &step.exit,
                failed_last: step.failed_last,
            })
            .collect(),
    }
}
