//! Random edits at random places in two files that mention each other, questions in between, cancelled ones, wrong messages: the
//! server answers each once, at places of the text as it was then. `HANDLOOM_MESSAGES` says how many.

use std::collections::BTreeMap;
use std::collections::HashMap;

use serde_json::Value;
use serde_json::json;

use crate::bed::Bed;
use crate::editor::Editor;

const FILES: [&str; 2] = ["hand.loom", "part/hand.loom"];

/// What is typed: pieces of descriptions, and what is none.
const PIECES: [&str; 44] = [
    "let ",
    "lamp",
    " = ",
    "red\n",
    "@{",
    "}",
    "part/own",
    ".first",
    "target ",
    "out/<u>.o",
    "\n",
    "  needs ",
    "each src/<u>.c",
    "\n  recipe:",
    " echo ",
    "@{lamp}",
    "\n    ",
    "task ",
    "inner",
    " edition",
    "\n  after ",
    "part/inner",
    "include part\n",
    "𝄞",
    "ä",
    "é\u{301}",
    "\"",
    "'",
    "<",
    ">",
    ":",
    "#",
    "\t",
    " ",
    "\r\n",
    "  limit soon\n",
    "default out\n",
    "supply gpu = 1\n",
    "  takes gpu=2\n",
    "setting jobs = 2\n",
    "\u{feff}",
    "\u{a0}",
    "value params.toml a",
    "0",
];

const QUESTIONS: [&str; 13] = [
    "completion",
    "hover",
    "definition",
    "references",
    "rename",
    "documentSymbol",
    "foldingRange",
    "semanticTokens/full",
    "codeAction",
    "formatting",
    "codeLens",
    "inlayHint",
    "nothing",
];

struct Chance(u64);

impl Chance {
    fn below(&mut self, end: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % end.max(1)
    }
}

/// The byte at a line and a column in units of UTF-16, as the protocol has it; what is outside is moved in.
fn byte_at(text: &str, line: usize, column: usize) -> usize {
    let mut start = 0;
    for (number, written) in text.split_inclusive('\n').enumerate() {
        if number == line {
            let written = written.strip_suffix('\n').unwrap_or(written);
            let written = written.strip_suffix('\r').unwrap_or(written);
            let mut units = 0;
            for (at, character) in written.char_indices() {
                units += character.len_utf16();
                if units > column {
                    return start + at;
                }
            }
            return start + written.len();
        }
        start += written.len();
    }
    // Behind the last line end there is one more line.
    text.len()
}

/// What stands at a range of the protocol.
#[track_caller]
fn slice<'t>(text: &'t str, range: &Value) -> &'t str {
    let at = |end: &str| {
        let number = |key: &str| usize::try_from(range[end][key].as_u64().unwrap()).unwrap();
        (number("line"), number("character"))
    };
    let ((from, first), (to, last)) = (at("start"), at("end"));
    let lines = text.split('\n').count();
    assert!(
        from < lines && to < lines,
        "{range} is outside of\n{text:?}"
    );
    let (start, end) = (byte_at(text, from, first), byte_at(text, to, last));
    assert!(start <= end, "{range} ends before it begins in\n{text:?}");
    // The place is one of the text: not in the middle of a character, not behind a line's end.
    let units = |line: usize, byte: usize| {
        let begin = byte_at(text, line, 0);
        text[begin..byte].encode_utf16().count()
    };
    assert_eq!(
        (units(from, start), units(to, end)),
        (first, last),
        "{range} is no place of\n{text:?}"
    );
    &text[start..end]
}

/// A question, and both texts as they were when it was asked.
struct Asked {
    method: String,
    file: usize,
    texts: [String; 2],
    may_fail: bool,
}

struct Fuzz<'b> {
    editor: Editor<'b>,
    chance: Chance,
    texts: [String; 2],
    asked: HashMap<i64, Asked>,
    last: i64,
    /// Answers by what was asked.
    answered: BTreeMap<String, usize>,
}

impl Fuzz<'_> {
    /// Where a name stands; anywhere when it stands nowhere.
    fn name(&mut self, file: usize) -> (usize, usize) {
        let name = ["lamp", "own", "inner", "<u>", "made", "edition"][self.chance.below(6)];
        let text = &self.texts[file];
        let places: Vec<usize> = text.match_indices(name).map(|(at, _)| at).collect();
        if places.is_empty() {
            return self.place(file);
        }
        let at = places[self.chance.below(places.len())] + 1;
        let text = &self.texts[file];
        let line = text[..at].matches('\n').count();
        let start = text[..at].rfind('\n').map_or(0, |end| end + 1);
        (line, text[start..at].encode_utf16().count())
    }

    fn place(&mut self, file: usize) -> (usize, usize) {
        let lines = self.texts[file].split('\n').count();
        // Now and then outside.
        let line = self.chance.below(lines + 2);
        let length = self.texts[file]
            .split('\n')
            .nth(line)
            .map_or(0, |line| line.encode_utf16().count());
        (line, self.chance.below(length + 3))
    }

    fn edit(&mut self) {
        let file = self.chance.below(2);
        // Descriptions that mean something come again and again.
        if self.texts[file].len() > 3000 || self.chance.below(40) == 0 {
            let (text, whole) = (start_text(file).to_owned(), start_text(file));
            self.texts[file] = text;
            let params = json!({"textDocument": {"uri": self.editor.uri(FILES[file]), "version": 1}, "contentChanges": [{"text": whole}]});
            return self.editor.tell("textDocument/didChange", &params);
        }
        let mut changes = Vec::new();
        for _ in 0..=self.chance.below(2) {
            let (from, to) = (self.place(file), self.place(file));
            let (from, to) = if from <= to { (from, to) } else { (to, from) };
            // Mostly something is put in.
            let to = if self.chance.below(3) == 0 { to } else { from };
            let mut new = String::new();
            for _ in 0..self.chance.below(4) {
                new.push_str(PIECES[self.chance.below(PIECES.len())]);
            }
            let text = &mut self.texts[file];
            let start = byte_at(text, from.0, from.1);
            let end = byte_at(text, to.0, to.1).max(start);
            text.replace_range(start..end, &new);
            let place =
                |(line, character): (usize, usize)| json!({"line": line, "character": character});
            changes.push(json!({"range": {"start": place(from), "end": place(to)}, "text": new}));
        }
        let params = json!({"textDocument": {"uri": self.editor.uri(FILES[file]), "version": 1}, "contentChanges": changes});
        self.editor.tell("textDocument/didChange", &params);
    }

    fn ask(&mut self) {
        let file = self.chance.below(2);
        let (line, character) = match self.chance.below(3) {
            0 => self.name(file),
            _ => self.place(file),
        };
        let what = QUESTIONS[self.chance.below(QUESTIONS.len())];
        let place = json!({"line": line, "character": character});
        let names = ["light", "2nd", "own", "target"];
        let mut params = json!({
            "textDocument": {"uri": self.editor.uri(FILES[file])},
            "position": place,
            "range": {"start": {"line": 0, "character": 0}, "end": place},
            "context": {"includeDeclaration": true, "diagnostics": []},
            "options": {"tabSize": 2, "insertSpaces": true},
            "newName": names[self.chance.below(names.len())],
        });
        let is_wrong = self.chance.below(12) == 0;
        if is_wrong {
            let wrong = [
                json!(null),
                json!(7),
                json!([]),
                json!("x"),
                json!({"line": -1}),
                json!({"uri": "http://x/y"}),
            ];
            let keys = ["textDocument", "position", "range", "context"];
            params[keys[self.chance.below(keys.len())]] =
                wrong[self.chance.below(wrong.len())].clone();
        }
        self.last += 1;
        let id = self.last;
        let method = format!("textDocument/{what}");
        self.editor
            .say(&json!({"jsonrpc": "2.0", "id": id, "method": method, "params": params}));
        let is_cancelled = self.chance.below(8) == 0;
        if is_cancelled {
            self.editor.tell("$/cancelRequest", &json!({"id": id}));
        }
        let may_fail = is_wrong || is_cancelled || matches!(what, "nothing" | "rename");
        self.asked.insert(
            id,
            Asked {
                method,
                file,
                texts: self.texts.clone(),
                may_fail,
            },
        );
    }

    /// Messages that no editor should send.
    fn disturb(&mut self) {
        let uri = self.editor.uri(FILES[self.chance.below(2)]);
        let elsewhere = self.editor.uri("none/at/all.loom");
        match self.chance.below(7) {
            0 => self.editor.tell("textDocument/didSave", &json!({"textDocument": {"uri": uri}})),
            1 => self.editor.tell("textDocument/didClose", &json!({"textDocument": {"uri": elsewhere}})),
            2 => self.editor.tell("textDocument/didChange", &json!({"textDocument": 3})),
            3 => self.editor.tell("nobody/knows", &json!([1, 2])),
            4 => self.editor.say(&json!({"jsonrpc": "2.0", "id": "never-asked", "result": null})),
            5 => self.editor.tell("$/cancelRequest", &json!({"id": 1_000_000_000})),
            _ => self.editor.tell("textDocument/didOpen", &json!({"textDocument": {"uri": "untitled:x", "languageId": "", "version": 0, "text": ""}})),
        }
    }

    /// Hears until all that was asked is answered.
    fn settle(&mut self) {
        while !self.asked.is_empty() {
            let message = self.editor.hear();
            if message["method"].is_string() {
                continue;
            }
            let Some(id) = message["id"].as_i64() else {
                continue;
            };
            let asked = self
                .asked
                .remove(&id)
                .unwrap_or_else(|| panic!("answered twice: {message}"));
            assert!(
                asked.may_fail || message["error"].is_null(),
                "{}: {message}",
                asked.method
            );
            if message["error"].is_null() {
                self.check(&asked, &message["result"]);
                *self.answered.entry(asked.method).or_default() += 1;
            }
        }
        self.editor.told.clear();
    }

    fn text_of<'a>(&self, asked: &'a Asked, uri: &str) -> &'a str {
        let file = FILES.iter().position(|file| self.editor.uri(file) == uri);
        &asked.texts[file.unwrap_or_else(|| panic!("{uri} is not open"))]
    }

    /// All places of an answer are places of the texts as they were, and hold what they should.
    fn check(&self, asked: &Asked, result: &Value) {
        let text = &asked.texts[asked.file];
        let all = result.as_array().into_iter().flatten();
        match asked.method.trim_start_matches("textDocument/") {
            "documentSymbol" => {
                for symbol in all {
                    assert_eq!(
                        slice(text, &symbol["selectionRange"]),
                        symbol["name"].as_str().unwrap()
                    );
                    slice(text, &symbol["range"]);
                }
            }
            "definition" => {
                for place in all {
                    let found = slice(
                        self.text_of(asked, place["uri"].as_str().unwrap()),
                        &place["range"],
                    );
                    assert!(!found.is_empty() && !found.contains('\n'), "{found:?}");
                }
            }
            "references" => {
                let names = all.map(|place| {
                    let found = slice(
                        self.text_of(asked, place["uri"].as_str().unwrap()),
                        &place["range"],
                    );
                    found.rsplit('/').next().unwrap()
                });
                let names: std::collections::BTreeSet<&str> = names.collect();
                assert!(
                    names.len() <= 1,
                    "{names:?} are taken for the same in\n{:?}",
                    asked.texts
                );
            }
            "rename" => {
                let files = result["changes"].as_object().into_iter().flatten();
                for (uri, edits) in files {
                    for edit in edits.as_array().unwrap() {
                        assert!(!slice(self.text_of(asked, uri), &edit["range"]).is_empty());
                    }
                }
            }
            "completion" => {
                for item in all {
                    let typed = slice(text, &item["textEdit"]["range"]);
                    let label = item["label"].as_str().unwrap();
                    assert!(label.starts_with(typed), "{label} is offered for {typed:?}");
                }
            }
            "formatting" => {
                for edit in all {
                    assert_eq!(slice(text, &edit["range"]), text);
                }
            }
            "hover" if !result.is_null() => {
                slice(text, &result["range"]);
            }
            "codeLens" => {
                for lens in all {
                    slice(text, &lens["range"]);
                }
            }
            "inlayHint" => {
                for hint in all {
                    let place = &hint["position"];
                    slice(text, &json!({"start": place, "end": place}));
                }
            }
            _ => {}
        }
    }
}

fn start_text(file: usize) -> &'static str {
    match file {
        0 => {
            "let lamp = red\ninclude part\ntarget out/<u>.o\n  needs each src/<u>.c\n  recipe: echo @{lamp} @{part/own} > @{target}\ntask check edition\n  after part/inner\n  recipe: echo @{edition}\n"
        }
        _ => {
            "let own = 1\ntarget made\n  recipe: echo @{lamp} @{own} > @{target}\ntask inner\n  needs made\n  recipe: true\n"
        }
    }
}

#[test]
fn whatever_is_typed_and_asked_is_answered_at_its_place() {
    let wanted = std::env::var("HANDLOOM_MESSAGES").ok();
    let wanted: usize = wanted.map_or(20_000, |count| count.parse().unwrap());
    let bed = Bed::new(start_text(0));
    bed.write("part/hand.loom", start_text(1));
    bed.write("src/a.c", "");
    bed.write("params.toml", "a = 1\n");
    let mut fuzz = Fuzz {
        editor: Editor::begin(&bed),
        chance: Chance(wanted as u64),
        texts: [start_text(0).to_owned(), start_text(1).to_owned()],
        asked: HashMap::new(),
        last: 1000,
        answered: BTreeMap::new(),
    };
    for (number, file) in FILES.iter().enumerate() {
        fuzz.editor.open(file, start_text(number));
    }
    for message in 0..wanted {
        match fuzz.chance.below(20) {
            0..=8 => fuzz.edit(),
            9..=18 => fuzz.ask(),
            _ => fuzz.disturb(),
        }
        if message % 50 == 49 {
            fuzz.settle();
        }
    }
    fuzz.settle();
    // Each was answered, and not by errors alone.
    for what in QUESTIONS
        .iter()
        .filter(|what| !matches!(**what, "nothing" | "rename"))
    {
        let answered = fuzz
            .answered
            .get(&format!("textDocument/{what}"))
            .copied()
            .unwrap_or(0);
        assert!(
            answered > wanted / 200,
            "{what}: {answered} of {:?}",
            fuzz.answered
        );
    }
    let renamed = fuzz.answered["textDocument/rename"];
    assert!(renamed > wanted / 5000, "only {renamed} names were changed");
    fuzz.editor.end();
    assert_eq!(bed.read("hand.loom"), start_text(0), "nothing is written");
}
