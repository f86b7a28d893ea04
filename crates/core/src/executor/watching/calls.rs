//! Which of the system's calls name files, where their paths stand, and the filter that picks them.
//!
//! The filter is a program for the system's packet filter machine (bpf(4), seccomp(2)): it looks at a call's number
//! and at nothing else, so that the system can tell once and for all which calls never matter.

/// Where a path stands among the arguments of a call.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PathAt {
    /// The argument with the descriptor of the folder that it starts from; none for where the process is.
    pub folder: Option<u8>,
    /// The argument with its address.
    pub path: u8,
}

/// What a call does with the files that it names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Call {
    /// Opens; with the argument that says how.
    Open(PathAt, u8),
    /// Opens; what says how stands in memory, at the third argument.
    OpenHow(PathAt),
    /// Makes an empty file.
    Create(PathAt),
    /// Looks whether and how it is there.
    Look(PathAt),
    /// Becomes it.
    Execute(PathAt),
    /// Asks for the names in a folder that is open.
    List,
    /// Makes a folder.
    MakeFolder(PathAt),
    /// Makes, changes or takes away what stands there.
    Change(PathAt),
    /// Takes a name away.
    Remove(PathAt),
    /// From one name to another.
    Rename(PathAt, PathAt),
    /// Another name for the same file.
    Link(PathAt, PathAt),
    /// Talks to a socket.
    Connect,
    /// From then on paths may begin somewhere else.
    ChangeRoot,
}

const fn at(folder: u8, path: u8) -> PathAt {
    PathAt {
        folder: Some(folder),
        path,
    }
}

const fn here(path: u8) -> PathAt {
    PathAt { folder: None, path }
}

/// Calls that every architecture has.
const COMMON: [(libc::c_long, Call); 28] = [
    (libc::SYS_openat, Call::Open(at(0, 1), 2)),
    (libc::SYS_openat2, Call::OpenHow(at(0, 1))),
    (libc::SYS_newfstatat, Call::Look(at(0, 1))),
    (libc::SYS_statx, Call::Look(at(0, 1))),
    (libc::SYS_faccessat, Call::Look(at(0, 1))),
    (libc::SYS_faccessat2, Call::Look(at(0, 1))),
    (libc::SYS_readlinkat, Call::Look(at(0, 1))),
    (libc::SYS_name_to_handle_at, Call::Look(at(0, 1))),
    (libc::SYS_getxattr, Call::Look(here(0))),
    (libc::SYS_lgetxattr, Call::Look(here(0))),
    (libc::SYS_listxattr, Call::Look(here(0))),
    (libc::SYS_llistxattr, Call::Look(here(0))),
    (libc::SYS_inotify_add_watch, Call::Look(here(1))),
    (libc::SYS_execve, Call::Execute(here(0))),
    (libc::SYS_execveat, Call::Execute(at(0, 1))),
    (libc::SYS_getdents64, Call::List),
    (libc::SYS_mkdirat, Call::MakeFolder(at(0, 1))),
    (libc::SYS_mknodat, Call::Change(at(0, 1))),
    (libc::SYS_symlinkat, Call::Change(at(1, 2))),
    (libc::SYS_truncate, Call::Change(here(0))),
    (libc::SYS_fchmodat, Call::Change(at(0, 1))),
    (libc::SYS_unlinkat, Call::Remove(at(0, 1))),
    (libc::SYS_renameat, Call::Rename(at(0, 1), at(2, 3))),
    (libc::SYS_renameat2, Call::Rename(at(0, 1), at(2, 3))),
    (libc::SYS_linkat, Call::Link(at(0, 1), at(2, 3))),
    (libc::SYS_connect, Call::Connect),
    (libc::SYS_chroot, Call::ChangeRoot),
    (libc::SYS_pivot_root, Call::ChangeRoot),
];

/// Calls that are older than descriptors of folders.
#[cfg(target_arch = "x86_64")]
const OLD: [(libc::c_long, Call); 16] = [
    (libc::SYS_open, Call::Open(here(0), 1)),
    (libc::SYS_creat, Call::Create(here(0))),
    (libc::SYS_stat, Call::Look(here(0))),
    (libc::SYS_lstat, Call::Look(here(0))),
    (libc::SYS_access, Call::Look(here(0))),
    (libc::SYS_readlink, Call::Look(here(0))),
    (libc::SYS_getdents, Call::List),
    (libc::SYS_mkdir, Call::MakeFolder(here(0))),
    (libc::SYS_mknod, Call::Change(here(0))),
    (libc::SYS_symlink, Call::Change(here(1))),
    (libc::SYS_chmod, Call::Change(here(0))),
    (libc::SYS_unlink, Call::Remove(here(0))),
    (libc::SYS_rmdir, Call::Remove(here(0))),
    (libc::SYS_rename, Call::Rename(here(0), here(1))),
    (libc::SYS_link, Call::Link(here(0), here(1))),
    (libc::SYS_uselib, Call::Look(here(0))),
];

#[cfg(not(target_arch = "x86_64"))]
const OLD: [(libc::c_long, Call); 0] = [];

/// Calls through which files are reached unseen: programs that find them missing do without.
const REFUSED: [libc::c_long; 4] = [
    libc::SYS_io_uring_setup,
    libc::SYS_io_uring_enter,
    libc::SYS_io_uring_register,
    libc::SYS_open_by_handle_at,
];

/// What a call with this number does with files; none when it names none.
pub fn call(number: i32) -> Option<Call> {
    let number = libc::c_long::from(number);
    let mut all = COMMON.iter().chain(&OLD);
    all.find(|(known, _)| *known == number)
        .map(|(_, call)| *call)
}

/// `AUDIT_ARCH_…` of this instruction set (linux/audit.h).
#[cfg(target_arch = "x86_64")]
const ARCHITECTURE: Option<u32> = Some(0xC000_003E);
#[cfg(target_arch = "aarch64")]
const ARCHITECTURE: Option<u32> = Some(0xC000_00B7);
#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
const ARCHITECTURE: Option<u32> = None;

/// The x32 calls of x86-64 begin here.
const OTHER_CALLS: u32 = 0x4000_0000;

/// The filter; none where the instruction set is not one that it is known for.
#[expect(
    clippy::cast_possible_truncation,
    reason = "fixed codes of the filter machine"
)]
pub fn filter() -> Option<Vec<libc::sock_filter>> {
    const LOAD: u16 = (libc::BPF_LD | libc::BPF_W | libc::BPF_ABS) as u16;
    const EQUAL: u16 = (libc::BPF_JMP | libc::BPF_JEQ | libc::BPF_K) as u16;
    const AT_LEAST: u16 = (libc::BPF_JMP | libc::BPF_JGE | libc::BPF_K) as u16;
    const RETURN: u16 = (libc::BPF_RET | libc::BPF_K) as u16;
    /// `struct seccomp_data`: the number at 0, the instruction set at 4.
    const NUMBER: u32 = 0;
    const SET: u32 = 4;
    let architecture = ARCHITECTURE?;
    let missing = libc::SECCOMP_RET_ERRNO | libc::ENOSYS.cast_unsigned();
    let step = |code: u16, k: u32, (jt, jf): (u8, u8)| libc::sock_filter { code, jt, jf, k };
    let mut program = vec![
        step(LOAD, SET, (0, 0)),
        step(EQUAL, architecture, (1, 0)),
        step(RETURN, missing, (0, 0)),
        step(LOAD, NUMBER, (0, 0)),
        step(AT_LEAST, OTHER_CALLS, (0, 1)),
        step(RETURN, missing, (0, 0)),
    ];
    let all = REFUSED.iter().map(|number| (*number, missing));
    let told = COMMON.iter().chain(&OLD);
    let all = all.chain(told.map(|(number, _)| (*number, libc::SECCOMP_RET_USER_NOTIF)));
    for (number, answer) in all {
        program.push(step(EQUAL, number as u32, (0, 1)));
        program.push(step(RETURN, answer, (0, 0)));
    }
    program.push(step(RETURN, libc::SECCOMP_RET_ALLOW, (0, 0)));
    Some(program)
}
