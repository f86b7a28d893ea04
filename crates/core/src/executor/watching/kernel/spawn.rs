//! Beginning a process that puts a filter over itself, and shuts itself off, before it becomes its program.
//!
//! It is made as posix_spawn(3) makes one, with a stack of its own in the memory of this process, which stands still
//! until the other has become its program: so it costs the same however large this process is (a plain fork(2) copies
//! its page tables), and what runs in between (`in_child`) makes system calls and nothing else.

use std::ffi::CString;
use std::io;
use std::os::fd::AsRawFd;
use std::os::fd::BorrowedFd;
use std::os::fd::RawFd;

use crate::executor::watching::kernel::process_end::wait;

/// `SECCOMP_FILTER_FLAG_WAIT_KILLABLE_RECV`, since Linux 5.19.
const WAIT_KILLABLE: libc::c_ulong = 1 << 5;
/// A program to begin, and what is to be done to its process before.
pub struct Spawn<'s> {
    /// The program's file.
    pub program: CString,
    /// Its arguments, the first of them its name.
    pub arguments: Vec<CString>,
    /// Its whole environment, as `NAME=value`.
    pub environment: Vec<CString>,
    /// The folder to run in.
    pub folder: CString,
    /// Its standard input.
    pub input: BorrowedFd<'s>,
    /// Its standard output and standard error.
    pub output: BorrowedFd<'s>,
    /// What watches it.
    pub watch: SpawnWatch<'s>,
    /// What it is shut off by.
    pub seal: Option<SpawnSeal<'s>>,
}

/// What shuts a process off.
pub struct SpawnSeal<'s> {
    /// The rules of Landlock that it puts over itself.
    pub ruleset: BorrowedFd<'s>,
    /// What is done before; any of it asks for namespaces of its own.
    pub preparations: Vec<Preparation>,
}

/// A call that a process makes before it becomes its program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Preparation {
    /// Writes to a file.
    Write(CString, Vec<u8>),
    /// What is mounted from now on is nobody else's business.
    MakePrivate,
    /// Mounts an empty folder in memory.
    MountMemory(CString),
    /// Makes a folder.
    MakeFolder(CString),
    /// Makes an empty file.
    MakeFile(CString),
    /// Makes a link: what it says, and its name.
    MakeLink(CString, CString),
    /// Shows a file or folder, with all that is mounted in it, at another place too.
    Bind {
        /// What is shown.
        from: CString,
        /// Where.
        to: CString,
        /// Whether it may be written to there.
        writable: bool,
    },
    /// Makes a mounted folder the root, and lets go of the old one.
    EnterRoot(CString),
}

/// What watches a process.
pub struct SpawnWatch<'s> {
    /// The filter.
    pub filter: Vec<libc::sock_filter>,
    /// A socket to which the descriptor goes that hears of the filter's calls.
    pub socket: BorrowedFd<'s>,
}

/// A process that was begun.
#[derive(Clone, Copy, Debug)]
pub struct Spawned {
    /// Its number.
    pub process: i32,
    /// Whether it could not be watched, since somebody does already.
    pub unwatched: bool,
}

/// What could not be done for a process that was to begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SpawnStep {
    /// It could not be made, or prepared.
    Begin,
    /// It could not be watched.
    Watch,
    /// It could not be sealed.
    Seal,
    /// It could not go to its folder.
    Folder,
    /// It could not become its program.
    Program,
}

/// What a child has of its parent's memory: all that it reads, and what it says.
struct Child {
    program: *const libc::c_char,
    arguments: Vec<*const libc::c_char>,
    environment: Vec<*const libc::c_char>,
    folder: *const libc::c_char,
    input: RawFd,
    output: RawFd,
    filter: libc::sock_fprog,
    seal: Option<*const SpawnSeal<'static>>,
    socket: RawFd,
    mask: libc::sigset_t,
    failed: Option<(SpawnStep, i32)>,
    unwatched: bool,
}

/// `landlock_create_ruleset(2)`
const CREATE_RULESET: libc::c_long = 444;

/// `landlock_add_rule(2)`, its `LANDLOCK_RULE_PATH_BENEATH`, and `LANDLOCK_ACCESS_FS_READ_DIR`.
const ADD_RULE: libc::c_long = 445;
const PATH_BENEATH: libc::c_int = 1;
const READ_DIR: u64 = 1 << 3;

/// `landlock_restrict_self(2)`: calls have had the same number everywhere since long before it.
const RESTRICT_SELF: libc::c_long = 446;

/// There are no more signals than that (signal(7)).
const LAST_SIGNAL: libc::c_int = 64;

/// So much room the few calls of a child take, with a margin.
const STACK: usize = 64 * 1024;

/// Begins a process as a group of its own.
///
/// # Errors
/// What could not be done, and why.
pub fn spawn(spawn: &Spawn<'_>) -> Result<Spawned, (SpawnStep, io::Error)> {
    let pointers = |texts: &[CString]| {
        let texts = texts.iter().map(|text| text.as_ptr());
        texts.chain(std::iter::once(std::ptr::null())).collect()
    };
    let filter = libc::sock_fprog {
        len: u16::try_from(spawn.watch.filter.len())
            .map_err(|_| (SpawnStep::Watch, io::ErrorKind::InvalidInput.into()))?,
        filter: spawn.watch.filter.as_ptr().cast_mut(),
    };
    let is_apart = |seal: &SpawnSeal<'_>| !seal.preparations.is_empty();
    let apart = if spawn.seal.as_ref().is_some_and(is_apart) {
        libc::CLONE_NEWUSER | libc::CLONE_NEWNS | libc::CLONE_NEWNET | libc::CLONE_NEWIPC
    } else {
        0
    };
    let mut child = Child {
        program: spawn.program.as_ptr(),
        arguments: pointers(&spawn.arguments),
        environment: pointers(&spawn.environment),
        folder: spawn.folder.as_ptr(),
        input: spawn.input.as_raw_fd(),
        output: spawn.output.as_raw_fd(),
        filter,
        seal: spawn
            .seal
            .as_ref()
            .map(|seal| (&raw const *seal).cast::<SpawnSeal<'static>>()),
        socket: spawn.watch.socket.as_raw_fd(),
        // SAFETY: a set of signals is numbers, and is filled in below.
        mask: unsafe { std::mem::zeroed() },
        failed: None,
        unwatched: false,
    };
    let mut stack: Vec<u128> = Vec::with_capacity(STACK / size_of::<u128>());
    // SAFETY: no signal may come to the child while it has this process's memory, so all are held back until it has
    // become its program. The stack belongs to nobody else, is as aligned as a stack must be, and the child begins at
    // its end. With CLONE_VFORK this thread only goes on when the child has its own memory or has ended, so that all
    // that `child` points to outlives its use.
    let process = unsafe {
        let mut all: libc::sigset_t = std::mem::zeroed();
        libc::sigfillset(&raw mut all);
        libc::pthread_sigmask(libc::SIG_BLOCK, &raw const all, &raw mut child.mask);
        let process = libc::clone(
            in_child,
            stack.as_mut_ptr().add(stack.capacity()).cast(),
            libc::CLONE_VM | libc::CLONE_VFORK | libc::SIGCHLD | apart,
            (&raw mut child).cast(),
        );
        let error = io::Error::last_os_error();
        libc::pthread_sigmask(
            libc::SIG_SETMASK,
            &raw const child.mask,
            std::ptr::null_mut(),
        );
        if process < 0 {
            let step = if apart == 0 {
                SpawnStep::Begin
            } else {
                SpawnStep::Seal
            };
            return Err((step, error));
        }
        process
    };
    if let Some((step, error)) = child.failed {
        // It has ended; its number is not to stay taken.
        let _ = wait(process);
        return Err((step, io::Error::from_raw_os_error(error)));
    }
    Ok(Spawned {
        process,
        unwatched: child.unwatched,
    })
}

/// The first moments of a child, in its parent's memory: system calls, and nothing that takes memory or a lock.
extern "C" fn in_child(child: *mut libc::c_void) -> libc::c_int {
    // SAFETY: it is the parent's, which stands still and reads it only when this child is done with it.
    let child = unsafe { &mut *child.cast::<Child>() };
    if let Err(step) = prepare(child) {
        child.failed = Some((step, last_error()));
    } else {
        // SAFETY: both lists end with a null, and all texts with a zero.
        unsafe {
            libc::execve(
                child.program,
                child.arguments.as_ptr(),
                child.environment.as_ptr(),
            );
        }
        child.failed = Some((SpawnStep::Program, last_error()));
    }
    // SAFETY: ends the child alone, and runs nothing of this program.
    unsafe { libc::_exit(127) }
}

/// The number of the last error. `io::Error` would do too, and this shows that nothing is allocated.
fn last_error() -> i32 {
    // SAFETY: the address of this thread's number, which the child shares with its parent, which stands still.
    unsafe { *libc::__errno_location() }
}

fn prepare(child: &mut Child) -> Result<(), SpawnStep> {
    let done = |result: libc::c_int, step: SpawnStep| if result < 0 { Err(step) } else { Ok(()) };
    // SAFETY: calls with numbers and with texts that end with a zero.
    unsafe {
        done(libc::setpgid(0, 0), SpawnStep::Begin)?;
        // What this program does at a signal must not be done by the child, which still has its memory.
        for signal in 1..=LAST_SIGNAL {
            let mut now: libc::sigaction = std::mem::zeroed();
            let known = libc::sigaction(signal, std::ptr::null(), &raw mut now) == 0;
            if known && now.sa_sigaction != libc::SIG_DFL && now.sa_sigaction != libc::SIG_IGN {
                libc::signal(signal, libc::SIG_DFL);
            }
        }
        // This program ignores it, as all Rust programs do; others expect to be ended by it.
        libc::signal(libc::SIGPIPE, libc::SIG_DFL);
        done(libc::dup2(child.input, 0), SpawnStep::Begin)?;
        done(libc::dup2(child.output, 1), SpawnStep::Begin)?;
        done(libc::dup2(child.output, 2), SpawnStep::Begin)?;
    }
    // SAFETY: it outlives the child's use of its parent's memory.
    let seal = child.seal.map(|seal| unsafe { &*seal });
    for preparation in seal.iter().flat_map(|seal| &seal.preparations) {
        carry_out(preparation)?;
    }
    // SAFETY: calls with numbers and with texts that end with a zero.
    unsafe {
        done(libc::chdir(child.folder), SpawnStep::Folder)?;
        done(
            libc::prctl(libc::PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0),
            SpawnStep::Watch,
        )?;
        if let Some(seal) = seal {
            if !seal.preparations.is_empty() {
                allow_listing(seal.ruleset.as_raw_fd())?;
            }
            let restricted = libc::syscall(RESTRICT_SELF, seal.ruleset.as_raw_fd(), 0);
            done(i32::try_from(restricted).unwrap_or(-1), SpawnStep::Seal)?;
        }
    }
    watch(child)?;
    // SAFETY: the mask was filled in by the parent.
    unsafe {
        libc::sigprocmask(
            libc::SIG_SETMASK,
            &raw const child.mask,
            std::ptr::null_mut(),
        );
    }
    Ok(())
}

/// Makes one of the calls in front of the program's own.
fn carry_out(preparation: &Preparation) -> Result<(), SpawnStep> {
    const NOTHING: *const libc::c_char = std::ptr::null();
    let recursive = libc::MS_BIND | libc::MS_REC;
    // SAFETY: calls with numbers and with texts that end with a zero; a buffer has the length that is said.
    let result = unsafe {
        match preparation {
            Preparation::Write(file, bytes) => {
                let file = libc::open(file.as_ptr(), libc::O_WRONLY | libc::O_CLOEXEC);
                let written = libc::write(file, bytes.as_ptr().cast(), bytes.len());
                libc::close(file);
                i32::try_from(written).unwrap_or(-1)
            }
            Preparation::MakePrivate => {
                let flags = libc::MS_REC | libc::MS_PRIVATE;
                libc::mount(NOTHING, c"/".as_ptr(), NOTHING, flags, std::ptr::null())
            }
            Preparation::MountMemory(folder) => {
                let kind = c"tmpfs".as_ptr();
                let flags = libc::MS_NOSUID | libc::MS_NODEV;
                libc::mount(kind, folder.as_ptr(), kind, flags, std::ptr::null())
            }
            Preparation::MakeFolder(folder) => match libc::mkdir(folder.as_ptr(), 0o755) {
                // What was bound may have it already.
                -1 if last_error() == libc::EEXIST => 0,
                made => made,
            },
            Preparation::MakeFile(file) => {
                let flags = libc::O_WRONLY | libc::O_CREAT | libc::O_CLOEXEC;
                let file = libc::open(file.as_ptr(), flags, 0o644);
                // In a folder that was bound to be read it is there already, or what is bound to it fails.
                if file >= 0 { libc::close(file) } else { 0 }
            }
            Preparation::MakeLink(to, name) => match libc::symlink(to.as_ptr(), name.as_ptr()) {
                -1 if last_error() == libc::EEXIST => 0,
                made => made,
            },
            Preparation::Bind { from, to, writable } => {
                let bound = libc::mount(
                    from.as_ptr(),
                    to.as_ptr(),
                    NOTHING,
                    recursive,
                    std::ptr::null(),
                );
                if bound == 0 && !writable {
                    let flags = libc::MS_BIND | libc::MS_REMOUNT | libc::MS_RDONLY;
                    // Where the system keeps what was mounted as it is, Landlock refuses writing all the same.
                    libc::mount(NOTHING, to.as_ptr(), NOTHING, flags, std::ptr::null());
                }
                bound
            }
            Preparation::EnterRoot(folder) => {
                let entered = libc::chdir(folder.as_ptr());
                let here = c".".as_ptr();
                let turned = libc::syscall(libc::SYS_pivot_root, here, here);
                if entered < 0 || turned < 0 || libc::umount2(here, libc::MNT_DETACH) < 0 {
                    -1
                } else {
                    libc::chdir(c"/".as_ptr())
                }
            }
        }
    };
    if result < 0 {
        Err(SpawnStep::Seal)
    } else {
        Ok(())
    }
}

/// Lets the folders of the child's own root be listed, which are not those that the rules were made with.
fn allow_listing(ruleset: RawFd) -> Result<(), SpawnStep> {
    /// `struct landlock_path_beneath_attr`
    #[repr(C, packed)]
    struct Beneath {
        rights: u64,
        folder: i32,
    }
    // SAFETY: a text that ends with a zero, and a structure that the system reads before the call returns.
    let added = unsafe {
        let root = libc::open(c"/".as_ptr(), libc::O_PATH | libc::O_CLOEXEC);
        let beneath = Beneath {
            rights: READ_DIR,
            folder: root,
        };
        let added = libc::syscall(ADD_RULE, ruleset, PATH_BENEATH, &raw const beneath, 0);
        libc::close(root);
        added
    };
    if added < 0 {
        Err(SpawnStep::Seal)
    } else {
        Ok(())
    }
}

/// Puts the filter over the child and sends the descriptor that hears of its calls.
fn watch(child: &mut Child) -> Result<(), SpawnStep> {
    let filter = &child.filter;
    let install = |flags: libc::c_ulong| {
        // SAFETY: the system only reads the program, which has the length that it says.
        unsafe {
            libc::syscall(
                libc::SYS_seccomp,
                libc::SECCOMP_SET_MODE_FILTER,
                flags,
                &raw const *filter,
            )
        }
    };
    let hears = libc::SECCOMP_FILTER_FLAG_NEW_LISTENER;
    let mut listener = install(hears | WAIT_KILLABLE);
    if listener < 0 && last_error() == libc::EINVAL {
        listener = install(hears);
    }
    if listener < 0 {
        child.unwatched = last_error() == libc::EBUSY;
        return if child.unwatched {
            Ok(())
        } else {
            Err(SpawnStep::Watch)
        };
    }
    let Ok(listener) = RawFd::try_from(listener) else {
        return Err(SpawnStep::Watch);
    };
    if send(child.socket, listener) {
        Ok(())
    } else {
        Err(SpawnStep::Watch)
    }
}

/// Sends a descriptor over a socket (unix(7), `SCM_RIGHTS`), and closes it here.
fn send(socket: RawFd, descriptor: RawFd) -> bool {
    #[repr(C)]
    struct Along {
        header: libc::cmsghdr,
        descriptor: RawFd,
    }
    let mut byte = 0_u8;
    let mut piece = libc::iovec {
        iov_base: (&raw mut byte).cast(),
        iov_len: 1,
    };
    // SAFETY: numbers and null pointers, filled in below.
    let (mut along, mut message): (Along, libc::msghdr) = unsafe { std::mem::zeroed() };
    along.header.cmsg_len = size_of::<libc::cmsghdr>() + size_of::<RawFd>();
    along.header.cmsg_level = libc::SOL_SOCKET;
    along.header.cmsg_type = libc::SCM_RIGHTS;
    along.descriptor = descriptor;
    message.msg_iov = &raw mut piece;
    message.msg_iovlen = 1;
    message.msg_control = (&raw mut along).cast();
    message.msg_controllen = size_of::<Along>();
    // SAFETY: all that the message points to is there until the call returns.
    unsafe {
        let sent = libc::sendmsg(socket, &raw const message, libc::MSG_NOSIGNAL);
        libc::close(descriptor);
        sent == 1
    }
}

/// Which version of Landlock the system has; 0 for none.
pub fn landlock_version() -> i64 {
    /// `LANDLOCK_CREATE_RULESET_VERSION`
    const VERSION: libc::c_int = 1;
    let nothing: *const libc::c_void = std::ptr::null();
    // SAFETY: with this flag the call takes no structure.
    let version = unsafe { libc::syscall(CREATE_RULESET, nothing, 0_usize, VERSION) };
    version.max(0)
}
