//! Whoever is asked.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::io::BufRead;
use std::io::BufReader;
use std::io::Read;
use std::io::Write;
use std::os::fd::AsRawFd;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixListener;
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::Mutex;
use std::time::Duration;

use rustix::fs::Mode;
use rustix::fs::OFlags;

use handloom_core::world::lock;
use handloom_core::world::own::create_folder;

use crate::standing::ASKED;
use crate::standing::LONGEST;
use crate::standing::SOCKET;
use crate::standing::StandingAnswer;
use crate::standing::StandingQuery;

/// Whoever asks has so long to do it.
const PATIENCE: Duration = Duration::from_millis(50);

/// More questions than this are not kept waiting.
const MOST: usize = 64;

/// Questions that were asked, by their number.
type Pending = Arc<Mutex<HashMap<u64, (UnixStream, StandingQuery)>>>;

/// Hears questions, until it is dropped.
pub struct QueryServer {
    pending: Pending,
    socket: PathBuf,
}

impl QueryServer {
    /// Hears questions in a project, whose folder of own files that is; none where another one does already, or
    /// where that can't be done.
    pub fn start(own: &Path) -> Option<Self> {
        let socket = own.join(SOCKET);
        let asked = own.join(ASKED);
        create_folder(&asked).ok()?;
        let listener = listen(own, &socket).ok()?;
        let pending = Pending::default();
        let told = Arc::clone(&pending);
        std::thread::Builder::new()
            .name("questions".to_owned())
            .spawn(move || hear(&listener, &asked, &told))
            .ok()?;
        Some(Self { pending, socket })
    }

    /// Answers the question with this number, when it is still open.
    pub fn answer(&self, number: u64, answer: impl FnOnce(&StandingQuery) -> StandingAnswer) {
        let Some((mut stream, query)) = lock(&self.pending).remove(&number) else {
            return;
        };
        if let Ok(mut line) = serde_json::to_vec(&answer(&query)) {
            line.push(b'\n');
            // Whoever has gone does the work alone.
            let _ = stream.write_all(&line);
        }
    }
}

impl Drop for QueryServer {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.socket);
    }
}

/// A socket's path may not be long: it is made through the folder that it lies in.
fn listen(own: &Path, socket: &Path) -> io::Result<UnixListener> {
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let folder = rustix::fs::open(own, flags, Mode::empty())?;
    let path = format!("/proc/self/fd/{}/{SOCKET}", folder.as_raw_fd());
    if socket.symlink_metadata().is_ok() {
        if UnixStream::connect(&path).is_ok() {
            return Err(io::ErrorKind::AddrInUse.into());
        }
        // Left by one that was killed.
        std::fs::remove_file(socket)?;
    }
    let listener = UnixListener::bind(&path)?;
    std::fs::set_permissions(socket, std::fs::Permissions::from_mode(0o600))?;
    Ok(listener)
}

fn hear(listener: &UnixListener, asked: &Path, pending: &Pending) {
    let mut number = 0;
    for stream in listener.incoming() {
        let Ok(stream) = stream else {
            // Without descriptors nobody can be answered for a while.
            std::thread::sleep(PATIENCE);
            continue;
        };
        let Some(query) = read(&stream) else { continue };
        number += 1;
        {
            let mut pending = lock(pending);
            if pending.len() >= MOST {
                pending.clear();
            }
            pending.insert(number, (stream, query));
        }
        // Whoever is told of this file was told of all that happened before.
        let mark = asked.join(number.to_string());
        if File::create(&mark).is_err() {
            lock(pending).remove(&number);
        }
        let _ = std::fs::remove_file(&mark);
    }
}

fn read(stream: &UnixStream) -> Option<StandingQuery> {
    if !is_own(stream) {
        return None;
    }
    stream.set_read_timeout(Some(PATIENCE)).ok()?;
    stream.set_write_timeout(Some(PATIENCE)).ok()?;
    let mut line = Vec::new();
    let mut reader = BufReader::new(stream.take(LONGEST));
    reader.read_until(b'\n', &mut line).ok()?;
    serde_json::from_slice(&line).ok()
}

/// Whether the process at the other end is of this user.
pub fn is_own(stream: &UnixStream) -> bool {
    rustix::net::sockopt::socket_peercred(stream)
        .is_ok_and(|other| other.uid == rustix::process::geteuid())
}
