//! An editor that speaks to the server: messages on its standard input and output.

use std::collections::BTreeMap;
use std::io::BufRead;
use std::io::BufReader;
use std::io::Read;
use std::io::Write;
use std::process::Child;
use std::process::ChildStdin;
use std::process::ChildStdout;
use std::process::Stdio;

use serde_json::Value;
use serde_json::json;

use crate::bed::Bed;

/// An editor.
pub struct Editor<'b> {
    pub bed: &'b Bed,
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    last: i64,
    version: i64,
    /// What the server told that is no answer and no mistake.
    pub told: Vec<Value>,
    /// What is wrong, as it was told last: for each file, each mistake's line, column and first line.
    pub wrong: BTreeMap<String, Vec<(u64, u64, String)>>,
}

impl<'b> Editor<'b> {
    pub fn begin(bed: &'b Bed) -> Self {
        let mut command = bed.command(&["language-server"]);
        command.stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut child = command.spawn().unwrap();
        let mut editor = Self {
            bed,
            input: child.stdin.take().unwrap(),
            output: BufReader::new(child.stdout.take().unwrap()),
            child,
            last: 0,
            version: 0,
            told: Vec::new(),
            wrong: BTreeMap::new(),
        };
        let able = editor.ask(
            "initialize",
            &json!({
                "capabilities": {"window": {"workDoneProgress": true}},
                "processId": null,
                "rootUri": null,
            }),
        );
        assert!(able["capabilities"]["renameProvider"].as_bool().unwrap());
        editor.tell("initialized", &json!({}));
        editor
    }

    pub fn uri(&self, file: &str) -> String {
        let path = self.bed.root().canonicalize().unwrap().join(file);
        format!("file://{}", path.to_str().unwrap().replace(' ', "%20"))
    }

    pub fn say(&mut self, message: &Value) {
        let text = message.to_string();
        write!(self.input, "Content-Length: {}\r\n\r\n{text}", text.len()).unwrap();
        self.input.flush().unwrap();
    }

    pub fn tell(&mut self, method: &str, params: &Value) {
        self.say(&json!({"jsonrpc": "2.0", "method": method, "params": params}));
    }

    pub fn hear(&mut self) -> Value {
        let mut length = 0;
        loop {
            let mut line = String::new();
            assert!(
                self.output.read_line(&mut line).unwrap() > 0,
                "the server is gone"
            );
            match line.trim().split_once(": ") {
                Some(("Content-Length", number)) => length = number.parse().unwrap(),
                Some(_) => {}
                None => break,
            }
        }
        let mut body = vec![0; length];
        self.output.read_exact(&mut body).unwrap();
        let message: Value = serde_json::from_slice(&body).unwrap();
        if message["method"] == "textDocument/publishDiagnostics" {
            let uri = message["params"]["uri"].as_str().unwrap();
            let file = uri.strip_prefix(&self.uri("")).unwrap().to_owned();
            let list = message["params"]["diagnostics"].as_array().unwrap();
            let list = list.iter().map(|one| {
                let start = &one["range"]["start"];
                let title = one["message"].as_str().unwrap().lines().next().unwrap();
                let number = |key: &str| start[key].as_u64().unwrap();
                (number("line"), number("character"), title.to_owned())
            });
            self.wrong.insert(file, list.collect());
        } else if message["method"].is_string() {
            self.told.push(message.clone());
        }
        message
    }

    pub fn answer(&mut self, method: &str, params: &Value) -> Value {
        self.last += 1;
        let id = self.last;
        self.say(&json!({"jsonrpc": "2.0", "id": id, "method": method, "params": params}));
        loop {
            let message = self.hear();
            if message["id"] == id {
                return message;
            }
        }
    }

    pub fn ask(&mut self, method: &str, params: &Value) -> Value {
        let answer = self.answer(method, params);
        assert!(answer["error"].is_null(), "{answer}");
        answer["result"].clone()
    }

    pub fn ask_at(&mut self, what: &str, file: &str, line: usize, column: usize) -> Value {
        let params = json!({
            "textDocument": {"uri": self.uri(file)},
            "position": {"line": line, "character": column},
            "context": {"includeDeclaration": true},
        });
        self.ask(&format!("textDocument/{what}"), &params)
    }

    pub fn open(&mut self, file: &str, text: &str) {
        let uri = self.uri(file);
        let document = json!({"uri": uri, "languageId": "handloom", "version": 0, "text": text});
        self.tell("textDocument/didOpen", &json!({"textDocument": document}));
    }

    /// Puts a text in place of what stands between two places.
    pub fn edit(&mut self, file: &str, from: (usize, usize), to: (usize, usize), text: &str) {
        self.version += 1;
        let place =
            |(line, character): (usize, usize)| json!({"line": line, "character": character});
        let params = json!({
            "textDocument": {"uri": self.uri(file), "version": self.version},
            "contentChanges": [{"range": {"start": place(from), "end": place(to)}, "text": text}],
        });
        self.tell("textDocument/didChange", &params);
    }

    /// What is wrong in a file, once it is told.
    pub fn wrong_in(&mut self, file: &str) -> Vec<(u64, u64, String)> {
        self.wrong.clear();
        while !self.wrong.contains_key(file) {
            self.hear();
        }
        self.wrong[file].clone()
    }

    /// What is told with this method next, or was since it was last asked for.
    pub fn told(&mut self, method: &str) -> Value {
        loop {
            let known = self.told.iter().position(|one| one["method"] == method);
            if let Some(at) = known {
                return self.told.remove(at)["params"].clone();
            }
            self.hear();
        }
    }

    pub fn offered(&mut self, file: &str, line: usize, column: usize) -> Vec<String> {
        let all = self.ask_at("completion", file, line, column);
        let labels = all.as_array().unwrap().iter();
        labels
            .map(|item| item["label"].as_str().unwrap().to_owned())
            .collect()
    }

    pub fn end(mut self) {
        self.ask("shutdown", &Value::Null);
        self.tell("exit", &Value::Null);
        assert!(self.child.wait().unwrap().success());
    }
}
