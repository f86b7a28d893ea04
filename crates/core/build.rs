//! Gives the library a digest of its own sources: what one build keeps for the next run is only taken by
//! the very same.

use std::fs;
use std::hash::DefaultHasher;
use std::hash::Hasher;
use std::path::Path;

fn main() {
    println!("cargo::rerun-if-changed=src");
    println!("cargo::rerun-if-changed=../../Cargo.lock");
    let mut hasher = DefaultHasher::new();
    add(Path::new("src"), &mut hasher);
    add(Path::new("../../Cargo.lock"), &mut hasher);
    for name in ["PROFILE", "OPT_LEVEL", "TARGET", "CARGO_PKG_VERSION"] {
        hasher.write(std::env::var(name).unwrap_or_default().as_bytes());
    }
    println!("cargo::rustc-env=HANDLOOM_BUILD={:016x}", hasher.finish());
}

fn add(path: &Path, hasher: &mut DefaultHasher) {
    if let Ok(entries) = fs::read_dir(path) {
        let mut paths: Vec<_> = entries
            .filter_map(|entry| Some(entry.ok()?.path()))
            .collect();
        paths.sort();
        paths.iter().for_each(|path| add(path, hasher));
        return;
    }
    hasher.write(path.to_string_lossy().as_bytes());
    hasher.write(&fs::read(path).unwrap_or_default());
}
