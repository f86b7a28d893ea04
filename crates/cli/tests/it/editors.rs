//! Real editors, without a window, with the plugins that ship and the program that was built.

use std::process::Command;
use std::process::Output;

use crate::bed::Bed;
use crate::language_server::ROOT;
use crate::language_server::completion_bed;
use crate::language_server::completions;

const PLUGINS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../editors");

const LOOM: &str = "let lamp = red
target out
  recipe: echo @{lamp} @{lmap} > out
target lamp.o
  needs src/lamp.c
  recipe: gcc -Wall -c @{needs} -o @{target}
task show file
  about: Shows a file
  recipe: wc -l < @{file} > shown; cat @{file}
task slow
  recipe: echo > begun; sleep 100
";

const SOURCE: &str = "int lamp(int reach)\n{\n  int lost;\n  return reach;\n}\n";

fn bed() -> Bed {
    let bed = Bed::new(LOOM);
    bed.write("src/lamp.c", SOURCE);
    bed
}

/// The recorded places of completion in a project of their own.
fn places() -> Bed {
    let bed = completion_bed();
    bed.write("hand.loom", ROOT);
    let places = serde_json::to_string(&completions()).unwrap();
    bed.write("places.json", &places);
    bed
}

/// Whether the editor is there; where all are required one that is not is a failure later on.
fn has(program: &str) -> bool {
    let is_there = Command::new(program).arg("--version").output().is_ok();
    is_there || std::env::var_os("HANDLOOM_EDITORS").is_some()
}

/// What the editor said line by line.
#[track_caller]
fn said(bed: &Bed, output: &Output) -> Vec<String> {
    let err = String::from_utf8_lossy(&output.stderr);
    let out = String::from_utf8_lossy(&output.stdout);
    assert!(
        output.status.success() && bed.exists("said"),
        "{err}\n{out}"
    );
    bed.read("said").lines().map(str::to_owned).collect()
}

#[test]
fn neovim_sees_mistakes_and_builds() {
    if !has("nvim") {
        return;
    }
    let bed = bed();
    let places = places();
    let drive = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/editors/neovim.lua");
    let output = Command::new("nvim")
        .current_dir(bed.root())
        .env("HOME", bed.path("../home"))
        .env_remove("XDG_CONFIG_HOME")
        .args(["--headless", "-u", "NONE", "-i", "NONE", "-n"])
        .args([
            "--cmd",
            &format!("set runtimepath^={PLUGINS}/nvim,{PLUGINS}/vim"),
        ])
        .args([
            "--cmd",
            &format!(
                "let g:handloom_program = '{}'",
                env!("CARGO_BIN_EXE_handloom")
            ),
        ])
        .args([
            "--cmd",
            "filetype plugin indent on",
            "--cmd",
            "runtime plugin/handloom.lua",
        ])
        .args(["-c", &format!("luafile {drive}")])
        .env("HANDLOOM_PLACES", places.root())
        .output()
        .unwrap();
    assert_eq!(
        said(&bed, &output),
        [
            "filetype handloom # %s",
            "mistake 2 23 unknown-variable there is no variable `lmap` here",
            "definition 0 4",
            "references 2",
            "offered lamp",
            "fix write `lamp`",
            "fixed   recipe: echo @{lamp} @{lamp} > out",
            "renamed let light = red /   recipe: echo @{light} @{light} > out",
            "told variable `light`, used once",
            "laid out   recipe: echo @{light} > out",
            "lenses weave,why,weave,why,run …,run",
            "typed |target x|  needs a|  recipe:|    echo a|    echo b",
            "built red",
            "choices run show  Shows a file,run show src/lamp.c  Shows a file,run slow,weave out,why out,watch out,\
             weave lamp.o,why lamp.o,watch lamp.o",
            "shown 5",
            "said of the source 2 6 -Wunused-variable unused variable ‘lost’",
            "listed 1",
            "stopped handloom run slow: 1 stopped",
            &format!("places {}", completions().len()),
        ]
    );
}

/// Emacs finds its client in a package of Debian's where it does not have one.
fn client_of_emacs() -> Vec<String> {
    let packages = std::fs::read_dir("/usr/share/emacs/site-lisp/elpa");
    let packages = packages.into_iter().flatten().flatten();
    let folders = packages.map(|entry| entry.path().to_str().unwrap().to_owned());
    folders
        .flat_map(|folder| ["-L".to_owned(), folder])
        .collect()
}

fn has_client() -> bool {
    let mut emacs = Command::new("emacs");
    emacs.args(["--batch", "-Q"]).args(client_of_emacs());
    let loaded = emacs.args(["--eval", "(require 'eglot)"]).output();
    loaded.is_ok_and(|output| output.status.success())
}

#[test]
fn emacs_sees_mistakes_and_builds() {
    if !has("emacs") || !has_client() && std::env::var_os("HANDLOOM_EDITORS").is_none() {
        return;
    }
    let bed = bed();
    let places = places();
    let drive = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/editors/emacs.el");
    let output = Command::new("emacs")
        .current_dir(bed.root())
        .env("HOME", bed.path("../home"))
        .env_remove("XDG_CONFIG_HOME")
        .env("HANDLOOM_PROGRAM", env!("CARGO_BIN_EXE_handloom"))
        .env("HANDLOOM_PLACES", places.root())
        .args(["--batch", "-Q", "-L", &format!("{PLUGINS}/emacs")])
        .args(client_of_emacs())
        .args(["-l", drive])
        .output()
        .unwrap();
    assert_eq!(
        said(&bed, &output),
        [
            "mode handloom-mode # ",
            "mistake 3 handloom [unknown-variable]: there is no variable `lmap` here",
            "definition 1 4",
            "references 2",
            "offered (lamp)",
            "fix write `lamp`",
            "fixed   recipe: echo @{lamp} @{lamp} > out",
            "renamed let light = red /   recipe: echo @{light} @{light} > out",
            "told variable `light`, used once",
            "laid out   recipe: echo @{light} > out",
            "typed target x|  needs a|  recipe:|    echo a|    echo b",
            "colour font-lock-keyword-face",
            "built red",
            "choices run show  Shows a file,run show src/lamp.c  Shows a file,run slow,weave out,why out,watch out,\
             weave lamp.o,why lamp.o,watch lamp.o",
            "shown 5",
            "to jump to src/lamp.c 3",
            "stopped yes",
            &format!("places {}", completions().len()),
        ]
    );
}
