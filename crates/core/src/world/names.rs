//! Names that are not UTF-8, carried as text.
//!
//! Paths are text everywhere above this room, so that patterns, messages and the ledger need one kind of
//! string. A file system's names are bytes. Each byte that is not part of well-formed UTF-8 stands in the
//! text as a character of its own, from U+10FE80 on (a private-use area at the very end of Unicode), and is
//! a byte again where the system is called. A name that holds such a character itself has its four bytes
//! taken one by one, so that text and bytes always correspond one to one:
//!
//! ```text
//! bytes  63 61 66 E9        text  c a f U+10FEE9        shown  caf\xE9
//! ```

use std::borrow::Cow;
use std::ffi::OsStr;
use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::ffi::OsStringExt;
use std::path::PathBuf;

/// Where the characters that stand for bytes begin.
const BASE: u32 = 0x10_FE00;

/// The first byte of such a character in UTF-8, which no other character in use has.
const LEAD: u8 = 0xF4;

/// The byte that a character stands for.
fn byte_of(c: char) -> Option<u8> {
    let byte = u32::from(c).checked_sub(BASE)?;
    u8::try_from(byte).ok().filter(|byte| *byte >= 0x80)
}

fn push_byte(out: &mut String, byte: u8) {
    // The area is assigned for private use as a whole, so every number in it is a character.
    out.push(char::from_u32(BASE + u32::from(byte)).unwrap_or(char::REPLACEMENT_CHARACTER));
}

/// A name as text.
#[must_use]
pub fn to_text(bytes: &[u8]) -> Cow<'_, str> {
    if let Ok(text) = std::str::from_utf8(bytes)
        && (memchr::memchr(LEAD, bytes).is_none() || !text.contains(|c| byte_of(c).is_some()))
    {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(bytes.len() * 2);
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            if byte_of(c).is_some() {
                let mut encoded = [0; 4];
                for &byte in c.encode_utf8(&mut encoded).as_bytes() {
                    push_byte(&mut out, byte);
                }
            } else {
                out.push(c);
            }
        }
        for &byte in chunk.invalid() {
            push_byte(&mut out, byte);
        }
    }
    Cow::Owned(out)
}

/// A name as text, from the system's own kind of string.
#[must_use]
pub fn os_to_text(name: &OsStr) -> Cow<'_, str> {
    to_text(name.as_bytes())
}

/// A path as the system has it.
#[must_use]
pub fn to_path(text: &str) -> PathBuf {
    PathBuf::from(OsString::from_vec(to_bytes(text).into_owned()))
}

/// The bytes that a text stands for.
#[must_use]
pub fn to_bytes(text: &str) -> Cow<'_, [u8]> {
    if is_plain(text) {
        return Cow::Borrowed(text.as_bytes());
    }
    let mut out = Vec::with_capacity(text.len());
    for c in text.chars() {
        match byte_of(c) {
            Some(byte) => out.push(byte),
            None => out.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
    Cow::Owned(out)
}

/// Whether a text stands for itself.
#[must_use]
pub fn is_plain(text: &str) -> bool {
    memchr::memchr(LEAD, text.as_bytes()).is_none() || !text.contains(|c| byte_of(c).is_some())
}

/// A text for people: bytes that are not UTF-8 as `\xE9`.
#[must_use]
pub fn shown(text: &str) -> Cow<'_, str> {
    written(text, |byte, out| out.push_str(&format!("\\x{byte:02X}")))
}

/// A JSON text in which bytes that are not UTF-8 are shown as [`shown`] does.
#[must_use]
pub fn shown_in_json(json: &str) -> Cow<'_, str> {
    written(json, |byte, out| out.push_str(&format!("\\\\x{byte:02X}")))
}

/// A JSON text in which bytes that are not UTF-8 are lone surrogates, as Python's `surrogateescape` (PEP
/// 383) reads and writes file names: `caf\udce9`.
#[must_use]
pub fn surrogates_in_json(json: &str) -> Cow<'_, str> {
    written(json, |byte, out| out.push_str(&format!("\\udc{byte:02x}")))
}

fn written(text: &str, write: impl Fn(u8, &mut String)) -> Cow<'_, str> {
    if is_plain(text) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match byte_of(c) {
            Some(byte) => write(byte, &mut out),
            None => out.push(c),
        }
    }
    Cow::Owned(out)
}

/// The path without its last name: `a` of `a/b`, nothing of `b`.
#[must_use]
pub fn parent(path: &str) -> &str {
    &path[..path.rfind('/').unwrap_or(0)]
}

/// The folder that a file, or a folder with a slash at its end, lies in: empty for the root, or ending with a
/// slash.
#[must_use]
pub fn folder_of(path: &str) -> &str {
    &path[..path.trim_end_matches('/').rfind('/').map_or(0, |at| at + 1)]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_name_comes_back_and_no_two_are_alike() {
        let names: [&[u8]; 8] = [
            b"plain",
            "größe".as_bytes(),
            b"caf\xe9",
            b"\xff\xfe",
            "\u{10FEE9}".as_bytes(),
            "a\u{10FEE9}b\u{10FFFF}".as_bytes(),
            b"cut \xf4\x8f\xbb",
            b"\xed\xa0\x80",
        ];
        let texts: std::collections::HashSet<String> = names
            .iter()
            .map(|name| {
                let text = to_text(name).into_owned();
                assert_eq!(&*to_bytes(&text), *name);
                text
            })
            .collect();
        assert_eq!(texts.len(), names.len());
        assert!(matches!(to_text(b"plain"), Cow::Borrowed(_)));
    }

    #[test]
    fn bytes_are_shown() {
        let name = to_text(b"caf\xe9.c");
        assert_eq!(shown(&name), "caf\\xE9.c");
        let json = serde_json::to_string(&name).unwrap();
        assert_eq!(shown_in_json(&json), "\"caf\\\\xE9.c\"");
        assert_eq!(surrogates_in_json(&json), "\"caf\\udce9.c\"");
        assert_eq!(shown("größe"), "größe");
    }
}
