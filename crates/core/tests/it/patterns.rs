//! File patterns, as tables: what matches, what the holes take, where a walk has to look.

use handloom_core::project::pattern::Pattern;
use handloom_core::project::pattern::PatternError;
use handloom_core::project::pattern::escape;
use handloom_core::project::pattern::fill_holes;
use handloom_core::project::pattern::unescape;

fn compiled(source: &str) -> Pattern {
    Pattern::compile(source).unwrap_or_else(|error| panic!("{source}: {error}"))
}

/// What the holes take, as `name=text`; none when nothing matches.
fn taken(source: &str, path: &str) -> Option<String> {
    let pattern = compiled(source);
    let captures = pattern.captures(path)?;
    let pairs: Vec<String> = pattern
        .holes()
        .iter()
        .zip(captures)
        .map(|(hole, (start, end))| format!("{hole}={}", &path[start..end]))
        .collect();
    Some(pairs.join(" "))
}

#[test]
fn wildcards() {
    for (source, matching, other) in [
        (
            "src/*.c",
            &["src/a.c", "src/a.b.c"][..],
            &["src/a.h", "src/x/a.c", "src/.a.c", "src/.c", "a.c"][..],
        ),
        (
            "src/?.c",
            &["src/a.c", "src/é.c"],
            &["src/ab.c", "src/.c", "src//.c"],
        ),
        (
            "**/*.c",
            &["a.c", "x/a.c", "x/y/a.c"],
            &["x/.h/a.c", ".a.c", "a.h"],
        ),
        (
            "src/**/a",
            &["src/a", "src/x/a", "src/x/y/a"],
            &["src/xa", "a", "src/.git/a"],
        ),
        (
            "src/**",
            &["src/a", "src/x/y"],
            &["src", "other/a", "src/.hidden"],
        ),
        ("a**b", &["ab", "a/x/b", "axb"], &["a/x", "b"]),
        ("[abc]x", &["ax", "cx"], &["dx", "x", "[abc]x"]),
        ("[a-c]", &["a", "b", "c"], &["d", "-", "B"]),
        ("[!a-c]", &["d", "é"], &["a", "/", ""]),
        ("[]x]", &["]", "x"], &["y"]),
        ("{a,b/c}.o", &["a.o", "b/c.o"], &["c.o", "a,b.o"]),
        ("x{,y}{1,2}", &["x1", "xy2"], &["x", "y1"]),
        ("{a,{b,c}}", &["a", "b", "c"], &["{b", "a}"]),
        (r"\*\[\{", &["*[{"], &["x[{"]),
        (".*/x", &[".h/x"], &["h/x"]),
        ("src/.*", &["src/.a"], &["src/a"]),
        ("tree/*", &["tree/a"], &["tree/", "tree"]),
        ("*/", &["tree/"], &["tree", "a/b/"]),
        ("", &[""], &["a"]),
    ] {
        let pattern = compiled(source);
        for path in matching {
            assert!(pattern.matches(path), "`{source}` should match `{path}`");
        }
        for path in other {
            assert!(
                !pattern.matches(path),
                "`{source}` should not match `{path}`"
            );
        }
    }
}

#[test]
fn holes_take_as_little_as_they_can_from_the_left() {
    for (source, path, expected) in [
        ("src/<u>.c", "src/lamp.c", Some("u=lamp")),
        ("src/<u>.c", "src/a/lamp.c", None),
        ("src/<u>.c", "src/.c", None),
        ("<a>-<b>.csv", "x-y-z.csv", Some("a=x b=y-z")),
        ("<p**>.md", "a/b/c.md", Some("p=a/b/c")),
        ("<p**>/<n>.md", "a/b/c.md", Some("p=a/b n=c")),
        ("<p**>.md", "a/.b/c.md", None),
        ("<d>/<d>.x", "a/a.x", Some("d=a")),
        ("<d>/<d>.x", "a/b.x", None),
        ("<d>-<d>-", "ab-ab-", Some("d=ab")),
        ("{x,<n>}/y", "x/y", Some("n=")),
        ("{x,<n>}/y", "z/y", Some("n=z")),
        ("*<n>", "abc", Some("n=abc")),
        ("é<n>", "éü", Some("n=ü")),
    ] {
        assert_eq!(
            taken(source, path).as_deref(),
            expected,
            "{source} on {path}"
        );
    }
}

#[test]
fn what_is_no_pattern() {
    for (source, error) in [
        ("a[b", PatternError::Unclosed('[')),
        ("a{b", PatternError::Unclosed('{')),
        ("a<b", PatternError::Unclosed('<')),
        ("a<2>", PatternError::HoleName("2".to_owned())),
        ("a<>", PatternError::HoleName(String::new())),
        (
            "{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}{a,b}",
            PatternError::TooMany,
        ),
    ] {
        assert_eq!(Pattern::compile(source), Err(error), "{source}");
    }
    assert_eq!(
        Pattern::compile(&"*a".repeat(400)),
        Err(PatternError::TooLong)
    );
}

#[test]
fn a_walk_reads_only_folders_that_may_hold_a_match() {
    for (source, folder, may, may_not) in [
        ("src/*.c", "src/", &["src/"][..], &["src/x/", "out/"][..]),
        (
            "src/*/x/*.c",
            "src/",
            &["src/", "src/a/", "src/a/x/"],
            &["src/a/y/", "src/a/x/b/"],
        ),
        (
            "src/**/a.c",
            "src/",
            &["src/", "src/x/", "src/x/y/"],
            &["out/", "src/.git/"],
        ),
        ("<p**>.md", "", &["a/", "a/b/"], &[".git/"]),
        ("{a,b}/c/*", "", &["a/", "b/c/"], &["c/", "a/d/"]),
    ] {
        let pattern = compiled(source);
        assert_eq!(pattern.folder(), folder, "{source}");
        for folder in may {
            assert!(pattern.may_hold(folder), "{source} in {folder}");
        }
        for folder in may_not {
            assert!(!pattern.may_hold(folder), "{source} in {folder}");
        }
    }
}

#[test]
fn holes_are_filled_and_the_rest_is_kept() {
    let value = |name: &str| (name == "n").then_some("a*b");
    for (source, filled, left) in [
        ("out/<n>.o", r"out/a\*b.o", false),
        ("out/<n>/*.o", r"out/a\*b/*.o", true),
        ("<m>/<n**>", r"<m>/a\*b", true),
        (r"\<n>", r"\<n>", false),
    ] {
        assert_eq!(
            fill_holes(source, value),
            (filled.to_owned(), left),
            "{source}"
        );
    }
    for text in ["plain", "a*b?[c]{d,e}<f>\\g", ""] {
        assert_eq!(unescape(&escape(text)), text);
        assert!(compiled(&escape(text)).matches(text));
    }
}

#[test]
fn matching_does_not_run_away() {
    let source = "*a".repeat(40);
    let path = "a".repeat(200);
    assert!(compiled(&format!("{source}b")).captures(&path).is_none());
    assert!(compiled(&source).matches(&path));
}
