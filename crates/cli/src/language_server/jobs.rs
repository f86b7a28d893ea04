//! What runs for an editor: this program in a process of its own, told of through the protocol's progress, ended when it is asked
//! to.

use std::collections::HashMap;
use std::io::BufRead;
use std::io::BufReader;
use std::io::Read;
use std::path::PathBuf;
use std::process::Child;
use std::process::Command;
use std::process::Stdio;
use std::sync::Arc;
use std::sync::Mutex;

use crossbeam_channel::Sender;
use lsp_server::Message;
use lsp_server::Notification;
use lsp_server::Request;
use lsp_server::RequestId;
use serde::Deserialize;
use serde_json::Value;
use serde_json::json;

use handloom_core::world::lock;

use crate::command_line::command_names;

/// Commands that tell what happens while it does.
const TELLING: [&str; 3] = ["weave", "run", "watch"];

/// What is printed is shown up to so many characters.
const MOST_SHOWN: usize = 4000;

/// What somebody wants to run.
#[derive(Debug, Deserialize)]
pub struct JobWish {
    /// Where.
    folder: PathBuf,
    /// What stands behind the program's name.
    words: Vec<String>,
    /// Values that are still to be given by somebody.
    #[serde(default)]
    asks: Vec<String>,
}

/// A process that runs, and whether somebody asked it to end.
#[derive(Clone, Copy)]
struct OpenJob {
    process: u32,
    is_stopped: bool,
}

type Running = Arc<Mutex<HashMap<String, OpenJob>>>;

/// All that run.
pub struct Jobs {
    out: Sender<Message>,
    shows_progress: bool,
    /// By their tokens.
    running: Running,
    last: u32,
}

impl Jobs {
    /// Nothing runs; messages go to `out`.
    pub fn new(out: Sender<Message>, shows_progress: bool) -> Self {
        Self {
            out,
            shows_progress,
            running: Running::default(),
            last: 0,
        }
    }

    /// Begins a job; the token that it is told of and stopped by.
    pub fn start(&mut self, wish: &JobWish) -> Result<String, String> {
        if !wish.asks.is_empty() {
            return Err(format!(
                "`{}` needs a value for {}: ask for it in the editor, or type it in a terminal",
                wish.words.join(" "),
                wish.asks.join(", ")
            ));
        }
        let program = std::env::current_exe()
            .map_err(|error| format!("the program is not found: {error}"))?;
        let first = wish.words.first().map_or("", String::as_str);
        let mut words = wish.words.iter();
        let mut command = Command::new(program);
        // `weave` may be left out.
        let is_bare = first.is_empty()
            || !first.starts_with('-') && !command_names().iter().any(|name| name == first);
        match is_bare {
            true => command.arg("weave"),
            false => command.args(words.next()),
        };
        let is_telling = is_bare || TELLING.contains(&first);
        if is_telling {
            command.args(["--events", "-"]);
        }
        let child = command
            .args(words)
            .current_dir(&wish.folder)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .map_err(|error| format!("can't start in `{}`: {error}", wish.folder.display()))?;
        self.last += 1;
        let token = format!("handloom-{}", self.last);
        let job = OpenJob {
            process: child.id(),
            is_stopped: false,
        };
        lock(&self.running).insert(token.clone(), job);
        let follower = Follower {
            title: format!("handloom {}", wish.words.join(" ")),
            is_watching: first == "watch",
            token: token.clone(),
            out: self.out.clone(),
            shows_progress: self.shows_progress,
            running: Arc::clone(&self.running),
        };
        std::thread::Builder::new()
            .name("job".to_owned())
            .spawn(move || follower.follow(child, is_telling))
            .map_err(|error| format!("can't start a thread: {error}"))?;
        Ok(token)
    }

    /// Asks one to end, or all of them.
    pub fn stop(&self, token: Option<&str>) {
        for (known, job) in lock(&self.running).iter_mut() {
            if token.is_none_or(|token| token == known) {
                job.is_stopped = true;
                interrupt(job.process);
            }
        }
    }
}

impl Drop for Jobs {
    /// The editor is gone, and nobody could stop them.
    fn drop(&mut self) {
        self.stop(None);
    }
}

fn interrupt(process: u32) {
    let process = i32::try_from(process).ok();
    if let Some(process) = process.and_then(rustix::process::Pid::from_raw) {
        // It may have ended by now, and is still ours until its end is asked for.
        let _ = rustix::process::kill_process(process, rustix::process::Signal::INT);
    }
}

/// What is known of a run while it is followed.
#[derive(Default)]
struct Followed {
    planned: u64,
    ended: u64,
    summary: Option<String>,
}

/// One job, followed to its end.
struct Follower {
    title: String,
    is_watching: bool,
    token: String,
    out: Sender<Message>,
    shows_progress: bool,
    running: Running,
}

impl Follower {
    fn follow(self, mut child: Child, is_telling: bool) {
        if self.shows_progress {
            let id = RequestId::from(format!("progress-{}", self.token));
            let method = "window/workDoneProgress/create".to_owned();
            let _ = self
                .out
                .send(Request::new(id, method, json!({"token": self.token})).into());
            self.progress(&json!({"kind": "begin", "title": self.title, "cancellable": true}));
        }
        let errors = child.stderr.take().map(|stream| {
            std::thread::spawn(move || {
                let mut text = Vec::new();
                let mut stream = stream.take(1 << 20);
                // What can't be read is left out.
                let _ = stream.read_to_end(&mut text);
                let _ = std::io::copy(&mut stream.into_inner(), &mut std::io::sink());
                String::from_utf8_lossy(&text).into_owned()
            })
        });
        let mut followed = Followed::default();
        let mut printed = String::new();
        if let Some(stream) = child.stdout.take() {
            let mut lines = BufReader::new(stream);
            let mut line = Vec::new();
            while lines
                .read_until(b'\n', &mut line)
                .is_ok_and(|count| count > 0)
            {
                let text = String::from_utf8_lossy(&line).into_owned();
                line.clear();
                match serde_json::from_str::<Value>(&text) {
                    Ok(event) if is_telling => self.heed(&event, &mut followed),
                    _ if printed.len() < MOST_SHOWN => printed.push_str(&text),
                    _ => {}
                }
            }
        }
        let status = child.wait();
        let job = lock(&self.running).remove(&self.token);
        let is_stopped = job.is_some_and(|job| job.is_stopped);
        let said = errors.and_then(|thread| thread.join().ok());
        let said = said.unwrap_or_default();
        let code = status.ok().and_then(|status| status.code());
        let end = match (&followed.summary, code) {
            // What is watched has had many ends.
            _ if is_stopped && self.is_watching => "stopped".to_owned(),
            (Some(summary), _) => summary.clone(),
            (None, Some(0)) => "done".to_owned(),
            (None, Some(code)) => format!("ended with status {code}"),
            (None, None) => "stopped".to_owned(),
        };
        if self.shows_progress {
            self.progress(&json!({"kind": "end", "message": end}));
        }
        let is_well = code == Some(0) || is_stopped;
        self.say(is_well, is_telling, &end, &printed, &said);
    }

    /// Takes in what happens.
    fn heed(&self, event: &Value, followed: &mut Followed) {
        match event["event"].as_str() {
            Some("planned") => {
                followed.planned = event["jobs"].as_u64().unwrap_or(0);
                followed.ended = 0;
            }
            Some("began") => self.report(followed, event["step"].as_str().unwrap_or_default()),
            Some("ended" | "spared") => {
                followed.ended += 1;
                self.report(followed, event["step"].as_str().unwrap_or_default());
            }
            Some("summary") => {
                let summary = summary(event);
                if self.is_watching {
                    self.tell(&summary, 100);
                }
                followed.summary = Some(summary);
            }
            _ => {}
        }
    }

    fn report(&self, followed: &Followed, step: &str) {
        let Followed { planned, ended, .. } = *followed;
        let percentage = (ended.min(planned) * 100).checked_div(planned);
        let message = format!("{ended} of {planned}: {step}");
        self.tell(&message, percentage.unwrap_or(0));
    }

    fn tell(&self, message: &str, percentage: u64) {
        if self.shows_progress {
            self.progress(&json!({"kind": "report", "message": message, "percentage": percentage}));
        }
    }

    fn progress(&self, value: &Value) {
        let params = json!({"token": self.token, "value": value});
        let notification = Notification::new("$/progress".to_owned(), params);
        // Nobody is there any more: the job goes on to its end, or was asked to end.
        let _ = self.out.send(notification.into());
    }

    /// Shows how it ended: an answer, or what went wrong.
    fn say(&self, is_well: bool, is_telling: bool, end: &str, printed: &str, said: &str) {
        let kind = if is_well { 3 } else { 1 };
        let title = &self.title;
        let text = match (is_telling, is_well) {
            (true, true) => format!("{title}: {end}"),
            (true, false) => format!("{title}: {end}\n{said}"),
            (false, _) => format!("{title}\n{printed}{said}"),
        };
        let text: String = text.trim_end().chars().take(MOST_SHOWN).collect();
        let params = json!({"type": kind, "message": text});
        let notification = Notification::new("window/showMessage".to_owned(), params);
        let _ = self.out.send(notification.into());
    }
}

/// The last line of a run.
fn summary(event: &Value) -> String {
    let endings = [
        "failed", "held", "stopped", "made", "same", "restored", "kept",
    ];
    let counts = endings.iter().filter_map(|name| {
        let count = event[name].as_u64().filter(|&count| count > 0)?;
        Some(format!("{count} {name}"))
    });
    let counts: Vec<String> = counts.collect();
    let seconds = event["seconds"].as_f64().unwrap_or(0.0);
    match counts.is_empty() {
        true => "nothing to do".to_owned(),
        false => format!("{} in {seconds:.1}s", counts.join(", ")),
    }
}
