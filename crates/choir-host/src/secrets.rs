//! Fetches passphrases from where the sheet says they are.

use choir_core::secret::{Secret, SecretText, passphrase_length_problem};
use choir_proto::srt::Passphrase;
use std::path::{Path, PathBuf};

/// Variables of this kind hold what was typed in a URL on the command line.
pub const TYPED_PREFIX: &str = "CHOIR_PASSPHRASE_";

/// Why a passphrase could not be had. Never says any of it.
#[derive(Debug, thiserror::Error)]
pub enum SecretError {
    /// The variable is not set.
    #[error("the environment variable {0} is not set: set it before starting")]
    NoVariable(String),
    /// The file cannot be read.
    #[error("the secret file {path} cannot be read ({cause}): check the path and that you may read it", path = .0.display(), cause = .1)]
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

/// Fetches any secret text. Relative paths count from `base`, the sheet's folder.
///
/// # Errors
/// It is not there.
pub fn fetch_text(secret: &Secret, base: &Path) -> Result<SecretText, SecretError> {
    Ok(match secret {
        Secret::Literal(text) => text.clone(),
        Secret::Env(name) => SecretText::new(std::env::var(name).map_err(|_| SecretError::NoVariable(name.clone()))?),
        Secret::File(path) => {
            let path = base.join(path);
            let text = std::fs::read_to_string(&path).map_err(|e| SecretError::File(path.clone(), e))?;
            SecretText::new(text.lines().next().unwrap_or_default())
        }
    })
}

/// Fetches a passphrase.
///
/// # Errors
/// It is not there, or has the wrong length.
pub fn fetch(secret: &Secret, base: &Path) -> Result<Passphrase, SecretError> {
    let text = fetch_text(secret, base)?;
    let source_name = match secret {
        Secret::Literal(_) => "the passphrase in the sheet or URL".to_owned(),
        Secret::Env(name) if name.starts_with(TYPED_PREFIX) => "the passphrase in the URL".to_owned(),
        Secret::Env(name) => format!("the environment variable {name}"),
        Secret::File(path) => format!("the file {}", base.join(path).display()),
    };
    let length = text.reveal().len();
    let wrong = |_| SecretError::Length { source_name, what: passphrase_length_problem(length).unwrap_or_default() };
    Passphrase::new(text.reveal()).map_err(wrong)
}
