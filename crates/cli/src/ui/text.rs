//! Small texts: times, counts, and names made harmless.

use std::borrow::Cow;
use std::time::Duration;

use handloom_core::project::secret;
use handloom_core::verdict::ResultOrigin;
use handloom_core::world::ByteSize;
use handloom_core::world::names;

/// A duration in units that a person reads: `0.21s`, `3m 04s`, `2h 05m`.
pub fn seconds(time: Duration) -> String {
    let seconds = time.as_secs_f64();
    if seconds < 0.0095 {
        return format!("{:.0}ms", seconds * 1000.0);
    }
    if seconds < 59.95 {
        let digits = if seconds < 9.995 { 2 } else { 1 };
        return format!("{seconds:.digits$}s");
    }
    let whole = (time + Duration::from_millis(500)).as_secs();
    if whole < 3600 {
        format!("{}m {:02}s", whole / 60, whole % 60)
    } else {
        format!("{}h {:02}m", whole / 3600, whole % 3600 / 60)
    }
}

/// A name or another text of one line, with control characters, ends of lines and those that turn the
/// direction of writing made visible.
pub fn safe(text: &str) -> String {
    // Nearly all names: nothing in them stands for something else.
    if text.bytes().all(|byte| matches!(byte, b' '..=b'~')) {
        return text.to_owned();
    }
    safe_lines(text).replace('\n', "\\n")
}

/// The same for a text that may have several lines.
pub fn safe_lines(text: &str) -> String {
    let text = shown(text);
    if !text.contains(is_harmful) {
        return text.into_owned();
    }
    text.chars()
        .map(|c| {
            if is_harmful(c) && c != '\n' {
                format!("<U+{:04X}>", u32::from(c))
            } else {
                c.to_string()
            }
        })
        .collect()
}

/// How many columns of a terminal a text takes.
pub fn columns(text: &str) -> usize {
    unicode_width::UnicodeWidthStr::width(text)
}

/// A text as people see it: bytes of names that are not UTF-8 as `\xE9`, secrets as `•••`.
pub fn shown(text: &str) -> Cow<'_, str> {
    match names::shown(text) {
        Cow::Borrowed(text) => secret::shown(text),
        Cow::Owned(text) => Cow::Owned(secret::shown(&text).into_owned()),
    }
}

/// A JSON text as programs read it, with the same in it.
pub fn shown_json(json: &str) -> String {
    names::shown_in_json(&secret::shown(json)).into_owned()
}

fn is_harmful(c: char) -> bool {
    (c.is_control() && c != '\n' && c != '\t')
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}' | '\u{fffe}' | '\u{ffff}')
}

/// What a recipe printed, harmless for a terminal: colours stay, all other control sequences go.
pub fn safe_output(bytes: &[u8], colours: bool) -> String {
    let text = String::from_utf8_lossy(bytes);
    let mut out = String::with_capacity(text.len());
    let mut chars = text.chars().peekable();
    // Whether a colour would go on behind the end, and where the last sequence ends that is kept.
    let (mut is_coloured, mut behind_colour) = (false, 0);
    while let Some(c) = chars.next() {
        match c {
            '\u{1b}' if chars.peek() == Some(&'[') => {
                chars.next();
                let mut sequence = String::from("\u{1b}[");
                let last = chars.by_ref().take(64).find(|&c| {
                    sequence.push(c);
                    ('@'..='~').contains(&c)
                });
                if last == Some('m') && colours {
                    is_coloured = !is_reset(&sequence);
                    out.push_str(&sequence);
                    behind_colour = out.len();
                }
            }
            '\u{1b}' if chars.peek() == Some(&']') => {
                // A title or a link: up to its end, BEL or ESC \.
                while let Some(c) = chars.next() {
                    if c == '\u{7}' || (c == '\u{1b}' && chars.next_if_eq(&'\\').is_some()) {
                        break;
                    }
                }
            }
            '\u{1b}' => {
                // Such as `ESC ( B`, which names a character set.
                while chars.next().is_some_and(|c| (' '..='/').contains(&c)) {}
            }
            '\r' if chars.peek() == Some(&'\n') => {}
            // A progress bar that draws over its line: only what it came to is of interest.
            '\r' => {
                let line = out.rfind('\n').map_or(0, |at| at + 1);
                let over = out.split_off(line);
                out.extend(colours_of(&over));
                behind_colour = out.len();
            }
            '\u{8}' => {
                if !out.ends_with('\n') && out.len() > behind_colour {
                    out.pop();
                }
            }
            c if is_harmful(c) => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    if is_coloured {
        // On the last line that has something, and not on one of its own behind it.
        let end = out.trim_end_matches('\n').len();
        out.insert_str(end, "\u{1b}[0m");
    }
    out
}

/// The colours that a text leaves behind, as the sequences that set them; it has no other sequences.
fn colours_of(text: &str) -> Vec<&str> {
    // Of a line that is drawn over for ever, never ending its colours.
    const MOST: usize = 8;
    let all = text.match_indices('\u{1b}');
    let mut all: Vec<&str> = all
        .filter_map(|(at, _)| Some(&text[at..=at + text[at..].find('m')?]))
        .collect();
    let ends = all.iter().rposition(|sequence| is_reset(sequence));
    all.drain(..ends.unwrap_or_else(|| all.len().saturating_sub(MOST)));
    all
}

fn is_reset(sequence: &str) -> bool {
    matches!(sequence, "\u{1b}[m" | "\u{1b}[0m")
}

/// Words with commas between them, broken into lines of at most so many characters where that is
/// possible.
pub fn paragraph(words: &[String], width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for (at, word) in words.iter().enumerate() {
        let comma = if at + 1 < words.len() { "," } else { "" };
        let line = lines.last().map_or(0, |line| columns(line));
        if line > 0 && line + columns(word) + 2 > width {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
            line.push_str(comma);
        }
    }
    lines
}

/// An amount of bytes in units that a person reads: `812 B`, `1.4 MB`.
pub fn bytes(size: ByteSize) -> String {
    let bytes = size.bytes();
    #[expect(clippy::cast_precision_loss, reason = "a size, for people")]
    let mut size = bytes as f64;
    if bytes < 1000 {
        return format!("{bytes} B");
    }
    let mut unit = "";
    for next in ["kB", "MB", "GB", "TB"] {
        if size < 1000.0 {
            break;
        }
        size /= 1000.0;
        unit = next;
    }
    let digits = usize::from(size < 100.0);
    format!("{size:.digits$} {unit}")
}

/// A path as it stands in a URI (RFC 3986): what may not stand there as it is, as its bytes.
pub fn uri_path(path: &[u8]) -> String {
    let mut text = String::with_capacity(path.len());
    for &byte in path {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'.' | b'_' | b'~' => {
                text.push(char::from(byte));
            }
            byte => text.push_str(&format!("%{byte:02X}")),
        }
    }
    text
}

/// `1 file`, `3 files`.
pub fn count(number: usize, singular: &str) -> String {
    if number == 1 {
        format!("1 {singular}")
    } else {
        format!("{number} {singular}s")
    }
}

/// The time of day, in the user's time zone.
pub fn clock() -> String {
    jiff::Zoned::now().strftime("%H:%M:%S").to_string()
}

/// A text as it is written between the tags, and within the quotes, of XML and HTML.
pub fn escaped(text: &str) -> String {
    let mut out = String::new();
    for c in shown(text).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\n' => out.push('\n'),
            // XML has no way to write these (Extensible Markup Language 1.0, "Char").
            c if c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}') => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

/// A point in time.
pub struct Started {
    /// In the user's time zone, to the second.
    pub plain: String,
    /// As RFC 3339 says.
    pub iso: String,
}

/// Durations as a line of blocks, each as high as it took of the longest.
pub fn blocks(times: &[Duration], most: Duration) -> String {
    const HEIGHTS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    times
        .iter()
        .map(|time| {
            // Of eight heights the nearest.
            let steps = (time.as_nanos() * 7 + most.as_nanos() / 2).checked_div(most.as_nanos());
            let height = usize::try_from(steps.unwrap_or(0)).unwrap_or(7);
            HEIGHTS[height.min(7)]
        })
        .collect()
}

/// A point in time, given in nanoseconds since 1970.
pub fn started(nanoseconds: i64) -> Started {
    let time = jiff::Timestamp::from_nanosecond(i128::from(nanoseconds)).unwrap_or_default();
    let zoned = time.to_zoned(jiff::tz::TimeZone::system());
    Started {
        plain: zoned.strftime("%Y-%m-%d %H:%M:%S").to_string(),
        iso: time.to_string(),
    }
}

/// Where a restored result came from.
pub fn origin(origin: &ResultOrigin) -> String {
    let store = if origin.shared {
        "the shared store"
    } else {
        "the store"
    };
    format!(
        "from {store}: made {} in {}, where it took {}",
        started(origin.made_at).plain,
        origin.made_in,
        seconds(origin.took())
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_read_well() {
        for (value, text) in [
            (0.0004, "0ms"),
            (0.004, "4ms"),
            (0.0095, "0.01s"),
            (0.213, "0.21s"),
            (9.996, "10.0s"),
            (59.94, "59.9s"),
            (59.96, "1m 00s"),
            (184.0, "3m 04s"),
            (7500.0, "2h 05m"),
        ] {
            assert_eq!(seconds(Duration::from_secs_f64(value)), text);
        }
    }

    #[test]
    fn sizes_read_well() {
        for (value, text) in [
            (0, "0 B"),
            (999, "999 B"),
            (1000, "1.0 kB"),
            (1_440_000, "1.4 MB"),
            (123_400_000_000, "123 GB"),
        ] {
            assert_eq!(bytes(ByteSize(value)), text);
        }
    }

    #[test]
    fn control_sequences_of_jobs_do_no_harm() {
        assert_eq!(safe_output(b"a\x1b[2Jb\x1b[31mc\x1b[0m", false), "abc");
        assert_eq!(safe_output(b"a\x1b[31mc\x1b[0m", true), "a\x1b[31mc\x1b[0m");
        assert_eq!(
            safe_output(b"\x1b]0;title\x07text\x1b]8;;u\x1b\\", true),
            "text"
        );
        assert_eq!(safe_output(b"10%\r20%\r100%\r\nx", true), "100%\nx");
        assert_eq!(safe_output(b"\x07\xff", true), "\u{fffd}\u{fffd}");
        for (printed, shown) in [
            // A colour ends with the output, and is kept where its line is drawn over.
            ("\x1b[31ma", "\x1b[31ma\x1b[0m"),
            ("\x1b[31ma\n\n", "\x1b[31ma\x1b[0m\n\n"),
            ("\x1b[31ma\n b\x1b[0m\rc", "\x1b[31ma\n\x1b[0mc"),
            ("\x1b[31ma\r\x1b[0m\x1b[1mb\rc", "\x1b[0m\x1b[1mc\x1b[0m"),
            ("a\x1b[31m\x08b", "a\x1b[31mb\x1b[0m"),
            ("a\x1b(B\x1b[mb\x1b7c", "a\x1b[mbc"),
        ] {
            assert_eq!(safe_output(printed.as_bytes(), true), shown);
        }
    }

    #[test]
    fn names_that_turn_the_text_are_shown() {
        assert_eq!(safe("a\u{202e}b\x1b"), "a<U+202E>b<U+001B>");
    }

    #[test]
    fn blocks_are_as_high_as_their_share() {
        let seconds = |times: &[u64]| -> Vec<Duration> {
            times.iter().copied().map(Duration::from_secs).collect()
        };
        assert_eq!(
            blocks(&seconds(&[0, 1, 2, 4]), Duration::from_secs(4)),
            "▁▃▅█"
        );
        assert_eq!(blocks(&seconds(&[0, 0]), Duration::ZERO), "▁▁");
    }
}
