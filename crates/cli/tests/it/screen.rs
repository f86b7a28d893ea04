//! The program on a terminal that is read as a person reads it.

use std::fs::File;
use std::io::Read;
use std::io::Write;
use std::os::fd::OwnedFd;
use std::process::Child;
use std::process::Command;
use std::process::Stdio;
use std::time::Duration;
use std::time::Instant;

use crate::bed::Bed;

/// Longer than anything takes that is waited for, on a machine with much else to do.
pub const LONGEST: Duration = Duration::from_secs(60);

/// A terminal of 80 columns and 24 rows with the program on it.
pub struct Terminal {
    pub keyboard: File,
    pub screen: vt100::Parser,
    heard: std::sync::mpsc::Receiver<Vec<u8>>,
    pub child: Child,
    command: String,
}

impl Terminal {
    pub fn start(bed: &Bed, arguments: &[&str]) -> Self {
        Self::start_in(bed, arguments, 24, 80)
    }

    /// The same in a window of so many rows and columns.
    pub fn start_in(bed: &Bed, arguments: &[&str], rows: u16, columns: u16) -> Self {
        use rustix::pty::OpenptFlags;
        let keyboard = rustix::pty::openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
        rustix::pty::grantpt(&keyboard).unwrap();
        rustix::pty::unlockpt(&keyboard).unwrap();
        let name = rustix::pty::ptsname(&keyboard, Vec::new()).unwrap();
        let line = File::options()
            .read(true)
            .write(true)
            .open(name.to_str().unwrap())
            .unwrap();
        rustix::termios::tcsetwinsize(
            &line,
            rustix::termios::Winsize {
                ws_row: rows,
                ws_col: columns,
                ws_xpixel: 0,
                ws_ypixel: 0,
            },
        )
        .unwrap();
        let template = bed.command(arguments);
        let mut command = Command::new("setsid");
        command
            .args(["--ctty", "--wait"])
            .arg(template.get_program())
            .args(template.get_args())
            .current_dir(bed.root())
            .env_clear()
            .env("TERM", "xterm");
        for (name, value) in template.get_envs() {
            if let Some(value) = value {
                command.env(name, value);
            }
        }
        let child = command
            .stdin(Stdio::from(OwnedFd::from(line.try_clone().unwrap())))
            .stdout(Stdio::from(OwnedFd::from(line.try_clone().unwrap())))
            .stderr(Stdio::from(OwnedFd::from(line)))
            .spawn()
            .unwrap();
        let keyboard = File::from(keyboard);
        let mut reader = keyboard.try_clone().unwrap();
        let (sender, heard) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(count) = reader.read(&mut buffer) {
                if count == 0 || sender.send(buffer[..count].to_vec()).is_err() {
                    break;
                }
            }
        });
        Self {
            keyboard,
            screen: vt100::Parser::new(rows, columns, 500),
            heard,
            child,
            command: format!("handloom {}", arguments.join(" ")),
        }
    }

    pub fn contents(&self) -> String {
        self.screen.screen().contents()
    }

    /// Waits until the screen is as wished.
    #[track_caller]
    pub fn until(&mut self, what: &str, wished: impl Fn(&str) -> bool) {
        let start = Instant::now();
        while !wished(&self.contents()) {
            match self.heard.recv_timeout(Duration::from_millis(50)) {
                Ok(bytes) => self.screen.process(&bytes),
                Err(_) => assert!(
                    start.elapsed() < LONGEST,
                    "{}: the screen never showed {what}:\n{}",
                    self.command,
                    self.contents()
                ),
            }
        }
    }

    #[track_caller]
    pub fn shows(&mut self, text: &str) {
        self.until(text, |screen| screen.contains(text));
    }

    pub fn press(&mut self, keys: &[u8]) {
        self.keyboard.write_all(keys).unwrap();
    }

    /// Waits for the program's end; its status and the last screen.
    pub fn end(mut self) -> (Option<i32>, String) {
        let status = self.child.wait().unwrap();
        while let Ok(bytes) = self.heard.recv_timeout(Duration::from_millis(100)) {
            self.screen.process(&bytes);
        }
        (status.code(), self.contents())
    }
}

/// Waits until something is so.
#[track_caller]
pub fn wait_for(what: &str, is_so: impl Fn() -> bool) {
    wait_for_long(what, LONGEST, is_so);
}

/// Waits for what may take so long.
pub fn wait_for_long(what: &str, longest: Duration, is_so: impl Fn() -> bool) {
    let start = Instant::now();
    while !is_so() {
        assert!(start.elapsed() < longest, "never: {what}");
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// The state of a process: `S` sleeps, `T` is stopped; none when it is gone.
pub fn state_of(pid: &str) -> Option<char> {
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).ok()?;
    let state = stat.rsplit_once(") ")?.1.chars().next()?;
    (state != 'Z').then_some(state)
}
