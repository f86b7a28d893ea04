//! Paths as dense numbers.
//!
//! All texts lie in one arena and are found through a table of numbers, so a million paths cost
//! their bytes and about twenty more each. Values of holes are kept in the same place.

use std::sync::OnceLock;

use hashbrown::HashTable;
use xxhash_rust::xxh3::xxh3_64;

/// A path's number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct PathId(pub u32);

impl PathId {
    /// The number as an index.
    #[must_use]
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// All paths of a project.
#[derive(Clone, Debug, Default)]
pub struct Paths {
    arena: String,
    /// Where each begins and ends.
    ranges: Vec<[u32; 2]>,
    hashes: Vec<u64>,
    /// Made when it is first needed: few runs of a project that was kept look for a path.
    table: OnceLock<HashTable<u32>>,
}

/// The hash of a path, also in files: XXH3, 64 bits, without a seed.
#[must_use]
pub fn path_hash(path: &str) -> u64 {
    xxh3_64(path.as_bytes())
}

impl Paths {
    /// The number of a path; a new one when it is not known yet.
    pub fn intern(&mut self, path: &str) -> PathId {
        let hash = path_hash(path);
        if let Some(found) = self.find_hashed(path, hash) {
            return found;
        }
        let id = u32::try_from(self.ranges.len()).unwrap_or(u32::MAX);
        let start = u32::try_from(self.arena.len()).unwrap_or(u32::MAX);
        self.arena.push_str(path);
        let end = u32::try_from(self.arena.len()).unwrap_or(u32::MAX);
        self.table();
        self.ranges.push([start, end]);
        self.hashes.push(hash);
        let hashes = &self.hashes;
        if let Some(table) = self.table.get_mut() {
            table.insert_unique(hash, id, |&other| hashes[other as usize]);
        }
        PathId(id)
    }

    fn table(&self) -> &HashTable<u32> {
        self.table.get_or_init(|| {
            let mut table = HashTable::with_capacity(self.hashes.len());
            for (id, &hash) in (0..).zip(&self.hashes) {
                table.insert_unique(hash, id, |&other: &u32| self.hashes[other as usize]);
            }
            table
        })
    }

    /// The texts, where each begins and ends in them, and the hash of each.
    #[must_use]
    pub fn parts(&self) -> (&str, &[[u32; 2]], &[u64]) {
        (&self.arena, &self.ranges, &self.hashes)
    }

    /// What [`Paths::parts`] gave; a range outside of the text is an empty path.
    #[must_use]
    pub fn from_parts(arena: String, mut ranges: Vec<[u32; 2]>, mut hashes: Vec<u64>) -> Self {
        for range in &mut ranges {
            if arena.get(range[0] as usize..range[1] as usize).is_none() {
                *range = [0, 0];
            }
        }
        hashes.resize(ranges.len(), 0);
        Self {
            arena,
            ranges,
            hashes,
            table: OnceLock::new(),
        }
    }

    /// The number of a path that is known.
    #[must_use]
    pub fn find(&self, path: &str) -> Option<PathId> {
        self.find_hashed(path, path_hash(path))
    }

    fn find_hashed(&self, path: &str, hash: u64) -> Option<PathId> {
        self.table()
            .find(hash, |&id| self.get(PathId(id)) == path)
            .map(|&id| PathId(id))
    }

    /// A path's text.
    #[must_use]
    pub fn get(&self, id: PathId) -> &str {
        let [start, end] = self.ranges[id.index()];
        &self.arena[start as usize..end as usize]
    }

    /// A path's hash, as [`path_hash`] gives it.
    #[must_use]
    pub fn hash(&self, id: PathId) -> u64 {
        self.hashes[id.index()]
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.ranges.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.ranges.is_empty()
    }
}

/// A path without `.`, `..` and doubled slashes, as far as that can be told without looking at the
/// disk; a slash at the end stays. `..` at the start stays too.
#[must_use]
pub fn normal(path: &str) -> std::borrow::Cow<'_, str> {
    let odd = path.starts_with("./")
        || path.contains("//")
        || path.contains("/./")
        || path.contains("..")
        || path.ends_with("/.")
        || path == ".";
    if !odd {
        return path.into();
    }
    let absolute = path.starts_with('/');
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." if parts.last().is_some_and(|&last| last != "..") => {
                parts.pop();
            }
            ".." if absolute => {}
            part => parts.push(part),
        }
    }
    let folder = path.ends_with('/')
        || path.ends_with("/.")
        || path.ends_with("/..")
        || path == "."
        || path == "..";
    let mut out = String::with_capacity(path.len());
    if absolute {
        out.push('/');
    }
    out.push_str(&parts.join("/"));
    if folder && !out.is_empty() && !out.ends_with('/') {
        out.push('/');
    }
    out.into()
}

/// A path written in a folder's description, seen from the project's root. `folder` is empty or
/// ends with a slash.
#[must_use]
pub fn from_root(folder: &str, path: &str) -> String {
    if folder.is_empty() || path.starts_with('/') {
        return normal(path).into_owned();
    }
    normal(&format!("{folder}{path}")).into_owned()
}

/// The same, where `root` is the project's own folder, absolute: a path that is absolute, or leads out of the project and
/// in again, is seen from the root too when it lies below it. What is written so names the same file as any other way to
/// write it, and has to wait for whoever makes it.
#[must_use]
pub fn from_known_root(root: impl FnOnce() -> String, folder: &str, path: &str) -> String {
    let seen = from_root(folder, path);
    if !seen.starts_with('/') && !seen.starts_with("../") {
        return seen;
    }
    match inside(root().trim_end_matches('/'), &seen) {
        Some(inside) => inside.to_owned(),
        None => seen,
    }
}

fn inside<'p>(root: &str, path: &'p str) -> Option<&'p str> {
    let ups = path.split('/').take_while(|&part| part == "..").count();
    let (way, path) = match ups {
        0 => (root, path),
        // The way back in begins where the way out ended.
        ups => {
            let slashes = root.rmatch_indices('/').map(|(at, _)| at + 1);
            let from = slashes.take(ups).last().unwrap_or(0);
            (&root[from..], path.get("../".len() * ups..)?)
        }
    };
    let rest = path.strip_prefix(way)?;
    match rest.strip_prefix('/') {
        Some(rest) => Some(rest),
        None => rest.is_empty().then_some(rest),
    }
}

/// A path from the root as seen from a folder of the project (empty, or ending with a slash).
#[must_use]
pub fn relative(path: &str, folder: &str) -> String {
    if path.starts_with('/') || folder.is_empty() {
        return path.to_owned();
    }
    if let Some(below) = path.strip_prefix(folder) {
        return if below.is_empty() {
            "./".to_owned()
        } else {
            below.to_owned()
        };
    }
    let mut common = 0;
    for (at, _) in folder.match_indices('/') {
        if path.get(..=at) == folder.get(..=at) {
            common = at + 1;
        } else {
            break;
        }
    }
    let ups = folder[common..].matches('/').count();
    format!("{}{}", "../".repeat(ups), &path[common..])
}

#[cfg(test)]
mod tests {
    use super::Paths;
    use super::from_known_root;
    use super::from_root;
    use super::normal;

    #[test]
    fn a_path_keeps_its_number() {
        let mut paths = Paths::default();
        let a = paths.intern("src/a.c");
        let b = paths.intern("src/b.c");
        assert_ne!(a, b);
        assert_eq!(paths.intern("src/a.c"), a);
        assert_eq!(paths.find("src/b.c"), Some(b));
        assert_eq!(paths.find("src/c.c"), None);
        assert_eq!(paths.get(b), "src/b.c");
    }

    #[test]
    fn detours_are_taken_out() {
        for (written, meant) in [
            ("a/b", "a/b"),
            ("./a", "a"),
            ("a//b/", "a/b/"),
            ("a/../b", "b"),
            ("a/..", ""),
            ("../a", "../a"),
            ("a/../../b", "../b"),
            ("/a/../../b", "/b"),
            ("a/./b/.", "a/b/"),
            (".", ""),
            ("a..b", "a..b"),
        ] {
            assert_eq!(normal(written), meant, "{written}");
        }
        assert_eq!(from_root("part/", "../x"), "x");
        assert_eq!(from_root("part/", "x"), "part/x");
        assert_eq!(from_root("part/", "/x"), "/x");
    }

    #[test]
    fn ways_around_into_the_project_are_ways_in_it() {
        for (root, written, meant) in [
            ("/home/light", "x", "part/x"),
            ("/home/light", "../x", "x"),
            ("/home/light", "/home/light/x", "x"),
            ("/home/light", "/home/light/out/", "out/"),
            ("/home/light", "/home/./light//part/../x", "x"),
            ("/home/light", "/home/light", ""),
            ("/home/light", "/home/lighter/x", "/home/lighter/x"),
            ("/home/light", "/home/x", "/home/x"),
            ("/home/light", "../../light/x", "x"),
            ("/home/light", "../../../home/light/x", "x"),
            ("/home/light", "../../../../../home/light/x", "x"),
            ("/home/light", "../../light", ""),
            ("/home/light", "../../lighter/x", "../lighter/x"),
            ("/home/light", "../../x", "../x"),
            ("/home/light", "../..", "../"),
            ("/", "/x", "x"),
        ] {
            let seen = from_known_root(|| root.to_owned(), "part/", written);
            assert_eq!(seen, meant, "{written} in {root}");
        }
    }
}
