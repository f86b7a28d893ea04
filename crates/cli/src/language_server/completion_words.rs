//! What may stand behind a keyword: words of its own, files, and what stands in them.

use lsp_types::CompletionItem;
use lsp_types::CompletionItemKind;

use handloom_core::data_files::DataFile;
use handloom_core::data_files::MAX_SIZE;
use handloom_core::language::VALUE_FORMS;
use handloom_core::workspace::setting_choices;
use handloom_core::workspace::setting_names;

use crate::language_server::completion::CompletionQuestion;

/// A larger file is not read while somebody types.
const MOST_READ: u64 = if MAX_SIZE < 4 << 20 {
    MAX_SIZE
} else {
    4 << 20
};

/// What compares in a condition.
const COMPARISONS: [&str; 6] = ["is", "is not", "has", "before", "above", "below"];

impl CompletionQuestion<'_> {
    /// Keys of a file that values come from, columns of a table, and such files themselves.
    pub(super) fn of_data(
        &self,
        words: &[&str],
        typed: &str,
        line: &str,
    ) -> Option<Vec<CompletionItem>> {
        let last = words.last().copied().unwrap_or_default();
        let first = words.first().copied().unwrap_or_default();
        let file_behind = |keyword: &str, words: &[&str]| {
            let at = words.iter().position(|word| *word == keyword)?;
            Some((at, words.get(at + 1).map(|word| (*word).to_owned())))
        };
        if !matches!(first, "let" | "each" | "env") {
            return None;
        }
        let takes_file = match first {
            "let" => matches!(last, "value" | "table" | "lines"),
            "each" => last == "table",
            _ => last == "file",
        };
        if takes_file {
            return Some(self.names(typed));
        }
        if let Some((at, Some(file))) = file_behind("value", words)
            && first == "let"
            && words.len() == at + 2
        {
            return Some(self.keys(&file, typed));
        }
        let whole: Vec<&str> = line.split_whitespace().collect();
        let (at, file) = file_behind("table", &whole)?;
        let file = file?;
        let is_in_front = first == "each" && !words.contains(&"in");
        let takes_column = matches!(last, "take" | "where" | "and" | "or" | "not");
        if is_in_front || takes_column {
            return Some(self.columns(&file, typed));
        }
        let keyword = CompletionItemKind::KEYWORD;
        if words.len() == at + 2 {
            let next: &[&str] = if first == "each" {
                &["where"]
            } else {
                &["take"]
            };
            return Some(self.words(next, typed, keyword));
        }
        let condition = words
            .iter()
            .rposition(|word| matches!(*word, "where" | "and" | "or" | "not"));
        let since = condition.map(|at| words.len() - at - 1);
        Some(match since {
            Some(1) => self.words(&COMPARISONS, typed, keyword),
            Some(_) if COMPARISONS.contains(&last) => Vec::new(),
            Some(_) => self.words(&["and", "or"], typed, keyword),
            None => self.words(&["where"], typed, keyword),
        })
    }

    fn data_file(&self, name: &str) -> Option<DataFile> {
        if name.contains("@{") {
            return None;
        }
        let path = format!("{}{}", self.folder, name.trim_matches(['"', '\'']));
        let stat = self.disk.stat(&path).ok()??;
        if stat.size > MOST_READ {
            return None;
        }
        DataFile::new(&path, self.disk.read(&path).ok()?).ok()
    }

    /// The keys of a file, as far as the next dot.
    fn keys(&self, file: &str, typed: &str) -> Vec<CompletionItem> {
        let Some(file) = self.data_file(file) else {
            return Vec::new();
        };
        let (above, begun) = typed.rsplit_once('.').unwrap_or(("", typed));
        let above: Vec<String> = match above {
            "" => Vec::new(),
            above => above.split('.').map(str::to_owned).collect(),
        };
        let keys = file.keys_below(&above).into_iter();
        // One that has dots in it would be taken for several.
        let keys = keys.filter(|key| key.starts_with(begun) && !key.contains(['.', ' ']));
        let keys: Vec<String> = keys
            .map(|key| {
                let mut path = above.clone();
                path.push(key);
                path.join(".")
            })
            .collect();
        let offered = keys.iter().map(String::as_str);
        self.items(typed, offered.map(|key| (key, CompletionItemKind::FIELD)))
    }

    fn columns(&self, file: &str, typed: &str) -> Vec<CompletionItem> {
        let columns = self.data_file(file).map(|file| file.column_names());
        let columns = columns.unwrap_or_default();
        let offered = columns.iter().map(String::as_str);
        let offered = offered.filter(|name| name.starts_with(typed));
        self.items(typed, offered.map(|name| (name, CompletionItemKind::FIELD)))
    }

    /// The words that a keyword takes.
    pub(super) fn of_line(&self, words: &[&str], typed: &str) -> Option<Vec<CompletionItem>> {
        let keyword = CompletionItemKind::KEYWORD;
        let said = |all: &[&str]| Some(self.words(all, typed, keyword));
        match words {
            ["let", _] => said(&["=", "+=", "one of"]),
            ["let", _, "=" | "+="] => said(VALUE_FORMS),
            ["store"] => said(&["always", "never"]),
            ["sealed"] => said(&["strictly"]),
            ["given"] => said(&["env", "output"]),
            ["recipes"] | ["recipe"] | ["ready"] | ["finally"] if typed.starts_with('w') => {
                said(&["with"])
            }
            ["recipes"] => said(&["with"]),
            ["include"] => {
                let mut all = self.names(typed);
                all.retain(|one| one.label.ends_with('/') || one.label.ends_with(".loom"));
                Some(all)
            }
            ["learn"] => {
                let mut all = self.words(&["watched", "lines"], typed, keyword);
                all.extend(self.names(typed));
                Some(all)
            }
            ["learn", "watched"] => said(&["everywhere"]),
            ["needs"] => {
                let mut all = self.words(&["each"], typed, keyword);
                all.extend(self.names(typed));
                Some(all)
            }
            ["each", .., "in"] => said(&["table"]),
            ["each", _] => said(&["in"]),
            ["setting"] => {
                let names: Vec<&str> = setting_names().collect();
                Some(self.words(&names, typed, CompletionItemKind::PROPERTY))
            }
            ["setting", name, "="] => {
                let choices = setting_choices(name);
                Some(self.words(&choices, typed, CompletionItemKind::VALUE))
            }
            ["takes", ..] => {
                let supplies = self.index.supplies();
                let supplies = supplies.map(|name| format!("{name}="));
                let known = ["cores=", "memory="].map(str::to_owned);
                let mut all: Vec<String> = known.into_iter().chain(supplies).collect();
                all.sort_unstable();
                all.dedup();
                let all = all.iter().map(String::as_str);
                let all = all.filter(|name| name.starts_with(typed));
                Some(self.items(typed, all.map(|name| (name, CompletionItemKind::PROPERTY))))
            }
            _ => None,
        }
    }
}
