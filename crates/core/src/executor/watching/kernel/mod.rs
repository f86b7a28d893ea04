//! The second of two places with `unsafe`: the system's calls that no crate of ours wraps.
#![expect(
    unsafe_code,
    reason = "clone(2), seccomp(2), its ioctls, process_vm_readv(2) and wait4(2) have no safe wrapper that does this"
)]

mod notifications;
mod process_end;
mod spawn;

pub use notifications::Notification;
pub use notifications::hands_calls_over;
pub use notifications::is_waiting;
pub use notifications::let_go;
pub use notifications::read_memory;
pub use notifications::receive;
pub use notifications::refuse;
pub use notifications::wake_nearby;
pub use process_end::ProcessEnd;
pub use process_end::wait;
pub use spawn::Preparation;
pub use spawn::Spawn;
pub use spawn::SpawnSeal;
pub use spawn::SpawnStep;
pub use spawn::SpawnWatch;
pub use spawn::Spawned;
pub use spawn::landlock_version;
pub use spawn::spawn;
