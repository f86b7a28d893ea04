//! What is said of steps that were run twice.

use serde::Serialize;

use handloom_core::executor::TwiceReport;
use handloom_core::executor::twice::DifferencePlace;
use handloom_core::executor::twice::OutputDifference;
use handloom_core::executor::twice::TwiceAgainst;

use crate::ui::failure_report::INDENT;
use crate::ui::style::Role;
use crate::ui::style::Theme;
use crate::ui::text;

/// Tells what came out differently; nothing of a step that came out the same.
pub fn write(report: &TwiceReport, theme: Theme, block: &mut String) {
    if !report.differs() {
        return;
    }
    let title = match &report.against {
        TwiceAgainst::SecondRun => "it came out differently when it was run again:".to_owned(),
        TwiceAgainst::Store(made_at) => format!(
            "it came out differently from what the store has, made {}:",
            text::started(*made_at).plain
        ),
    };
    block.push_str(&format!("{INDENT}{}\n", theme.paint(Role::Failed, &title)));
    if let Some(exit) = &report.failed {
        block.push_str(&format!(
            "{INDENT}  the second run failed: {}\n",
            exit.in_words()
        ));
    }
    let (first, second) = match report.against {
        TwiceAgainst::SecondRun => ("first", "then"),
        TwiceAgainst::Store(_) => ("store", "now"),
    };
    for difference in &report.differences {
        let name = theme.paint(Role::Name, &text::safe(&difference.path));
        let (place, sides) = told(difference, (first, second));
        block.push_str(&format!("{INDENT}  {name}{place}\n"));
        for (side, what) in [first, second].into_iter().zip(sides.into_iter().flatten()) {
            let side = theme.paint(Role::Faint, &format!("{side:<5}"));
            block.push_str(&format!("{INDENT}    {side}  {what}\n"));
        }
    }
}

/// Where two files differ, and what each has there.
fn told(difference: &OutputDifference, sides: (&str, &str)) -> (String, Option<[String; 2]>) {
    let line = |text: &Option<Vec<u8>>| match text {
        Some(text) => text::safe(&String::from_utf8_lossy(text)),
        None => "(its end)".to_owned(),
    };
    let byte = |byte: &Option<u8>| match byte {
        Some(byte) => format!("{byte:#04x}"),
        None => "(its end)".to_owned(),
    };
    match &difference.place {
        DifferencePlace::Line {
            number,
            first,
            second,
        } => {
            let shown = [line(first), line(second)];
            // Only the line's end differs.
            let note = if shown[0] == shown[1] {
                ", at its end"
            } else {
                ""
            };
            (format!(" in line {number}{note}"), Some(shown))
        }
        DifferencePlace::Byte {
            offset,
            first,
            second,
        } => (
            format!(" in byte {offset}"),
            Some([byte(first), byte(second)]),
        ),
        DifferencePlace::Link { first, second } => (
            ", a link".to_owned(),
            Some([text::safe(first), text::safe(second)]),
        ),
        DifferencePlace::Only { first } => {
            let side = if *first { sides.0 } else { sides.1 };
            (format!(" is there only one time: {side}"), None)
        }
        DifferencePlace::Kind => (
            " is of another kind, or may be run only one time".to_owned(),
            None,
        ),
    }
}

/// The same for programs.
#[derive(Serialize)]
pub struct TwiceJson<'a> {
    against: &'static str,
    differs: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    failed: Option<String>,
    differences: Vec<DifferenceJson<'a>>,
}

#[derive(Serialize)]
struct DifferenceJson<'a> {
    path: &'a str,
    /// From 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    line: Option<usize>,
    /// From 0.
    #[serde(skip_serializing_if = "Option::is_none")]
    byte: Option<usize>,
    #[serde(skip_serializing_if = "Option::is_none")]
    first: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    second: Option<String>,
}

impl<'a> TwiceJson<'a> {
    /// As programs read it.
    pub fn of(report: &'a TwiceReport) -> Self {
        let differences = report.differences.iter();
        Self {
            against: match report.against {
                TwiceAgainst::SecondRun => "second-run",
                TwiceAgainst::Store(_) => "store",
            },
            differs: report.differs(),
            failed: report
                .failed
                .as_ref()
                .map(handloom_core::executor::Exit::in_words),
            differences: differences
                .map(|difference| {
                    let (_, sides) = told(difference, ("first", "second"));
                    let [first, second] = sides.map_or([None, None], |sides| sides.map(Some));
                    DifferenceJson {
                        path: &difference.path,
                        line: match difference.place {
                            DifferencePlace::Line { number, .. } => Some(number),
                            _ => None,
                        },
                        byte: match difference.place {
                            DifferencePlace::Byte { offset, .. } => Some(offset),
                            _ => None,
                        },
                        first,
                        second,
                    }
                })
                .collect(),
        }
    }
}
