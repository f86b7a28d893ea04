//! What a first script says, in each language that is known.

use std::fmt::Write;

/// What a script is for, by the first step that needs it.
#[derive(Clone, Debug)]
pub struct ScriptFacts {
    /// The help of what is described.
    pub about: Option<String>,
    /// The task's name, when it is one.
    pub task: Option<String>,
    /// What the step makes.
    pub outputs: Vec<LabelledFiles>,
    /// What it needs, the script among it.
    pub needs: Vec<LabelledFiles>,
    /// So many steps need it.
    pub uses: usize,
}

/// Files with their label.
#[derive(Clone, Debug)]
pub struct LabelledFiles {
    /// The label, where there is one.
    pub name: Option<String>,
    /// The files.
    pub paths: Vec<String>,
}

/// A language that scripts are sketched in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ScriptLanguage {
    /// Python 3.
    Python,
    /// R.
    R,
    /// The shell.
    Shell,
    /// awk.
    Awk,
}

const ENDINGS: [(&str, ScriptLanguage); 5] = [
    (".py", ScriptLanguage::Python),
    (".R", ScriptLanguage::R),
    (".r", ScriptLanguage::R),
    (".sh", ScriptLanguage::Shell),
    (".awk", ScriptLanguage::Awk),
];

/// A list that the script takes from the job's facts: its variable, the key that it stands under, and an example.
struct List {
    variable: String,
    key: String,
    /// Whether it stands among the groups with labels, and which.
    group: Option<&'static str>,
    example: String,
}

impl ScriptFacts {
    /// What needs it.
    pub fn used_by(&self) -> String {
        let first = match &self.task {
            Some(task) => format!("the task `{task}`"),
            None => format!("`{}`", self.first_output()),
        };
        match self.uses {
            0 | 1 => first,
            2 => format!("{first} and another"),
            uses => format!("{first} and {} others", uses - 1),
        }
    }

    fn first_output(&self) -> &str {
        let first = self.outputs.first().and_then(|label| label.paths.first());
        first.map_or("", String::as_str)
    }

    /// How the script is run, for who runs it alone.
    fn command(&self) -> String {
        match &self.task {
            Some(task) => format!("handloom run {task}"),
            None => format!("handloom {}", self.first_output()),
        }
    }

    fn lists(&self, script: &str) -> Vec<List> {
        let mut lists: Vec<List> = Vec::new();
        let of = [
            (&self.outputs, "targets", "target_groups"),
            (&self.needs, "needs", "need_groups"),
        ];
        for (labels, whole, groups) in of {
            for label in labels {
                let mut paths = label.paths.iter().filter(|path| *path != script);
                let Some(first) = paths.next() else {
                    continue;
                };
                let more = if paths.next().is_some() { " …" } else { "" };
                let name = label.name.as_deref().unwrap_or(whole);
                let variable: String = name
                    .chars()
                    .map(|c| if c.is_ascii_alphanumeric() { c } else { '_' })
                    .collect();
                if lists.iter().any(|list| list.variable == variable) {
                    continue;
                }
                lists.push(List {
                    variable,
                    key: name.to_owned(),
                    group: label.name.is_some().then_some(groups),
                    example: format!("{first}{more}").replace(['\n', '\r'], " "),
                });
            }
        }
        lists
    }

    fn title(&self) -> String {
        let made = || match &self.task {
            Some(task) => format!("Does what the task {task} is for"),
            None => format!("Makes {}", self.first_output()),
        };
        let title = self.about.clone().unwrap_or_else(made);
        title.replace(['\n', '\r', '\\', '"'], " ")
    }

    /// What is to be filled in.
    fn wanted(&self) -> String {
        match &self.task {
            Some(task) => format!("fill in what the task {task} does"),
            None => "fill in how this is made:".to_owned(),
        }
    }
}

impl ScriptLanguage {
    /// That of a file's ending.
    pub fn of(path: &str) -> Option<Self> {
        let found = ENDINGS.iter().find(|(ending, _)| path.ends_with(ending));
        found.map(|(_, language)| *language)
    }

    /// All endings, as they are told.
    pub fn endings() -> String {
        let all: Vec<String> = ENDINGS
            .iter()
            .map(|(ending, _)| format!("`{ending}`"))
            .collect();
        all.join(", ")
    }

    /// The script.
    pub fn sketch(self, path: &str, facts: &ScriptFacts) -> String {
        let lists = facts.lists(path);
        let name = path.replace(['\n', '\r', '\\', '"', '{', '}', '%', '$', '`'], "_");
        match self {
            Self::Python => python(&name, facts, &lists),
            Self::R => r(&name, facts, &lists),
            Self::Shell => shell(&name, facts, &lists),
            Self::Awk => awk(&name, facts, &lists),
        }
    }
}

/// Lines with their examples as comments, below each other.
fn with_examples(lines: &[(String, &List)]) -> String {
    let width = lines
        .iter()
        .map(|(line, _)| line.chars().count())
        .max()
        .unwrap_or(0);
    let mut out = String::new();
    for (line, list) in lines {
        let _ = writeln!(out, "{line:width$}  # {}", list.example);
    }
    if !out.is_empty() {
        out.push('\n');
    }
    out
}

fn python(name: &str, facts: &ScriptFacts, lists: &[List]) -> String {
    let lines: Vec<(String, &List)> = lists
        .iter()
        .map(|list| {
            let key = match list.group {
                Some(group) => format!("job[\"{group}\"][\"{}\"]", list.key),
                None => format!("job[\"{}\"]", list.key),
            };
            (format!("{} = {key}", list.variable), list)
        })
        .collect();
    let targets = match facts.task {
        Some(_) => String::new(),
        None => " {\" \".join(job[\"targets\"])}".replace('"', "'"),
    };
    format!(
        "#!/usr/bin/env python3
\"\"\"{title}.\"\"\"
import json
import os
import sys

if \"HANDLOOM_JOB\" not in os.environ:
    sys.exit(\"{name}: it is run by `{command}`\")
# What is to be made, and from what, as the description has it.
with open(os.environ[\"HANDLOOM_JOB\"], encoding=\"utf-8\") as file:
    job = json.load(file)

{lists}sys.exit(f\"{name}: {wanted}{targets}\")
",
        title = facts.title().trim_end_matches('.'),
        command = plain(&facts.command()),
        lists = with_examples(&lines),
        wanted = facts.wanted(),
    )
}

/// A command for a message in any language: without what would end its quotes.
fn plain(text: &str) -> String {
    text.replace(['"', '\\', '\n', '\r', '$', '`', '{', '}', '%', '\''], "_")
}

fn r(name: &str, facts: &ScriptFacts, lists: &[List]) -> String {
    let lines: Vec<(String, &List)> = lists
        .iter()
        .map(|list| {
            (
                format!("{} <- words(\"{}\")", list.variable, list.key),
                list,
            )
        })
        .collect();
    let targets = match facts.task {
        Some(_) => "",
        None => ", paste(words(\"targets\"), collapse = \" \")",
    };
    format!(
        "#!/usr/bin/env Rscript
# {title}

if (Sys.getenv(\"HANDLOOM_JOB\") == \"\") stop(\"{name}: it is run by `{command}`\")
# What is to be made, and from what, as the description has it: a list of words in a file of JSON.
job <- paste(readLines(Sys.getenv(\"HANDLOOM_JOB\"), warn = FALSE), collapse = \"\\n\")
words <- function(name) {{
  begin <- regexpr(paste0('\"', name, '\":['), job, fixed = TRUE)
  if (begin < 0) return(character())
  rest <- substring(job, begin + nchar(name) + 4)
  rest <- regmatches(rest, regexpr('^(\"([^\"\\\\\\\\]|\\\\\\\\.)*\",?)*', rest, perl = TRUE))
  all <- regmatches(rest, gregexpr('\"([^\"\\\\\\\\]|\\\\\\\\.)*\"', rest, perl = TRUE))[[1]]
  gsub('\\\\\\\\([\"\\\\\\\\/])', '\\\\1', substring(all, 2, nchar(all) - 1), perl = TRUE)
}}

{lists}message(\"{name}: {wanted} \"{targets})
quit(status = 1)
",
        title = facts.title(),
        command = plain(&facts.command()),
        lists = with_examples(&lines),
        wanted = facts.wanted(),
    )
}

/// Prints the words of a list of the job's facts, one a line. JSON's escapes stay as they are, but for `\"`.
const WORDS: &str = r#"# What is to be made, and from what, as the description has it: a list of words, one a line.
words() {
  awk -v name="$1" '
    { job = job $0 "\n" }
    END {
      begin = index(job, "\"" name "\":[")
      if (!begin) exit
      job = substr(job, begin + length(name) + 4)
      while (match(job, /^,?"([^"\\]|\\.)*"/)) {
        word = substr(job, RSTART, RLENGTH)
        job = substr(job, RSTART + RLENGTH)
        sub(/^,?"/, "", word)
        sub(/"$/, "", word)
        gsub(/\\"/, "\"", word)
        print word
      }
    }' "$HANDLOOM_JOB"
}
"#;

fn shell(name: &str, facts: &ScriptFacts, lists: &[List]) -> String {
    let lines: Vec<(String, &List)> = lists
        .iter()
        .map(|list| (format!("{}=$(words '{}')", list.variable, list.key), list))
        .collect();
    let targets = if facts.task.is_some() {
        ""
    } else {
        " $(words targets)"
    };
    format!(
        "#!/bin/sh
# {title}
set -eu

if [ -z \"${{HANDLOOM_JOB:-}}\" ]; then
  echo \"{name}: it is run by: {command}\" >&2
  exit 1
fi
{WORDS}
{lists}echo \"{name}: {wanted}\"{targets} >&2
exit 1
",
        title = facts.title(),
        command = plain(&facts.command()),
        lists = with_examples(&lines),
        wanted = facts.wanted(),
    )
}

fn awk(name: &str, facts: &ScriptFacts, lists: &[List]) -> String {
    let lines: Vec<(String, &List)> = lists
        .iter()
        .map(|list| {
            (
                format!("  words(\"{}\", {})", list.key, list.variable),
                list,
            )
        })
        .collect();
    let targets = if facts.task.is_some() { "" } else { " all" };
    let all = match facts.task {
        Some(_) => "",
        None => {
            "  count = words(\"targets\", made)\n  for (at = 1; at <= count; at++) all = all \" \" made[at]\n"
        }
    };
    format!(
        "#!/usr/bin/awk -f
# {title}

# What is to be made, and from what, as the description has it: a list of words, as an array from 1; how many.
function words(name, list,    job, line, begin, word, count) {{
  while ((getline line < ENVIRON[\"HANDLOOM_JOB\"]) > 0) job = job line \"\\n\"
  close(ENVIRON[\"HANDLOOM_JOB\"])
  begin = index(job, \"\\\"\" name \"\\\":[\")
  if (!begin) return 0
  job = substr(job, begin + length(name) + 4)
  while (match(job, /^,?\"([^\"\\\\]|\\\\.)*\"/)) {{
    word = substr(job, RSTART, RLENGTH)
    job = substr(job, RSTART + RLENGTH)
    sub(/^,?\"/, \"\", word)
    sub(/\"$/, \"\", word)
    list[++count] = word
  }}
  return count
}}

BEGIN {{
  if (ENVIRON[\"HANDLOOM_JOB\"] == \"\") {{
    print \"{name}: it is run by: {command}\" > \"/dev/stderr\"
    exit 1
  }}
{lists}{all}  print \"{name}: {wanted}\"{targets} > \"/dev/stderr\"
  exit 1
}}
",
        title = facts.title(),
        command = plain(&facts.command()),
        lists = with_examples(&lines),
        wanted = facts.wanted(),
    )
}
