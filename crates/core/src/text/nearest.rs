//! The nearest known name to one that is unknown.

/// The candidate most like `name`, if one is like enough to be what was meant: at most a third of
/// its characters differ (Damerau-Levenshtein distance), or it differs in case alone.
pub fn nearest<'a>(name: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = name.chars().count().div_ceil(3).max(1);
    candidates
        .into_iter()
        .map(|candidate| (distance(name, candidate, limit), candidate))
        .filter(|&(distance, _)| distance <= limit)
        .min_by_key(|&(distance, candidate)| (distance, candidate.len(), candidate))
        .map(|(_, candidate)| candidate)
}

fn distance(name: &str, candidate: &str, limit: usize) -> usize {
    if name.eq_ignore_ascii_case(candidate) {
        return 0;
    }
    // A length difference is a lower bound of the distance; it spares the quadratic part.
    if name.len().abs_diff(candidate.len()) > limit.saturating_mul(4) {
        return usize::MAX;
    }
    strsim::damerau_levenshtein(name, candidate)
}

#[cfg(test)]
mod tests {
    use super::nearest;

    #[test]
    fn near_names_are_found_and_far_ones_are_not() {
        let known = ["needs", "recipe", "about", "learn"];
        assert_eq!(nearest("need", known), Some("needs"));
        assert_eq!(nearest("recepie", known), Some("recipe"));
        assert_eq!(nearest("ABOUT", known), Some("about"));
        assert_eq!(nearest("target", known), None);
    }
}
