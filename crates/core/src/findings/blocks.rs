//! Messages of several lines.

use crate::findings::Finding;
use crate::findings::FindingLevel;
use crate::findings::lines;

/// So far below its message a place is looked for.
const NEAR: usize = 6;

/// A traceback is no longer.
const MOST_FRAMES: usize = 4000;

type Named<'f> = &'f dyn Fn(&str) -> Option<String>;

/// What the lines begin with, when that is a message of several lines, and how many it takes. A message that is of no file that
/// counts is taken as well.
pub(super) fn read(lines: &[&str], file: Named<'_>) -> Option<(Option<Finding>, usize)> {
    arrow(lines, file)
        .or_else(|| traceback(lines, file))
        .or_else(|| panicked(lines, file))
        .or_else(|| thrown(lines, file))
}

/// `error[CODE]: MESSAGE`, and below it `--> FILE:LINE:COLUMN`.
fn arrow(lines: &[&str], file: Named<'_>) -> Option<(Option<Finding>, usize)> {
    let first = lines[0];
    let (head, message) = first.split_once(": ")?;
    let (level, code) = match head.split_once('[') {
        Some((level, code)) => (level, Some(code.strip_suffix(']')?)),
        None => (head, None),
    };
    let level = match level {
        "error" => FindingLevel::Error,
        "warning" => FindingLevel::Warning,
        _ => return None,
    };
    let below = lines.iter().enumerate().skip(1).take(NEAR);
    let mut places = below.filter_map(|(at, line)| {
        let place = line.trim_start().strip_prefix("--> ")?;
        Some((at, lines::place(place)?))
    });
    let (at, place) = places.next()?;
    let finding = file(place.file).map(|file| Finding {
        level,
        file,
        line: place.line,
        column: place.column,
        code: code.map(str::to_owned),
        message: message.to_owned(),
    });
    Some((finding, at + 1))
}

/// `File "FILE", line LINE` again and again, and last what was raised: the last of them that counts is where it is.
fn traceback(lines: &[&str], file: Named<'_>) -> Option<(Option<Finding>, usize)> {
    let is_headed = lines[0].starts_with("Traceback (most recent call last)");
    if !is_headed && frame(lines[0]).is_none() {
        return None;
    }
    let mut place = None;
    for (at, line) in lines.iter().enumerate().take(MOST_FRAMES) {
        if let Some((name, number)) = frame(line) {
            if let Some(name) = file(name) {
                place = Some((name, number));
            }
            continue;
        }
        let is_inside = at == 0 || line.is_empty() || line.starts_with([' ', '\t']);
        if is_inside {
            continue;
        }
        let finding = place.map(|(file, line_number)| Finding {
            level: FindingLevel::Error,
            file,
            line: line_number,
            column: None,
            code: None,
            message: (*line).to_owned(),
        });
        return Some((finding, at + 1));
    }
    // Nothing was raised, or all too far below.
    Some((None, lines.len().min(MOST_FRAMES)))
}

/// A line of a traceback: its file and its line.
fn frame(line: &str) -> Option<(&str, u32)> {
    let rest = line.trim_start().strip_prefix("File \"")?;
    let (name, rest) = rest.split_once("\", line ")?;
    let length = rest.bytes().take_while(u8::is_ascii_digit).count();
    Some((name, rest[..length].parse().ok()?))
}

/// `thread 'NAME' panicked at FILE:LINE:COLUMN:`, and the message below it.
fn panicked(lines: &[&str], file: Named<'_>) -> Option<(Option<Finding>, usize)> {
    let (head, place) = lines[0].split_once(" panicked at ")?;
    if !head.starts_with("thread '") {
        return None;
    }
    let place = lines::place(place.trim_end_matches(':'))?;
    let message = lines.get(1).copied().unwrap_or_default();
    let finding = file(place.file).map(|file| Finding {
        level: FindingLevel::Error,
        file,
        line: place.line,
        column: place.column,
        code: None,
        message: format!("panicked: {message}"),
    });
    Some((finding, 2.min(lines.len())))
}

/// `FILE:LINE` alone on its line, the line of the source, and below it what was thrown.
fn thrown(lines: &[&str], file: Named<'_>) -> Option<(Option<Finding>, usize)> {
    let place = lines::place(lines[0]).filter(|place| place.column.is_none())?;
    let below = lines.iter().enumerate().skip(1).take(NEAR);
    let mut below = below.filter(|(_, line)| {
        let name = line.split([':', ' ']).next().unwrap_or_default();
        name.ends_with("Error") && line.contains(": ")
    });
    let (at, message) = below.next()?;
    let name = file(place.file)?;
    let finding = Finding {
        level: FindingLevel::Error,
        file: name,
        line: place.line,
        column: None,
        code: None,
        message: (*message).to_owned(),
    };
    Some((Some(finding), at + 1))
}
