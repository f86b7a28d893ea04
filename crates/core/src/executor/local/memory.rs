//! What the system tells of memory.

use nix::sys::resource::UsageWho;
use nix::sys::resource::getrusage;

/// How often the system ended a process for want of memory, since it was started.
pub fn killed_for_memory() -> u64 {
    let text = std::fs::read_to_string("/proc/vmstat").unwrap_or_default();
    text.lines()
        .find_map(|line| line.strip_prefix("oom_kill "))
        .and_then(|count| count.trim().parse().ok())
        .unwrap_or(0)
}

/// The largest amount of memory that this process held, bytes.
pub fn own_memory() -> u64 {
    getrusage(UsageWho::RUSAGE_SELF).map_or(0, |usage| {
        u64::try_from(usage.max_rss())
            .unwrap_or(0)
            .saturating_mul(1024)
    })
}
