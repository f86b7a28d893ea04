//! What compilers, checkers and interpreters printed, as they print it, and what is found in it.

use handloom_core::findings::findings;

/// Files that are there.
const FILES: [&str; 12] = [
    "a.c", "a.rs", "w.rs", "A.java", "a.js", "a.go", "s.py", "t.py", "x.sh", "x.awk", "p.rs",
    "x.pl",
];

fn found(text: &str) -> Vec<String> {
    let file = |name: &str| {
        let name = name.trim_start_matches("./").trim_start_matches("/tmp/ff/");
        FILES.contains(&name).then(|| name.to_owned())
    };
    let all = findings(text, &file).into_iter().map(|one| {
        let column = one
            .column
            .map_or(String::new(), |column| format!(":{column}"));
        let code = one.code.map_or(String::new(), |code| format!(" [{code}]"));
        format!(
            "{} {}:{}{column}: {}{code}",
            one.level.name(),
            one.file,
            one.line,
            one.message
        )
    });
    all.collect()
}

#[test]
fn a_compiler_of_c() {
    let text = "a.c: In function ‘g’:
a.c:1:30: error: ‘c’ undeclared (first use in this function)
    1 | int g(int a) { int b; return c; }
      |                              ^
a.c:1:30: note: each undeclared identifier is reported only once
a.c:1:20: warning: unused variable ‘b’ [-Wunused-variable]
a.c: At top level:
a.c:2:10: fatal error: none.h: No such file or directory
compilation terminated.
a.c:1:20: warning: unused variable ‘b’ [-Wunused-variable]
/usr/bin/ld: /tmp/x.o: in function `main':
a.c:(.text+0x5): undefined reference to `g'
/usr/include/stdio.h:3:4: error: of no file of ours
";
    assert_eq!(
        found(text),
        [
            "error a.c:1:30: ‘c’ undeclared (first use in this function)",
            "note a.c:1:30: each undeclared identifier is reported only once",
            "warning a.c:1:20: unused variable ‘b’ [-Wunused-variable]",
            "error a.c:2:10: none.h: No such file or directory",
        ]
    );
}

#[test]
fn messages_with_their_place_below() {
    let text = "error[E0425]: cannot find value `y` in this scope
 --> a.rs:1:24
  |
1 | fn main() { let x = 3; y; }
  |                        ^

warning: unused variable: `x`
 --> w.rs:1:17
  |
error: aborting due to 1 previous error

thread 'main' (31581) panicked at p.rs:1:40:
index out of bounds: the len is 0 but the index is 0
warning: 1 warning emitted
";
    assert_eq!(
        found(text),
        [
            "error a.rs:1:24: cannot find value `y` in this scope [E0425]",
            "warning w.rs:1:17: unused variable: `x`",
            "error p.rs:1:40: panicked: index out of bounds: the len is 0 but the index is 0",
        ]
    );
}

#[test]
fn interpreters_and_their_tracebacks() {
    let text = "  File \"/tmp/ff/s.py\", line 1
    x = (
        ^
SyntaxError: '(' was never closed
Traceback (most recent call last):
  File \"/tmp/ff/t.py\", line 4, in <module>
    f()
  File \"/tmp/ff/t.py\", line 3, in f
    json.loads(\"{\")
  File \"/usr/lib/python3.11/json/decoder.py\", line 353, in raw_decode
    obj, end = self.scan_once(s, idx)
json.decoder.JSONDecodeError: Expecting property name: line 1 column 2 (char 1)
/tmp/ff/a.js:1
let x = ;
        ^

SyntaxError: Unexpected token ';'
    at wrapSafe (node:internal/modules/cjs/loader:1464:18)
Global symbol \"$x\" requires explicit package name at x.pl line 2.
";
    assert_eq!(
        found(text),
        [
            "error s.py:1: SyntaxError: '(' was never closed",
            "error t.py:3: json.decoder.JSONDecodeError: Expecting property name: line 1 column 2 (char 1)",
            "error a.js:1: SyntaxError: Unexpected token ';'",
            "warning x.pl:2: Global symbol \"$x\" requires explicit package name",
        ]
    );
}

#[test]
fn shells_and_linters() {
    let text = "x.sh: 2: nope: not found
x.sh: line 4: syntax error: unexpected end of file
awk: x.awk: line 1: missing ) near }
A.java:1: error: incompatible types: String cannot be converted to int
# command-line-arguments
vet: ./a.go:2:15: x declared but not used
s.py:3:1: F401 'os' imported but unused
s.py:4:80: E501: line too long (91 > 79 characters)
t.py:3: error: Incompatible types in assignment [assignment]
x.sh:3:5: note: Double quote to prevent globbing. [SC2086]
a.js(3,5): error TS2304: Cannot find name 'x'.
a.c:3:1-3:9: warning: a range
no file: 3: of ours
12:30:05: the time is none
a.c:0:1: lines begin with one
";
    assert_eq!(
        found(text),
        [
            "error x.sh:2: nope: not found",
            "error x.sh:4: syntax error: unexpected end of file",
            "warning x.awk:1: missing ) near }",
            "error A.java:1: incompatible types: String cannot be converted to int",
            "warning a.go:2:15: x declared but not used",
            "warning s.py:3:1: 'os' imported but unused [F401]",
            "warning s.py:4:80: line too long (91 > 79 characters) [E501]",
            "error t.py:3: Incompatible types in assignment [assignment]",
            "note x.sh:3:5: Double quote to prevent globbing. [SC2086]",
            "error a.js:3:5: Cannot find name 'x'. [TS2304]",
            "warning a.c:3:1: a range",
        ]
    );
}

/// Whatever is printed: nothing panics, and long lines and endless tracebacks take no time.
#[test]
fn anything_may_be_printed() {
    let pieces = [
        "a.c",
        ":",
        "1",
        "(",
        ",",
        ") :",
        " ",
        "é",
        "File \"",
        "\", line ",
        "--> ",
        "error[",
        "]: ",
        "\n",
        "Error",
        " at ",
        " line 3",
        " panicked at ",
        "thread '",
    ];
    let mut seed = 7_u64;
    for _ in 0..20_000 {
        let mut text = String::new();
        for _ in 0..12 {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            text.push_str(pieces[(seed >> 33) as usize % pieces.len()]);
        }
        for line in found(&text) {
            assert!(!line.is_empty());
        }
    }
    let long = format!("a.c{}", ":".repeat(200_000));
    assert!(found(&long).is_empty());
    let endless = "  File \"/tmp/ff/t.py\", line 3, in f\n".repeat(20_000);
    assert!(found(&endless).is_empty());
}
