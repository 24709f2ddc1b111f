//! Names of machines and sources (section 2).

use std::collections::BTreeSet;

/// Longest name in bytes: it fits into a DNS label with its suffix.
pub const NAME_MAX: usize = 56;

/// Names are compared without regard to case: they are read aloud.
#[must_use]
pub fn same_name(a: &str, b: &str) -> bool {
    a.to_lowercase() == b.to_lowercase()
}

/// Gives names that nobody else has.
#[derive(Debug, Clone, Default)]
pub struct Unique {
    taken: BTreeSet<String>,
}

impl Unique {
    /// Takes the name, with ` (2)` and so on behind it when it is taken.
    pub fn take(&mut self, name: &str) -> String {
        let mut got = name.to_owned();
        let mut n = 2;
        while !self.taken.insert(got.to_lowercase()) {
            let suffix = format!(" ({n})");
            let mut stem = name;
            while stem.len() + suffix.len() > NAME_MAX + 7 {
                let mut chars = stem.chars();
                chars.next_back();
                stem = chars.as_str();
            }
            got = format!("{}{suffix}", stem.trim_end());
            n += 1;
        }
        got
    }

    /// Gives a name back.
    pub fn release(&mut self, name: &str) {
        self.taken.remove(&name.to_lowercase());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clash_gets_a_suffix_and_a_name_given_back_is_free() {
        let mut u = Unique::default();
        assert_eq!(u.take("Finish Tower"), "Finish Tower");
        assert_eq!(u.take("finish tower"), "finish tower (2)");
        assert_eq!(u.take("Finish Tower"), "Finish Tower (3)");
        u.release("finish tower (2)");
        assert_eq!(u.take("Finish Tower"), "Finish Tower (2)");
        let long = "ü".repeat(28);
        for _ in 0..12 {
            let got = u.take(&long);
            assert!(got.len() <= 63, "a DNS label: {got}");
        }
    }

    #[test]
    fn case_does_not_count() {
        assert!(same_name("Start Pontoon", "START pontoon") && !same_name("a", "b"));
    }
}
