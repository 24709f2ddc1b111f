//! The nearest right spelling of a wrong word.

/// The candidate that `word` most likely meant, if any is near enough to be worth naming.
#[must_use]
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let word = word.to_lowercase();
    candidates
        .into_iter()
        .map(|c| (strsim::jaro_winkler(&word, &c.to_lowercase()), c))
        .filter(|(score, _)| *score > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, c)| c)
}

/// A remedy naming the nearest spelling, or all that is allowed.
#[must_use]
pub fn did_you_mean(word: &str, candidates: &[&str]) -> String {
    match nearest(word, candidates.iter().copied()) {
        Some(near) => format!("Did you mean \"{near}\"? Allowed: {}.", candidates.join(", ")),
        None => format!("Allowed: {}.", candidates.join(", ")),
    }
}
