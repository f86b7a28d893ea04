//! The first minute: `new` in folders of every kind, `sketch`, and what both leave to do.

use crate::bed::Bed;

/// A folder that somebody has, what `new` says of it, what the first run then makes, and the tasks that are written
/// with a text that a task prints when it can't succeed here.
struct Tree {
    name: &'static str,
    files: Vec<(&'static str, String)>,
    says: &'static [&'static str],
    /// What ran at the first `handloom`, as `brief` has it.
    made: &'static [&'static str],
    tasks: &'static [(&'static str, Option<&'static str>)],
}

const HEADER: &str = "int lamp(int reach);\n";
const SHARED: &str =
    "#include \"lamp.h\"\n#include <math.h>\nint lamp(int reach) { return (int)sqrt(reach); }\n";
const MAIN: &str = "#include \"lamp.h\"\nint main(int count, char **words) { (void)words; return count > 9 ? lamp(count) : 0; }\n";
const TEST: &str = "#include \"lamp.h\"\nint\nmain(void)\n{ return lamp(16) == 4 ? 0 : 1; }\n";
const NOTHING: &str = "int main(void) { return 0; }\n";

fn tree(
    name: &'static str,
    files: &[(&'static str, &str)],
    says: &'static [&'static str],
    made: &'static [&'static str],
    tasks: &'static [(&'static str, Option<&'static str>)],
) -> Tree {
    Tree {
        name,
        files: files
            .iter()
            .map(|(path, text)| (*path, (*text).to_owned()))
            .collect(),
        says,
        made,
        tasks,
    }
}

fn compiled() -> Vec<Tree> {
    vec![
        tree(
            "C, flat",
            &[("lamp.h", HEADER), ("lamp.c", SHARED), ("main.c", MAIN)],
            &["for 2 C sources\n"],
            &["out/obj/lamp.o", "out/obj/main.o", "out/program"],
            &[("start", None), ("start -- word", None)],
        ),
        tree(
            "C with include and tests",
            &[
                ("include/lamp.h", HEADER),
                ("src/lamp.c", SHARED),
                ("src/main.c", MAIN),
                ("tests/lamp.c", TEST),
                ("tests/more.c", TEST),
            ],
            &["for 2 C sources with 2 tests\n"],
            &["out/obj/lamp.o", "out/obj/main.o", "out/program"],
            &[("start", None), ("check", None)],
        ),
        tree(
            "several programs",
            &[
                ("src/lamp.h", HEADER),
                ("src/lamp.c", SHARED),
                ("src/day.c", MAIN),
                ("src/night.c", MAIN),
            ],
            &["for 3 C sources of 2 programs\n"],
            &[
                "out/bin/day",
                "out/bin/night",
                "out/obj/day.o",
                "out/obj/lamp.o",
                "out/obj/night.o",
            ],
            &[("start", None), ("start night", None)],
        ),
        tree(
            "programs that share nothing",
            &[("lamp.h", HEADER), ("one.c", NOTHING), ("two.c", NOTHING)],
            &["for 2 C sources of 2 programs\n"],
            &[
                "out/bin/one",
                "out/bin/two",
                "out/obj/one.o",
                "out/obj/two.o",
            ],
            &[("start two", None)],
        ),
        tree(
            "library",
            &[
                ("include/lamp.h", HEADER),
                ("src/lamp.c", SHARED),
                ("test/lamp.c", TEST),
            ],
            &["for 1 C source of a library with 1 test\n"],
            &["out/library.a", "out/obj/lamp.o"],
            &[("check", None)],
        ),
        tree(
            "C++ with headers beside",
            &[
                ("lamp.hpp", "int lamp();\n"),
                (
                    "lamp.cpp",
                    "#include \"lamp.hpp\"\n#include <cmath>\nint lamp() { return static_cast<int>(std::sqrt(4.0)); }\n",
                ),
                (
                    "main.cpp",
                    "#include \"lamp.hpp\"\nint main() { return lamp() - 2; }\n",
                ),
            ],
            &["for 2 C++ sources\n"],
            &["out/obj/lamp.o", "out/obj/main.o", "out/program"],
            &[("start", None)],
        ),
        tree(
            "C in C++, and folders below",
            &[
                (
                    "src/main.cpp",
                    "extern \"C\" {\n#include \"geo/lamp.h\"\n}\nint main() { return lamp(); }\n",
                ),
                ("src/geo/lamp.h", "int lamp(void);\n"),
                (
                    "src/geo/lamp.c",
                    "#include \"geo/lamp.h\"\nint lamp(void) { return 0; }\n",
                ),
            ],
            &["for 1 C++ source and 1 C source\n"],
            &["out/obj/geo/lamp.c.o", "out/obj/main.o", "out/program"],
            &[("start", None)],
        ),
        tree(
            "sources and headers in folders of their own",
            &[
                (
                    "lib/lamp/reach.c",
                    "#include <lamp/reach.h>\nint reach(void) { return NEAR; }\n",
                ),
                (
                    "inc/lamp/reach.h",
                    "#include \"near.h\"\nint reach(void);\n",
                ),
                ("inc/lamp/near.h", "#define NEAR 0\n"),
                (
                    "app/main.c",
                    "#include <lamp/reach.h>\n#include \"version.h\"\nint main(void) { return reach() + VERSION; }\n",
                ),
                ("gen files/version.h", "#define VERSION 0\n"),
                ("examples/show.c", "#error \"not to be compiled\"\n"),
                (
                    "tests/reach.c",
                    "#include \"lamp/reach.h\"\nint main(void) { return reach(); }\n",
                ),
            ],
            &[
                "for 2 C sources with 1 test\n",
                "left out `examples/show.c`",
            ],
            &[
                "out/obj/app/main.o",
                "out/obj/lib/lamp/reach.o",
                "out/program",
            ],
            &[("start", None), ("check", None)],
        ),
        tree(
            "one folder of another name, with several programs",
            &[
                ("tool/lamp.c", "int lamp(void) { return 0; }\n"),
                (
                    "tool/day.c",
                    "int lamp(void);\nint main(void) { return lamp(); }\n",
                ),
                (
                    "tool/deep/night.c",
                    "int lamp(void);\nint main(void) { return lamp(); }\n",
                ),
            ],
            &["for 3 C sources of 2 programs\n"],
            &[
                "out/bin/day",
                "out/bin/deep/night",
                "out/obj/day.o",
                "out/obj/deep/night.o",
                "out/obj/lamp.o",
            ],
            &[("start", None), ("start deep/night", None)],
        ),
        tree(
            "a module for another program",
            &[
                (
                    "csrc/lamp.c",
                    "#include <Python.h>\nint lamp(void) { return 0; }\n",
                ),
                ("draw.py", "open('a.txt', 'w').write('1')\n"),
            ],
            &[
                "for 1 Python script\n",
                "left out `csrc/lamp.c`: it includes <Python.h>, and is built by another program",
            ],
            &["a.txt"],
            &[("syntax", None)],
        ),
        tree(
            "assembler and C",
            &[
                (
                    "src/main.c",
                    "int twice(int);\nint main(void) { return twice(0); }\n",
                ),
                (
                    "src/twice.S",
                    "#ifdef __x86_64__\n.globl twice\ntwice:\n  lea (%rdi,%rdi), %eax\n  ret\n#else\n.globl twice\ntwice:\n  add w0, w0, w0\n  ret\n#endif\n.section .note.GNU-stack,\"\",%progbits\n",
                ),
                (
                    "src/boot.s",
                    ".globl _start\n_start:\n  nop\n.section .note.GNU-stack,\"\",%progbits\n",
                ),
            ],
            &[
                "for 1 C source and 2 assembler sources\n",
                "left out `src/boot.s`: it begins at `_start`",
            ],
            &["out/obj/main.o", "out/obj/twice.S.o", "out/program"],
            &[("start", None)],
        ),
        tree(
            "tests without main",
            &[("src/main.c", NOTHING), ("tests/part.c", "int part;\n")],
            &["for 1 C source\n"],
            &["out/obj/main.o", "out/program"],
            &[("start", None)],
        ),
    ]
}

const TABLE: &str = "name,reach\ntarn,12\nholm,9\n";
const CLEAN: &str = "\"\"\"Drop lights that are not seen far.\"\"\"\nimport csv\nwith open('data/lights.csv') as source, open('results/clean.csv', 'w') as out:\n    for row in csv.reader(source):\n        out.write(','.join(row) + '\\n')\n";
const DRAW: &str = "import csv\nfrom pathlib import Path\nimport palette\nOUT = Path('figures') / 'reach.svg'\nrows = list(csv.DictReader(open('results/clean.csv')))\nOUT.write_text(f'<svg>{len(rows)}{palette.BLUE}</svg>')\n";

fn scripts() -> Vec<Tree> {
    vec![
        tree(
            "Python with data",
            &[
                ("data/lights.csv", TABLE),
                ("draw.py", DRAW),
                ("clean.py", CLEAN),
                ("palette.py", "BLUE = 'blue'\n"),
                ("fetch.py", "import sys\nprint(open(sys.argv[1]).read())\n"),
                (
                    "model.py",
                    "import a_module_that_is_not_there\nopen('results/model.txt', 'w').write('x')\n",
                ),
                (
                    "late.py",
                    "open('results/late.txt', 'w').write(open('results/model.txt').read())\n",
                ),
                (
                    "list.py",
                    "import os\nname = 'data/' + sorted(os.listdir('data'))[0]\nopen('results/names.txt', 'w').write(open(name).read())\n",
                ),
            ],
            &[
                "for 6 Python scripts\n",
                "missing  python3 does not have `a_module_that_is_not_there`; `model.py` needs it\n",
            ],
            &[
                "figures/reach.svg",
                "results/clean.csv",
                "results/names.txt",
            ],
            &[
                ("syntax", None),
                ("fetch -- data/lights.csv", None),
                ("fetch", Some("IndexError")),
            ],
        ),
        tree(
            "scripts that run in their own folder",
            &[
                ("data/x.csv", "1\n"),
                (
                    "analysis/run.py",
                    "print(open('../data/x.csv').read())\nopen('out.txt', 'w').write('1')\n",
                ),
                (
                    "analysis/anchored.py",
                    "from pathlib import Path\nROOT = Path(__file__).resolve().parent.parent\n(ROOT / 'tables').mkdir(exist_ok=True)\n(ROOT / 'tables' / 'y.csv').write_text((ROOT / 'data' / 'x.csv').read_text())\n",
                ),
            ],
            &["for 2 Python scripts\n"],
            &["analysis/out.txt", "tables/y.csv"],
            &[("syntax", None)],
        ),
        tree(
            "scripts in a circle, and in place",
            &[
                ("state.txt", "1"),
                (
                    "state.py",
                    "text = open('state.txt').read()\nopen('state.txt', 'w').write(text)\n",
                ),
                (
                    "a.py",
                    "open('b.txt').read()\nopen('a.txt', 'w').write('1')\n",
                ),
                (
                    "b.py",
                    "open('a.txt').read()\nopen('b.txt', 'w').write('1')\n",
                ),
            ],
            &["for 3 Python scripts\n"],
            &["syntax"],
            &[("state", None), ("a", Some("b.txt"))],
        ),
        tree(
            "scripts that write what no step may make",
            &[
                ("z.py", "open('hand.loom', 'a').close()\n"),
                ("self.py", "open('other.py', 'a').close()\n"),
                (
                    "other.py",
                    "import os\nos.makedirs('made', exist_ok=True)\nopen('out', 'a')\n",
                ),
                ("same.py", "open('dup.txt', 'w').write('1')\n"),
                ("same2.py", "open('dup.txt', 'w').write('2')\n"),
                ("inner.py", "import os\nopen('dup.txt/inner', 'a')\n"),
                ("deep.py", "(((((((((((((((((((1)))))))))))))))))))\n"),
                ("bom.py", "\u{feff}open('bom.txt', 'w').write('1')\n"),
            ],
            &["for 8 Python scripts\n"],
            &["bom.txt", "dup.txt/inner"],
            &[
                ("syntax", None),
                ("z", None),
                ("self", None),
                ("deep", None),
            ],
        ),
        tree(
            "Python with a package",
            &[
                ("lamp/__init__.py", ""),
                ("lamp/reach.py", "def far():\n    return 12\n"),
                (
                    "tests/test_reach.py",
                    "import unittest\nfrom lamp import reach\nclass Far(unittest.TestCase):\n    def test_far(self):\n        self.assertEqual(reach.far(), 12)\n",
                ),
                ("run.py", "from lamp import reach\nprint(reach.far())\n"),
            ],
            &["for 1 Python script, and 1 Python package with 1 Python test file\n"],
            &["syntax"],
            &[("check", None), ("syntax", None), ("run-script", None)],
        ),
        tree(
            "Python scripts table",
            &[
                (
                    "pyproject.toml",
                    "[project]\nname = 'lamp'\nversion = '0'\n[project.scripts]\nlamp-reach = 'lamp.reach:main'\nclean = 'lamp.reach:main'\nodd = 'what is it'\n[tool.any.scripts]\ngreet = 'greeter hello'\n",
                ),
                ("src/lamp/__init__.py", ""),
                ("src/lamp/reach.py", "def main():\n    print('reach 12')\n"),
                (".venv/bin/greeter", "#!/bin/sh\necho \"$@\" to you\n"),
            ],
            &[
                "3 programs of `pyproject.toml`\n",
                "left out `odd` in `pyproject.toml`",
            ],
            &["check"],
            &[
                ("check", None),
                ("lamp-reach", None),
                ("clean-program", None),
                ("greet -- all", None),
            ],
        ),
        tree(
            "notebooks as text",
            &[
                (
                    "reach.ipynb",
                    r##"{"cells": [{"cell_type": "markdown", "source": ["# Reach\n", "of lights"]}, {"cell_type": "code", "source": "print(12)", "outputs": [1]}]}"##,
                ),
                ("more/night sky.ipynb", r#"{"cells": []}"#),
                (
                    "cells.py",
                    "# %%\nimport os\n# %% [markdown]\n# Text\n# %%\nopen('figures/a.txt', 'w').write('1')\n",
                ),
                ("text.Rmd", "Hello\n"),
            ],
            &[
                "for 1 Python script, and 2 notebooks\n",
                "left out `text.Rmd`",
            ],
            &[
                "figures/a.txt",
                "out/notebooks/more/night sky.py",
                "out/notebooks/reach.py",
            ],
            &[("syntax", None)],
        ),
        tree(
            "R",
            &[
                (
                    "fit.R",
                    "# Fit the model\nd <- read.csv('data/x.csv')\nwrite.csv(d, 'results/fit.csv')\n",
                ),
                ("data/x.csv", "a\n1\n"),
            ],
            &["for 1 R script\n"],
            &[],
            &[],
        ),
        tree(
            "shell scripts",
            &[
                (
                    "scripts/deploy.sh",
                    "#!/bin/bash\n# Put it where it is seen.\necho \"deployed ${1:-nothing}\"; touch deployed\n",
                ),
                ("tools/x.awk", "1\n"),
            ],
            &["for 1 shell script\n", "left out `tools/x.awk`"],
            &[],
            &[("deploy -- all", None)],
        ),
        tree(
            "odd names",
            &[
                ("it's data.csv", "1\n"),
                (
                    "my script.py",
                    "open(\"out dir/a b.txt\", \"w\").write(open(\"it's data.csv\").read())\n",
                ),
                ("-dash.py", "print('dash')\n"),
                ("two\nlines.py", "print(2)\n"),
                ("a*b.py", "open('star*.txt', 'w').write('1')\n"),
                ("@{x}.py", "open('at/@{x}.txt', 'w').write('1')\n"),
                ("ünï.py", "print('ü')\n"),
                ("run me.sh", "# Say hello.\necho hello \"$@\"\n"),
                ("tab\there.c", NOTHING),
                ("it's one.c", NOTHING),
                ("bell\u{7}.py", "print(3)\n"),
            ],
            &[
                "for 2 C sources of 2 programs, 6 Python scripts, and 1 shell script\n",
                "left out `bell\\u{7}.py`: a description can't name it",
            ],
            &[
                "at/@{x}.txt",
                "out dir/a b.txt",
                "out/bin/it's one",
                "out/bin/tab\there",
                "out/obj/it's one.o",
                "out/obj/tab\there.o",
            ],
            &[
                ("dash", None),
                ("two-lines", None),
                ("a-b", None),
                ("ünï", None),
                ("run-me -- all", None),
                ("syntax", None),
            ],
        ),
    ]
}

fn others() -> Vec<Tree> {
    let table = r#"{"name": "lamp", "scripts": {
        "prebuild": "echo before", "build": "lampc src -o out", "show": "lampc --version", "all": "pm run build && pm run show",
        "clean": "rm -rf out", "build:prod": "MODE=production lampc \"src\"", "hole": "echo @{x} ${y:-z}",
        "test": "echo \"Error: no test specified\" && exit 1", "start": "lampc serve"}}"#;
    vec![
        tree(
            "JavaScript scripts",
            &[
                ("package.json", table),
                (
                    "node_modules/.bin/lampc",
                    "#!/bin/sh\necho lampc \"$@\" $MODE\n",
                ),
                ("src/a.ts", ""),
            ],
            &[
                "for 8 commands of `package.json`\n",
                "left out `test` in `package.json`: it only says that there is no test",
            ],
            &[],
            &[
                ("build -- now", None),
                ("show", None),
                ("all", None),
                ("clean-script", None),
                ("build-prod", None),
                ("hole", None),
                ("start", None),
            ],
        ),
        tree(
            "a Cargo project",
            &[
                (
                    "Cargo.toml",
                    "[package]\nname = \"lamp\"\nversion = \"0.1.0\"\nedition = \"2021\"\n",
                ),
                (
                    "src/main.rs",
                    "fn main() {\n    println!(\"12\");\n}\n\n#[test]\nfn far() {}\n",
                ),
            ],
            &["for a Cargo package\n"],
            &["build"],
            &[
                ("build", None),
                ("check", None),
                ("format", None),
                ("lint", None),
            ],
        ),
        tree(
            "a Go project",
            &[
                ("go.mod", "module lamp\n\ngo 1.18\n"),
                ("main.go", "package main\n\nfunc main() {\n}\n"),
                (
                    "lamp_test.go",
                    "package main\n\nimport \"testing\"\n\nfunc TestFar(t *testing.T) {\n}\n",
                ),
            ],
            &["for a Go module\n"],
            &["build|missing"],
            &[
                ("build", Some("go: not found")),
                ("check", Some("go: not found")),
                ("lint", Some("go: not found")),
                ("format", Some("gofmt: not found")),
            ],
        ),
        tree(
            "a container file",
            &[
                ("Containerfile", "FROM scratch\nCOPY lamp /lamp\n"),
                ("lamp", "1"),
            ],
            &["for a container image from `Containerfile`\n"],
            &[],
            &[("image", Some(""))],
        ),
        tree(
            "a Markdown paper with figures",
            &[
                (
                    "text/paper.md",
                    "# The Vellan lights\n\n![Reach](../figures/reach.svg)\n",
                ),
                (
                    "figures/reach.svg",
                    "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"10\" height=\"10\"/>\n",
                ),
                ("README.md", "![Lamp](lamp.png)\n"),
            ],
            &["for 1 Markdown text\n"],
            &["out/paper.html|words"],
            &[("check-figures", None), ("words", None)],
        ),
        tree(
            "a text with a figure from the network",
            &[
                (
                    "paper.md",
                    "![Far](https://vellan.example/far.png) ![Lamp](lamp.svg)\n",
                ),
                ("lamp.svg", "<svg xmlns='http://www.w3.org/2000/svg'/>"),
            ],
            &["for 1 Markdown text\n"],
            &["words"],
            &[("check-figures", None)],
        ),
        tree(
            "a paper whose figures are made",
            &[
                (
                    "paper.md",
                    "![Reach](figures/a.svg) ![Tide](figures/b.svg)\n",
                ),
                (
                    "a.py",
                    "open('figures/a.svg', 'w').write(\"<svg xmlns='http://www.w3.org/2000/svg'/>\")\n",
                ),
            ],
            &[
                "for 1 Python script, and 1 Markdown text\n",
                "left out `figures/b.svg`: `paper.md` shows it, and it is not there",
            ],
            &["figures/a.svg", "words"],
            &[
                (
                    "check-figures",
                    Some("a text shows figures/b.svg, which is not there"),
                ),
                ("words", None),
            ],
        ),
        tree(
            "LaTeX",
            &[
                (
                    "paper.tex",
                    "\\documentclass{article}\n\\begin{document}\nText \\input{part}\n\\end{document}\n",
                ),
                ("part.tex", "More.\n"),
            ],
            &["for 1 LaTeX text\n"],
            &["out/paper.pdf|words"],
            &[("words", None)],
        ),
        tree(
            "an empty folder",
            &[],
            &["wrote `it/hand.loom`\n"],
            &["out/hello.txt"],
            &[("show", None)],
        ),
    ]
}

/// What `new` writes is right at once: no failure, no warning, and no task that fails without saying why.
fn works_at_once(trees: Vec<Tree>) {
    for tree in trees {
        let bed = Bed::new("");
        bed.remove("hand.loom");
        std::fs::create_dir(bed.path("it")).unwrap();
        for (path, text) in &tree.files {
            let path = format!("it/{path}");
            bed.write(&path, text);
            if path.contains("bin/") {
                bed.set_mode(&path, 0o755);
            }
        }
        let name = tree.name;
        let before = crate::bed::tree(&bed.path("it"));
        let shown = bed.run(&["new", "it", "--show"]).status(0);
        assert_eq!(
            before,
            crate::bed::tree(&bed.path("it")),
            "{name}: --show writes nothing"
        );
        bed.run(&["new", "it"]).status(0).says(tree.says);
        let loom = bed.read("it/hand.loom");
        assert!(shown.out.ends_with(&loom), "{name}: {}\n{loom}", shown.out);
        let quiet = |words: &[&str]| {
            let mut all = vec!["--project", "it"];
            all.extend(words);
            let run = bed.run(&all).status(0);
            let is_calm = ["warning", "note:", "error", "moved"]
                .iter()
                .all(|word| !run.err.contains(word));
            assert!(is_calm, "{name}: {words:?}\n{}\n{loom}", run.shown());
            run
        };
        quiet(&["list"]);
        quiet(&["tidy", "--check"]);
        quiet(&["preview"]);
        let run = bed.weave(&["--project", "it"]);
        assert_eq!(run.status, Some(0), "{name}: {}\n{loom}", run.shown());
        assert!(!run.err.contains("warning"), "{name}: {}", run.shown());
        let mut began = run.began();
        began.sort_unstable();
        let expected = tree.made.iter().zip(&began);
        let are_those = expected
            .clone()
            .all(|(made, began)| made.split('|').any(|one| one == *began));
        let is_open = name == "R";
        assert!(
            is_open || are_those && tree.made.len() == began.len(),
            "{name}: {began:?}\n{loom}"
        );
        let again = bed.weave(&["--project", "it"]).status(0);
        let targets = |run: &crate::bed::Run| {
            run.began()
                .iter()
                .filter(|step| step.contains(['/', '.']))
                .count()
        };
        assert_eq!(targets(&again), 0, "{name}: {}", again.shown());
        for (task, excuse) in tree.tasks {
            let mut words = vec!["--project", "it", "run"];
            words.extend(task.split(' '));
            let run = bed.run(&words);
            let said = format!("{}{}", run.out, run.err);
            let is_explained =
                excuse.is_some_and(|excuse| run.status == Some(1) && said.contains(excuse));
            assert!(
                run.status == Some(0) || is_explained,
                "{name}: {task}\n{}\n{loom}",
                run.shown()
            );
            assert!(
                !run.err.contains("warning"),
                "{name}: {task}\n{}",
                run.shown()
            );
        }
        bed.run(&["new", "it"])
            .status(2)
            .says(&["is there already", "`handloom new --show`"]);
        assert_eq!(loom, bed.read("it/hand.loom"), "{name}");
    }
}

#[test]
fn new_works_at_once_for_compiled_sources() {
    works_at_once(compiled());
}

#[test]
fn new_works_at_once_for_scripts() {
    works_at_once(scripts());
}

#[test]
fn new_works_at_once_for_other_projects() {
    works_at_once(others());
}

#[test]
fn commands_of_a_manifest_are_recipes_with_their_own_programs() {
    let bed = Bed::new("");
    for tree in others()
        .into_iter()
        .filter(|tree| tree.name == "JavaScript scripts")
    {
        for (path, text) in &tree.files {
            bed.write(&format!("it/{path}"), text);
        }
    }
    bed.set_mode("it/node_modules/.bin/lampc", 0o755);
    bed.run(&["new", "it"]).status(0);
    let run = |words: &[&str]| {
        let mut all = vec!["--project", "it", "run"];
        all.extend(words);
        bed.run(&all).status(0).out
    };
    assert!(run(&["build", "--", "now"]).contains("lampc src -o out now\n"));
    assert!(run(&["build"]).contains("before\n"));
    assert!(run(&["build-prod"]).contains("lampc src production\n"));
    assert!(run(&["hole"]).contains("@{x} z\n"));
    let all = run(&["all"]);
    assert!(
        all.contains("lampc src -o out\n") && all.contains("lampc --version\n"),
        "{all}"
    );
}

#[test]
fn a_notebook_is_text_without_what_it_printed() {
    let bed = Bed::new("");
    bed.write("it/a.ipynb", r##"{"cells": [{"cell_type": "markdown", "source": ["# Reach\n", "of lights"]}, {"cell_type": "code", "source": "print(12)", "outputs": [1]}]}"##);
    bed.run(&["new", "it"]).status(0);
    bed.run(&["--project", "it"]).status(0);
    assert_eq!(
        bed.read("it/out/notebooks/a.py"),
        "# %% [markdown]\n# # Reach\n# of lights\n\n# %%\nprint(12)\n\n"
    );
}

/// In a project, only what is not described is shown, and under names that are free.
#[test]
fn what_is_not_described_is_shown_when_asked_for() {
    let bed = Bed::new(
        "task syntax\n  recipe: true\n\ntarget out/a.txt\n  needs a.py data.csv\n  recipe: cp @{needs.1} @{target}\n",
    );
    bed.write("a.py", "open('a.txt', 'w')\n");
    bed.write("data.csv", "1\n");
    bed.run(&["new", "--show"])
        .status(0)
        .says(&["nothing here that `new` knows and that is not described"]);
    bed.write(
        "b.py",
        "open('b.txt', 'w').write(open('data.csv').read())\n",
    );
    let run = bed.run(&["new", "--show"]).status(0).says(&[
        "# could be described for 1 Python script:",
        "target b.txt\n",
        "    data: data.csv\n",
        "task syntax-python\n",
    ]);
    assert!(!run.out.contains("a.py"), "{}", run.out);
    bed.run(&["new", "nowhere", "--show"])
        .status(2)
        .says(&["`nowhere` is no folder"]);
}

#[test]
fn what_is_made_is_kept_out_of_version_control() {
    for (before, after, says) in [
        (None, Some("/out/\n"), true),
        (Some("*.swp"), Some("*.swp\n/out/\n"), true),
        (Some("a\nout/\n"), Some("a\nout/\n"), false),
    ] {
        let bed = Bed::new("");
        bed.write("new/.git/config", "");
        if let Some(text) = before {
            bed.write("new/.gitignore", text);
        }
        let run = bed.run(&["new", "new"]).status(0);
        assert_eq!(run.out.contains("`/out/` is in `.gitignore` now"), says);
        assert_eq!(Some(bed.read("new/.gitignore").as_str()), after);
    }
    let bed = Bed::new("");
    bed.run(&["new", "plain"]).status(0);
    assert!(!bed.exists("plain/.gitignore"));
    // Also in a folder below that of the version control.
    bed.write(".git/config", "");
    bed.run(&["new", "below"]).status(0);
    assert_eq!(bed.read("below/.gitignore"), "/out/\n");
}

const SKETCHED: &str = r#"target out/<n>.txt
  about: One table, cleaned
  needs
    script: tools/clean.py
    data: each data/<n>.csv
  recipe: python3 @{script} > @{target}

target summary: out/all.html figure: 'out/a "figure" of all.svg'
  needs
    script: tools/all.sh
    tables: data/*.csv
  recipe: sh @{script}

target out/z
  needs
    script: tools/z.awk
    data: 'data/it''s.csv' data/missing.csv
  recipe: awk -f @{script} @{data} > @{target}

task send where
  needs send.sh tools/run
  recipe: sh @{needs.1} @{where}
"#;

/// What is sketched runs at once, reads its job, and fails with what is to be filled in.
#[test]
fn sketched_scripts_run_and_say_what_is_to_be_filled_in() {
    let bed = Bed::new(&SKETCHED.replace("'data/it''s.csv'", "\"data/it's.csv\""));
    for name in ["data/x.csv", "data/it's.csv", "data/missing.csv"] {
        bed.write(name, "1\n");
    }
    bed.remove("data/missing.csv");
    bed.run(&["out/x.txt"])
        .status(2)
        .says(&["write a first version with `handloom sketch tools/clean.py`"]);
    bed.run(&["sketch"]).status(0).says(&[
        "wrote `send.sh` for the task `send`: fill it in\n",
        "wrote `tools/all.sh` for `out/all.html`: fill it in\n",
        "wrote `tools/clean.py` for `out/it's.txt` and another: fill it in\n",
        "wrote `tools/z.awk` for `out/z`: fill it in\n",
        "`data/missing.csv` is missing too, and no script\n",
        "`tools/run` is missing too, and no script\n",
    ]);
    bed.write("data/missing.csv", "1\n");
    bed.write("tools/run", "1\n");
    for (words, sentence) in [
        (
            &["out/x.txt"][..],
            "tools/clean.py: fill in how this is made: out/x.txt\n",
        ),
        (
            &["out/all.html"],
            "tools/all.sh: fill in how this is made: out/all.html out/a \"figure\" of all.svg\n",
        ),
        (&["out/z"], "tools/z.awk: fill in how this is made: out/z\n"),
        (
            &["run", "send", "far"],
            "send.sh: fill in what the task send does\n",
        ),
    ] {
        bed.run(words).status(1).says(&[sentence]);
    }
    // What it is told of its step is what the step has: the lists are put out instead of the sentence.
    let fill = |name: &str, from: &str, to: &str| {
        let script = bed.read(name);
        let begin = script
            .find(from)
            .unwrap_or_else(|| panic!("{name}: {script}"));
        bed.write(name, &format!("{}{to}\n", &script[..begin]));
    };
    fill("tools/clean.py", "sys.exit(f\"", "print(targets, data)");
    fill(
        "tools/all.sh",
        "echo \"tools/all.sh: fill",
        "printf '%s|' \"$summary\" \"$figure\" \"$tables\" > \"$figure\"; cp \"$figure\" \"$summary\"",
    );
    fill(
        "tools/z.awk",
        "  count = words",
        "  print data[1], data[2], targets[1] }",
    );
    bed.run(&["out/x.txt", "out/all.html", "out/z"]).status(0);
    assert_eq!(bed.read("out/x.txt"), "['out/x.txt'] ['data/x.csv']\n");
    assert_eq!(
        bed.read("out/all.html"),
        "out/all.html|out/a \"figure\" of all.svg|data/it's.csv\ndata/missing.csv\ndata/x.csv|"
    );
    assert_eq!(bed.read("out/z"), "data/it's.csv data/missing.csv out/z\n");
    // Alone they say how they are run.
    let alone = std::process::Command::new("./tools/all.sh")
        .current_dir(bed.root())
        .output()
        .unwrap();
    assert_eq!(
        String::from_utf8_lossy(&alone.stderr),
        "tools/all.sh: it is run by: handloom out/all.html\n"
    );
}

#[test]
fn nothing_is_sketched_over_something() {
    let bed = Bed::new("task a\n  needs here.py data.csv\n  recipe: true\n");
    bed.write("here.py", "mine\n");
    for (words, says) in [
        (&["sketch", "here.py"][..], "`here.py` is there already"),
        (
            &["sketch", "data.csv"],
            "`data.csv` does not end like a script",
        ),
        (
            &["sketch", "other.py"],
            "`other.py` is no prerequisite that is missing",
        ),
    ] {
        bed.run(words).status(2).says(&[says]);
    }
    assert_eq!(bed.read("here.py"), "mine\n");
    bed.write("data.csv", "");
    bed.run(&["sketch"])
        .status(0)
        .says(&["every prerequisite that is a script is there\n"]);
}

/// R is not everywhere; where it is, its sketch runs as the others do.
#[test]
fn a_sketch_in_r_runs_where_r_is() {
    let bed = Bed::new(
        "target out/r\n  needs\n    script: fit.R\n    data: 'a \"b\".csv' c.csv\n  recipe: Rscript @{script}\n",
    );
    bed.write("a \"b\".csv", "");
    bed.write("c.csv", "");
    bed.run(&["sketch", "fit.R"]).status(0);
    if std::process::Command::new("Rscript")
        .arg("--version")
        .output()
        .is_err()
    {
        return;
    }
    bed.run(&[])
        .status(1)
        .says(&["fit.R: fill in how this is made: out/r\n"]);
    let script = bed.read("fit.R");
    let begin = script.find("message(\"").unwrap();
    bed.write(
        "fit.R",
        &format!("{}writeLines(data, targets)\n", &script[..begin]),
    );
    bed.run(&[]).status(0);
    assert_eq!(bed.read("out/r"), "a \"b\".csv\nc.csv\n");
}

#[test]
fn a_folder_without_a_description_says_what_to_type() {
    let bed = Bed::new("");
    bed.remove("hand.loom");
    let run = bed.run(&[]).status(2);
    let said: Vec<&str> = run.err.lines().map(str::trim_start).collect();
    assert!(
        said[0].starts_with("error: there is no `hand.loom` in `"),
        "{}",
        run.err
    );
    let begins: Vec<&str> = said[2..]
        .iter()
        .map(|line| line.split("  ").next().unwrap())
        .collect();
    assert_eq!(
        begins,
        ["handloom new", "handloom demo", "handloom --help"],
        "{}",
        run.err
    );
}
