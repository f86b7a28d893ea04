//! What is written for those who have no Hand Loom: scripts that make the same byte for byte in each shell, and how sources
//! are compiled, as clang's own tools read it.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;
use std::process::Output;

use serde_json::Value;

use crate::bed::Bed;

/// The shells that a script is run with; CI has all of them.
const SHELLS: [&[&str]; 3] = [&["sh"], &["dash"], &["busybox", "sh"]];

/// Runs a script in a folder, without Hand Loom in the way of anything.
fn run_script(shell: &[&str], script: &Path, folder: &Path) -> Option<Output> {
    let mut command = Command::new(shell[0]);
    command.args(&shell[1..]).arg(script).current_dir(folder);
    command
        .env_clear()
        .env("PATH", "/usr/local/bin:/usr/bin:/bin")
        .env("HOME", folder.parent().unwrap().join("home"))
        .env("LAMP_KEY", "k3y");
    match command.output() {
        Ok(output) => Some(output),
        Err(error) if std::env::var_os("HANDLOOM_SHELLS").is_some() => panic!("{shell:?}: {error}"),
        Err(_) => None,
    }
}

/// All below a folder but Hand Loom's own and descriptions: each file with what it holds and whether it may be run.
fn tree(folder: &Path) -> Vec<String> {
    let mut all = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(next) = open.pop() {
        for entry in fs::read_dir(&next).unwrap() {
            let entry = entry.unwrap();
            let path = entry.path();
            let name = path
                .strip_prefix(folder)
                .unwrap()
                .to_string_lossy()
                .into_owned();
            let is_ours = name == ".handloom" || name.ends_with("hand.loom");
            if is_ours || name.ends_with("__pycache__") {
                continue;
            }
            let kind = entry.file_type().unwrap();
            if kind.is_dir() {
                open.push(path);
                all.push(format!("{name}/"));
            } else if kind.is_symlink() {
                all.push(format!(
                    "{name} -> {}",
                    fs::read_link(&path).unwrap().display()
                ));
            } else {
                let mode = entry.metadata().unwrap().permissions().mode() & 0o111;
                let content = handloom_core::world::Digest::of(&fs::read(&path).unwrap());
                all.push(format!("{name} {mode:o} {content:?}"));
            }
        }
    }
    all.sort();
    all
}

/// Copies all below a folder but what is made there and Hand Loom's own.
fn copy_sources(from: &Path, to: &Path, made: &[&str]) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let name = entry.file_name().to_string_lossy().into_owned();
        if name == ".handloom"
            || name.ends_with("hand.loom")
            || made.contains(&&*name)
            || name == "__pycache__"
        {
            continue;
        }
        let (path, target) = (entry.path(), to.join(&name));
        if entry.file_type().unwrap().is_dir() {
            copy_sources(&path, &target, made);
        } else {
            fs::copy(path, target).unwrap();
        }
    }
}

/// Exports a project that was woven, runs the script with each shell in a copy of its sources, twice, and compares.
#[track_caller]
fn makes_the_same(bed: &Bed, folder: &str, made: &[&str], names: &[&str]) -> String {
    let root = bed.path(folder);
    let place = bed.root().parent().unwrap().to_owned();
    let script = place.join("made.sh");
    let script_text = script.display().to_string();
    let mut arguments = vec![
        "--project",
        folder,
        "export",
        "script",
        "--to",
        &script_text,
    ];
    arguments.extend(names);
    let _ = bed.run(&arguments).status(0);
    assert_eq!(
        fs::metadata(&script).unwrap().permissions().mode() & 0o111,
        0o111
    );
    let woven = tree(&root);
    for (number, shell) in SHELLS.iter().enumerate() {
        let copy = place.join(format!("copy {number}"));
        copy_sources(&root, &copy, made);
        // The second time it finds what the first has left.
        for time in ["first", "second"] {
            let Some(output) = run_script(shell, &script, &copy) else {
                continue;
            };
            let said = String::from_utf8_lossy(&output.stderr);
            assert!(output.status.success(), "{shell:?}, {time}: {said}");
            assert_eq!(tree(&copy), woven, "{shell:?}, {time}");
        }
        fs::remove_dir_all(copy).unwrap();
    }
    fs::read_to_string(script).unwrap()
}

#[test]
fn the_almanac_comes_out_the_same_without_hand_loom() {
    let bed = Bed::new("");
    let _ = bed.run(&["demo", "almanac"]).status(0);
    let text = makes_the_same(&bed, "almanac", &["out"], &[]);
    // Its variables stand at the top, and can be given other values.
    let head: String = text.lines().take(20).collect::<Vec<_>>().join("\n");
    assert!(
        head.contains("\ncflags='-std=c11 -Wall -Wextra -Iout/gen -O2'\n"),
        "{head}"
    );
    assert!(text.contains("\"$cc\" $cflags -MMD -MF .exported-script/0.learn -c src/range.c"));
    assert!(text.contains("# Lamp hours for each month\nmake_way_for out/months/brannoch.csv\n"));
}

#[test]
fn the_study_comes_out_the_same_without_hand_loom() {
    let bed = Bed::new("");
    let _ = bed.run(&["demo", "--example", "fog", "fog"]).status(0);
    makes_the_same(&bed, "fog", &["out"], &[]);
}

/// Everything that a recipe may be given: parts, other shells and programs, folders, environment, a `finally`, arguments,
/// odd names, several outputs, whole folders and what lies in them, links, secrets, here-documents.
const PARTS: &str = r#"include lib
include 'odd part'
let greeting = "it's a \"light\" for $1"
let list = alpha 'two words' gamma
let plain = one two
let HOME = 'nowhere'
let made_now = 'of the script too'
let key = secret LAMP_KEY

default made/all.txt made/tree.txt made/link made/bash.txt made/python.txt made/odd.txt made/last.txt

target made/all.txt
  needs lib/made/lib.txt 'odd part/made/x y.txt'
  let own = 'of its own'
  env WORD = @{greeting}
  recipe:
    echo "$WORD" @{greeting} @{own} "in quotes: @{greeting}" > @{target}
    echo @{list} -- @{plain} -- pre@{plain.first} "@{plain}" >> @{target}
    echo "home: $HOME" @{HOME} @{made_now} >> @{target}
    cat <<WORDS >> @{target}
    @{greeting} and $(echo @{plain})
    WORDS
    cat <<'LITERAL' >> @{target}
      $not looked up
    LITERAL
    cat @{needs} >> @{target}
    for plain in "$@"; do echo "$plain" >> @{target}; done
target made/tree/
  recipe: mkdir -p @{target}sub; for i in 1 2 3; do echo $i > @{target}$i.txt; done; echo x > @{target}sub/run; chmod +x @{target}sub/run
target made/tree.txt
  needs made/tree/
  recipe: ls -R @{needs} | wc -l > @{target}; cat @{needs}*.txt >> @{target}
target made/link
  needs made/all.txt
  recipe: ln -s all.txt @{target}
target made/bash.txt
  recipe with bash -euo pipefail:
    words=(a b c)
    echo "${words[1]} ${#words[@]} @{cores}" > @{target}
    echo @{plain} "@{greeting}" >> @{target}
target made/python.txt made/second.txt
  needs in.txt tool.py
  recipe with python3:
    import os, sys
    with open(@{target.first}, "w") as out:
        out.write(open(@{needs.first}).read() + repr(@{list}))
    with open(@{target.rest}[0], "w") as out:
        out.write("END\n")
    END = 1
target made/odd.txt
  needs 'a file; with $odd "marks".txt'
  recipe:
    cat @{needs} > @{target}
    printf '%s' @{key} | wc -c >> @{target}
    echo @{plain} @{greeting} >> @{target}
  finally: echo over > made-over.txt
target made/last.txt
  needs tool.py
  env PLACE = @{root}/in.txt
  recipe:
    python3 tool.py
    cat @{root}/in.txt "$PLACE" >> @{target}
"#;

fn parts() -> Bed {
    let bed = Bed::new(PARTS);
    bed.write(
        "lib/hand.loom",
        "let plain = 'the part has one of its own'\ntarget made/lib.txt\n  needs in.txt\n  in sub\n  recipe: pwd | sed 's|.*/||' > @{target}; cat @{needs} >> @{target}; echo @{plain} >> @{target}\n",
    );
    bed.write("lib/in.txt", "of the part\n");
    bed.write("lib/sub/keep", "");
    bed.write(
        "odd part/hand.loom",
        "target made/<n>' y.txt'\n  needs each 'in '<n>.txt\n  recipe: cat @{needs} > @{target}; echo @{n} >> @{target}\n",
    );
    bed.write("odd part/in x.txt", "odd\n");
    bed.write("in.txt", "in\n");
    bed.write("a file; with $odd \"marks\".txt", "odd marks\n");
    bed.write(
        "tool.py",
        "import json, os\njob = json.load(open(os.environ['HANDLOOM_JOB']))\nassert job['folder'] == os.getcwd(), job\nopen(os.environ['HANDLOOM_TARGET'], 'w').write(str(job['needs']))\n",
    );
    bed
}

#[test]
fn a_project_with_parts_and_all_that_recipes_may_have_comes_out_the_same() {
    let bed = parts();
    let mut command = bed.command(&[]);
    command.env("LAMP_KEY", "k3y");
    let _ = bed.finish(command, &[]).status(0);
    let text = makes_the_same(&bed, ".", &["made", "made-over.txt"], &[]);
    assert!(
        text.contains("# It reads the secret LAMP_KEY from the environment.\n"),
        "{text}"
    );
    assert!(!text.contains("k3y"));
    // One file alone.
    let some = makes_some(&bed);
    assert_eq!(some, ["made", "made/bash.txt"]);
}

/// What a script for one file makes.
fn makes_some(bed: &Bed) -> Vec<String> {
    let place = bed.root().parent().unwrap().to_owned();
    let run = bed.run(&["export", "script", "made/bash.txt"]).status(0);
    let script = place.join("one.sh");
    fs::write(&script, &run.out).unwrap();
    let folder = place.join("one");
    fs::create_dir(&folder).unwrap();
    // The folder may be named, from anywhere.
    let output = Command::new("sh")
        .arg(&script)
        .arg(&folder)
        .current_dir("/")
        .output()
        .unwrap();
    assert!(output.status.success());
    let mut names: Vec<String> = crate::bed::tree(&folder)
        .lines()
        .map(str::to_owned)
        .collect();
    names.insert(0, "made".to_owned());
    names.dedup();
    names
}

#[test]
fn a_script_ends_where_a_recipe_fails_and_says_what_it_cannot_do() {
    let bed = Bed::new(
        "target a\n  recipe: echo a > @{target}\ntarget b\n  needs a\n  recipe: false; echo b > @{target}\ntarget c\n  needs b\n  recipe: cp @{needs} @{target}\ntarget bound\n  recipe with python3: open('bound', 'w').write(@{root})\ntask check\n  needs a\n  recipe: cat @{needs}\n",
    );
    let run = bed.run(&["export", "script", "c"]).status(0);
    let script = bed.path("c.sh");
    fs::write(&script, &run.out).unwrap();
    let output = run_script(&["sh"], &script, &bed.root()).unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert_eq!(String::from_utf8_lossy(&output.stderr), "a\nb\n");
    assert!(bed.exists("a") && !bed.exists("c"));
    bed.run(&["export", "script", "check"])
        .status(2)
        .says(&["`check` is a task, and no file"]);
    bed.run(&["export", "script", "d"]).status(2).says(&["`d`"]);
    bed.run(&["export", "script", "bound"])
        .status(0)
        .says(&["note: the recipe of `bound` names this project's folder, and works nowhere else"]);
    // What lies in a whole folder that was never made is not known.
    bed.write(
        "hand.loom",
        "target tree/\n  recipe: touch @{target}x\ntarget out/<n>\n  needs each tree/<n>\n  recipe: cp @{needs} @{target}\n",
    );
    bed.run(&["export", "script"]).status(0).says(&[
        "note: `tree/` was never made: what is made from each file in it is not in the script",
    ]);
    let _ = bed.run(&[]).status(0);
    let run = bed.run(&["export", "script"]).status(0);
    assert!(run.out.contains("make_way_for out/x\n"), "{}", run.out);
}

#[test]
fn clang_reads_how_sources_are_compiled() {
    let bed = Bed::new("");
    let _ = bed.run(&["demo", "almanac"]).status(0);
    let export = ["--project", "almanac", "export", "compile-commands"];
    bed.run(&export)
        .status(0)
        .says(&["wrote ", "almanac/compile_commands.json"]);
    bed.run(&export)
        .status(0)
        .says(&["compile_commands.json is as it would be written"]);
    let file = bed.path("almanac/compile_commands.json");
    let entries: Value = serde_json::from_str(&fs::read_to_string(&file).unwrap()).unwrap();
    let entries = entries.as_array().unwrap();
    let told: Vec<(&str, &str)> = entries
        .iter()
        .map(|entry| {
            (
                entry["file"].as_str().unwrap(),
                entry["output"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            ("src/draw.c", "out/obj/draw.o"),
            ("src/light.c", "out/obj/light.o"),
            ("src/main.c", "out/obj/main.o"),
            ("src/months.c", "out/obj/months.o"),
            ("src/range.c", "out/obj/range.o"),
        ]
    );
    let root = bed.path("almanac").canonicalize().unwrap();
    assert_eq!(entries[0]["directory"], root.display().to_string());
    assert_eq!(entries[0]["arguments"][0], "cc");
    // A header that lies where only the flags say is found, so they were read.
    let checked = |database: &Path| {
        let mut command = Command::new("clang-check");
        command
            .arg("-p")
            .arg(database)
            .arg(root.join("src/light.c"));
        match command.output() {
            Ok(output) => Some(output),
            Err(error) if std::env::var_os("HANDLOOM_CLANG").is_some() => panic!("{error}"),
            Err(_) => None,
        }
    };
    if let Some(output) = checked(&root) {
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success() && said.is_empty(), "{said}");
        fs::remove_file(&file).unwrap();
        let without = checked(&root).unwrap();
        assert!(!without.status.success(), "{without:?}");
    }
}

#[test]
fn only_calls_of_compilers_that_are_known_are_told_of() {
    let bed = Bed::new(
        "let flags = -O2 '-DNAME=\"a b\"'\ntarget out/<u>.o\n  needs each src/<u>.c\n  in sub\n  recipe: cc @{flags} -c @{needs} -o @{target} && size @{target}\ntarget lib.o\n  needs src/a.c\n  recipe: x=-O3; cc $x -c @{needs} -o @{target}\ntarget copy\n  needs src/a.c\n  recipe: cp @{needs} @{target}\n",
    );
    bed.write("src/a.c", "int a;\n");
    bed.write("src/b b.c", "int b;\n");
    let run = bed
        .run(&["export", "compile-commands", "--to", "-"])
        .status(0);
    let run = run.says(&["note: 1 call of compilers left out, whose words only the shell knows"]);
    let entries: Value = serde_json::from_str(&run.out).unwrap();
    let words: Vec<String> = entries
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| format!("{} {}", entry["file"], entry["arguments"]))
        .collect();
    assert_eq!(
        words,
        [
            r#""../src/a.c" ["cc","-O2","-DNAME=\"a b\"","-c","../src/a.c","-o","../out/a.o"]"#,
            r#""../src/b b.c" ["cc","-O2","-DNAME=\"a b\"","-c","../src/b b.c","-o","../out/b b.o"]"#,
        ]
    );
    let folder = entries[0]["directory"].as_str().unwrap();
    assert!(folder.ends_with("/project/sub"), "{folder}");
    bed.run(&["export", "compile-commands", "copy", "--to", "-"])
        .status(0)
        .says(&["[]", "note: no recipe calls a compiler"]);
}
