//! Texts with figures, and notebooks.

use std::collections::BTreeSet;
use std::fmt::Write;
use std::process::Command;
use std::process::Stdio;

use super::section::Names;
use super::section::Section;
use super::section::clause;
use super::section::group;
use super::section::raw;
use super::section::word;
use super::survey::Survey;
use super::survey::from;
use super::survey::is_installed;
use super::survey::stem_of;
use crate::ui::text;
use handloom_core::project::shell::quote;
use handloom_core::world::names::folder_of;

/// Texts that lie in most projects and are no documents of their own.
const ABOUT_THE_PROJECT: [&str; 9] = [
    "README",
    "CHANGELOG",
    "CONTRIBUTING",
    "LICENSE",
    "SECURITY",
    "AUTHORS",
    "NEWS",
    "TODO",
    "HISTORY",
];

/// Endings of figures, for those that a text names without one.
const FIGURES: [&str; 6] = ["", ".pdf", ".png", ".jpg", ".jpeg", ".eps"];

/// A text, and the files that it shows.
struct Document {
    path: String,
    /// From the project's folder.
    figures: BTreeSet<String>,
    /// Files that it takes in, bibliographies among them.
    parts: BTreeSet<String>,
    /// Whether it also shows what is not on this machine.
    is_remote: bool,
}

/// Markdown and LaTeX texts.
pub fn describe(survey: &Survey, names: &mut Names) -> Option<Section> {
    let markdown: Vec<Document> = survey
        .ending(".md")
        .filter(|path| !ABOUT_THE_PROJECT.contains(&stem_of(path).to_uppercase().as_str()))
        .map(|path| markdown(survey, path))
        .filter(|document| !document.figures.is_empty())
        .collect();
    let latex: Vec<Document> = survey
        .ending(".tex")
        .filter(|path| survey.text(path).contains("\\documentclass"))
        .map(|path| latex(survey, path))
        .collect();
    if markdown.is_empty() && latex.is_empty() {
        return None;
    }
    let counted = |count: usize, kind: &str| (count > 0).then(|| text::count(count, kind));
    let told = [
        counted(markdown.len(), "Markdown text"),
        counted(latex.len(), "LaTeX text"),
    ];
    let mut section = Section {
        told: told.into_iter().flatten().collect::<Vec<_>>().join(" and "),
        ..Section::default()
    };
    let mut present = BTreeSet::new();
    for document in markdown.iter().chain(&latex) {
        for figure in &document.figures {
            if survey.has(figure) || names.is_taken(figure) {
                present.insert(figure.clone());
            } else {
                let left = format!(
                    "`{figure}`: `{}` shows it, and it is not there",
                    document.path
                );
                section.left.push(left);
            }
        }
    }
    let figures_of =
        |document: &Document| document.figures.intersection(&present).cloned().collect();
    let embeds = embedding();
    for document in &markdown {
        page(
            document,
            &figures_of(document),
            embeds,
            (names, &mut section),
        );
    }
    for document in &latex {
        paper(
            survey,
            document,
            &figures_of(document),
            (names, &mut section),
        );
    }
    let documents: Vec<&Document> = markdown.iter().chain(&latex).collect();
    tasks(&documents, &present, names, &mut section);
    for document in markdown.iter().chain(&latex) {
        section.covers.push(document.path.clone());
        section.covers.extend(document.parts.iter().cloned());
    }
    Some(section)
}

/// A word of a recipe's shell, as it stands.
pub fn quoted(text: &str) -> String {
    raw(&quote(text))
}

/// How the converter of Markdown is told to put figures into the page; none where it is not on this machine.
fn embedding() -> Option<&'static str> {
    let output = Command::new("pandoc")
        .arg("--version")
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .output()
        .ok()?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let version = text.lines().next()?.split_whitespace().nth(1)?;
    let mut parts = version
        .split('.')
        .map(|part| part.parse::<u32>().unwrap_or(0));
    let version = (parts.next().unwrap_or(0), parts.next().unwrap_or(0));
    Some(if version >= (2, 19) {
        "--embed-resources"
    } else {
        "--self-contained"
    })
}

/// What stands between two marks behind each place of a text that begins so.
fn between<'t>(
    text: &'t str,
    begin: &'t str,
    open: char,
    close: char,
) -> impl Iterator<Item = &'t str> {
    text.split(begin).skip(1).filter_map(move |rest| {
        let rest = rest.split_once(open)?.1;
        Some(rest.split_once(close)?.0.trim())
    })
}

fn inside(survey: &Survey, home: &str, path: &str, endings: &[&str]) -> Option<String> {
    let places: Vec<String> = [from(home, path), from("", path)]
        .into_iter()
        .flatten()
        .collect();
    let mut found = places
        .iter()
        .flat_map(|place| endings.iter().map(move |ending| format!("{place}{ending}")));
    found.find(|path| survey.has(path))
}

fn markdown(survey: &Survey, path: &str) -> Document {
    let text = survey.text(path);
    let targets = between(&text, "![", '(', ')').map(|target| match target.strip_prefix('<') {
        Some(quoted) => quoted.split('>').next().unwrap_or(""),
        None => target.split_whitespace().next().unwrap_or(""),
    });
    let named = targets.chain(between(&text, "<img", '"', '"'));
    let named: Vec<String> = named.map(|name| name.replace("%20", " ")).collect();
    let is_remote = named.iter().any(|figure| figure.contains("://"));
    let is_elsewhere = |name: &str| {
        name.contains("://") || name.starts_with(['/', '#']) || name.starts_with("data:")
    };
    let figures = named
        .iter()
        .filter(|figure| !figure.is_empty() && !is_elsewhere(figure))
        .filter_map(|figure| {
            let found = inside(survey, folder_of(path), figure, &[""]);
            found.or_else(|| from(folder_of(path), figure))
        });
    let bibliographies = text
        .lines()
        .filter_map(|line| line.trim().strip_prefix("bibliography:"));
    let parts = bibliographies.filter_map(|name| {
        inside(
            survey,
            folder_of(path),
            name.trim().trim_matches('"'),
            &[""],
        )
    });
    Document {
        path: path.to_owned(),
        figures: figures.collect(),
        parts: parts.collect(),
        is_remote,
    }
}

fn latex(survey: &Survey, path: &str) -> Document {
    let mut document = Document {
        path: path.to_owned(),
        figures: BTreeSet::new(),
        parts: BTreeSet::new(),
        is_remote: false,
    };
    let mut waiting = vec![path.to_owned()];
    while let Some(file) = waiting.pop() {
        let text: String = survey
            .text(&file)
            .lines()
            .map(|line| line.split('%').next().unwrap_or("").to_owned() + "\n")
            .collect();
        let home = folder_of(path);
        for command in ["\\input", "\\include"] {
            for name in between(&text, command, '{', '}') {
                let part = inside(survey, home, name, &["", ".tex"]);
                if let Some(part) = part.filter(|part| document.parts.insert(part.clone())) {
                    waiting.push(part);
                }
            }
        }
        for name in between(&text, "\\includegraphics", '{', '}') {
            let found = inside(survey, home, name, &FIGURES);
            document.figures.extend(found);
        }
        for command in ["\\bibliography{", "\\addbibresource{"] {
            let lists = text
                .split(command)
                .skip(1)
                .filter_map(|rest| rest.split('}').next());
            for name in lists.flat_map(|list| list.split(',')) {
                document
                    .parts
                    .extend(inside(survey, home, name.trim(), &["", ".bib"]));
            }
        }
    }
    document
}

/// What a document's page is made from.
fn needs(document: &Document, figures: &BTreeSet<String>) -> String {
    let all = |paths: &BTreeSet<String>| paths.iter().map(|path| word(path)).collect::<Vec<_>>();
    format!(
        "  needs\n    text: {}\n{}{}",
        word(&document.path),
        group("parts", &all(&document.parts)),
        group("figures", &all(figures))
    )
}

/// Begins a target; whether its name was free.
fn begin(output: &str, lacks: Option<String>, names: &mut Names, section: &mut Section) -> bool {
    if !names.target(output) {
        section.left.push(format!(
            "`{output}`: something else that is described makes it"
        ));
        return false;
    }
    section.body.push('\n');
    if let Some(lacks) = lacks {
        section.holds_back = true;
        let _ = writeln!(
            section.body,
            "# Not made by `handloom` alone: {}.",
            lacks.escape_debug()
        );
        if !lacks.contains(" shows a figure") {
            section
                .missing
                .push(format!("{lacks}; `{output}` needs it"));
        }
    } else {
        section.default.push(word(output));
    }
    let _ = writeln!(section.body, "target {}", word(output));
    true
}

fn page(
    document: &Document,
    figures: &BTreeSet<String>,
    embeds: Option<&str>,
    (names, section): (&mut Names, &mut Section),
) {
    let output = format!("out/{}.html", stem_of(&document.path));
    let lacks = if figures.len() < document.figures.len() {
        Some(format!(
            "`{}` shows a figure that is not there",
            document.path
        ))
    } else if document.is_remote {
        Some(format!(
            "`{}` shows a figure from the network",
            document.path
        ))
    } else {
        embeds
            .is_none()
            .then(|| "`pandoc` is not on this machine".to_owned())
    };
    if !begin(&output, lacks, names, section) {
        return;
    }
    let folder = match folder_of(&document.path).trim_end_matches('/') {
        "" => ".",
        folder => folder,
    };
    let _ = write!(
        section.body,
        "  about: The text as a page with its figures
{}  recipe: pandoc --standalone {} --resource-path={} --metadata pagetitle={} @{{text}} -o @{{target}}
",
        needs(document, figures),
        embeds.unwrap_or("--embed-resources"),
        quoted(folder),
        quoted(stem_of(&document.path)),
    );
}

fn paper(
    survey: &Survey,
    document: &Document,
    figures: &BTreeSet<String>,
    (names, section): (&mut Names, &mut Section),
) {
    let output = format!("out/{}.pdf", stem_of(&document.path));
    let lacks = (!is_installed("pdflatex")).then(|| "`pdflatex` is not on this machine".to_owned());
    if !begin(&output, lacks, names, section) {
        return;
    }
    let stem = quoted(stem_of(&document.path));
    let call =
        "pdflatex -interaction=nonstopmode -halt-on-error -output-directory=\"$build\" @{text}";
    let home = folder_of(&document.path).trim_end_matches('/');
    let texts: String = survey.text(&document.path);
    let bibliography = match texts.contains("\\bibliography{") {
        true => {
            format!("    (export BIBINPUTS=\"$PWD:\"; cd \"$build\"; bibtex {stem})\n    {call}\n")
        }
        false => String::new(),
    };
    let folder = match home {
        "" => String::new(),
        home => format!("  in {}\n", word(home)),
    };
    let _ = write!(
        section.body,
        "  about: The text with its figures
{}{folder}  # Twice, since its references are known after the first time.
  recipe:
    build=$(mktemp -d)
    trap 'rm -rf \"$build\"' EXIT
    {call}
{bibliography}    {call}
    mv \"$build\"/{stem}.pdf @{{target}}
",
        needs(document, figures)
    );
}

/// What can be asked of the texts without any program of their own.
fn tasks(
    documents: &[&Document],
    present: &BTreeSet<String>,
    names: &mut Names,
    section: &mut Section,
) {
    let figures: BTreeSet<&String> = documents
        .iter()
        .flat_map(|document| &document.figures)
        .collect();
    if !figures.is_empty() {
        let task = names.task("check-figures", "texts");
        let made: Vec<String> = present.iter().map(|path| word(path)).collect();
        let needs = if made.is_empty() {
            String::new()
        } else {
            clause("needs", &made)
        };
        let looks: Vec<String> = figures.iter().map(|figure| quoted(figure)).collect();
        let _ = write!(
            section.body,
            "
task {task}
  about: See that each figure of the texts is there
{needs}  recipe:
    for figure in {}; do
      test -e \"$figure\" || {{ echo \"a text shows $figure, which is not there\"; exit 1; }}
    done
",
            looks.join(" ")
        );
    }
    let task = names.task("words", "texts");
    let texts: Vec<String> = documents
        .iter()
        .map(|document| word(&document.path))
        .collect();
    let _ = write!(
        section.body,
        "
task {task}
  about: How many words the texts have
{}  recipe: wc -w @{{needs}}
",
        clause("needs", &texts)
    );
    if section.default.is_empty() {
        section.default.push(task);
        section.holds_back = true;
    }
}

/// The code of notebooks as text, so that it can be compared and searched.
pub fn notebooks(survey: &Survey, names: &mut Names) -> Option<Section> {
    let all: Vec<&str> = survey.ending(".ipynb").collect();
    let rendered = [".Rmd", ".qmd"]
        .into_iter()
        .flat_map(|ending| survey.ending(ending));
    let mut section = Section::default();
    for path in rendered {
        section.left.push(format!("`{path}`: what renders it is not known here; describe it as a target with its own program"));
    }
    if !all.is_empty() {
        section.told = text::count(all.len(), "notebook");
        section.covers = all.iter().map(|path| (*path).to_owned()).collect();
        section
            .lets
            .push(("python", "let python = python3\n".to_owned()));
        names.target("out/notebooks");
        let has_python = is_installed("python3");
        section.holds_back = !has_python;
        if has_python {
            section.default.push("out/notebooks/**".to_owned());
        } else {
            section
                .missing
                .push("`python3` is not on this machine; the notebooks' texts need it".to_owned());
        }
        section.body.push_str(NOTEBOOKS);
    }
    (!section.body.is_empty() || !section.left.is_empty()).then_some(section)
}

/// nbformat 4: cells with a kind and their source, as a text or as a list of lines.
const NOTEBOOKS: &str = "
# What a notebook says, without what it printed.
target out/notebooks/<path**>.py
  about: A notebook as text
  needs each <path**>.ipynb
  recipe with @{python}:
    import json
    with open(@{needs}[0], encoding='utf-8') as file:
        cells = json.load(file)['cells']
    with open(@{target}, 'w', encoding='utf-8') as out:
        for cell in cells:
            text = ''.join(cell['source'])
            if cell['cell_type'] == 'code':
                out.write('# %%\\n' + text + '\\n\\n')
            else:
                lines = ['# ' + line for line in text.splitlines()]
                out.write('# %% [' + cell['cell_type'] + ']\\n' + '\\n'.join(lines) + '\\n\\n')
";
