//! Matching of paths as people and editors write them against the names that engines use.

/// How many parts of the runtime name `name` and the path `wanted` agree, counted from their ends, with either separator
/// between them; `None` unless they agree as far as the shorter one goes. An editor sends long absolute paths, a person
/// types the last part: both match, and the higher the number the better.
#[must_use]
pub fn tail_agreement(name: &str, wanted: &str) -> Option<usize> {
    let parts = |path: &str| -> Vec<String> {
        path.split(['/', '\\']).filter(|part| !part.is_empty() && *part != ".").map(str::to_owned).collect()
    };
    let (name, wanted) = (parts(name), parts(wanted));
    let shorter = name.len().min(wanted.len());
    let agrees = shorter > 0 && name.iter().rev().zip(wanted.iter().rev()).all(|(a, b)| a == b);
    agrees.then_some(shorter)
}

#[cfg(test)]
mod tests {
    use super::tail_agreement;

    #[test]
    fn tails() {
        assert_eq!(tail_agreement("scripts/toll.lua", "toll.lua"), Some(1));
        assert_eq!(tail_agreement("scripts/toll.lua", "/srv/canal/scripts/toll.lua"), Some(2));
        assert_eq!(tail_agreement("scripts\\toll.lua", "./scripts/toll.lua"), Some(2));
        assert_eq!(tail_agreement("scripts/toll.lua", "other/toll.lua"), None);
        assert_eq!(tail_agreement("scripts/toll.lua", ""), None);
    }
}
