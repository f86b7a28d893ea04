//! Places in a text as the protocol has them: lines and columns from 0, the columns in units of UTF-16; and files as URIs
//! (RFC 3986, RFC 8089).

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::ffi::OsStringExt;
use std::path::Path;
use std::path::PathBuf;
use std::str::FromStr;

use lsp_types::Position;
use lsp_types::Range;
use lsp_types::Uri;

use crate::ui::text::uri_path;

/// The byte that a place is at: behind the last of a line that is shorter, at the end of a text that has fewer lines, in
/// front of a character of which it is the second half.
pub fn offset(text: &str, position: Position) -> usize {
    let mut start = 0;
    for _ in 0..position.line {
        match text[start..].find('\n') {
            Some(end) => start += end + 1,
            None => return text.len(),
        }
    }
    let line = text[start..].split('\n').next().unwrap_or_default();
    let line = line.strip_suffix('\r').unwrap_or(line);
    let mut units = 0;
    for (at, character) in line.char_indices() {
        units += character.len_utf16();
        if units > position.character as usize {
            return start + at;
        }
    }
    start + line.len()
}

/// The place of a byte.
pub fn position(text: &str, offset: usize) -> Position {
    let before = &text[..offset.min(text.len())];
    let line = before.bytes().filter(|byte| *byte == b'\n').count();
    let start = before.rfind('\n').map_or(0, |at| at + 1);
    let units = before[start..].encode_utf16().count();
    let number = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
    Position::new(number(line), number(units))
}

/// The place of some bytes.
pub fn range(text: &str, start: usize, end: usize) -> Range {
    Range::new(position(text, start), position(text, end))
}

/// The path of a file's URI; none when it is that of something else.
pub fn path_of(uri: &Uri) -> Option<PathBuf> {
    let rest = uri.as_str().strip_prefix("file://")?;
    // A name of a machine may stand in front of the path.
    let rest = &rest[rest.find('/')?..];
    let mut bytes = Vec::with_capacity(rest.len());
    let mut left = rest.as_bytes();
    while let [first, behind @ ..] = left {
        let digits = behind.get(..2).filter(|_| *first == b'%');
        let byte = digits
            .and_then(|digits| std::str::from_utf8(digits).ok())
            .and_then(|digits| u8::from_str_radix(digits, 16).ok());
        match byte {
            Some(byte) => {
                bytes.push(byte);
                left = &behind[2..];
            }
            None => {
                bytes.push(*first);
                left = behind;
            }
        }
    }
    Some(PathBuf::from(OsString::from_vec(bytes)))
}

/// The URI of a file.
pub fn uri_of(path: &Path) -> Option<Uri> {
    Uri::from_str(&format!("file://{}", uri_path(path.as_os_str().as_bytes()))).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_go_there_and_back() {
        let text = "let a = ä𝄞b\r\nzwei\n";
        for (line, character, at) in [
            (0, 0, 0),
            (0, 8, 8),
            (0, 9, 10),
            (0, 11, 14),
            (0, 12, 15),
            (1, 0, 17),
            (1, 4, 21),
            (2, 0, 22),
        ] {
            let place = Position::new(line, character);
            assert_eq!(offset(text, place), at, "{line}:{character}");
            assert_eq!(position(text, at), place, "{at}");
        }
        // In the middle of a character, behind a line's end, behind the last line.
        assert_eq!(offset(text, Position::new(0, 10)), 10);
        assert_eq!(offset(text, Position::new(0, 99)), 15);
        assert_eq!(offset(text, Position::new(9, 3)), text.len());
        assert_eq!(position(text, 999), Position::new(2, 0));
    }

    #[test]
    fn paths_go_there_and_back() {
        for path in ["/a/b", "/a b/ä%41", "/with\nline"] {
            let uri = uri_of(Path::new(path)).unwrap();
            assert_eq!(path_of(&uri), Some(PathBuf::from(path)), "{}", uri.as_str());
        }
        let uri = Uri::from_str("file://localhost/a%20b").unwrap();
        assert_eq!(path_of(&uri), Some(PathBuf::from("/a b")));
        assert_eq!(path_of(&Uri::from_str("untitled:one").unwrap()), None);
    }
}
