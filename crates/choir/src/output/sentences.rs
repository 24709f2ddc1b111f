//! Sentences over several rows.

use textwrap::{Options, WordSeparator, WordSplitter};

/// Breaks at spaces only: what is longer, like a URL, stays whole to be copied.
fn options<'a>(width: usize) -> Options<'a> {
    Options::new(width).break_words(false).word_separator(WordSeparator::AsciiSpace).word_splitter(WordSplitter::NoHyphenation)
}

/// Breaks a sentence at its spaces.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    textwrap::wrap(text, options(width)).into_iter().map(Into::into).collect()
}

/// Writes a sentence within this width, its first row behind `first`, the others behind `later`.
pub fn hanging(out: &mut String, text: &str, (first, later): (&str, &str), width: usize) {
    let width = width.max(first.len().max(later.len()) + 20);
    out.push_str(&textwrap::fill(text, options(width).initial_indent(first).subsequent_indent(later)));
    out.push('\n');
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
