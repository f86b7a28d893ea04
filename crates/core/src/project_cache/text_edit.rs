//! In which items a text differs from the one that was read before.

use std::collections::HashMap;

/// What has become of an item of the text that was read before.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// The new item with this index has the same lines.
    Same(usize),
    /// The new item with this index stands in its place.
    Other(usize),
    /// Nothing stands in its place.
    Gone,
}

/// What has become of each item of a text, by the digests of the items before and now. The longest row of items that
/// are the same in both, in order, stays; what lies between two of them is paired from its beginning. Takes
/// `O(n log n)` time in the items between the first and the last that differ.
pub fn fates(old: &[u64], new: &[u64]) -> Vec<Fate> {
    let both = old.iter().zip(new);
    let prefix = both.take_while(|(old, new)| old == new).count();
    let (old_rest, new_rest) = (&old[prefix..], &new[prefix..]);
    let both = old_rest.iter().rev().zip(new_rest.iter().rev());
    let suffix = both.take_while(|(old, new)| old == new).count();
    let (old_end, new_end) = (old.len() - suffix, new.len() - suffix);

    let row = longest_row(&old[prefix..old_end], &new[prefix..new_end]);
    let mut fates: Vec<Fate> = (0..prefix).map(Fate::Same).collect();
    // Where the next item that stays stands in the new text, for each item.
    let mut bounds = vec![new_end; row.len()];
    let mut bound = new_end;
    for (at, kept) in row.iter().enumerate().rev() {
        bound = kept.map_or(bound, |kept| prefix + kept);
        bounds[at] = bound;
    }
    let mut next = prefix;
    for (kept, bound) in row.iter().zip(bounds) {
        fates.push(match kept {
            Some(kept) => {
                next = prefix + kept + 1;
                Fate::Same(prefix + kept)
            }
            None if next < bound => {
                next += 1;
                Fate::Other(next - 1)
            }
            None => Fate::Gone,
        });
    }
    fates.extend((new_end..new.len()).map(Fate::Same));
    fates
}

/// For each digest of the one list where it stands in the other, for the longest row that is in order in both. Equal
/// digests are told apart by how many stand before. The row is found by patience sorting.
fn longest_row(old: &[u64], new: &[u64]) -> Vec<Option<usize>> {
    let mut places: HashMap<(u64, usize), usize> = HashMap::with_capacity(new.len());
    let mut seen: HashMap<u64, usize> = HashMap::new();
    let nth = |digest: u64, seen: &mut HashMap<u64, usize>| {
        let count = seen.entry(digest).or_insert(0);
        *count += 1;
        *count
    };
    for (at, &digest) in new.iter().enumerate() {
        places.insert((digest, nth(digest, &mut seen)), at);
    }
    seen.clear();
    let in_new = |&digest: &u64| places.get(&(digest, nth(digest, &mut seen))).copied();
    let in_new: Vec<Option<usize>> = old.iter().map(in_new).collect();

    // The last item of the best row of each length, and for each item the one before it in its row.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = vec![None; old.len()];
    for (at, place) in in_new.iter().enumerate() {
        let Some(place) = place else { continue };
        let length = ends.partition_point(|&end| in_new[end].is_some_and(|end| end < *place));
        before[at] = length.checked_sub(1).map(|shorter| ends[shorter]);
        if length == ends.len() {
            ends.push(at);
        } else {
            ends[length] = at;
        }
    }
    let mut row = vec![None; old.len()];
    let mut last = ends.last().copied();
    while let Some(at) = last {
        row[at] = in_new[at];
        last = before[at];
    }
    row
}

#[cfg(test)]
mod tests {
    use super::Fate;
    use super::Fate::Gone;
    use super::Fate::Other;
    use super::Fate::Same;
    use super::fates;

    #[test]
    fn an_edit_is_found_where_it_was_made() {
        let cases: [(&[u64], &[u64], &[Fate]); 7] = [
            (&[1, 2, 3], &[1, 2, 3], &[Same(0), Same(1), Same(2)]),
            (&[1, 2, 3], &[1, 9, 3], &[Same(0), Other(1), Same(2)]),
            (&[1, 2, 3], &[1, 3], &[Same(0), Gone, Same(1)]),
            (&[1, 2, 3], &[0, 1, 2, 3, 4], &[Same(1), Same(2), Same(3)]),
            // Two edits far from each other, and what lies between is the same.
            (
                &[1, 2, 3, 4, 5],
                &[1, 8, 9, 3, 4, 7],
                &[Same(0), Other(1), Same(3), Same(4), Other(5)],
            ),
            // One that was moved is gone from where it stood.
            (
                &[1, 2, 3, 4],
                &[2, 3, 4, 1],
                &[Gone, Same(0), Same(1), Same(2)],
            ),
            // Equal ones are told apart by their order.
            (&[5, 5, 6], &[5, 6, 5], &[Same(0), Gone, Same(1)]),
        ];
        for (old, new, expected) in cases {
            assert_eq!(fates(old, new), expected, "{old:?} {new:?}");
        }
    }
}
