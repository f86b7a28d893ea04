//! Seeing what a recipe's processes look at, without any privilege.
//!
//! The process of a job that is watched puts a seccomp filter over itself before it becomes the interpreter
//! (seccomp(2), seccomp_unotify(2); [`kernel::spawn`]): it hands each call that names a file to a descriptor, which
//! is sent to this side, and it stays with every process that comes of it. On this side a thread ([`supervisor`]) reads each call's path out of the process ([`calls`] says where it
//! stands), looks what is there, notes it ([`trace`]) and lets the call go on. The notice tells the request and not
//! its result, so that the look is this side's own.
//!
//! What goes past it is refused or told: io_uring and calls of other instruction sets do not exist for a watched
//! job; a local socket that it talks to is named, since who answers may read files for it.

pub mod calls;
pub mod kernel;
pub mod observed;
pub mod supervisor;
pub mod trace;

pub use observed::Gap;
pub use observed::Observed;
pub use observed::PathAccess;
pub use observed::SealRefusal;
pub use observed::Sight;
pub use observed::WatchReach;
