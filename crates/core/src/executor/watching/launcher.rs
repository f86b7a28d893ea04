//! The first moments of a watched job: this program, before it becomes the interpreter.

use std::ffi::OsStr;
use std::ffi::OsString;
use std::io;
use std::io::IoSlice;
use std::mem::MaybeUninit;
use std::os::fd::AsFd;
use std::os::fd::BorrowedFd;
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

use rustix::net::SendAncillaryBuffer;
use rustix::net::SendAncillaryMessage;
use rustix::net::SendFlags;

use crate::executor::watching::calls;
use crate::executor::watching::kernel;

/// The name under which this program is called as a launcher; no user types it.
pub const NAME: &str = "handloom: watched recipe";

/// What a launcher says first: it is watched, and the descriptor comes along.
pub const WATCHED: u8 = b'w';
/// It can't be watched, and goes on unwatched; an error's number follows.
pub const UNWATCHED: u8 = b'u';
/// It can't be watched at all here, and has ended; an error's number follows.
pub const IMPOSSIBLE: u8 = b'i';
/// The interpreter could not be started; an error's number follows.
pub const NOT_STARTED: u8 = b'n';

/// A command that begins as a launcher, which is the program `launcher`, and tells of itself over `socket`.
pub fn wrapped(
    command: &Command,
    argument_zero: &OsStr,
    launcher: &Path,
    socket: UnixStream,
) -> Command {
    let mut wrapped = Command::new(launcher);
    wrapped
        .arg0(NAME)
        .arg(command.get_program())
        .arg(argument_zero)
        .args(command.get_args())
        .process_group(0)
        .stdin(OwnedFd::from(socket));
    for (name, value) in command.get_envs() {
        match value {
            Some(value) => wrapped.env(name, value),
            None => wrapped.env_remove(name),
        };
    }
    if let Some(folder) = command.get_current_dir() {
        wrapped.current_dir(folder);
    }
    wrapped
}

/// Becomes the interpreter when this program was called as a launcher; `None` when it was not. Only comes back, with
/// an exit status, when that could not be done.
#[must_use]
pub fn run_if_called(mut arguments: impl Iterator<Item = OsString>) -> Option<u8> {
    if arguments.next()? != NAME {
        return None;
    }
    let (Some(program), Some(argument_zero)) = (arguments.next(), arguments.next()) else {
        return Some(2);
    };
    let Ok(socket) = rustix::io::fcntl_dupfd_cloexec(rustix::stdio::stdin(), 3) else {
        return Some(2);
    };
    let mut command = Command::new(program);
    command.arg0(argument_zero).args(arguments);
    // The interpreter finds no input, as in a job that is not watched.
    match std::fs::File::open("/dev/null") {
        Ok(nothing) if rustix::stdio::dup2_stdin(&nothing).is_ok() => {}
        _ => return Some(2),
    }
    let installed = calls::filter()
        .ok_or_else(|| io::Error::from(io::ErrorKind::Unsupported))
        .and_then(|filter| kernel::install(&filter));
    let told = match installed {
        Ok(listener) => tell(&socket, &[WATCHED], Some(listener.as_fd())),
        Err(error) if error.raw_os_error() == Some(libc::EBUSY) => {
            tell(&socket, &message(UNWATCHED, &error), None)
        }
        Err(error) => {
            let _ = tell(&socket, &message(IMPOSSIBLE, &error), None);
            return Some(2);
        }
    };
    if told.is_err() {
        // Nobody would answer its calls.
        return Some(2);
    }
    let error = command.exec();
    let _ = tell(&socket, &message(NOT_STARTED, &error), None);
    Some(127)
}

fn message(what: u8, error: &io::Error) -> Vec<u8> {
    let mut message = vec![what];
    message.extend(error.raw_os_error().unwrap_or(libc::ENOSYS).to_le_bytes());
    message
}

fn tell(socket: &OwnedFd, message: &[u8], descriptor: Option<BorrowedFd<'_>>) -> io::Result<()> {
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut along = SendAncillaryBuffer::new(&mut space);
    let descriptors: Vec<BorrowedFd<'_>> = descriptor.into_iter().collect();
    if !descriptors.is_empty() && !along.push(SendAncillaryMessage::ScmRights(&descriptors)) {
        return Err(io::ErrorKind::OutOfMemory.into());
    }
    let pieces = [IoSlice::new(message)];
    rustix::net::sendmsg(socket, &pieces, &mut along, SendFlags::NOSIGNAL)?;
    Ok(())
}
