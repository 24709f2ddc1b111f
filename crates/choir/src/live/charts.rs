//! Small charts made of block characters.

const EIGHTHS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// A sparkline of the latest `width` values, from 0 to `top`.
pub fn spark(values: &[f64], width: usize, top: f64) -> String {
    let shown = &values[values.len().saturating_sub(width)..];
    let mut text = " ".repeat(width - shown.len());
    text.extend(shown.iter().map(|v| EIGHTHS[level(*v, top, 8)]));
    text
}

fn level(value: f64, top: f64, steps: usize) -> usize {
    if value <= 0.0 || top <= 0.0 {
        return 0;
    }
    // Anything above nothing is seen.
    ((value / top * steps as f64).round() as usize).clamp(1, steps)
}

/// A column chart: rows from top to bottom, each `width` wide, of the latest values.
pub fn columns(values: &[f64], width: usize, height: usize, top: f64) -> Vec<String> {
    let shown = &values[values.len().saturating_sub(width)..];
    (0..height)
        .rev()
        .map(|row| {
            let mut text = " ".repeat(width - shown.len());
            text.extend(shown.iter().map(|v| EIGHTHS[level(*v, top, height * 8).saturating_sub(row * 8).min(8)]));
            text
        })
        .collect()
}

/// A bar of `width` characters, filled to `share`.
pub fn bar(share: f64, width: usize) -> String {
    let filled = (share.clamp(0.0, 1.0) * width as f64).round() as usize;
    format!("{}{}", "━".repeat(filled), "·".repeat(width - filled))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sparks_show_the_latest_values_and_never_hide_a_little() {
        assert_eq!(spark(&[0.0, 0.01, 4.0, 8.0], 4, 8.0), " ▁▄█");
        assert_eq!(spark(&[8.0], 3, 8.0), "  █");
        assert_eq!(spark(&[1.0, 2.0, 8.0], 1, 8.0), "█");
        assert_eq!(spark(&[], 3, 0.0), "   ");
    }

    #[test]
    fn columns_stack_to_the_top() {
        assert_eq!(columns(&[4.0, 8.0, 2.0], 3, 2, 8.0), [" █ ", "██▄"]);
        assert_eq!(bar(0.5, 4), "━━··");
        assert_eq!(bar(-1.0, 2), "··");
    }
}
