//! The slate as a picture, and as pictures of a stream.

use crate::{
    encode::{Pictures, Spend},
    page::{INK, Page},
};

const QUIET: [u8; 3] = [150, 165, 185];
const BAND: [u8; 3] = [30, 62, 96];
/// Letters in a row, of the show's name and of the reason.
const HEAD_LETTERS: usize = 28;
const ROW_LETTERS: usize = 52;

/// What is written on it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Card {
    /// The show's name.
    pub head: String,
    /// Below it.
    pub rows: Vec<String>,
}

/// Draws it, pixels in RGB.
pub(super) fn draw(card: &Card, (width, height): (usize, usize)) -> Vec<u8> {
    let mut page = Page::new(width, height);
    let scale = |letters: usize| (width / (8 * letters)).max(1);
    let (head, row) = (scale(HEAD_LETTERS), scale(ROW_LETTERS));
    let (head_at, margin) = (height / 3, width / 12);
    page.fill((0, head_at.saturating_sub(6 * head)), (width, 20 * head), BAND);
    let mut write = |y: usize, scale: usize, text: &str, colour| {
        let wide = text.chars().count() * 8 * scale;
        page.text((width.saturating_sub(wide) / 2, y), scale, text, colour, width);
    };
    write(head_at, head, &card.head, INK);
    let letters = (width - 2 * margin) / (8 * row);
    let rows = card.rows.iter().flat_map(|r| wrapped(r, letters.max(8)));
    for (n, text) in rows.enumerate() {
        write(head_at + 22 * head + n * 14 * row, row, &text, QUIET);
    }
    page.still.rgb
}

/// Broken at spaces into rows of at most so many letters.
fn wrapped(text: &str, letters: usize) -> Vec<String> {
    let whole_words = textwrap::Options::new(letters).break_words(false).word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(text, whole_words).into_iter().map(Into::into).collect()
}

/// Encodes one picture again and again, from keyframe to keyframe: takes some ms each, so not for
/// an async task. Ends when `give` no longer takes one.
pub(super) fn encode(
    rgb: &[u8],
    size: (usize, usize),
    rate: f64,
    frames: u32,
    mut give: impl FnMut(Vec<u8>, bool) -> bool,
) -> Result<(), String> {
    let mut pictures = Pictures::new(size, rate, frames, Spend::Still)?;
    let picture = pictures.picture(rgb);
    for _ in 0..frames {
        let (data, keyframe) = pictures.encode(&picture, false)?;
        if !give(data, keyframe) {
            break;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_fits_at_every_size() {
        let rows = vec!["Finish tower, PTZ camera on the roof of the tower: no media comes".into(), "since 14:03:12".into()];
        let card = Card { head: "Tarn Hollow Regatta".into(), rows };
        for size in [(160, 90), (320, 180), (640, 360), (1280, 720), (1920, 1080)] {
            let rgb = draw(&card, size);
            assert_eq!(rgb.len(), size.0 * size.1 * 3);
            let ink = |c: [u8; 3]| rgb.chunks_exact(3).filter(|p| *p == c).count() as f64 / (size.0 * size.1) as f64;
            assert!(ink(INK) > 0.004 && ink(QUIET) > 0.004, "{size:?}: {} {}", ink(INK), ink(QUIET));
        }
        assert_eq!(wrapped("one two three", 7), ["one two", "three"]);
    }

    #[test]
    fn its_pictures_begin_with_a_keyframe_and_no_other_follows() {
        let rgb = draw(&Card::default(), (320, 180));
        let mut frames = Vec::new();
        encode(&rgb, (320, 180), 25.0, 25, |data, keyframe| {
            frames.push((data.len(), keyframe));
            true
        })
        .expect("encoded");
        assert_eq!((frames.len(), frames.iter().filter(|f| f.1).count(), frames[0].1), (25, 1, true));
        assert!(frames.iter().all(|f| f.0 > 0), "none is left out: {frames:?}");
    }
}
