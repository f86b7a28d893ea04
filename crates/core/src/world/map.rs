//! The one place with `unsafe`: mapping a file into memory.
#![expect(unsafe_code, reason = "mapping a file is unsafe by nature")]

use std::fs::File;
use std::io;

/// Maps a file that only ever is replaced whole by renaming another one over it.
///
/// # Errors
/// When the system cannot map it.
pub fn map_file(file: &File) -> io::Result<memmap2::Mmap> {
    // SAFETY: the map would be unsound if the file were changed in place. Hand Loom writes its
    // snapshots beside and renames them, so a mapped file keeps its bytes; everything read from the
    // map is range-checked, so even foreign changes lead to wrong values and never out of bounds.
    unsafe { memmap2::Mmap::map(file) }
}
