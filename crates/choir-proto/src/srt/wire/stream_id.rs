//! The stream ID's `#!::key=value,...` form: what a caller says of itself and of what it wants.

use std::fmt;

/// A stream ID, either free text or the key=value form. Keys of one letter are the standard ones:
/// `u` user, `r` resource, `h` host, `s` session, `t` type, `m` mode (request, publish,
/// bidirectional).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StreamId {
    /// Anything that does not start with `#!::`.
    Text(String),
    /// Pairs in the order given.
    Pairs(Vec<(String, String)>),
}

impl StreamId {
    /// Reads either form; blanks around keys and values are no part of them. A part without `=`
    /// makes the whole free text, so nothing is lost.
    #[must_use]
    pub fn parse(text: &str) -> Self {
        let Some(rest) = text.strip_prefix("#!::") else { return Self::Text(text.to_owned()) };
        let pairs: Option<Vec<_>> = rest
            .split(',')
            .map(str::trim)
            .filter(|p| !p.is_empty())
            .map(|p| p.split_once('=').map(|(k, v)| (k.trim().to_owned(), v.trim().to_owned())).filter(|(k, _)| !k.is_empty()))
            .collect();
        pairs.map_or_else(|| Self::Text(text.to_owned()), Self::Pairs)
    }

    /// The value of a key in the key=value form.
    #[must_use]
    pub fn get(&self, key: &str) -> Option<&str> {
        match self {
            Self::Text(_) => None,
            Self::Pairs(pairs) => pairs.iter().find(|(k, _)| k == key).map(|(_, v)| v.as_str()),
        }
    }

    /// What is asked for: the resource, or the whole text.
    #[must_use]
    pub fn resource(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Pairs(_) => self.get("r"),
        }
    }
}

impl fmt::Display for StreamId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => f.write_str(text),
            Self::Pairs(pairs) => {
                f.write_str("#!::")?;
                for (i, (k, v)) in pairs.iter().enumerate() {
                    write!(f, "{}{k}={v}", if i == 0 { "" } else { "," })?;
                }
                Ok(())
            }
        }
    }
}
