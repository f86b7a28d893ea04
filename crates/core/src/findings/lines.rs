//! Messages of one line.

use crate::findings::Finding;
use crate::findings::FindingLevel;
use crate::findings::PrintedPlace;

/// No path is longer.
const MOST_PATH: usize = 4096;

/// What a line says of a file.
pub(super) fn read(line: &str, file: &dyn Fn(&str) -> Option<String>) -> Option<Finding> {
    if line.starts_with(char::is_whitespace) || line.len() < 4 {
        return None;
    }
    // The program that speaks may stand in front: `awk: sum.awk:3: …`.
    let behind = line
        .split_once(": ")
        .filter(|(program, _)| !program.contains([':', '/', ' ', '(']))
        .map(|(_, behind)| behind);
    [Some(line), behind].into_iter().flatten().find_map(|line| {
        let (place, message) = of_shell(line)
            .or_else(|| with_colons(line))
            .or_else(|| with_brackets(line))
            .or_else(|| said_at(line))?;
        let name = file(place.file)?;
        let (level, message) = levelled(message.trim_start());
        let (code, message) = coded(message);
        (!message.is_empty()).then(|| Finding {
            level,
            file: name,
            line: place.line,
            column: place.column,
            code,
            message: message.to_owned(),
        })
    })
}

/// `FILE:LINE:COLUMN: MESSAGE`, `FILE:LINE: MESSAGE`, `FILE:LINE.COLUMN-LINE.COLUMN: MESSAGE`.
fn with_colons(line: &str) -> Option<(PrintedPlace<'_>, &str)> {
    let mut from = 0;
    // A path may have colons in it; the first one with a number behind it ends it.
    while let Some(at) = line[from..].find(':').map(|at| from + at) {
        from = at + 1;
        if at == 0 || at > MOST_PATH {
            continue;
        }
        if let Some((line_number, rest)) = number(&line[at + 1..]) {
            let (column, rest) = column(rest);
            let message = rest.strip_prefix(':')?;
            let place = PrintedPlace {
                file: &line[..at],
                line: line_number,
                column,
            };
            return Some((place, message));
        }
    }
    None
}

/// The column behind a line's number, and what comes behind a range.
fn column(rest: &str) -> (Option<u32>, &str) {
    let Some((column, behind)) = rest
        .strip_prefix([':', '.'])
        .and_then(number)
        .filter(|(_, behind)| behind.starts_with([':', '-', '.']))
    else {
        return (None, rest);
    };
    let range =
        |character: char| character.is_ascii_digit() || matches!(character, '-' | '.' | ':');
    let behind = match behind.strip_prefix('-') {
        // The end of a range.
        Some(end) => {
            let length = end.find(|character| !range(character)).unwrap_or(0);
            &end[end[..length].trim_end_matches(':').len()..]
        }
        None => behind,
    };
    (Some(column), behind)
}

/// `FILE(LINE,COLUMN): MESSAGE`.
fn with_brackets(line: &str) -> Option<(PrintedPlace<'_>, &str)> {
    let (file, rest) = line.split_once('(')?;
    let (number_of_line, rest) = number(rest)?;
    let (column, rest) = match rest.strip_prefix(',') {
        Some(rest) => {
            let (column, rest) = number(rest.trim_start())?;
            (Some(column), rest)
        }
        None => (None, rest),
    };
    let message = rest
        .strip_prefix("):")
        .or_else(|| rest.strip_prefix(") :"))?;
    let place = PrintedPlace {
        file,
        line: number_of_line,
        column,
    };
    (!file.is_empty()).then_some((place, message))
}

/// `FILE: LINE: MESSAGE` and `FILE: line LINE: MESSAGE`, as shells have it.
fn of_shell(line: &str) -> Option<(PrintedPlace<'_>, &str)> {
    let (file, rest) = line.split_once(": ")?;
    let rest = rest.strip_prefix("line ").unwrap_or(rest);
    let (number_of_line, rest) = number(rest)?;
    let message = rest.strip_prefix(": ")?;
    // What a shell says of a script went wrong.
    let place = PrintedPlace {
        file,
        line: number_of_line,
        column: None,
    };
    (!file.contains(':')).then_some((place, message))
}

/// `MESSAGE at FILE line LINE.`
fn said_at(line: &str) -> Option<(PrintedPlace<'_>, &str)> {
    let (before, rest) = line.rsplit_once(" line ")?;
    let (message, file) = before.rsplit_once(" at ")?;
    let (number_of_line, rest) = number(rest)?;
    let place = PrintedPlace {
        file,
        line: number_of_line,
        column: None,
    };
    (rest.starts_with(['.', ',']) || rest.is_empty()).then_some((place, message))
}

/// A number at the beginning, and what is behind it.
fn number(text: &str) -> Option<(u32, &str)> {
    let length = text.bytes().take_while(u8::is_ascii_digit).count();
    let number = text[..length].parse().ok().filter(|&number| number > 0)?;
    Some((number, &text[length..]))
}

/// How bad it is, by the word that a message begins with or by the end of an exception's name.
fn levelled(message: &str) -> (FindingLevel, &str) {
    let word = |word: &str| {
        let begun = message.get(..word.len())?;
        let rest = message[word.len()..].trim_start();
        let ends = rest.starts_with(':') || message[word.len()..].starts_with([' ', '[']);
        (begun.eq_ignore_ascii_case(word) && ends)
            .then(|| rest.strip_prefix(':').unwrap_or(rest).trim_start())
    };
    let known = [
        ("fatal error", FindingLevel::Error),
        ("internal compiler error", FindingLevel::Error),
        ("error", FindingLevel::Error),
        ("fatal", FindingLevel::Error),
        ("warning", FindingLevel::Warning),
        ("note", FindingLevel::Note),
        ("info", FindingLevel::Note),
        ("remark", FindingLevel::Note),
        ("style", FindingLevel::Warning),
    ];
    for (name, level) in known {
        if let Some(rest) = word(name) {
            return (level, rest);
        }
    }
    let first = message.split([':', ' ']).next().unwrap_or_default();
    let failed = first.ends_with("Error") || first.ends_with("Exception");
    let failed = failed
        || [
            "not found",
            "yntax error",
            "ermission denied",
            "o such file",
            "undefined",
        ]
        .iter()
        .any(|said| message.contains(said));
    let level = if failed {
        FindingLevel::Error
    } else {
        FindingLevel::Warning
    };
    (level, message)
}

/// What the tool calls it: in front of the message, such as `E501`, or behind it in brackets.
fn coded(message: &str) -> (Option<String>, &str) {
    if let Some((first, rest)) = message.split_once([' ', ':']) {
        let first = first.trim_end_matches(':');
        let letters = first.bytes().take_while(u8::is_ascii_uppercase).count();
        let is_code = (1..=5).contains(&letters)
            && first.len() > letters + 1
            && first[letters..].bytes().all(|byte| byte.is_ascii_digit());
        if is_code {
            return (Some(first.to_owned()), rest.trim_start_matches([':', ' ']));
        }
    }
    if let Some(inner) = message.strip_suffix(']')
        && let Some((before, code)) = inner.rsplit_once(" [")
        && !code.is_empty()
        && !code.contains([' ', '[', ','])
    {
        return (Some(code.to_owned()), before);
    }
    (None, message)
}

/// The place at the end or beginning of a text, with nothing said of it: `FILE:LINE` or `FILE:LINE:COLUMN`.
pub(super) fn place(text: &str) -> Option<PrintedPlace<'_>> {
    let last_number = |text: &'_ str| {
        let at = text.rfind(':')?;
        let number = text[at + 1..].parse().ok().filter(|&number| number > 0)?;
        Some((at, number))
    };
    let (at, last) = last_number(text)?;
    let before = &text[..at];
    let (file, line, column) = match last_number(before) {
        Some((at, line)) => (&before[..at], line, Some(last)),
        None => (before, last, None),
    };
    Some(PrintedPlace { file, line, column })
}
