//! All description files of a project: read, parsed, and put into parts.
//!
//! A *part* is a folder with a `hand.loom` of its own that another one includes; the project's root
//! is the first part. A `.loom` file that is included belongs to the part that includes it, at the
//! place of the `include`.

use std::collections::HashSet;

use crate::language::ClauseKind;
use crate::language::File;
use crate::language::TopItem;
use crate::language::Word;
use crate::language::WordKind;
use crate::language::parse;
use crate::project::paths::from_root;
use crate::text::Diagnostic;
use crate::text::Sources;
use crate::text::Span;
use crate::text::mistakes;
use crate::world::Disk;

/// The name of a description file.
pub const FILE_NAME: &str = "hand.loom";

/// A description is at most so large, bytes: spans count in 32 bits.
const MAX_SIZE: u64 = 1 << 30;

/// Descriptions included deeper than this are refused.
const MAX_DEPTH: usize = 10_000;

/// Which part of a project.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct PartId(pub u32);

impl PartId {
    /// The project's own description.
    pub const ROOT: Self = Self(0);

    /// The number as an index.
    #[must_use]
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// A folder with its description.
#[derive(Debug)]
pub struct Part {
    /// Its folder from the root: empty, or ending with a slash.
    pub folder: String,
    /// The part that includes it; none for the root.
    pub parent: Option<PartId>,
    /// What it says, included files put in.
    pub items: Vec<TopItem>,
    /// The lines of each.
    pub extents: Vec<Span>,
}

/// Everything that was read.
#[derive(Debug, Default)]
pub struct Description {
    /// The texts.
    pub sources: Sources,
    /// The parts; the root is the first, and each comes behind the part that includes it.
    pub parts: Vec<Part>,
    /// The files that were read, from the root.
    pub files: Vec<String>,
    /// Files that may be missing, and are.
    pub absent: Vec<String>,
    /// Whether something has to be said of it whenever it is read.
    pub is_remarkable: bool,
    /// Whether these are the user's own tasks, which belong to no project.
    pub is_personal: bool,
}

impl Description {
    /// Whether anything in it says `on PLACE`.
    #[must_use]
    pub fn names_places(&self) -> bool {
        let mut items = self.parts.iter().flat_map(|part| &part.items);
        items.any(|item| {
            let clauses = match item {
                TopItem::Target(target) => &target.clauses,
                TopItem::Task(task) => &task.clauses,
                _ => return false,
            };
            let mut clauses = clauses.iter();
            clauses.any(|clause| matches!(clause.kind, ClauseKind::On(_)))
        })
    }

    /// Reads the description at the root of `disk` and all it includes. Mistakes come beside what
    /// was understood.
    pub fn read(disk: &dyn Disk) -> (Self, Vec<Diagnostic>) {
        let mut loader = Loader {
            disk,
            description: Self::default(),
            diagnostics: Vec::new(),
            seen: HashSet::new(),
            open: Vec::new(),
        };
        loader.project();
        (loader.description, loader.diagnostics)
    }
}

/// A file whose items are being put in.
struct Open {
    part: PartId,
    /// The part's folder: paths in an included file are those of the part that includes it.
    folder: String,
    items: std::iter::Zip<std::vec::IntoIter<TopItem>, std::vec::IntoIter<Span>>,
}

struct Loader<'d> {
    disk: &'d dyn Disk,
    description: Description,
    diagnostics: Vec<Diagnostic>,
    seen: HashSet<String>,
    open: Vec<Open>,
}

impl Loader<'_> {
    fn project(&mut self) {
        self.description.parts.push(Part {
            folder: String::new(),
            parent: None,
            items: Vec::new(),
            extents: Vec::new(),
        });
        if let Some(file) = self.file(FILE_NAME, None) {
            self.enter(PartId::ROOT, String::new(), file);
        }
        while let Some(open) = self.open.last_mut() {
            let part = open.part;
            let folder = open.folder.clone();
            match open.items.next() {
                None => {
                    self.open.pop();
                }
                Some((TopItem::Include(include), _)) => {
                    self.include(part, &folder, &include.path, include.if_there);
                }
                Some((TopItem::Language(word), _)) => self.language(&word),
                Some((item, extent)) => {
                    let part = &mut self.description.parts[part.index()];
                    part.items.push(item);
                    part.extents.push(extent);
                }
            }
        }
    }

    fn enter(&mut self, part: PartId, folder: String, file: File) {
        let described = &mut self.description.parts[part.index()];
        let plain = |item: &TopItem| !matches!(item, TopItem::Include(_) | TopItem::Language(_));
        if described.items.is_empty() && file.items.iter().all(plain) {
            // Nothing to put in between: a large description is not copied.
            described.items = file.items;
            described.extents = file.extents;
            return;
        }
        self.open.push(Open {
            part,
            folder,
            items: file.items.into_iter().zip(file.extents),
        });
    }

    fn language(&mut self, word: &Word) {
        let written = self.description.sources.slice(word.span);
        if written != "1" {
            self.diagnostics.push(
                Diagnostic::error(
                    &mistakes::UNKNOWN_LANGUAGE,
                    word.span,
                    format!("language `{written}` is not known"),
                )
                .help("this Hand Loom reads `language 1`; a newer one may be needed"),
            );
        }
    }

    fn include(&mut self, part: PartId, folder: &str, word: &Word, if_there: bool) {
        let written = self.description.sources.slice(word.span);
        let path = match literal(word, written) {
            Some(path) if !path.is_empty() => path,
            _ => {
                self.diagnostics.push(
                    Diagnostic::error(&mistakes::UNFIT_INCLUDE, word.span, "`include` takes a plain path")
                        .help("write the folder or the `.loom` file itself, without variables or patterns"),
                );
                return;
            }
        };
        if self.open.len() > MAX_DEPTH {
            self.diagnostics.push(
                Diagnostic::error(
                    &mistakes::UNFIT_INCLUDE,
                    word.span,
                    format!("includes are nested more than {MAX_DEPTH} deep"),
                )
                .help("include some of them from a file higher up"),
            );
            return;
        }
        let path = from_root(folder, &path);
        if path.starts_with("../") || path.starts_with('/') {
            self.diagnostics.push(
                Diagnostic::error(
                    &mistakes::UNFIT_INCLUDE,
                    word.span,
                    format!("`{path}` lies outside the project"),
                )
                .help("include only what lies below the project's folder"),
            );
            return;
        }
        let is_file = path.ends_with(".loom");
        let plain = path.trim_end_matches('/');
        let file = match is_file {
            true => path.clone(),
            false => format!("{plain}/{FILE_NAME}"),
        };
        if if_there && matches!(self.disk.stat(&file), Ok(None)) {
            self.description.absent.push(file);
            return;
        }
        if is_file {
            if let Some(file) = self.file(&path, Some(word.span)) {
                self.enter(part, folder.to_owned(), file);
            }
            return;
        }
        let folder = format!("{}/", path.trim_end_matches('/'));
        let Some(file) = self.file(&format!("{folder}{FILE_NAME}"), Some(word.span)) else {
            return;
        };
        let id = PartId(u32::try_from(self.description.parts.len()).unwrap_or(u32::MAX));
        self.description.parts.push(Part {
            folder: folder.clone(),
            parent: Some(part),
            items: Vec::new(),
            extents: Vec::new(),
        });
        self.enter(id, folder, file);
    }

    fn file(&mut self, path: &str, included: Option<Span>) -> Option<File> {
        if !self.seen.insert(path.to_owned()) {
            if let Some(span) = included {
                self.diagnostics.push(
                    Diagnostic::error(
                        &mistakes::REPEATED_INCLUDE,
                        span,
                        format!("`{path}` is included already"),
                    )
                    .help("include each description once"),
                );
            }
            return None;
        }
        if let Some(span) = included
            && self.disk.leads_out(path).unwrap_or(false)
        {
            self.diagnostics.push(
                Diagnostic::error(
                    &mistakes::UNFIT_INCLUDE,
                    span,
                    format!("`{path}` is a link that leads out of the project"),
                )
                .help("include only what lies below the project's folder"),
            );
            return None;
        }
        let size = self
            .disk
            .stat(path)
            .ok()
            .flatten()
            .map_or(0, |stat| stat.size);
        if size > MAX_SIZE {
            let title = format!("`{path}` has more than {} MiB", MAX_SIZE >> 20);
            self.diagnostics.push(match included {
                Some(span) => Diagnostic::error(&mistakes::UNREADABLE_DESCRIPTION, span, title)
                    .help("is it a description?"),
                None => Diagnostic::placeless(&mistakes::UNREADABLE_DESCRIPTION, title),
            });
            return None;
        }
        let bytes = match self.disk.read(path) {
            Ok(bytes) => bytes,
            Err(error) => {
                let title = format!("can't read `{path}`: {error}");
                self.diagnostics.push(match included {
                    Some(span) => Diagnostic::error(&mistakes::UNREADABLE_DESCRIPTION, span, title)
                        .help("name a `.loom` file, or a folder that holds a `hand.loom`"),
                    None => Diagnostic::placeless(&mistakes::UNREADABLE_DESCRIPTION, title),
                });
                return None;
            }
        };
        let text = match String::from_utf8(bytes) {
            Ok(text) => text,
            Err(error) => {
                self.not_utf8(path, &error);
                return None;
            }
        };
        self.description.files.push(path.to_owned());
        let source = self.description.sources.add(path, text);
        let parsed = parse(source, &self.description.sources.get(source).text);
        self.diagnostics.extend(parsed.diagnostics);
        Some(parsed.file)
    }

    fn not_utf8(&mut self, path: &str, error: &std::string::FromUtf8Error) {
        let valid = error.utf8_error().valid_up_to();
        let bytes = error.as_bytes();
        let line = bytes[..valid].iter().filter(|&&b| b == b'\n').count() + 1;
        self.diagnostics.push(
            Diagnostic::placeless(
                &mistakes::UNREADABLE_DESCRIPTION,
                format!(
                    "`{path}` is not UTF-8: line {line} has the byte 0x{:02X}",
                    bytes[valid]
                ),
            )
            .help("save the file as UTF-8"),
        );
    }
}

/// The text of a word without variables and patterns.
fn literal(word: &Word, written: &str) -> Option<String> {
    match &word.kind {
        WordKind::Plain => {
            (!crate::project::pattern::is_pattern(written)).then(|| written.to_owned())
        }
        WordKind::Mixed(parts) => parts
            .iter()
            .map(|part| match part {
                crate::language::WordPart::Text { text, .. } => Some(text.as_str()),
                crate::language::WordPart::Var(_) => None,
            })
            .collect(),
    }
}
