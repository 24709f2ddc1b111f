//! Text from outside, before it is shown, logged or written: a terminal takes some of its
//! characters for commands, and others let it read differently from what it is.

/// Without control characters (Unicode's Cc), without those that turn the direction of writing,
/// break lines or have no width, without space around it, and no longer than so many characters.
#[must_use]
pub fn plain(text: &str, most: usize) -> String {
    let kept: String = text.chars().filter(|c| !c.is_control() && !is_unseen(*c)).take(most).collect();
    kept.trim().to_owned()
}

/// Soft hyphen, marks and overrides of direction (Unicode UAX #9), joiners, line and paragraph
/// separators, the byte order mark.
const fn is_unseen(c: char) -> bool {
    matches!(c, '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}')
}

#[cfg(test)]
mod tests {
    use super::plain;

    #[test]
    fn no_character_moves_the_cursor_or_turns_the_text() {
        assert_eq!(plain(" bow\x1b[2J\r\n\u{9b}31m camera\x07 ", 80), "bow[2J31m camera");
        assert_eq!(plain("dock\u{202e}gnp.\u{2066}x\u{feff}\u{2028}y", 80), "dockgnp.xy");
        assert_eq!(plain("Ufer 5 – Süd 湖", 8), "Ufer 5 –");
        assert_eq!(plain("\u{200b}\x00", 8), "");
    }
}
