//! An example or more for each command, shown at the end of its help.

use clap::CommandFactory;

use crate::arguments::Arguments;

/// A command's name, what to type, and what that does.
const EXAMPLES: [(&str, &[(&str, &str)]); 25] = [
    (
        "weave",
        &[
            ("handloom", "build the default targets"),
            ("handloom out/almanac.html check", "one file and a task"),
            (
                "handloom weave --let mode=debug -j 4",
                "with another value of a variable, four jobs at once",
            ),
        ],
    ),
    (
        "run",
        &[
            (
                "handloom run publish spring channel=final",
                "a task with values",
            ),
            (
                "handloom run start -- --verbose",
                "words behind `--` are the task's own",
            ),
        ],
    ),
    (
        "list",
        &[
            ("handloom list", "what can be built and run"),
            (
                "handloom list --reads out/almanac.html",
                "what a step read when it last ran",
            ),
        ],
    ),
    (
        "preview",
        &[(
            "handloom preview",
            "what a build would run, and the first reason for each",
        )],
    ),
    (
        "why",
        &[
            (
                "handloom why out/almanac.html",
                "every reason, with the way to the source that caused it",
            ),
            (
                "handloom why out/almanac.html --last",
                "why it ran the last time",
            ),
        ],
    ),
    (
        "graph",
        &[
            ("handloom graph", "as text, on the terminal"),
            (
                "handloom graph out/almanac.html --to project.svg",
                "what leads to one file, as a picture",
            ),
        ],
    ),
    (
        "history",
        &[
            ("handloom history", "the last runs"),
            (
                "handloom history out/almanac.html",
                "how long one step took in each",
            ),
        ],
    ),
    (
        "findings",
        &[
            (
                "handloom findings src",
                "what was said of the sources in a folder",
            ),
            (
                "handloom findings --new --to new.sarif",
                "what came with the last run, for a build server",
            ),
        ],
    ),
    (
        "lineage",
        &[
            (
                "handloom lineage out/almanac.html",
                "the way back to its sources",
            ),
            (
                "handloom lineage out/almanac.html --again proof",
                "made anew in an empty folder, and compared",
            ),
            (
                "handloom lineage out/almanac.html --to almanac-crate",
                "a Process Run Crate with the files, for others",
            ),
        ],
    ),
    (
        "log",
        &[
            ("handloom log check", "what it printed last"),
            (
                "handloom log check --follow",
                "what it prints, from another terminal",
            ),
        ],
    ),
    (
        "report",
        &[
            ("handloom report", "the last run"),
            (
                "handloom report --to run.html",
                "as a page with a time line",
            ),
        ],
    ),
    (
        "export",
        &[
            (
                "handloom export script --to make-almanac.sh",
                "a script that makes all of it without Hand Loom",
            ),
            (
                "handloom export compile-commands",
                "compile_commands.json, for tools that read sources",
            ),
        ],
    ),
    (
        "watch",
        &[
            ("handloom watch", "rebuild whenever something is saved"),
            (
                "handloom watch check",
                "run the tests whenever something is saved",
            ),
        ],
    ),
    (
        "accept",
        &[(
            "handloom accept out/model.bin",
            "it is not rebuilt because of what was edited until now",
        )],
    ),
    (
        "clean",
        &[
            ("handloom clean --preview", "what would be deleted"),
            ("handloom clean out/figures", "only what was built there"),
        ],
    ),
    (
        "store",
        &[(
            "handloom store --trim",
            "down to the size that the settings allow",
        )],
    ),
    (
        "new",
        &[
            (
                "handloom new",
                "in the folder of a project that has no hand.loom yet",
            ),
            ("handloom new --show", "only print what could be described"),
        ],
    ),
    (
        "sketch",
        &[(
            "handloom sketch tools/plot.py",
            "a script that reads what it is to make from what",
        )],
    ),
    (
        "tidy",
        &[
            ("handloom tidy", "lay out hand.loom"),
            (
                "handloom tidy --mend",
                "write what is likely meant in place of misspelt names",
            ),
            (
                "handloom tidy --check",
                "only say whether it is laid out, for a build server",
            ),
        ],
    ),
    (
        "settings",
        &[(
            "handloom settings --let mode=debug",
            "what each variable is then, and why",
        )],
    ),
    (
        "demo",
        &[
            (
                "handloom demo",
                "a C program, the logs of a year, and a page",
            ),
            (
                "handloom demo --example fog",
                "a study: samples, a sweep, figures, a text",
            ),
        ],
    ),
    (
        "language-server",
        &[(
            "handloom language-server",
            "begun by an editor, which talks to it (docs/editors.md)",
        )],
    ),
    (
        "completions",
        &[("source <(handloom completions bash)", "in ~/.bashrc")],
    ),
    (
        "manual",
        &[(
            "handloom manual ~/.local/share/man/man1",
            "then `man handloom` shows them",
        )],
    ),
    (
        "handloom",
        &[
            ("handloom", "build what has a reason to be rebuilt"),
            ("handloom new", "describe the project in this folder"),
            ("handloom list", "what can be built and run here"),
            ("handloom why FILE", "why a file would be rebuilt"),
        ],
    ),
];

/// The command line with all of its help.
#[must_use]
pub fn definition() -> clap::Command {
    let mut command = Arguments::command();
    for (name, examples) in EXAMPLES {
        let text = shown(examples);
        command = match name == command.get_name() {
            true => command.after_help(text),
            false => command.mut_subcommand(name, |command| command.after_help(text)),
        };
    }
    command
}

fn shown(examples: &[(&str, &str)]) -> String {
    let width = examples.iter().map(|(typed, _)| typed.len()).max();
    let width = width.unwrap_or(0);
    let title = if examples.len() == 1 {
        "Example"
    } else {
        "Examples"
    };
    let lines = examples
        .iter()
        .map(|(typed, what)| format!("\n  {typed:width$}  {what}"));
    // Bold and underlined, as the other titles are; no colours where none are wanted.
    format!(
        "\u{1b}[1m\u{1b}[4m{title}:\u{1b}[0m{}",
        lines.collect::<String>()
    )
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;
    use crate::command_line::parse;

    /// Each can be typed, and does what its command does.
    #[test]
    fn every_command_has_an_example_that_can_be_typed() {
        let names: Vec<&str> = EXAMPLES.iter().map(|(name, _)| *name).collect();
        for command in Arguments::command().get_subcommands() {
            assert!(
                names.contains(&command.get_name()),
                "{}",
                command.get_name()
            );
        }
        for (name, examples) in EXAMPLES {
            assert!(!examples.is_empty(), "{name}");
            for (typed, _) in examples {
                let typed = typed.trim_start_matches("source <(").trim_end_matches(')');
                let words = typed.split(' ').map(Into::into).collect();
                let parsed = parse(words).unwrap_or_else(|error| panic!("{typed}: {error}"));
                let command = format!("{:?}", parsed.command).to_lowercase();
                assert!(
                    name == "handloom" || command.starts_with(&name.replace('-', "")),
                    "{typed}: {command}"
                );
            }
        }
        assert!(Arguments::try_parse_from(["handloom", "weave"]).is_ok());
    }
}
