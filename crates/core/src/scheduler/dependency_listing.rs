//! What a recipe tells about its own prerequisites.
//!
//! A dependency listing is what C-family compilers and rustc write (`-MD`, `--emit=dep-info`): rules
//! `targets: prerequisites`, a backslash before a line end goes on, a backslash before a space or a
//! `#` makes it part of a name, `$$` is a dollar sign.

/// The prerequisites in a dependency listing, each once, in order; names before a colon are left
/// out.
#[must_use]
pub fn listing(text: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for rule in rules(text) {
        let mut words = words(&rule);
        let Some(colon) = words.iter().position(|word| word.ends_colon) else {
            continue;
        };
        for word in words.drain(colon + 1..) {
            if !word.text.is_empty() && !found.contains(&word.text) {
                found.push(word.text);
            }
        }
    }
    found
}

/// The paths in a text that has one on each line.
#[must_use]
pub fn lines(text: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for line in text.lines().map(|line| line.trim_end_matches('\r')) {
        if !line.is_empty() && !found.iter().any(|known| known == line) {
            found.push(line.to_owned());
        }
    }
    found
}

/// The listing's lines, continued ones put together.
fn rules(text: &str) -> Vec<String> {
    let mut rules = Vec::new();
    let mut rule = String::new();
    for line in text.split('\n') {
        let line = line.strip_suffix('\r').unwrap_or(line);
        if let Some(start) = line.strip_suffix('\\')
            && !start.ends_with('\\')
        {
            rule.push_str(start);
            rule.push(' ');
            continue;
        }
        rule.push_str(line);
        let whole = std::mem::take(&mut rule);
        if !whole.trim_start().starts_with('#') {
            rules.push(whole);
        }
    }
    rules.push(rule);
    rules
}

struct ListingWord {
    text: String,
    /// Whether the colon that ends the targets stood behind it.
    ends_colon: bool,
}

fn words(rule: &str) -> Vec<ListingWord> {
    let mut words = Vec::new();
    let mut text = String::new();
    let mut before_colon = true;
    let mut chars = rule.chars().peekable();
    let mut any = false;
    while let Some(c) = chars.next() {
        match c {
            '\\' if matches!(chars.peek(), Some(' ' | '#' | '\t')) => {
                text.extend(chars.next());
                any = true;
            }
            '$' if chars.peek() == Some(&'$') => {
                chars.next();
                text.push('$');
                any = true;
            }
            ':' if before_colon && chars.peek().is_none_or(|next| next.is_whitespace()) => {
                before_colon = false;
                words.push(ListingWord {
                    text: std::mem::take(&mut text),
                    ends_colon: true,
                });
                any = false;
            }
            c if c.is_whitespace() => {
                if any {
                    words.push(ListingWord {
                        text: std::mem::take(&mut text),
                        ends_colon: false,
                    });
                    any = false;
                }
            }
            c => {
                text.push(c);
                any = true;
            }
        }
    }
    if any {
        words.push(ListingWord {
            text,
            ends_colon: false,
        });
    }
    words
}

#[cfg(test)]
mod tests {
    use super::lines;
    use super::listing;

    #[test]
    fn listings_of_compilers() {
        let gcc =
            "out/a.o: src/a.c src/a.h \\\n  src/with\\ space.h \\\n /usr/include/x.h\n\nsrc/a.h:\n";
        assert_eq!(
            listing(gcc),
            ["src/a.c", "src/a.h", "src/with space.h", "/usr/include/x.h"]
        );
        let windows = "a.o: a.c \\\r\n b.h\r\n";
        assert_eq!(listing(windows), ["a.c", "b.h"]);
        let rustc = "lib.rlib: src/lib.rs src/a$$b.rs\n\nlib.d: src/lib.rs\n\nsrc/lib.rs:\n\n# env-dep:X=1\n";
        assert_eq!(listing(rustc), ["src/lib.rs", "src/a$b.rs"]);
        assert_eq!(listing("a.o : a\\#b.c C:\\x.h"), ["a#b.c", "C:\\x.h"]);
        assert_eq!(listing("nothing here"), [] as [&str; 0]);
        assert_eq!(listing(""), [] as [&str; 0]);
    }

    #[test]
    fn a_path_a_line() {
        assert_eq!(lines("a b\r\n\nc\na b\n"), ["a b", "c"]);
    }
}
