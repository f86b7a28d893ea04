//! The other side of a watch: hears of each call, notes what it looks at, and lets it go on.

use std::ffi::OsStr;
use std::io::IoSliceMut;
use std::io::PipeReader;
use std::mem::MaybeUninit;
use std::os::fd::AsFd;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::path::PathBuf;

use rustix::event::PollFd;
use rustix::event::PollFlags;
use rustix::fs::OFlags;
use rustix::net::RecvAncillaryBuffer;
use rustix::net::RecvAncillaryMessage;
use rustix::net::RecvFlags;

use crate::executor::sealing::SealPolicy;
use crate::executor::watching::calls;
use crate::executor::watching::calls::Call;
use crate::executor::watching::calls::PathAt;
use crate::executor::watching::kernel;
use crate::executor::watching::kernel::Notification;
use crate::executor::watching::observed::Gap;
use crate::executor::watching::observed::Observed;
use crate::executor::watching::observed::PathAccess;
use crate::executor::watching::observed::WatchReach;
use crate::executor::watching::trace::Trace;
use crate::world::names;

/// Longer paths the system does not take (`PATH_MAX`).
const LONGEST: usize = 4096;

/// Memory is there or not in pieces of this size.
const PAGE: u64 = 4096;

/// Watches the job that sends its listener over the other end of `socket`, until nothing of it is left or `stop` says
/// so. Nothing is seen when none comes.
pub fn watch(
    socket: &UnixStream,
    stop: &PipeReader,
    root: &Path,
    (reach, policy): (WatchReach, Option<&SealPolicy>),
) -> Observed {
    let mut trace = Trace::new(root, reach);
    if let Some(listener) = listener(socket) {
        kernel::wake_nearby(listener.as_fd());
        Supervisor {
            listener,
            policy,
            trace: &mut trace,
            has_other_root: false,
        }
        .serve(stop);
    }
    trace.finish()
}

/// The descriptor that comes over a socket.
fn listener(socket: &UnixStream) -> Option<OwnedFd> {
    let mut byte = [0];
    let mut space = [MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
    let mut along = RecvAncillaryBuffer::new(&mut space);
    rustix::io::retry_on_intr(|| {
        let mut pieces = [IoSliceMut::new(&mut byte)];
        rustix::net::recvmsg(socket, &mut pieces, &mut along, RecvFlags::CMSG_CLOEXEC)
    })
    .ok()?;
    along.drain().find_map(|message| match message {
        RecvAncillaryMessage::ScmRights(mut descriptors) => descriptors.next(),
        _ => None,
    })
}

/// A path by which a process names itself, as others name it.
fn as_seen_from_here(process: u32, path: PathBuf) -> PathBuf {
    const SELF: [(&str, &str); 3] = [
        ("/proc/self", ""),
        ("/proc/thread-self", ""),
        ("/dev/fd", "/fd"),
    ];
    for (own, behind) in SELF {
        if let Ok(rest) = path.strip_prefix(own) {
            return Path::new(&format!("/proc/{process}{behind}")).join(rest);
        }
    }
    path
}

/// A call that is not let go on, and the number of the error that it ends with.
struct Refused(i32);

struct Supervisor<'t, 'a> {
    listener: OwnedFd,
    /// What may be done, when not all may.
    policy: Option<&'t SealPolicy>,
    trace: &'t mut Trace<'a>,
    /// Whether a process may see another root than ours.
    has_other_root: bool,
}

impl Supervisor<'_, '_> {
    /// Answers until no process is left that the filter lies over.
    fn serve(&mut self, stop: &PipeReader) {
        loop {
            let mut fds = [
                PollFd::new(&self.listener, PollFlags::IN),
                PollFd::new(stop, PollFlags::IN),
            ];
            match rustix::event::poll(&mut fds, None) {
                Ok(_) => {}
                Err(rustix::io::Errno::INTR) => continue,
                Err(_) => return,
            }
            let (heard, stopped) = (fds[0].revents(), fds[1].revents());
            if heard.contains(PollFlags::IN) {
                self.answer();
            } else if !heard.is_empty() || !stopped.is_empty() {
                return;
            }
        }
    }

    fn answer(&mut self) {
        // Whoever made the call may be gone by now.
        let Ok(notification) = kernel::receive(self.listener.as_fd()) else {
            return;
        };
        let call = calls::call(notification.data.nr);
        let noted = call.map_or(Ok(()), |call| self.note(call, &notification));
        let listener = self.listener.as_fd();
        match noted {
            Ok(()) => kernel::let_go(listener, &notification),
            Err(Refused(error)) => kernel::refuse(listener, &notification, error),
        }
    }

    fn note(&mut self, call: Call, of: &Notification) -> Result<(), Refused> {
        let argument = |index: u8| of.data.args[usize::from(index)];
        match call {
            Call::Open(at, how) => self.open(at, argument(how), of),
            Call::OpenHow(at) => {
                let how = self.word(of, argument(2));
                self.open(at, how.unwrap_or(0), of)
            }
            Call::Create(at) => self.on(
                at,
                of,
                |_| PathAccess::Write,
                |trace, path| trace.write(&path),
            ),
            Call::Look(at) => {
                let look = |trace: &mut Trace<'_>, path: PathBuf| {
                    trace.look(&path);
                };
                self.on(at, of, |_| PathAccess::Look, look)
            }
            Call::Execute(at) => {
                let Some((base, path)) = self.parts(at, of) else {
                    return Ok(());
                };
                let whole = self.trace.path(&base, &path);
                self.check(&whole, PathAccess::Read)?;
                self.trace.execute(&base, &path);
                Ok(())
            }
            Call::List => {
                let Some(folder) = self.descriptor(of, argument(0)) else {
                    return Ok(());
                };
                self.check(&folder, PathAccess::List)?;
                self.trace.list(&folder);
                Ok(())
            }
            Call::MakeFolder(at) => {
                let access = |is_there: bool| PathAccess::of_change(!is_there);
                self.on(at, of, access, |trace, path| trace.make_folder(&path))
            }
            Call::Change(at) => self.on(
                at,
                of,
                |_| PathAccess::Write,
                |trace, path| trace.write(&path),
            ),
            Call::Remove(at) => self.on(at, of, PathAccess::of_change, |trace, path| {
                trace.remove(&path);
            }),
            Call::Rename(from, to) => {
                let (Some(from), Some(to)) = (self.path(from, of), self.path(to, of)) else {
                    return Ok(());
                };
                self.check(&from, PathAccess::Write)?;
                self.check(&to, PathAccess::Write)?;
                self.trace.rename(&from, &to);
                Ok(())
            }
            Call::Link(from, to) => {
                let (Some(from), Some(to)) = (self.path(from, of), self.path(to, of)) else {
                    return Ok(());
                };
                self.check(&from, PathAccess::Read)?;
                self.check(&to, PathAccess::Write)?;
                self.trace.link(&from, &to);
                Ok(())
            }
            Call::Connect => self.connect(of),
            Call::ChangeRoot => {
                self.has_other_root = true;
                Ok(())
            }
        }
    }

    fn open(&mut self, at: PathAt, how: u64, of: &Notification) -> Result<(), Refused> {
        let how = OFlags::from_bits_retain(u32::try_from(how & 0xFFFF_FFFF).unwrap_or(0));
        let changes = how.intersects(OFlags::WRONLY | OFlags::RDWR | OFlags::TRUNC)
            || how.contains(OFlags::CREATE);
        let Some(path) = self.path(at, of) else {
            return Ok(());
        };
        if how.contains(OFlags::TMPFILE) {
            // It has no name, but takes its place.
            return self.check(&path.join("without a name"), PathAccess::Write);
        }
        let found = std::fs::symlink_metadata(&path).ok();
        // What is there already makes such a call fail, which is all that it learns.
        let in_vain = how.contains(OFlags::CREATE | OFlags::EXCL) && found.is_some();
        if changes && !in_vain && !how.contains(OFlags::PATH) {
            self.check(&path, PathAccess::Write)?;
            self.trace.write(&path);
            return Ok(());
        }
        let is_folder = found.is_some_and(|found| found.is_dir());
        let access = if is_folder {
            PathAccess::Look
        } else {
            PathAccess::Read
        };
        self.check(&path, access)?;
        self.trace.look(&path);
        Ok(())
    }

    /// Refuses what a sealed job may not do.
    fn check(&mut self, path: &Path, access: PathAccess) -> Result<(), Refused> {
        let Some(policy) = self.policy else {
            return Ok(());
        };
        let trace = &mut *self.trace;
        if trace.made(path) || policy.permits(path, access) {
            return Ok(());
        }
        let real = trace.real(path);
        if trace.made(&real) || policy.permits(&real, access) {
            return Ok(());
        }
        match access {
            PathAccess::Look | PathAccess::Read => {
                // What is not there is not there, also for a job that is not sealed.
                let Ok(found) = std::fs::symlink_metadata(path) else {
                    return Ok(());
                };
                // That a folder is there is no secret: so a program goes on to the file in it that it wants, which is
                // what has to be named. In a root of its own it is not there.
                if found.is_dir() && !policy.strictly {
                    return Ok(());
                }
                trace.refuse(&real, access);
                Err(Refused(libc::ENOENT))
            }
            PathAccess::List | PathAccess::Write => {
                trace.refuse(&real, access);
                Err(Refused(libc::EACCES))
            }
        }
    }

    fn on(
        &mut self,
        at: PathAt,
        of: &Notification,
        access: impl FnOnce(bool) -> PathAccess,
        note: impl FnOnce(&mut Trace<'_>, PathBuf),
    ) -> Result<(), Refused> {
        if let Some(path) = self.path(at, of) {
            if self.policy.is_some() {
                let is_there = std::fs::symlink_metadata(&path).is_ok();
                self.check(&path, access(is_there))?;
            }
            note(self.trace, path);
        }
        Ok(())
    }

    fn path(&mut self, at: PathAt, of: &Notification) -> Option<PathBuf> {
        let (base, path) = self.parts(at, of)?;
        Some(self.trace.path(&base, &path))
    }

    /// The folder that a call's path starts from, and the path; none when the call names a descriptor alone.
    fn parts(&mut self, at: PathAt, of: &Notification) -> Option<(PathBuf, PathBuf)> {
        let address = of.data.args[usize::from(at.path)];
        if address == 0 {
            return None;
        }
        let Some(bytes) = self.text(of, address) else {
            self.trace.miss_path();
            return None;
        };
        if bytes.is_empty() {
            return None;
        }
        let path = as_seen_from_here(of.pid, PathBuf::from(OsStr::from_bytes(&bytes)));
        if path.is_absolute() {
            let base = PathBuf::from("/");
            if self.has_other_root {
                let root = std::fs::read_link(format!("/proc/{}/root", of.pid)).unwrap_or(base);
                let path = path.strip_prefix("/").unwrap_or(&path).to_owned();
                return Some((root, path));
            }
            return Some((base, path));
        }
        // A descriptor is a number of 32 bits with a sign.
        let descriptor = at
            .folder
            .map(|folder| of.data.args[usize::from(folder)] & 0xFFFF_FFFF)
            .filter(|descriptor| *descriptor != u64::from(libc::AT_FDCWD.cast_unsigned()));
        let base = match descriptor {
            Some(descriptor) => self.descriptor(of, descriptor)?,
            None => std::fs::read_link(format!("/proc/{}/cwd", of.pid)).ok()?,
        };
        Some((base, path))
    }

    /// What a descriptor of a process stands for, when it is a file or a folder.
    fn descriptor(&self, of: &Notification, descriptor: u64) -> Option<PathBuf> {
        let descriptor = u32::try_from(descriptor & 0xFFFF_FFFF).ok()?;
        let path = std::fs::read_link(format!("/proc/{}/fd/{descriptor}", of.pid)).ok()?;
        path.is_absolute().then_some(path)
    }

    /// The text at an address, up to its zero; none when it can't be read.
    fn text(&self, of: &Notification, address: u64) -> Option<Vec<u8>> {
        let mut text = Vec::new();
        let mut at = address;
        while text.len() < LONGEST {
            let mut piece = [0; 256];
            let until_page = usize::try_from(PAGE - at % PAGE).unwrap_or(piece.len());
            let wanted = until_page.min(piece.len());
            let read = kernel::read_memory(of.pid, at, &mut piece[..wanted]);
            let piece = piece.get(..read).filter(|piece| !piece.is_empty())?;
            if let Some(end) = memchr::memchr(0, piece) {
                text.extend_from_slice(&piece[..end]);
                return kernel::is_waiting(self.listener.as_fd(), of).then_some(text);
            }
            text.extend_from_slice(piece);
            at = at.checked_add(read as u64)?;
        }
        None
    }

    /// The number at an address.
    fn word(&self, of: &Notification, address: u64) -> Option<u64> {
        let mut bytes = [0; 8];
        let read = kernel::read_memory(of.pid, address, &mut bytes);
        (read == bytes.len()).then(|| u64::from_ne_bytes(bytes))
    }

    /// Notes a local socket that is talked to (unix(7)): the family in two bytes, then its path, or a zero and a name.
    fn connect(&mut self, of: &Notification) -> Result<(), Refused> {
        let mut address = [0; size_of::<libc::sockaddr_un>()];
        let length = usize::try_from(of.data.args[2]).unwrap_or(0);
        let wanted = length.min(address.len());
        let read = kernel::read_memory(of.pid, of.data.args[1], &mut address[..wanted]);
        let Some((family, name)) = address[..read].split_first_chunk::<2>() else {
            return Ok(());
        };
        if u16::from_ne_bytes(*family) != libc::AF_UNIX.unsigned_abs() as u16 {
            return Ok(());
        }
        let (is_abstract, name) = match name.split_first() {
            Some((0, name)) => (true, name),
            _ => (false, name),
        };
        let name = name.split(|&byte| byte == 0).next().unwrap_or_default();
        if name.is_empty() {
            return Ok(());
        }
        let text = names::to_text(name);
        if is_abstract {
            self.trace.miss(Gap::Socket(format!("@{text}")));
            return Ok(());
        }
        let here = std::fs::read_link(format!("/proc/{}/cwd", of.pid)).unwrap_or_default();
        let path = here.join(OsStr::from_bytes(name));
        // Many programs try a service of the system that is not there.
        if self.trace.made(&path) || !path.exists() {
            return Ok(());
        }
        if self.policy.is_some() {
            self.trace.refuse(&path, PathAccess::Read);
            return Err(Refused(libc::ECONNREFUSED));
        }
        self.trace.miss(Gap::Socket(text.into_owned()));
        Ok(())
    }
}
