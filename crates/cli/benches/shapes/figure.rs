//! A drawing of how time grows with a project.

use std::fmt::Write;
use std::path::Path;

use crate::bed::Taken;
use crate::projects::Shape;

/// One measured point: how many steps, and what they took.
pub type Point = (usize, Taken);

/// The drawing's size, and the room for words around it.
const WIDTH: f64 = 860.0;
const HEIGHT: f64 = 500.0;
const LEFT: f64 = 70.0;
const RIGHT: f64 = 200.0;
const TOP: f64 = 50.0;
const BOTTOM: f64 = 50.0;

/// Colours that are told apart also by those who see few, on light and on dark.
const COLOURS: [&str; 10] = [
    "#0072b2", "#d55e00", "#009e73", "#cc79a7", "#e69f00", "#56b4e9", "#7f7f7f", "#8c564b",
    "#6a3d9a", "#b2a200",
];

/// Draws how long an unchanged run took for each shape, beside the floor of the first.
pub fn draw(path: &Path, lines: &[(Shape, Vec<Point>)]) {
    let all: Vec<&Point> = lines.iter().flat_map(|(_, points)| points).collect();
    let steps = all.iter().map(|(steps, _)| *steps);
    let (least, most) = (steps.clone().min().unwrap_or(1), steps.max().unwrap_or(10));
    let times = all.iter().flat_map(|(_, taken)| [taken.took, taken.floor]);
    let seconds = times.map(|time| time.as_secs_f64());
    let slowest = seconds.clone().fold(0.0, f64::max).log10().ceil();
    let fastest = seconds.fold(f64::MAX, f64::min).log10().floor();
    let x = |steps: usize| {
        let share = (log(steps) - log(least)) / (log(most) - log(least)).max(0.1);
        LEFT + share * (WIDTH - LEFT - RIGHT)
    };
    let y = |seconds: f64| {
        let share = (seconds.log10() - fastest) / (slowest - fastest).max(0.1);
        HEIGHT - BOTTOM - share * (HEIGHT - TOP - BOTTOM)
    };
    let mut svg = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} {HEIGHT}\" font-family=\"sans-serif\" font-size=\"13\">\n<rect width=\"100%\" height=\"100%\" fill=\"#ffffff\"/>\n<text x=\"{LEFT}\" y=\"26\" font-size=\"15\" fill=\"#222\">A run with nothing to do, whole process, by the number of steps</text>\n"
    );
    let mut power = fastest;
    while power <= slowest {
        let at = y(10f64.powf(power));
        let name = match power {
            power if power < 0.0 => format!("{:.0} ms", 10f64.powf(power + 3.0)),
            power => format!("{:.0} s", 10f64.powf(power)),
        };
        let _ = writeln!(
            svg,
            "<line x1=\"{LEFT}\" x2=\"{:.1}\" y1=\"{at:.1}\" y2=\"{at:.1}\" stroke=\"#ddd\"/>\n<text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"end\" fill=\"#555\">{name}</text>",
            WIDTH - RIGHT,
            LEFT - 8.0,
            at + 4.0
        );
        power += 1.0;
    }
    let mut size = least;
    while size <= most {
        let _ = writeln!(
            svg,
            "<text x=\"{:.1}\" y=\"{:.1}\" text-anchor=\"middle\" fill=\"#555\">{}</text>",
            x(size),
            HEIGHT - BOTTOM + 22.0,
            thousands(size)
        );
        size *= 10;
    }
    let mut labels: Vec<(f64, String, &str)> = Vec::new();
    for ((shape, points), colour) in lines.iter().zip(COLOURS) {
        let place = |&(steps, taken): &Point| (x(steps), y(taken.took.as_secs_f64()));
        line(&mut svg, points.iter().map(place), colour, "");
        if let Some((_, last)) = points.last() {
            labels.push((y(last.took.as_secs_f64()), shape.name().to_owned(), colour));
        }
    }
    if let Some((_, points)) = lines.first() {
        let place = |&(steps, taken): &Point| (x(steps), y(taken.floor.as_secs_f64()));
        line(
            &mut svg,
            points.iter().map(place),
            "#222222",
            " stroke-dasharray=\"4 4\"",
        );
        if let Some((_, last)) = points.last() {
            let name = format!("the floor of {}", lines[0].0.name());
            labels.push((y(last.floor.as_secs_f64()), name, "#222222"));
        }
    }
    // Names that would lie on each other are moved apart.
    labels.sort_by(|one, other| one.0.total_cmp(&other.0));
    let mut free = TOP;
    for (at, name, colour) in labels {
        let at = at.max(free);
        free = at + 16.0;
        let _ = writeln!(
            svg,
            "<text x=\"{:.1}\" y=\"{:.1}\" fill=\"{colour}\">{name}</text>",
            WIDTH - RIGHT + 14.0,
            at + 4.0
        );
    }
    svg.push_str("</svg>\n");
    std::fs::write(path, svg).expect("the figure can be written");
}

fn line(svg: &mut String, places: impl Iterator<Item = (f64, f64)>, colour: &str, more: &str) {
    let places: Vec<(f64, f64)> = places.collect();
    let points: Vec<String> = places
        .iter()
        .map(|(x, y)| format!("{x:.1},{y:.1}"))
        .collect();
    let _ = writeln!(
        svg,
        "<polyline points=\"{}\" fill=\"none\" stroke=\"{colour}\" stroke-width=\"2\"{more}/>",
        points.join(" ")
    );
    for (x, y) in places {
        let _ = writeln!(
            svg,
            "<circle cx=\"{x:.1}\" cy=\"{y:.1}\" r=\"3\" fill=\"{colour}\"/>"
        );
    }
}

#[expect(clippy::cast_precision_loss, reason = "a place in a drawing")]
fn log(steps: usize) -> f64 {
    (steps as f64).log10()
}

fn thousands(count: usize) -> String {
    match count {
        count if count >= 1_000_000 => format!("{},000,000", count / 1_000_000),
        count => format!("{},000", count / 1_000),
    }
}
