//! A picture as an SVG drawing: threads that run from left to right, and what is woven of them.
//!
//! Shapes tell the states apart: a plain box is kept, a tag that points on would run, a dashed box may run,
//! a box with cut corners failed. Tasks are round at both ends, sources a line of text on its thread. The
//! colours follow the viewer's light or dark scheme.

use std::fmt::Write;

use handloom_core::graph_view::GraphView;
use handloom_core::graph_view::ViewEdge;
use handloom_core::graph_view::ViewKind;
use handloom_core::graph_view::ViewNode;
use handloom_core::graph_view::ViewState;

use crate::drawing::layout::GraphLayout;
use crate::drawing::layout::Rect;
use crate::drawing::layout::lay_out;
use crate::drawing::note;
use crate::ui::text;
use crate::ui::text::escaped;

/// How wide a character is, and how high a line.
const CHARACTER: f64 = 6.61;
const LINE: f64 = 13.0;
/// Space around all, and above it for the title.
const MARGIN: f64 = 22.0;
const TITLE: f64 = 40.0;
const LEGEND: f64 = 44.0;
/// Longer names are cut on the left, longer notes on the right.
const LONGEST: usize = 30;
/// Drawings of up to this width are made smaller to fit a window.
const READABLE: f64 = 1700.0;
/// So many files are named in the text that shows under the pointer.
const NAMED: usize = 24;

const STYLE: &str = "\
:root{--ground:#fbfaf7;--ink:#22262e;--faint:#6f7480;--warp:#e9e5db;--thread:#a9a08e;--box:#ffffff;\
--run:#0b6e4f;--runbox:#e2f3ea;--maybe:#8a6100;--failed:#b3261e;--failedbox:#fdeceb;--task:#3d4f9f}\
@media (prefers-color-scheme:dark){:root{--ground:#17191e;--ink:#e8e6e1;--faint:#9a9fab;--warp:#23262d;\
--thread:#5d6370;--box:#1f2229;--run:#5fd3a5;--runbox:#153128;--maybe:#e0b254;--failed:#ff8a80;\
--failedbox:#3a1c1b;--task:#9fb0ff}}\
svg{background:var(--ground)}\
text{font:11px ui-monospace,'DejaVu Sans Mono',Menlo,Consolas,monospace;fill:var(--ink)}\
.f{fill:var(--faint)}.b{font-weight:600}.t{font-size:14px}\
.w{stroke:var(--warp);stroke-width:1}\
.l{fill:none;stroke:var(--thread);stroke-width:1.1}.a{stroke-dasharray:1 4;stroke-linecap:round}\
.e{stroke-dasharray:5 3}\
.k{fill:var(--box);stroke:var(--faint)}\
.r{fill:var(--runbox);stroke:var(--run);stroke-width:1.8}.R{fill:var(--run)}\
.m{fill:var(--box);stroke:var(--maybe);stroke-width:1.4;stroke-dasharray:5 3}.M{fill:var(--maybe)}\
.x{fill:var(--failedbox);stroke:var(--failed);stroke-width:2}.X{fill:var(--failed)}\
.j{fill:var(--box);stroke:var(--task);stroke-width:1.4}\
.s{stroke:var(--faint);stroke-width:1}.S{fill:var(--ground)}";

/// The drawing of a picture, under a title.
pub fn write(view: &GraphView, title: &str) -> String {
    let labels: Vec<TextLabel> = view.nodes.iter().map(TextLabel::of).collect();
    let sizes: Vec<(f64, f64)> = labels.iter().map(TextLabel::size).collect();
    let edges: Vec<(usize, usize)> = view.edges.iter().map(|&(from, to, _)| (from, to)).collect();
    let layout = lay_out(&sizes, &edges);
    let legend = legend(view);
    let width = (layout.width + 2.0 * MARGIN)
        .max(legend.0 + 2.0 * MARGIN)
        .max(420.0);
    let height = layout.height + TITLE + LEGEND + MARGIN;
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width:.0}\" height=\"{height:.0}\" style=\"max-width:{fit};height:auto\" viewBox=\"0 0 {width:.0} {height:.0}\" role=\"img\">\n<title>{title}</title>\n<style>{STYLE}</style>\n",
        title = escaped(title),
        fit = if width < READABLE { "100%" } else { "none" },
    );
    let _ = writeln!(
        out,
        "<text class=\"t b\" x=\"{MARGIN}\" y=\"26\">{}<tspan class=\"f\" font-weight=\"400\">  {}</tspan></text>",
        escaped(title),
        escaped(&subtitle(view))
    );
    let _ = writeln!(out, "<g transform=\"translate({MARGIN} {TITLE})\">");
    for &(x, column) in &layout.columns {
        let x = x + column / 2.0;
        let _ = writeln!(
            out,
            "<path class=\"w\" d=\"M{x:.1} 0V{:.1}\"/>",
            layout.height
        );
    }
    for line in threads(&layout, view) {
        out.push_str(&line);
    }
    for ((node, label), place) in view.nodes.iter().zip(&labels).zip(&layout.places) {
        out.push_str(&node_element(node, label, *place));
    }
    out.push_str("</g>\n");
    let _ = writeln!(
        out,
        "<g transform=\"translate({MARGIN} {:.1})\">\n{}</g>\n</svg>",
        layout.height + TITLE + 16.0,
        legend.1
    );
    out
}

fn subtitle(view: &GraphView) -> String {
    let states: Vec<String> = view
        .states()
        .iter()
        .map(|(state, count)| format!("{count} {}", state.words()))
        .collect();
    let steps = text::count(view.steps(), "step");
    if states.is_empty() {
        steps
    } else {
        format!("{steps}: {}", states.join(", "))
    }
}

/// What is written in a node.
struct TextLabel {
    folder: String,
    name: String,
    note: String,
}

impl TextLabel {
    fn of(node: &ViewNode) -> Self {
        let cut = shortened_left(&text::safe(&node.name));
        let plain = cut.trim_end_matches('/');
        // The names of several groups of targets are one thing.
        let several = node.count > 1 && plain.contains(' ');
        let at = if several {
            0
        } else {
            plain.rfind('/').map_or(0, |at| at + 1)
        };
        let (folder, name) = cut.split_at(at);
        Self {
            folder: folder.to_owned(),
            name: name.to_owned(),
            note: shortened_right(&text::safe(&note(node))),
        }
    }

    fn size(&self) -> (f64, f64) {
        let longest = (self.folder.chars().count() + self.name.chars().count())
            .max(self.note.chars().count());
        #[expect(clippy::cast_precision_loss, reason = "a few characters")]
        let width = longest as f64 * CHARACTER + 20.0;
        let lines = if self.note.is_empty() { 1.0 } else { 2.0 };
        (width, lines * LINE + 7.0)
    }
}

fn shortened_left(text: &str) -> String {
    let count = text.chars().count();
    if count <= LONGEST {
        return text.to_owned();
    }
    let kept = text.chars().skip(count - LONGEST + 1);
    std::iter::once('…').chain(kept).collect()
}

fn shortened_right(text: &str) -> String {
    if text.chars().count() <= LONGEST {
        return text.to_owned();
    }
    text.chars().take(LONGEST - 1).chain(['…']).collect()
}

/// The lines between places, and through the columns that they pass.
fn threads(layout: &GraphLayout, view: &GraphView) -> Vec<String> {
    let is_thread = |at: usize| at >= layout.nodes;
    layout
        .lines
        .iter()
        .map(|line| {
            let (from, to) = (layout.places[line.from], layout.places[line.to]);
            let edge = view.edges[line.edge].2;
            let class = match edge {
                ViewEdge::Needs => "l",
                ViewEdge::After => "l a",
                ViewEdge::Learned => "l e",
            };
            let (x, y) = (from.x + from.width, from.middle());
            let (to_x, to_y) = (to.x, to.middle());
            let mut path = if line.back {
                // Round below.
                let low = y.max(to_y) + 26.0;
                format!(
                    "M{x:.1} {y:.1}C{:.1} {low:.1} {:.1} {low:.1} {to_x:.1} {to_y:.1}",
                    x + 60.0,
                    to_x - 60.0
                )
            } else {
                let bend = (to_x - x) / 2.0;
                format!(
                    "M{x:.1} {y:.1}C{:.1} {y:.1} {:.1} {to_y:.1} {to_x:.1} {to_y:.1}",
                    x + bend,
                    to_x - bend
                )
            };
            if is_thread(line.to) {
                let _ = write!(path, "H{:.1}", to.x + to.width);
            }
            format!("<path class=\"{class}\" d=\"{path}\"/>\n")
        })
        .collect()
}

fn node_element(node: &ViewNode, label: &TextLabel, place: Rect) -> String {
    let mut out = format!(
        "<g transform=\"translate({:.1} {:.1})\"><title>{}</title>",
        place.x,
        place.y,
        escaped(&told(node))
    );
    out.push_str(&shape(node.kind, node.state, place.width, place.height));
    let _ = write!(
        out,
        "<text x=\"10\" y=\"{:.1}\"><tspan class=\"f\">{}</tspan><tspan{}>{}</tspan></text>",
        LINE,
        escaped(&label.folder),
        if node.kind == ViewKind::Source {
            ""
        } else {
            " class=\"b\""
        },
        escaped(&label.name)
    );
    if !label.note.is_empty() {
        let class = match node.state {
            ViewState::Failed | ViewState::Missing => "X",
            ViewState::Run => "R",
            ViewState::Maybe => "M",
            ViewState::Kept | ViewState::None => "f",
        };
        let _ = write!(
            out,
            "<text class=\"{class}\" x=\"10\" y=\"{:.1}\">{}</text>",
            2.0 * LINE,
            escaped(&label.note)
        );
    }
    out.push_str("</g>\n");
    out
}

fn shape(kind: ViewKind, state: ViewState, width: f64, height: f64) -> String {
    let (w, h) = (width, height);
    match (kind, state) {
        (ViewKind::Source, _) => {
            let dashes = if state == ViewState::Missing {
                " stroke-dasharray=\"4 3\""
            } else {
                ""
            };
            format!(
                "<rect class=\"S\" width=\"{w:.1}\" height=\"{h:.1}\"/><path class=\"s\"{dashes} d=\"M6 {:.1}H{:.1}\"/>",
                h - 1.5,
                w - 6.0
            )
        }
        (ViewKind::Set, _) => format!(
            "<ellipse class=\"k\" cx=\"{:.1}\" cy=\"{:.1}\" rx=\"{:.1}\" ry=\"{:.1}\"/>",
            w / 2.0,
            h / 2.0,
            w / 2.0,
            h / 2.0
        ),
        (_, ViewState::Failed) => format!(
            "<path class=\"x\" d=\"M7 0H{:.1}L{w:.1} 7V{:.1}L{:.1} {h:.1}H7L0 {:.1}V7Z\"/>",
            w - 7.0,
            h - 7.0,
            w - 7.0,
            h - 7.0
        ),
        (ViewKind::Task, _) => format!(
            "<rect class=\"j\" width=\"{w:.1}\" height=\"{h:.1}\" rx=\"{:.1}\"/>",
            h / 2.0
        ),
        (ViewKind::Step, ViewState::Run) => format!(
            "<path class=\"r\" d=\"M0 0H{:.1}L{w:.1} {:.1}L{:.1} {h:.1}H0Z\"/>",
            w - 8.0,
            h / 2.0,
            w - 8.0
        ),
        (ViewKind::Step, ViewState::Maybe) => {
            format!("<rect class=\"m\" width=\"{w:.1}\" height=\"{h:.1}\"/>")
        }
        (ViewKind::Step, _) => {
            format!("<rect class=\"k\" width=\"{w:.1}\" height=\"{h:.1}\" rx=\"2\"/>")
        }
    }
}

/// What shows under the pointer.
fn told(node: &ViewNode) -> String {
    let mut lines = vec![node.name.clone()];
    lines.extend([&node.about, &note(node)].into_iter().cloned());
    if node.state == ViewState::Kept && node.count == 1 {
        lines.push("kept".to_owned());
    }
    if node.files.len() > 1 {
        lines.extend(node.files.iter().take(NAMED).cloned());
        if node.files.len() > NAMED {
            lines.push(format!("and {} more", node.files.len() - NAMED));
        }
    }
    lines.retain(|line| !line.is_empty());
    lines.join("\n")
}

/// What the shapes mean, as far as they are there: how wide it is, and the drawing.
fn legend(view: &GraphView) -> (f64, String) {
    let all = [
        (ViewKind::Source, ViewState::None, "source"),
        (ViewKind::Source, ViewState::Missing, "is missing"),
        (ViewKind::Set, ViewState::None, "needed together"),
        (ViewKind::Step, ViewState::Kept, "kept"),
        (ViewKind::Step, ViewState::Maybe, "may run"),
        (ViewKind::Step, ViewState::Run, "would run"),
        (ViewKind::Step, ViewState::Failed, "failed last time"),
        (ViewKind::Task, ViewState::None, "task"),
    ];
    let mut x = 0.0;
    let mut out = String::new();
    for (kind, state, words) in all {
        let is_there = view.nodes.iter().any(|node| {
            let same_kind = node.kind == kind || state == ViewState::Failed;
            same_kind && (node.state == state || kind == ViewKind::Task)
        });
        if !is_there {
            continue;
        }
        let _ = writeln!(
            out,
            "<g transform=\"translate({x:.1} 0)\">{}<text class=\"f\" x=\"34\" y=\"10.5\">{words}</text></g>",
            shape(kind, state, 26.0, 14.0)
        );
        #[expect(clippy::cast_precision_loss, reason = "a few characters")]
        let width = words.chars().count() as f64 * CHARACTER;
        x += width + 58.0;
    }
    (x, out)
}
