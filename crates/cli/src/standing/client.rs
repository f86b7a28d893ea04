//! Whoever asks.

use std::io::BufRead;
use std::io::BufReader;
use std::io::Read;
use std::io::Write;
use std::os::fd::AsRawFd;
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::time::Duration;

use rustix::fs::Mode;
use rustix::fs::OFlags;

use crate::standing::LONGEST_ANSWER;
use crate::standing::SOCKET;
use crate::standing::StandingAnswer;
use crate::standing::StandingQuery;
use crate::standing::server::is_own;

/// Whoever does not answer in this time is not asked.
const PATIENCE: Duration = Duration::from_millis(50);

/// What whoever watches the project says, when that holds here too; `digest` tells a value of this process's
/// environment as the other one does.
pub fn ask(
    own: &Path,
    query: &StandingQuery,
    digest: &dyn Fn(&str) -> Option<String>,
) -> Option<StandingAnswer> {
    let mut stream = connect(own)?;
    if !is_own(&stream) {
        return None;
    }
    stream.set_read_timeout(Some(PATIENCE)).ok()?;
    stream.set_write_timeout(Some(PATIENCE)).ok()?;
    let mut line = serde_json::to_vec(query).ok()?;
    line.push(b'\n');
    stream.write_all(&line).ok()?;
    let mut answer = Vec::new();
    let mut reader = BufReader::new(stream.take(LONGEST_ANSWER));
    reader.read_until(b'\n', &mut answer).ok()?;
    let answer = serde_json::from_slice(&answer).ok()?;
    let (StandingAnswer::Unchanged { environment, .. } | StandingAnswer::Text { environment, .. }) =
        &answer
    else {
        return None;
    };
    let is_same = |(name, value): &(String, Option<String>)| digest(name) == *value;
    environment.iter().all(is_same).then_some(answer)
}

/// A socket's path may not be long: it is reached through the folder that it lies in.
fn connect(own: &Path) -> Option<UnixStream> {
    own.join(SOCKET).symlink_metadata().ok()?;
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let folder = rustix::fs::open(own, flags, Mode::empty()).ok()?;
    UnixStream::connect(format!("/proc/self/fd/{}/{SOCKET}", folder.as_raw_fd())).ok()
}
