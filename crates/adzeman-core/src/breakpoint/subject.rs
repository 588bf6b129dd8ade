//! What a breakpoint is for: the subject of an event, or a context.

/// Whether what a breakpoint is for means a subject or a context of this name. A `*` in it stands for any text, also none: `job-*` is
/// for every one whose name begins so, those that are yet to come among them.
#[must_use]
pub fn means(wanted: &str, name: &str) -> bool {
    let Some((first, rest)) = wanted.split_once('*') else { return wanted == name };
    let Some(mut left) = name.strip_prefix(first) else { return false };
    let mut parts = rest.split('*').peekable();
    while let Some(part) = parts.next() {
        if parts.peek().is_none() {
            return left.ends_with(part);
        }
        let Some(at) = left.find(part) else { return false };
        left = &left[at + part.len()..];
    }
    true
}

#[cfg(test)]
mod tests {
    use super::means;

    #[test]
    fn a_star_stands_for_any_text() {
        for (wanted, name) in [
            ("job-*", "job-7"),
            ("job-*", "job-"),
            ("*", "passage 118"),
            ("lock.*.gate", "lock.upper.gate"),
            ("*lock*", "the lock (2)"),
            ("a*b*a", "aba"),
            ("äöü*", "äöüß"),
            ("passage 118", "passage 118"),
        ] {
            assert!(means(wanted, name), "{wanted} means {name}");
        }
        for (wanted, name) in [
            ("job-*", "job"),
            ("job", "job-7"),
            ("a*a", "a"),
            ("a*b*a", "aa"),
            ("*.gate", "gate"),
            ("lock", "block"),
            ("", "x"),
        ] {
            assert!(!means(wanted, name), "{wanted} does not mean {name}");
        }
    }
}
