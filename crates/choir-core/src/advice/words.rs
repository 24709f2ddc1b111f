//! Shares as people read them.

/// `2 %`, `0.13 %`, `1 in 250 000`: small ones as a ratio.
#[must_use]
pub fn say_share(share: f64) -> String {
    if share <= 0.0 {
        return "nothing".into();
    }
    let percent = share * 100.0;
    if percent >= 0.095 {
        let digits = if percent >= 9.95 {
            0
        } else if percent >= 0.95 {
            1
        } else {
            2
        };
        let text = format!("{percent:.digits$}");
        let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
        return format!("{text} %");
    }
    let one_in = 1.0 / share;
    if one_in >= 1e9 {
        return "less than 1 in 1 000 000 000".into();
    }
    // Two figures say what is known.
    let unit = 10_f64.powf((one_in.log10().floor() - 1.0).max(0.0));
    let rounded = ((one_in / unit).round() * unit) as u64;
    let digits = rounded.to_string();
    let grouped: Vec<&str> = digits.as_bytes().rchunks(3).rev().filter_map(|c| std::str::from_utf8(c).ok()).collect();
    format!("1 in {}", grouped.join(" "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_read_as_people_say_them() {
        for (share, text) in [
            (0.0, "nothing"),
            (0.02, "2 %"),
            (0.125, "12 %"),
            (0.0213, "2.1 %"),
            (0.0014, "0.14 %"),
            (0.001, "0.1 %"),
            (0.0002, "1 in 5 000"),
            (3.9e-6, "1 in 260 000"),
            (1e-12, "less than 1 in 1 000 000 000"),
        ] {
            assert_eq!(say_share(share), text);
        }
    }
}
