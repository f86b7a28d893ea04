//! Values from files, and what lists and conditions come to, from end to end: what runs after which edit.

use std::fmt::Write;

use crate::bed::Bed;
use crate::bed::Run;

/// Edits, each with a new text of a file and exactly what runs after it. In between nothing does, also once it is
/// known by its times.
#[track_caller]
fn after_each_edit(bed: &Bed, edits: &[(&str, &str, &[&str])]) {
    for (file, text, expected) in edits {
        bed.write(file, text);
        let run = bed.weave(&[]).status(0);
        let shown = run.shown();
        let ended = run.events.iter().filter(|event| event["event"] == "ended");
        let mut ended: Vec<&str> = ended.map(|event| event["step"].as_str().unwrap()).collect();
        ended.sort_unstable();
        assert_eq!(ended, *expected, "{file}: {text}\n{shown}");
        bed.weave(&[]).status(0).ended(&[]);
    }
}

fn settle() {
    std::thread::sleep(std::time::Duration::from_millis(1100));
}

const PARAMETERS: &str = "let rate  = value params.toml model.rate
let steps = value params.json 'run.steps' count
let names = value params.yaml lights
let all   = lines names.txt

target out/rate
  recipe: echo @{rate} > @{target}
target out/steps
  recipe: echo @{steps} > @{target}
target out/names
  recipe: printf '<%s>' @{names} > @{target}
target out/lines
  recipe: printf '<%s>' @{all} > @{target}
target out/own-<n>
  each n in a b
  let own = value <n>.toml x
  recipe: echo @{own} > @{target}
";

fn parameters() -> Bed {
    let bed = Bed::new(PARAMETERS);
    for (file, text) in [
        (
            "params.toml",
            "title = \"one\"\n[model]\nrate = 0.10 # as written\n",
        ),
        ("params.json", "{\"run.steps\": {\"count\": 1e3}, \"x\": 1}"),
        ("params.yaml", "lights:\n  - a b\n  - 'null'\n  - 0x1F\n"),
        ("names.txt", "\u{feff}one two\r\n\r\n  kept  \n"),
        ("a.toml", "x = 1"),
        ("b.toml", "x = 0xff"),
    ] {
        bed.write(file, text);
    }
    bed
}

#[test]
fn a_parameter_reruns_who_uses_it_and_nobody_else() {
    let bed = parameters();
    bed.weave(&[]).status(0);
    assert_eq!(bed.read("out/rate"), "0.10\n");
    assert_eq!(bed.read("out/steps"), "1e3\n");
    assert_eq!(bed.read("out/names"), "<a b><null><0x1F>");
    assert_eq!(bed.read("out/lines"), "<one two><  kept  >");
    assert_eq!(bed.read("out/own-b"), "255\n");
    settle();
    after_each_edit(
        &bed,
        &[
            (
                "params.toml",
                "title = \"two\"\n[model]\nrate = 0.10\n",
                &[],
            ),
            ("params.toml", "[model]\nrate = 0.2\n", &["out/rate"]),
            (
                "params.json",
                "{\"x\": 2, \"run.steps\": {\"count\": 1e3}}",
                &[],
            ),
            (
                "params.json",
                "{\"run.steps\": {\"count\": 1000}}",
                &["out/steps"],
            ),
            (
                "params.yaml",
                "lights: [a b, \"null\", 0x1F]\nmore: x\n",
                &[],
            ),
            ("params.yaml", "lights: [a b]\n", &["out/names"]),
            ("names.txt", "one two\n  kept  \n\n", &[]),
            ("names.txt", "one two\n", &["out/lines"]),
            ("a.toml", "y = 2\nx = 1", &[]),
            ("a.toml", "x = 3", &["out/own-a"]),
        ],
    );
    assert_eq!(bed.read("out/own-a"), "3\n");
    // The same when it is known by its times, and seen by commands that only read.
    settle();
    bed.weave(&[]).all_kept(6);
    bed.write("params.toml", "[model]\nrate = 0.3\n");
    bed.run(&["preview"])
        .status(0)
        .says(&["out/rate", "1 would run, 5 would be kept"]);
    bed.run(&["why", "out/rate"]).status(0).says(&["echo 0.3"]);
    bed.weave(&[]).ended(&["out/rate made recipe-changed"]);
}

#[test]
fn one_parameter_of_sixty_reruns_one_step() {
    let parameters = |changed: Option<usize>| {
        let mut text = String::new();
        for step in 0..60 {
            let value = if changed == Some(step) { 1000 } else { step };
            let _ = writeln!(text, "[run{step}]\ndepth = {value}");
        }
        text
    };
    let bed = Bed::new(
        "let runs = lines runs.txt\ntarget out/<run>\n  each run in @{runs}\n  let depth = value all.toml @{run}.depth\n  recipe: echo @{depth} > @{target}\n",
    );
    let runs: String = (0..60).map(|step| format!("run{step}\n")).collect();
    bed.write("runs.txt", &runs);
    bed.write("all.toml", &parameters(None));
    bed.weave(&[]).status(0);
    bed.write("all.toml", &parameters(Some(17)));
    bed.weave(&[])
        .ended(&["out/run17 made recipe-changed"])
        .kept(59);
    assert_eq!(bed.read("out/run17"), "1000\n");
    bed.write("runs.txt", &format!("{runs}run3\n"));
    bed.weave(&[]).all_kept(60);
}

const SAMPLES: &str = "let controls = table samples.csv take file where group is control

target out/<sample>.txt
  each sample file in table samples.csv where \"Read count\" above 5 and not group is left-out
  needs @{file}
  recipe: cat @{needs} > @{target}

target group/<group>
  each group in table samples.csv
  recipe: echo @{group} > @{target}

target controls
  needs @{controls}
  recipe: cat @{needs} > @{target}

target tabs/<Light_name>-<n>
  each Light_name n in table lights.tsv
  recipe: echo @{Light_name} > @{target}

target json/<a>
  each a in table rows.json where b has x
  recipe: echo @{a} > @{target}
";

#[test]
fn rows_of_a_table_are_steps() {
    let bed = Bed::new(SAMPLES);
    let rows = "sample,file,group,Read count,note\n\
         a,in/a 1.txt,control,10,\n\
         b,\"in/b,2.txt\",case,200,\"two\nlines\"\n\
         c,in/it's.txt,control,30,\n\
         d,in/d.txt,case,2,\n\
         e,in/d.txt,left-out,99,\n";
    bed.write("samples.csv", rows);
    bed.write(
        "lights.tsv",
        "Light name\tn\tx\nTarn, the old\t1\ty\nTarn, the old\t1\tz\n",
    );
    bed.write("rows.json", "[{\"a\": 1, \"b\": \"x\"}, {\"b\": \"y\", \"a\": 2.50}, {\"a\": \"1\", \"b\": \"x\", \"c\": []}]");
    for file in ["in/a 1.txt", "in/b,2.txt", "in/it's.txt", "in/d.txt"] {
        bed.write(file, &format!("{file}\n"));
    }
    bed.weave(&[]).status(0).ended(&[
        "out/a.txt made never-made",
        "out/b.txt made never-made",
        "out/c.txt made never-made",
        "group/control made never-made",
        "group/case made never-made",
        "group/left-out made never-made",
        "controls made never-made",
        "tabs/Tarn, the old-1 made never-made",
        "json/1 made never-made",
    ]);
    assert_eq!(bed.read("out/b.txt"), "in/b,2.txt\n");
    assert_eq!(bed.read("controls"), "in/a 1.txt\nin/it's.txt\n");
    settle();
    let edit = |from: &str, to: &str| {
        let text = bed.read("samples.csv");
        assert!(text.contains(from), "{from}");
        text.replace(from, to)
    };
    // A column that nobody names.
    after_each_edit(&bed, &[("samples.csv", &edit("two\n", "three\n"), &[])]);
    // One that decides which rows count, in a way that makes no difference.
    after_each_edit(&bed, &[("samples.csv", &edit(",200,", ",201,"), &[])]);
    // A row that counts now.
    after_each_edit(
        &bed,
        &[("samples.csv", &edit("case,2,", "case,20,"), &["out/d.txt"])],
    );
    // Another file for one of them, which is a control too.
    after_each_edit(
        &bed,
        &[(
            "samples.csv",
            &edit("in/it's.txt", "in/d.txt"),
            &["controls", "out/c.txt"],
        )],
    );
    // A row more, and rows in another order.
    let rows = edit("a,in/a 1.txt,control,10,\n", "");
    let rows = format!("{rows}a,in/a 1.txt,control,10,\nf,in/d.txt,new,7,\n");
    after_each_edit(
        &bed,
        &[(
            "samples.csv",
            &rows,
            &["controls", "group/new", "out/f.txt"],
        )],
    );
    bed.run(&["list", "--all"])
        .status(0)
        .says(&["out/f.txt", "tabs/Tarn, the old-1"]);
    bed.run(&["why", "out/f.txt"]).status(0);
    bed.run(&["settings"]).status(0).says(&["controls"]);
    bed.run(&["graph"]).status(0);
}

/// A description, files beside it, and what is said.
type Wrong = (
    &'static str,
    &'static [(&'static str, &'static str)],
    &'static [&'static str],
);

const WRONG: [Wrong; 22] = [
    (
        "let v = value p.toml model.rat\n",
        &[("p.toml", "[model]\nrate = 1\ndepth = 2\n")],
        &[
            "there is no `rat` in `model` in `p.toml`",
            "did you mean `rate`?",
            "The keys there: `depth`, `rate`",
        ],
    ),
    (
        "let v = value p.toml model\n",
        &[("p.toml", "[model]\nrate = 1\ndepth = 2\n")],
        &[
            "`model` in `p.toml` is no value, but has keys of its own",
            "`depth`, `rate`",
        ],
    ),
    (
        "let v = value p.toml rate.x\n",
        &[("p.toml", "rate = 1")],
        &["`rate` in `p.toml` is a single value, and has no `x`"],
    ),
    (
        "let v = value p.toml a\n",
        &[("p.toml", "b = 1\na = \n")],
        &["`p.toml` line 2: "],
    ),
    (
        "let v = value p.json a\n",
        &[("p.json", "{\"b\": 1,\n\"a\": ]}")],
        &["`p.json` line 2: expected value"],
    ),
    (
        "let v = value p.json a\n",
        &[("p.json", "{\"a\": 1, \"a\": 2}")],
        &["`p.json` has the key `a` twice"],
    ),
    (
        "let v = value p.json a\n",
        &[("p.json", "{\"a\": null}")],
        &["`a` in `p.json` is null"],
    ),
    (
        "let v = value p.json a.3\n",
        &[("p.json", "{\"a\": [1, 2]}")],
        &["`a` in `p.json` is a list of 2, and has no `3`"],
    ),
    (
        "let v = value p.json a\n",
        &[("p.json", "{\"a\": [1, [2]]}")],
        &["is a list of lists"],
    ),
    (
        "let v = value p.yaml a\n",
        &[("p.yaml", "b: 1\na: [1\n")],
        &["`p.yaml` line "],
    ),
    (
        "let v = value p.yaml a\n",
        &[("p.yaml", "a: 1\na: 2\n")],
        &["`p.yaml` line 2: the key `a` stands here twice"],
    ),
    (
        "let v = value p.ini a\n",
        &[("p.ini", "a = 1")],
        &[
            "`p.ini` is no file that has keys",
            "`.json`, `.toml`, `.yaml`",
        ],
    ),
    (
        "let v = value gone.toml a\n",
        &[],
        &["can't read `gone.toml`"],
    ),
    ("let v = lines b.txt\n", &[("b.txt", "a\n\u{0}")], &[]),
    (
        "let v = table s.csv take file\n",
        &[("s.csv", "name,file\na,1\nb\nc,3\n")],
        &["`s.csv` line 3 has one cell, and the header has 2 cells"],
    ),
    (
        "let v = table s.csv take fil\n",
        &[("s.csv", "name,file\n")],
        &[
            "`s.csv` has no column `fil`",
            "did you mean `file`?",
            "The columns: `name`, `file`",
        ],
    ),
    (
        "let v = table s.csv take file\n",
        &[("s.csv", "name;file\n")],
        &["`s.csv` has no column `file`", "Cells stand between commas"],
    ),
    (
        "let v = table s.csv take n\n",
        &[("s.csv", "n,n\n1,2\n")],
        &["`s.csv` has more than one column `n`"],
    ),
    (
        "let v = table s.csv take n where m above 3\n",
        &[("s.csv", "n,m\n1,4\n2,many\n")],
        &[
            "`many` is no number, and `above` compares numbers",
            "`s.csv`, the row that begins at 3",
        ],
    ),
    (
        "let v = table s.json take n\n",
        &[("s.json", "[{\"n\": 1}, {\"m\": 2}]")],
        &["`s.json` row 2 has no plain value for `n`"],
    ),
    (
        "let v = table s.json take n\n",
        &[("s.json", "{\"n\": 1}")],
        &["`s.json` is no table: it does not begin with `[`"],
    ),
    (
        "let v = value made.toml a\ntarget made.toml\n  recipe: echo 'a = 1' > @{target}\n",
        &[("made.toml", "a = 1")],
        &["a value is taken from `made.toml`, which a target makes"],
    ),
];

#[test]
fn what_is_wrong_in_a_file_is_told_with_its_line() {
    for (loom, files, says) in WRONG {
        let bed = Bed::new(&format!(
            "{loom}target out\n  recipe: echo @{{v}} > @{{target}}\n"
        ));
        for (file, text) in files {
            bed.write(file, text);
        }
        let run = bed.run(&["out"]);
        run.status(2).says(says).says(&["hand.loom:1:"]);
        assert!(!bed.exists("out"));
    }
    let bed = Bed::new("let v = lines b.txt\ntarget out\n  recipe: echo @{v} > @{target}\n");
    std::fs::write(bed.path("b.txt"), b"a\nb\xff").unwrap();
    bed.run(&[])
        .status(2)
        .says(&["`b.txt` is not UTF-8: line 2 has the byte 0xFF"]);
}

#[test]
fn a_variable_with_holes_is_worked_out_where_it_is_used() {
    let bed = Bed::new(
        "let base    = -Wall
let opt     = -O2
let opt     = -O0 @{extra-flags} when @{mode} is debug
let extra-flags = -DMODE=@{mode}
let name    = @{unit}-@{mode}

target out/@{name}.o
  each mode in debug release
  needs each src/<unit>.c
  recipe: echo @{base} @{opt} @{needs} > @{target}
target out/plain
  needs src/a.c
  recipe: echo @{base} > @{target}
target out/hidden-<mode>
  each mode in debug
  let opt = own
  recipe: echo @{opt} > @{target}
",
    );
    bed.write("src/a.c", "");
    bed.weave(&[]).status(0).ended(&[
        "out/a-debug.o made never-made",
        "out/a-release.o made never-made",
        "out/hidden-debug made never-made",
        "out/plain made never-made",
    ]);
    assert_eq!(
        bed.read("out/a-debug.o"),
        "-Wall -O0 -DMODE=debug src/a.c\n"
    );
    assert_eq!(bed.read("out/a-release.o"), "-Wall -O2 src/a.c\n");
    assert_eq!(bed.read("out/hidden-debug"), "own\n");
    let loom = bed.read("hand.loom");
    settle();
    bed.weave(&[]).all_kept(4);
    after_each_edit(
        &bed,
        &[
            (
                "hand.loom",
                &loom.replace("-DMODE", "-DM"),
                &["out/a-debug.o"],
            ),
            (
                "hand.loom",
                &loom.replace("-DMODE", "-DM").replace("= -O2", "= -O3"),
                &["out/a-release.o"],
            ),
        ],
    );
    // A recipe that comes to use it is judged with it, also where the rest is taken over.
    let loom = bed.read("hand.loom");
    let other = loom.replace("@{base} > @{target}", "@{base} @{opt} > @{target}");
    bed.write("hand.loom", &other);
    bed.run(&[]).status(2).says(&[
        "there is no variable `mode` here",
        "uses `extra-flags`, and has no hole or parameter `mode`",
    ]);
    bed.write("hand.loom", &loom.replace("let opt     = -O3\n", ""));
    bed.run(&[])
        .status(2)
        .says(&["no definition of `opt` holds in the step with <mode> = release"]);
    bed.write("hand.loom", &loom);
    bed.weave(&["--let", "opt=-Os"]).status(0).ended(&[
        "out/a-debug.o made recipe-changed",
        "out/a-release.o made recipe-changed",
    ]);
    assert_eq!(bed.read("out/a-debug.o"), "-Wall -Os src/a.c\n");
}

#[test]
fn holes_make_steps_and_stars_gather() {
    let bed = Bed::new(
        "target out/<group>.sum
  needs
    rows: each data/<group>/*.csv except data/*/skip*
    tool: tool.sh
  recipe: cat @{rows} > @{target}
target made/<g>-<n>
  each n in 1 2
  needs each data/<g>/x.csv
  recipe: cat @{needs} > @{target}; echo @{n} >> @{target}
target out/all-<g>
  needs each made/<g>-?
  recipe: cat @{needs} > @{target}
",
    );
    for file in [
        "data/a/x.csv",
        "data/a/y.csv",
        "data/b/x.csv",
        "data/b/skip.csv",
        "data/c/skip.csv",
        "tool.sh",
    ] {
        bed.write(file, &format!("{file}\n"));
    }
    bed.weave(&[]).status(0).ended(&[
        "out/a.sum made never-made",
        "out/b.sum made never-made",
        "made/a-1 made never-made",
        "made/a-2 made never-made",
        "made/b-1 made never-made",
        "made/b-2 made never-made",
        "out/all-a made never-made",
        "out/all-b made never-made",
    ]);
    assert_eq!(bed.read("out/a.sum"), "data/a/x.csv\ndata/a/y.csv\n");
    assert_eq!(bed.read("out/all-b"), "data/b/x.csv\n1\ndata/b/x.csv\n2\n");
    settle();
    after_each_edit(
        &bed,
        &[
            ("data/b/skip.csv", "other", &[]),
            ("data/b/z.csv", "z\n", &["out/b.sum"]),
            ("data/a/y.csv", "y\n", &["out/a.sum"]),
            ("data/d/y.csv", "d\n", &["out/d.sum"]),
        ],
    );
    bed.remove("data/b/z.csv");
    bed.weave(&[])
        .ended(&["out/b.sum made prerequisite-dropped"]);
    // A step that would feed its own pattern.
    let bed = Bed::new(
        "target data/<g>x/all.csv\n  needs each data/<g>/*.csv\n  recipe: cat @{needs} > @{target}\n",
    );
    bed.write("data/a/x.csv", "");
    bed.run(&[])
        .status(2)
        .says(&["which the same target makes"]);
}

#[test]
fn a_thousand_groups_of_many_files_are_gathered() {
    let bed = Bed::in_memory(
        "target out/<group>\n  needs each data/<group>-*.csv\n  recipe: echo @{needs.count} > @{target}\n",
    );
    std::fs::create_dir(bed.path("data")).unwrap();
    for group in 0..1000 {
        for file in 0..5 {
            std::fs::write(bed.path(&format!("data/g{group}-{file}.csv")), "").unwrap();
        }
    }
    let run = bed.run(&["list", "--all", "--format", "json"]).status(0);
    assert!(run.out.contains("data/g999-4.csv"));
    bed.run(&["out/g7"]).status(0);
    assert_eq!(bed.read("out/g7"), "5\n");
}

#[test]
fn needs_leave_out_what_stands_behind_except() {
    let bed = Bed::new(
        "let some = src/a.c src/b.c
target out/all
  needs src/** except src/old/ **/*.tmp
  recipe: echo @{needs} > @{target}
target out/<u>.o
  needs each src/<u>.c except src/b.*
  recipe: echo @{needs} > @{target}
target out/rest
  needs @{some} except src/a.c
  recipe: echo @{needs} > @{target}
target out/label
  needs
    one: src/*.c except src/a.c
    two: src/a.c
  recipe: echo @{one} - @{two} > @{target}
task check
  needs src/*.c except src/b.c
  recipe: echo @{needs} > checked
",
    );
    for file in ["src/a.c", "src/b.c", "src/x.tmp", "src/old/c.c"] {
        bed.write(file, "");
    }
    bed.weave(&["out/", "check"]).status(0);
    let made = |name: &str| bed.read(name);
    assert_eq!(made("out/all"), "src/a.c src/b.c\n");
    assert_eq!(made("out/rest"), "src/b.c\n");
    assert_eq!(made("out/label"), "src/b.c - src/a.c\n");
    assert_eq!(made("checked"), "src/a.c\n");
    assert!(bed.exists("out/a.o") && !bed.exists("out/b.o"));
    settle();
    after_each_edit(&bed, &[("src/x.tmp", "x", &[]), ("src/old/d.c", "", &[])]);
    for (loom, says) in [
        (
            "target x\n  needs except a\n  recipe: true\n",
            "`except` does not stand behind what it leaves out of",
        ),
        (
            "target x\n  needs assets/ except assets/a\n  recipe: true\ntask y\n  needs assets/\n  recipe: true\n",
            "something else is left out of `assets/` here than where it is named first",
        ),
        (
            "target x-<n>\n  each n in a b\n  needs assets/ except assets/@{n}/\n  recipe: true\n",
            "something else is left out of `assets/` here than where it is named first",
        ),
        (
            "target x/\n  recipe: true\ntarget y\n  needs x/ except x/a\n  recipe: true\n",
            "what is left out of `x/` stands behind the target that makes it",
        ),
        (
            "target x except y\n  recipe: true\n",
            "nothing can be left out of the file `x`",
        ),
        (
            "target x\n  needs a except\n  recipe: true\n",
            "`except` is not followed by a pattern",
        ),
        (
            "target x\n  needs a except b except c\n  recipe: true\n",
            "`except` stands here twice",
        ),
    ] {
        Bed::new(loom).run(&["list"]).status(2).says(&[says]);
    }
}

#[test]
fn what_is_left_out_of_a_whole_folder_does_not_count() {
    let bed = Bed::new(
        "target venv/ except **/cache/ venv/log*
  recipe:
    mkdir -p @{target}lib/cache
    echo x > @{target}lib/x
    echo c > @{target}lib/cache/c
target listing
  needs venv/
  recipe: ls @{needs} > @{target}
target packed
  needs assets/ except assets/tmp/ **/*~
  recipe: ls -l @{needs} > @{target}
target linked
  needs around/
  recipe: ls @{needs} > @{target}
",
    );
    for file in ["assets/a", "assets/tmp/t", "around/x"] {
        bed.write(file, "");
    }
    std::os::unix::fs::symlink("../assets", bed.path("around/to")).unwrap();
    bed.weave(&[]).status(0);
    settle();
    after_each_edit(
        &bed,
        &[
            ("assets/a~", "x", &["linked"]),
            ("venv/lib/cache/c", "changed", &[]),
            ("venv/log1", "new", &[]),
            // Another folder with them in it leaves nothing out.
            ("assets/tmp/n", "x", &["linked"]),
            ("assets/b", "x", &["linked", "packed"]),
        ],
    );
    // An edit that counts is still one, and what does not count goes with the folder.
    bed.write("venv/lib/x", "edited");
    bed.weave(&[])
        .status(0)
        .ended(&["venv/ same output-edited"]);
    assert!(!bed.exists("venv/log1") && bed.exists(".handloom/aside/venv/lib/x"));
    bed.write("venv/lib/cache/c", "changed");
    bed.run(&["clean"]).status(0).says(&["4 files removed"]);
    assert!(!bed.exists("venv"));
}

#[test]
fn words_are_added_for_one_run() {
    let bed = Bed::new(
        "let flags = -Wall\nlet mode one of release debug\ntarget out\n  recipe: echo @{flags} @{mode} > @{target}\n",
    );
    let made = |arguments: &[&str]| {
        bed.run(arguments).status(0);
        bed.read("out")
    };
    assert_eq!(
        made(&["--let", "flags+=-g 'a b'"]),
        "-Wall -g a b release\n"
    );
    assert_eq!(
        made(&["--let", "flags+=1", "--let", "flags+=2"]),
        "-Wall 1 2 release\n"
    );
    assert_eq!(
        made(&["--let", "flags=x", "--let", "flags+=2"]),
        "x 2 release\n"
    );
    assert_eq!(
        made(&["--let", "flags+=2", "--let", "flags=x"]),
        "x release\n"
    );
    assert_eq!(made(&[]), "-Wall release\n");
    let mut command = bed.command(&["--let", "flags+=more"]);
    command.env("HANDLOOM_LET_flags", "outside");
    let _: Run = bed.finish(command, &[]).status(0);
    assert_eq!(bed.read("out"), "outside more release\n");
    bed.run(&["--let", "mode+=debug"])
        .status(2)
        .says(&["nothing can be added to `mode`"]);
    bed.run(&["--let", "flag+=x"])
        .status(2)
        .says(&["the project has no variable `flag`", "--let flags"]);
}

#[test]
fn variables_of_a_part_are_read_from_outside() {
    let bed = Bed::new(
        "include geo\ninclude geo/deep\ntarget out\n  recipe: echo @{geo/incs} @{geo/deep/x.stem} @{geo/base} > @{target}\nlet base = top\n",
    );
    bed.write("geo/hand.loom", "let incs = -Igeo/inc\nlet seen = @{deep/x}\ntarget seen.txt\n  recipe: echo @{seen} > @{target}\n");
    bed.write("geo/deep/hand.loom", "let x = y.z\n");
    bed.run(&["out", "geo/seen.txt"]).status(0);
    assert_eq!(bed.read("out"), "-Igeo/inc y top\n");
    assert_eq!(bed.read("geo/seen.txt"), "y.z\n");
    bed.write(
        "hand.loom",
        "include geo\ninclude geo/deep\ntarget out\n  recipe: echo @{geo/inc} > @{target}\n",
    );
    bed.run(&["out"]).status(2).says(&[
        "there is no variable `geo/inc` here",
        "did you mean `@{geo/incs}`?",
    ]);
}

#[test]
fn unordered_pairs_take_two_lines() {
    let bed = Bed::new(
        "let lights = tarn holm orrick\ntarget out/<a>-<b>\n  each a in @{lights}\n  each b in @{lights}\n  when @{a} before @{b}\n  recipe: echo @{a} @{b} > @{target}\n",
    );
    bed.weave(&[]).status(0).ended(&[
        "out/holm-orrick made never-made",
        "out/holm-tarn made never-made",
        "out/orrick-tarn made never-made",
    ]);
}

#[test]
fn what_became_another_word_says_which() {
    let bed = Bed::new("target out\n  uses cores=2\n  recipe: true\n");
    bed.run(&[])
        .status(2)
        .says(&["it is called `takes` now: write `takes cores=2`"]);
    bed.run(&["--remake", "out"])
        .status(2)
        .says(&["`--remake` is called `--again` now"]);
}
