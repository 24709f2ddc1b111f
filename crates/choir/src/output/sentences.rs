//! Sentences over several rows.

use std::fmt::Write;

/// Breaks a sentence at its spaces.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut rows = vec![String::new()];
    for word in text.split(' ') {
        let last = rows.last_mut().map_or(0, |r| r.chars().count());
        if last > 0 && last + 1 + word.chars().count() > width {
            rows.push(word.to_owned());
        } else if let Some(row) = rows.last_mut() {
            if last > 0 {
                row.push(' ');
            }
            row.push_str(word);
        }
    }
    rows
}

/// Writes a sentence within this width, its first row behind `first`, the others behind `later`.
pub fn hanging(out: &mut String, text: &str, (first, later): (&str, &str), width: usize) {
    let room = width.saturating_sub(first.len().max(later.len())).max(20);
    for (n, row) in wrap(text, room).into_iter().enumerate() {
        let _ = writeln!(out, "{}{row}", if n == 0 { first } else { later });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_break_at_spaces_and_stay_within_the_width() {
        let text = "oar ".repeat(40);
        assert!(wrap(text.trim(), 46).iter().all(|r| r.len() <= 46 && r.ends_with("oar")));
        assert_eq!(wrap("a-word-that-is-longer-than-the-row b", 10), ["a-word-that-is-longer-than-the-row", "b"]);
        let mut out = String::new();
        hanging(&mut out, text.trim(), ("- ", "  "), 50);
        let rows: Vec<&str> = out.lines().collect();
        assert!(
            rows.len() > 2 && rows[0].starts_with("- oar") && rows[1..].iter().all(|r| r.starts_with("  oar") && r.len() <= 50),
            "{out}"
        );
    }
}
