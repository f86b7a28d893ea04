//! What a Python or R script reads and writes, as far as the paths in its text tell. Nothing of it is run.
//!
//! Texts and names that hold one are followed through joins of paths into the calls that they are handed to; the name of
//! the call says what becomes of the file. What is put together in other ways is not known, and that is noted.

use std::collections::BTreeSet;
use std::collections::HashMap;

use super::path_values::PathValue;
use super::path_values::attribute_of;
use super::path_values::joined;
use super::path_values::normal;
use super::path_values::renamed;
use super::script_imports::imported;
use super::script_tokens::Dialect;
use super::script_tokens::ScriptToken;
use super::script_tokens::tokens;

/// Brackets within brackets are looked into so far.
const DEEPEST: usize = 60;

/// What a script does with files.
#[derive(Debug, Default)]
pub struct ScriptPaths {
    /// Files, and patterns of files, that it reads; from the folder that it runs in.
    pub reads: BTreeSet<String>,
    /// Files that it writes.
    pub writes: BTreeSet<String>,
    /// Texts that stand in other places, and may be names of files.
    pub others: BTreeSet<String>,
    /// The same three, of files that are named by where the script itself stands: from the project's folder.
    pub anchored: BTreeSet<String>,
    /// Modules that it imports, with their dots.
    pub modules: BTreeSet<String>,
    /// Whether it wants words on its command line.
    pub takes_words: bool,
    /// Whether it reads or writes files whose names its text does not tell.
    pub is_unclear: bool,
}

/// An argument of a call: its keyword and its value.
pub type Argument = (Option<String>, PathValue);

/// Reads the text of a script that lies at `path` in its project.
pub fn script_paths(path: &str, text: &str, dialect: Dialect) -> ScriptPaths {
    let tokens = tokens(text, dialect);
    let modules = match dialect {
        Dialect::Python => imported(&tokens),
        Dialect::R => BTreeSet::new(),
    };
    let mut reader = PathReader {
        tokens,
        at: 0,
        depth: 0,
        path: path.to_owned(),
        dialect,
        names: HashMap::new(),
        found: ScriptPaths {
            modules,
            ..ScriptPaths::default()
        },
    };
    reader.read();
    let found = &mut reader.found;
    found.others = found.others.difference(&found.writes).cloned().collect();
    reader.found
}

/// Goes through the words of a script.
pub struct PathReader {
    tokens: Vec<ScriptToken>,
    at: usize,
    /// Brackets around it.
    depth: usize,
    path: String,
    /// What it is written in.
    pub dialect: Dialect,
    /// What names stand for.
    pub names: HashMap<String, PathValue>,
    /// What was found until now.
    pub found: ScriptPaths,
}

impl PathReader {
    fn peek(&self, ahead: usize) -> Option<&ScriptToken> {
        self.tokens.get(self.at + ahead)
    }

    fn is_mark(&self, ahead: usize, mark: char) -> bool {
        self.peek(ahead) == Some(&ScriptToken::Mark(mark))
    }

    fn read(&mut self) {
        while let Some(token) = self.peek(0).cloned() {
            match token {
                ScriptToken::Name(name) if self.peek(1) == Some(&ScriptToken::Assign) => {
                    self.at += 2;
                    let value = self.expression();
                    self.names.insert(name, value);
                }
                ScriptToken::Name(_)
                | ScriptToken::Text(_)
                | ScriptToken::Computed
                | ScriptToken::Mark('(') => {
                    let begin = self.at;
                    self.expression();
                    self.at = self.at.max(begin + 1);
                }
                _ => self.at += 1,
            }
        }
    }

    /// Parts that are joined by `/` or `+`.
    fn expression(&mut self) -> PathValue {
        let mut value = self.part();
        loop {
            let joined = |left: &PathValue, right: &PathValue, slash: &str| match (left, right) {
                (PathValue::Path(left, anchored), PathValue::Path(right, false)) => {
                    let left = left.trim_end_matches('/');
                    PathValue::Path(format!("{left}{slash}{right}"), *anchored)
                }
                _ => PathValue::Unknown,
            };
            if self.is_mark(0, '/') {
                self.at += 1;
                let right = self.part();
                value = match (&value, &right) {
                    // The project's folder, or the one that it runs in.
                    (PathValue::Path(left, anchored), PathValue::Path(right, false))
                        if left.is_empty() =>
                    {
                        PathValue::Path(right.clone(), *anchored)
                    }
                    _ => joined(&value, &right, "/"),
                };
            } else if self.is_mark(0, '+') || self.is_mark(0, '%') {
                self.at += 1;
                let is_sum = self.tokens[self.at - 1] == ScriptToken::Mark('+');
                let right = self.part();
                value = match is_sum {
                    true => joined(&value, &right, ""),
                    false => PathValue::Unknown,
                };
            } else {
                return value;
            }
        }
    }

    fn part(&mut self) -> PathValue {
        let value = match self.peek(0).cloned() {
            Some(ScriptToken::Text(mut text)) => {
                self.at += 1;
                while let Some(ScriptToken::Text(more)) = self.peek(0).cloned() {
                    text.push_str(&more);
                    self.at += 1;
                }
                self.other(&text);
                PathValue::Path(text, false)
            }
            Some(ScriptToken::Computed) => {
                self.at += 1;
                PathValue::Unknown
            }
            Some(ScriptToken::Name(name)) => {
                self.at += 1;
                self.name(&name)
            }
            Some(ScriptToken::Mark('(' | '[' | '{')) => {
                let all = self.arguments();
                match &all[..] {
                    [(None, value)] => value.clone(),
                    _ => PathValue::Unknown,
                }
            }
            _ => PathValue::Unknown,
        };
        self.behind(value)
    }

    fn name(&mut self, name: &str) -> PathValue {
        if name == "__file__" {
            return PathValue::Path(self.path.clone(), true);
        }
        if name.starts_with("sys.argv") || name == "commandArgs" {
            self.found.takes_words = true;
        }
        let known = |names: &HashMap<String, PathValue>, name: &str| names.get(name).cloned();
        let owner = name.rsplit_once('.');
        let of_owner = owner.and_then(|(owner, last)| Some((known(&self.names, owner)?, last)));
        if self.is_mark(0, '(') {
            return match of_owner {
                Some((receiver @ PathValue::Path(..), method)) => self.call(method, Some(receiver)),
                _ => self.call(name, None),
            };
        }
        if let Some(value) = known(&self.names, name) {
            return value;
        }
        if let Some((value @ PathValue::Path(..), attribute)) = of_owner {
            return attribute_of(&value, attribute);
        }
        // `args.output` after `add_argument("--output", default="…")`.
        let option = owner.and_then(|(_, last)| known(&self.names, &format!("--{last}")));
        option.unwrap_or(PathValue::Unknown)
    }

    /// What stands behind a value: attributes, methods, brackets.
    fn behind(&mut self, mut value: PathValue) -> PathValue {
        loop {
            if self.is_mark(0, '.') {
                let Some(ScriptToken::Name(names)) = self.peek(1).cloned() else {
                    return value;
                };
                self.at += 2;
                let mut names = names.split('.').peekable();
                while let Some(name) = names.next() {
                    let is_call = names.peek().is_none() && self.is_mark(0, '(');
                    value = match is_call {
                        true => self.call(name, Some(value)),
                        false => attribute_of(&value, name),
                    };
                }
            } else if self.is_mark(0, '[') {
                self.arguments();
                value = PathValue::Unknown;
            } else {
                return value;
            }
        }
    }

    /// The values in brackets, from the one that opens them to behind the one that closes them.
    fn arguments(&mut self) -> Vec<Argument> {
        self.depth += 1;
        let all = match self.depth < DEEPEST {
            true => self.arguments_below(),
            false => {
                self.pass_over();
                Vec::new()
            }
        };
        self.depth -= 1;
        all
    }

    /// Goes behind the bracket that closes the one that stands here.
    fn pass_over(&mut self) {
        let mut open = 0usize;
        while let Some(token) = self.peek(0) {
            match token {
                ScriptToken::Mark('(' | '[' | '{') => open += 1,
                ScriptToken::Mark(')' | ']' | '}') => open -= 1,
                _ => {}
            }
            self.at += 1;
            if open == 0 {
                return;
            }
        }
    }

    fn arguments_below(&mut self) -> Vec<Argument> {
        self.at += 1;
        let mut all = Vec::new();
        let mut keyword = None;
        while let Some(token) = self.peek(0).cloned() {
            match token {
                ScriptToken::Mark(')' | ']' | '}') => {
                    self.at += 1;
                    break;
                }
                ScriptToken::Mark(',') => {
                    self.at += 1;
                    keyword = None;
                }
                ScriptToken::Name(name) if self.peek(1) == Some(&ScriptToken::Assign) => {
                    self.at += 2;
                    keyword = Some(name);
                }
                _ => {
                    let begin = self.at;
                    let mut value = self.expression();
                    self.at = self.at.max(begin + 1);
                    let ends = matches!(
                        self.peek(0),
                        None | Some(ScriptToken::Mark(',' | ')' | ']' | '}'))
                    );
                    if !ends {
                        // More than is understood: `a if b else c`, `*words`, `key: value`.
                        value = PathValue::Unknown;
                    }
                    all.push((keyword.clone(), value));
                }
            }
        }
        all
    }

    /// A call, from its bracket on.
    fn call(&mut self, name: &str, receiver: Option<PathValue>) -> PathValue {
        let is_definition =
            self.at >= 2 && self.tokens[self.at - 2] == ScriptToken::Name("def".to_owned());
        let arguments = self.arguments();
        let last = match self.dialect {
            Dialect::Python => name.rsplit('.').next().unwrap_or(name),
            Dialect::R => name,
        };
        if is_definition {
            for (keyword, value) in arguments {
                if let Some(keyword) = keyword {
                    self.names.insert(keyword, value);
                }
            }
            return PathValue::Unknown;
        }
        let first = arguments.first().map(|(_, value)| value.clone());
        match last {
            "Path" | "PurePath" | "str" | "fspath" | "abspath" | "realpath" | "normpath"
            | "resolve" | "absolute" | "join" | "joinpath" | "file.path" => {
                let parts = receiver
                    .filter(|_| matches!(last, "resolve" | "absolute" | "joinpath"))
                    .into_iter();
                let parts = parts.chain(arguments.into_iter().map(|(_, value)| value));
                joined(parts)
            }
            "dirname" => first.map_or(PathValue::Unknown, |value| attribute_of(&value, "parent")),
            "with_suffix" | "with_name" => renamed(receiver, first, last),
            "add_argument" => {
                self.option(&arguments);
                PathValue::Unknown
            }
            "exists" | "is_file" | "is_dir" | "mkdir" | "makedirs" | "unlink" | "remove"
            | "file.exists" | "dir.create" => PathValue::Unknown,
            "glob" | "rglob" | "iterdir" | "listdir" | "scandir" | "list.files" => {
                self.listed(last, receiver, first);
                PathValue::Unknown
            }
            "open" => {
                self.opened(receiver, &arguments);
                PathValue::Unknown
            }
            _ => {
                self.handed(last, receiver, &arguments);
                PathValue::Unknown
            }
        }
    }

    /// Notes what becomes of a path; one that is not known is noted as well.
    pub fn note(&mut self, path: PathValue, reads: bool, writes: bool) {
        let PathValue::Path(path, anchored) = path else {
            self.found.is_unclear = true;
            return;
        };
        let Some(path) = normal(&path) else {
            return;
        };
        if anchored {
            self.found.anchored.insert(path.clone());
        }
        if reads {
            self.found.reads.insert(path.clone());
        }
        if writes {
            self.found.writes.insert(path);
        }
    }

    fn other(&mut self, text: &str) {
        if let Some(path) = normal(text).filter(|path| !path.contains(['*', '?'])) {
            self.found.others.insert(path);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(text: &str, dialect: Dialect) -> String {
        let found = script_paths("tools/it.py", text, dialect);
        let list = |set: &BTreeSet<String>| set.iter().cloned().collect::<Vec<_>>().join(" ");
        let unclear = if found.is_unclear { " ?" } else { "" };
        let words = if found.takes_words { " words" } else { "" };
        format!(
            "{} > {}{unclear}{words}",
            list(&found.reads),
            list(&found.writes)
        )
    }

    #[test]
    fn paths_are_followed_into_calls() {
        let python = |text: &str| told(text, Dialect::Python);
        for (text, expected) in [
            (
                "with open('a.csv') as a, open('out/b.txt', 'w') as b:\n  pass",
                "a.csv > out/b.txt",
            ),
            (
                "OUT = Path('out') / 'x' / 'b.svg'\nOUT.write_text('<svg>')",
                " > out/x/b.svg",
            ),
            (
                "d = pd.read_csv(\"data/a.csv\")\nd.to_csv('b.csv', index=False)",
                "data/a.csv > b.csv",
            ),
            ("plt.savefig(fname='fig/a.png', dpi=300)", " > fig/a.png"),
            (
                "HERE = Path(__file__).resolve().parent.parent\nx = (HERE / 'a.csv').read_text()",
                "a.csv > ",
            ),
            (
                "json.dump(x, open(os.path.join('o', 'x.json'), mode='w'))",
                " > o/x.json",
            ),
            (
                "for p in sorted(Path('data').glob('*.csv')):\n  open(p)",
                "data/*.csv >  ?",
            ),
            ("for p in glob.glob('data/*.csv'): pass", "data/*.csv > "),
            (
                "p.add_argument('--to', default='a.txt')\nargs = p.parse_args()\nopen(args.to, 'w')",
                " > a.txt",
            ),
            ("p.add_argument('source')\nopen(p.source)", " >  ? words"),
            ("open(sys.argv[1])", " >  ? words"),
            ("def main(to='o.txt'):\n  open(to, 'w')", " > o.txt"),
            ("shutil.copy('a', 'b')", "a > b"),
            ("open(f'out/{x}.txt', 'w'); open('/etc/passwd')", " >  ?"),
            ("# open('no')\ns = \"\"\"open('no')\"\"\"", " > "),
            ("open(", " >  ?"),
            ("x = (((((('a", " > "),
            (&format!("f({}open('a')", "g(".repeat(100_000)), " > "),
            (
                &format!("f({}1{}); open('a')", "[".repeat(1000), "]".repeat(1000)),
                "a > ",
            ),
        ] {
            assert_eq!(python(text), expected, "{text}");
        }
        let r = "d <- read.csv(file.path('data', 'a.csv'))\nggsave(\"fig/a.svg\", p)\nsaveRDS(d, file = 'd.rds')";
        assert_eq!(told(r, Dialect::R), "data/a.csv > d.rds fig/a.svg");
    }
}
