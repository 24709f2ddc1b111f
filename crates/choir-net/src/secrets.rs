//! Fetches passphrases from where the sheet says they are.

use choir_core::secret::{Secret, passphrase_length_problem};
use choir_proto::srt::Passphrase;
use std::path::{Path, PathBuf};

/// Variables of this kind hold what was typed in a URL on the command line.
pub const TYPED_PREFIX: &str = "CHOIR_PASSPHRASE_";

/// Why a passphrase could not be had. Never says any of it.
#[derive(Debug, thiserror::Error)]
pub enum SecretError {
    /// The variable is not set.
    #[error("the environment variable {0} is not set: set it to the passphrase before starting")]
    NoVariable(String),
    /// The file cannot be read.
    #[error("the passphrase file {path} cannot be read ({cause}): check the path and that you may read it", path = .0.display(), cause = .1)]
    File(PathBuf, std::io::Error),
    /// Wrong length.
    #[error("{source_name}: {what} It needs 10 to 79")]
    Length {
        /// Where it came from.
        source_name: String,
        /// The sentence.
        what: String,
    },
}

/// Fetches it. Relative paths count from `base`, the sheet's folder.
///
/// # Errors
/// It is not there, or has the wrong length.
pub fn fetch(secret: &Secret, base: &Path) -> Result<Passphrase, SecretError> {
    let (text, source_name) = match secret {
        Secret::Literal(text) => (text.reveal().to_owned(), "the passphrase in the sheet or URL".to_owned()),
        Secret::Env(name) => {
            let text = std::env::var(name).map_err(|_| SecretError::NoVariable(name.clone()))?;
            let typed = name.starts_with(TYPED_PREFIX);
            (text, if typed { "the passphrase in the URL".into() } else { format!("the environment variable {name}") })
        }
        Secret::File(path) => {
            let path = base.join(path);
            let text = std::fs::read_to_string(&path).map_err(|e| SecretError::File(path.clone(), e))?;
            let first = text.lines().next().unwrap_or_default().to_owned();
            (first, format!("the file {}", path.display()))
        }
    };
    let length = text.len();
    Passphrase::new(text).map_err(|_| SecretError::Length { source_name, what: passphrase_length_problem(length).unwrap_or_default() })
}
