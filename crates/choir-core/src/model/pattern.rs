//! An address with blanks.

use crate::{
    link::{Field, Link, Problem, Value, from_fields},
    spelling::did_you_mean,
};

/// Addresses that are tried of one pattern.
const TRIED_MOST: usize = 16;

/// Values of blanks, and in words those of them that are tried.
type Tried = (Vec<(String, String)>, Vec<String>);

/// `[pattern.NAME]`.
#[derive(Debug, Clone, PartialEq)]
pub struct Pattern {
    /// Its name.
    pub name: String,
    /// The address; a blank stands in curly brackets.
    pub url: String,
    /// What some of the blanks may be.
    pub allowed: Vec<(String, Vec<String>)>,
    /// What its links have in common: user, password, transport.
    pub shared: Vec<Field>,
}

impl Pattern {
    /// The names of the blanks, each once; none where one does not end.
    #[must_use]
    pub fn blanks(&self) -> Option<Vec<&str>> {
        let mut all: Vec<&str> = Vec::new();
        let mut rest = self.url.as_str();
        while let Some((_, behind)) = rest.split_once('{') {
            let (name, after) = behind.split_once('}')?;
            if !all.contains(&name) {
                all.push(name);
            }
            rest = after;
        }
        Some(all)
    }

    fn allowed_of(&self, blank: &str) -> &[String] {
        self.allowed.iter().find(|(name, _)| name == blank).map_or(&[], |(_, allowed)| allowed)
    }

    /// What a blank is filled with: what is given, or the only value that is allowed.
    ///
    /// # Errors
    /// It is missing, or not allowed: what is the case, and what to do.
    pub fn fill(&self, blank: &str, given: Option<&str>) -> Result<String, (String, String)> {
        let allowed = self.allowed_of(blank);
        let names: Vec<&str> = allowed.iter().map(String::as_str).collect();
        match given {
            Some(text) if names.is_empty() || names.contains(&text) => Ok(text.to_owned()),
            Some(text) => Err((format!("{blank} \"{text}\" is not one of the pattern {}.", self.name), did_you_mean(text, &names))),
            None if names.len() == 1 => Ok(names[0].to_owned()),
            None if names.is_empty() => {
                Err((format!("{blank} is missing."), format!("The pattern {} has this blank: add {blank} = \"...\".", self.name)))
            }
            None => Err((format!("{blank} is missing."), format!("Allowed: {}.", names.join(", ")))),
        }
    }

    /// The address with its blanks filled.
    #[must_use]
    pub fn with(&self, values: &[(String, String)]) -> String {
        values.iter().fold(self.url.clone(), |url, (blank, value)| url.replace(&format!("{{{blank}}}"), value))
    }

    /// A link to one of its addresses.
    #[must_use]
    pub fn link(&self, url: &str) -> (Option<Link>, Vec<Problem>) {
        let url = Field { key: "url".into(), key_at: 0, value: Value::Text(url.to_owned()), value_at: 0 };
        from_fields(self.shared.iter().cloned().chain([url]).collect(), 0)
    }

    /// All addresses that it allows with some blanks given, at most sixteen, each with the values
    /// of the others.
    ///
    /// # Errors
    /// A blank is not allowed to be so, or has no values to be tried.
    pub fn addresses(&self, given: &[(String, String)]) -> Result<Vec<(String, String)>, String> {
        let blanks = self.blanks().unwrap_or_default();
        if let Some((other, _)) = given.iter().find(|(name, _)| !blanks.contains(&name.as_str())) {
            return Err(format!("the pattern {} has no blank \"{other}\". {}", self.name, did_you_mean(other, &blanks)));
        }
        let mut all: Vec<Tried> = vec![Default::default()];
        for blank in blanks {
            let one = given.iter().find(|(name, _)| name == blank).map(|(_, value)| value.as_str());
            let values: Vec<String> = match one {
                Some(_) => vec![self.fill(blank, one).map_err(|(what, remedy)| format!("{what} {remedy}"))?],
                None if self.allowed_of(blank).is_empty() => return Err(format!("{blank} is missing: add {blank}=VALUE")),
                None => self.allowed_of(blank).to_vec(),
            };
            let tried = values.len() > 1;
            let with = |(filled, words): &Tried| {
                let (filled, words) = (filled.clone(), words.clone());
                let one = move |value: &String| {
                    let word = tried.then(|| format!("{blank} {value}"));
                    let filled = filled.iter().cloned().chain([(blank.to_owned(), value.clone())]).collect();
                    (filled, words.iter().cloned().chain(word).collect())
                };
                values.iter().map(one).collect::<Vec<_>>()
            };
            all = all.iter().flat_map(with).take(TRIED_MOST).collect();
        }
        Ok(all.into_iter().map(|(filled, words)| (words.join(", "), self.with(&filled))).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_address_that_a_pattern_allows_is_made() {
        let own = |list: &[&str]| list.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>();
        let pattern = Pattern {
            name: "tarn".into(),
            url: "rtsp://{address}/{input}?size={size}&again={size}".into(),
            allowed: vec![("size".into(), own(&["full", "light"])), ("input".into(), own(&["1", "2"]))],
            shared: Vec::new(),
        };
        assert_eq!(pattern.blanks(), Some(vec!["address", "input", "size"]));
        let given = vec![("address".to_owned(), "h:1".to_owned()), ("input".to_owned(), "2".to_owned())];
        let wanted = [("size full", "rtsp://h:1/2?size=full&again=full"), ("size light", "rtsp://h:1/2?size=light&again=light")];
        assert_eq!(pattern.addresses(&given), Ok(wanted.map(|(a, b)| (a.to_owned(), b.to_owned())).to_vec()));
        assert_eq!(pattern.addresses(&given[..1]).map(|a| a.len()), Ok(4));
        assert!(pattern.addresses(&[]).is_err_and(|e| e.contains("address is missing")));
        assert!(pattern.addresses(&[("adress".into(), "h".into())]).is_err_and(|e| e.contains("Did you mean \"address\"?")));
        assert_eq!(Pattern { url: "rtsp://{address".into(), ..pattern }.blanks(), None);
    }
}
