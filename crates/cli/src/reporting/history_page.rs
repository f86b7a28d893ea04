//! All runs that are kept as one page that needs nothing else, and no script: figures are drawn as SVG, and stand in tables.

use std::fmt::Write;
use std::time::Duration;

use handloom_core::records::history_analysis::HistoryAnalysis;
use handloom_core::records::history_analysis::RunSums;
use handloom_core::records::history_analysis::StepThroughRuns;
use handloom_core::world::share;

use crate::reporting::history::restored_share;
use crate::reporting::page::begin;
use crate::ui::text;
use crate::ui::text::escaped;
use crate::ui::text::started;

/// Lists show so many.
const MOST: usize = 20;

/// The page's text.
pub fn write(history: &HistoryAnalysis, project: &str) -> String {
    let mut out = begin(&format!("{project}: history"));
    head(history, project, &mut out);
    out.push_str("<main>\n");
    durations(history, &mut out);
    failing(history, &mut out);
    slowest(history, &mut out);
    all_runs(history, &mut out);
    out.push_str("</main>\n</html>\n");
    out
}

fn head(history: &HistoryAnalysis, project: &str, out: &mut String) {
    let runs = &history.runs;
    let when = match (runs.first(), runs.last()) {
        (Some(first), Some(last)) => format!(
            "{} to {}",
            started(first.started).plain,
            started(last.started).plain
        ),
        _ => String::new(),
    };
    let sum = |of: fn(&RunSums) -> usize| -> usize { runs.iter().map(of).sum() };
    let (ran, restored) = (sum(|run| run.ran), sum(|run| run.restored));
    let saved: Duration = runs.iter().map(|run| run.saved).sum();
    let took: Duration = runs.iter().map(|run| run.took).sum();
    let failed = runs.iter().filter(|run| run.failed > 0).count();
    let figure = |name: &str, value: &str| format!("<div><dt>{name}</dt><dd>{value}</dd></div>");
    let _ = write!(
        out,
        "<header>\n<h1><span>{}</span> {}</h1>\n<p>{when}</p>\n<dl>{}{}{}{}{}</dl>\n</header>\n",
        escaped(project),
        text::count(runs.len(), "run"),
        figure("took", &text::seconds(took)),
        figure("jobs run", &ran.to_string()),
        figure("restored", &restored.to_string()),
        figure("which saved", &text::seconds(saved)),
        figure("runs that failed", &failed.to_string()),
    );
}

/// Each run as a bar, as high as it took; what of its jobs was restored is drawn below.
fn durations(history: &HistoryAnalysis, out: &mut String) {
    let runs = &history.runs;
    let most = runs.iter().map(|run| run.took).max().unwrap_or_default();
    let width = 1000.0 / runs.len().max(1) as f64;
    let _ = write!(
        out,
        "<section>\n<h2>How long runs took</h2>\n<p class=\"why\">The longest took {}. Below each run, what share of its jobs came from the store.</p>\n<svg class=\"runs\" viewBox=\"0 0 1000 190\" preserveAspectRatio=\"none\" role=\"img\" aria-label=\"{}, each as high as it took\">\n<path class=\"rule\" d=\"M0 140.5H1000M0 70.5H1000M0 .5H1000\"/>\n",
        text::seconds(most),
        text::count(runs.len(), "run"),
    );
    for (number, run) in runs.iter().enumerate() {
        let height = (140.0 * share(run.took, most)).max(1.5);
        let left = width * number as f64;
        let gap = (width * 0.18).min(6.0);
        let class = if run.killed {
            "killed"
        } else if run.failed > 0 {
            "failed"
        } else {
            "made"
        };
        let share = restored_share(run);
        let told = format!(
            "run {}, {}: {} in {}, {}",
            run.run,
            started(run.started).plain,
            run.command,
            text::seconds(run.took),
            outcome(run)
        );
        let wide = width - gap;
        let x = left + gap / 2.0;
        let _ = writeln!(
            out,
            "<g class=\"{class}\"><title>{}</title><rect x=\"{x:.1}\" y=\"{:.1}\" width=\"{wide:.1}\" height=\"{height:.1}\"/>{}</g>",
            escaped(&told),
            140.0 - height,
            match share {
                0 => String::new(),
                share => format!(
                    "<rect class=\"share\" x=\"{x:.1}\" y=\"150\" width=\"{wide:.1}\" height=\"{:.1}\"/>",
                    0.4 * share as f64
                ),
            }
        );
    }
    out.push_str("</svg>\n<p class=\"key\"><i class=\"made\"></i>went well <i class=\"failed\"></i>something failed <i class=\"killed\"></i>killed <i class=\"share\"></i>restored, of all its jobs</p>\n</section>\n");
}

/// What became of a run's jobs.
fn outcome(run: &RunSums) -> String {
    let mut parts = vec![format!("{} run", text::count(run.ran, "job"))];
    if run.restored > 0 {
        parts.push(format!(
            "{} restored ({}%)",
            run.restored,
            restored_share(run)
        ));
    }
    if run.failed > 0 {
        parts.push(format!("{} failed", run.failed));
    }
    if run.killed {
        parts.push("killed before its end".to_owned());
    }
    parts.join(", ")
}

fn failing(history: &HistoryAnalysis, out: &mut String) {
    if history.failing.is_empty() {
        return;
    }
    out.push_str("<section>\n<h2>What failed</h2>\n<table class=\"all\">\n<thead><tr><th>how often<th>what<th>last in<th>how it ended<th>since</tr></thead>\n<tbody>\n");
    for step in history.failing.iter().take(MOST) {
        let since = if step.failed_last {
            "did not run again"
        } else {
            "went well again"
        };
        let class = if step.failed_last { "failed" } else { "made" };
        let _ = writeln!(
            out,
            "<tr class=\"{class}\"><td>{} of {}<td><b>{}</b><td>run {}<td>{}<td>{since}</tr>",
            step.failed,
            step.ran,
            escaped(&step.step),
            step.last,
            escaped(&step.exit),
        );
    }
    out.push_str("</tbody>\n</table>\n");
    more(history.failing.len(), out);
    out.push_str("</section>\n");
}

fn more(all: usize, out: &mut String) {
    if all > MOST {
        let _ = writeln!(out, "<p class=\"why\">and {} more</p>", all - MOST);
    }
}

fn slowest(history: &HistoryAnalysis, out: &mut String) {
    if history.steps.is_empty() {
        return;
    }
    out.push_str("<section>\n<h2>The slowest steps through the runs</h2>\n<p class=\"why\">By what they took in all runs together. Each line of bars has a place for every run, and is as high as the step's longest time.</p>\n<div class=\"wide\" tabindex=\"0\" role=\"group\" aria-label=\"The slowest steps\"><table class=\"all through\">\n<thead><tr><th>together<th>what<th>through the runs<th>times<th>middle<th>longest<th>last</tr></thead>\n<tbody>\n");
    for step in history.steps.iter().take(MOST) {
        let times: Vec<Duration> = step.ran().collect();
        let longest = times.iter().copied().max().unwrap_or_default();
        let last = times.last().copied().unwrap_or_default();
        let _ = writeln!(
            out,
            "<tr><td>{}<td><b>{}</b><td>{}<td>{}<td>{}<td>{}<td>{}</tr>",
            text::seconds(step.total),
            escaped(&step.step),
            line(step, history, longest),
            times.len(),
            text::seconds(step.middle()),
            text::seconds(longest),
            text::seconds(last),
        );
    }
    out.push_str("</tbody>\n</table></div>\n");
    more(history.steps.len(), out);
    out.push_str("</section>\n");
}

/// A step's times as a line of bars.
fn line(step: &StepThroughRuns, history: &HistoryAnalysis, longest: Duration) -> String {
    let width = 240.0 / step.times.len().max(1) as f64;
    let mut bars = String::new();
    for (number, time) in step.times.iter().enumerate() {
        let Some(time) = time else { continue };
        let height = (26.0 * share(*time, longest)).max(1.5);
        let run = history.runs.get(number).map_or(0, |run| run.run);
        let _ = write!(
            bars,
            "<rect x=\"{:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{height:.1}\"><title>run {run}: {}</title></rect>",
            width * number as f64,
            28.0 - height,
            (width - 1.0).clamp(1.0, 24.0),
            text::seconds(*time),
        );
    }
    format!(
        "<svg class=\"line\" viewBox=\"0 0 240 28\" preserveAspectRatio=\"none\" role=\"img\" aria-label=\"{} in {} of {}\">{bars}</svg>",
        escaped(&step.step),
        step.ran().count(),
        text::count(step.times.len(), "run"),
    )
}

fn all_runs(history: &HistoryAnalysis, out: &mut String) {
    out.push_str("<section id=\"all\">\n<h2>Every run</h2>\n<div class=\"wide\" tabindex=\"0\" role=\"group\" aria-label=\"Every run\"><table class=\"all runs-table\">\n<thead><tr><th>run<th>when<th>took<th>typed<th>what became of its jobs</tr></thead>\n<tbody>\n");
    for run in history.runs.iter().rev() {
        let class = if run.failed > 0 || run.killed {
            "failed"
        } else {
            "made"
        };
        let _ = writeln!(
            out,
            "<tr class=\"{class}\"><td>{}<td>{}<td>{}<td><code>{}</code><td>{}</tr>",
            run.run,
            started(run.started).plain,
            text::seconds(run.took),
            escaped(&run.command),
            outcome(run),
        );
    }
    out.push_str("</tbody>\n</table></div>\n</section>\n");
}
