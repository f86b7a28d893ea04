//! What calls of a script do with the paths that they are handed.

use super::path_values::PathValue;
use super::path_values::joined;
use super::path_values::looks_like_a_file;
use super::script_paths::Argument;
use super::script_paths::PathReader;
use super::script_tokens::Dialect;

/// Calls that read or write a file in any case, also when its name is not known.
const TELLING: [&str; 14] = [
    "read_csv",
    "read_json",
    "read_excel",
    "read_parquet",
    "read_table",
    "read.csv",
    "readRDS",
    "loadtxt",
    "genfromtxt",
    "to_csv",
    "to_parquet",
    "savefig",
    "savetxt",
    "write.csv",
];

impl PathReader {
    /// `parser.add_argument("--name", default="…")`.
    pub fn option(&mut self, arguments: &[Argument]) {
        let Some((None, PathValue::Path(name, _))) = arguments.first() else {
            return;
        };
        let of = |keyword: &str| {
            let found = arguments
                .iter()
                .find(|(name, _)| name.as_deref() == Some(keyword));
            found.map(|(_, value)| value.clone())
        };
        let mut named = arguments.iter().filter_map(|(keyword, value)| match value {
            PathValue::Path(text, _) if keyword.is_none() && text.starts_with("--") => Some(text),
            _ => None,
        });
        let long = named.next_back().unwrap_or(name);
        match of("default") {
            Some(value) => {
                let dest = match of("dest") {
                    Some(PathValue::Path(dest, _)) => dest,
                    _ => long.trim_start_matches('-').replace('-', "_"),
                };
                self.names.insert(format!("--{dest}"), value);
            }
            None if !name.starts_with('-') || of("required").is_some() => {
                let is_optional = matches!(of("nargs"), Some(PathValue::Path(count, _)) if count == "?" || count == "*");
                self.found.takes_words |= !is_optional;
            }
            None => {}
        }
    }

    /// A call that lists a folder, or what matches a pattern.
    pub fn listed(&mut self, how: &str, receiver: Option<PathValue>, first: Option<PathValue>) {
        let pattern = match (how, receiver, first) {
            ("glob", Some(folder @ PathValue::Path(..)), Some(pattern)) => {
                joined([folder, pattern].into_iter())
            }
            ("rglob", Some(folder @ PathValue::Path(..)), Some(pattern)) => {
                let deep = PathValue::Path("**".to_owned(), false);
                joined([folder, deep, pattern].into_iter())
            }
            ("glob", _, Some(pattern)) => pattern,
            ("iterdir", Some(folder), _) | (_, _, Some(folder)) => {
                let all = PathValue::Path("*".to_owned(), false);
                joined([folder, all].into_iter())
            }
            _ => PathValue::Unknown,
        };
        self.note(pattern, true, false);
    }

    /// A call that opens a file; its mode says for what.
    pub fn opened(&mut self, receiver: Option<PathValue>, arguments: &[Argument]) {
        let of_keyword = arguments
            .iter()
            .find(|(name, _)| name.as_deref() == Some("mode"));
        let place = usize::from(!matches!(receiver, Some(PathValue::Path(..))));
        let mode = of_keyword.or(arguments.get(place).filter(|(name, _)| name.is_none()));
        let mode = match mode {
            Some((_, PathValue::Path(mode, _))) => mode.as_str(),
            _ => "r",
        };
        let writes = mode.contains(['w', 'a', 'x', '+']);
        let reads = mode.contains(['r', '+']) || !writes;
        let path = match receiver {
            Some(path @ PathValue::Path(..)) => path,
            _ => arguments
                .first()
                .map_or(PathValue::Unknown, |(_, value)| value.clone()),
        };
        self.note(path, reads, writes);
    }

    /// A path that is handed to a call that has its own meaning: its name tells, if anything does.
    pub fn handed(&mut self, call: &str, receiver: Option<PathValue>, arguments: &[Argument]) {
        let is_path = |value: &PathValue| matches!(value, PathValue::Path(..));
        let paths = || {
            arguments
                .iter()
                .map(|(_, value)| value)
                .filter(|value| is_path(value))
        };
        let begins = |prefixes: &[&str]| prefixes.iter().any(|prefix| call.starts_with(prefix));
        let is_r = self.dialect == Dialect::R;
        if matches!(
            call,
            "copy" | "copy2" | "copyfile" | "move" | "rename" | "replace" | "file.copy"
        ) {
            if let (Some((_, from)), Some((_, to))) = (arguments.first(), arguments.get(1))
                && is_path(from)
                && is_path(to)
                && receiver.is_none()
            {
                self.note(from.clone(), true, false);
                self.note(to.clone(), false, true);
            }
            return;
        }
        let draws = [
            "ggsave",
            "pdf",
            "png",
            "svg",
            "jpeg",
            "tiff",
            "cairo_pdf",
            "sink",
            "fwrite",
        ];
        let writes = begins(&["write_", "write.", "save", "export", "to_"])
            || is_r && draws.contains(&call)
            || matches!(call, "imsave" | "imwrite" | "urlretrieve");
        let reads = begins(&[
            "read_",
            "read.",
            "readRDS",
            "readLines",
            "load",
            "imread",
            "genfromtxt",
        ]) || is_r && matches!(call, "fread" | "source");
        let file = arguments.iter().find(|(name, value)| {
            is_path(value) && matches!(name.as_deref(), Some("file" | "filename" | "path" | "con"))
        });
        if writes || reads {
            // `path.write_text("…")`: the text is no path.
            let own = receiver.filter(|value| is_path(value) && begins(&["write_", "read_"]));
            let path = own
                .or_else(|| file.map(|(_, value)| value.clone()))
                .or_else(|| paths().find(|value| looks_like_a_file(value)).cloned());
            match path {
                Some(path) => self.note(path, reads, writes),
                None => self.found.is_unclear |= TELLING.contains(&call),
            }
        } else if is_r
            && call == "cat"
            && let Some((_, value)) = file
        {
            self.note(value.clone(), false, true);
        }
    }
}
