//! Lines `NAME=value`, as files of environment variables have them: blank lines and those that begin with `#` say
//! nothing, `export` may stand in front, and a value may stand in quotes. In `"…"` there are `\\n`, `\\"` and `\\\\`.

use crate::data_files::answer::DataError;
use crate::data_files::answer::FileAnswer;

pub fn read(name: &str, text: &str) -> Result<FileAnswer, DataError> {
    let mut words = Vec::new();
    for (number, line) in (1..).zip(text.lines()) {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let plain = line.strip_prefix("export ").unwrap_or(line);
        let wrong = |what: &str| {
            DataError::new(
                format!("`{name}` line {number}: {what}"),
                "write `NAME=value` on each line; a value with spaces at its ends or `#` in it goes in quotes",
            )
        };
        let (variable, value) = plain
            .split_once('=')
            .ok_or_else(|| wrong("there is no `=`"))?;
        let variable = variable.trim();
        let is_name = variable
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || c == '_')
            && variable.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_');
        if !is_name {
            return Err(wrong(&format!(
                "`{variable}` can't be the name of an environment variable"
            )));
        }
        let value = value_of(value.trim())
            .ok_or_else(|| wrong("a quote is not closed, or something stands behind it"))?;
        words.extend([variable.to_owned(), value]);
    }
    Ok(FileAnswer {
        words,
        is_list: true,
        places: Vec::new(),
    })
}

/// A value without its quotes and without a comment behind it; none when a quote is not closed.
fn value_of(text: &str) -> Option<String> {
    let is_rest = |rest: &str| rest.trim().is_empty() || rest.trim_start().starts_with('#');
    if let Some(inner) = text.strip_prefix('\'') {
        let (value, rest) = inner.split_once('\'')?;
        return is_rest(rest).then(|| value.to_owned());
    }
    let Some(inner) = text.strip_prefix('"') else {
        let end = text.find(" #").unwrap_or(text.len());
        return Some(text[..end].trim_end().to_owned());
    };
    let mut value = String::new();
    let mut chars = inner.char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => return is_rest(&inner[at + 1..]).then_some(value),
            '\\' => match chars.next()?.1 {
                'n' => value.push('\n'),
                other @ ('"' | '\\') => value.push(other),
                other => value.extend(['\\', other]),
            },
            c => value.push(c),
        }
    }
    None
}
