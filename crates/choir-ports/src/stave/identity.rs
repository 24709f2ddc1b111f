//! Who this machine is to others: a certificate of its own, kept so that it can be pinned.

use super::StaveError;
use rcgen::{CertificateParams, KeyPair, PKCS_ECDSA_P256_SHA256};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer, pem::PemObject};
use sha2::{Digest, Sha256};
use std::{
    fs::{self, DirBuilder, OpenOptions},
    io::{self, Write},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
    sync::Arc,
};

const FILE: &str = "stave-identity.pem";

/// A certificate and its key.
#[derive(Clone)]
pub struct Identity(Arc<Inner>);

struct Inner {
    cert: CertificateDer<'static>,
    key: PrivateKeyDer<'static>,
    fingerprint: String,
}

impl std::fmt::Debug for Identity {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Identity({})", self.0.fingerprint)
    }
}

/// SHA-256 of a certificate, as 64 digits.
pub(super) fn fingerprint_of(cert: &[u8]) -> String {
    hex::encode(Sha256::digest(cert))
}

/// Where it is kept: `$CHOIR_STATE_DIR`, else below `$XDG_STATE_HOME`, else in the home folder.
fn folder() -> Option<PathBuf> {
    let set = |name: &str| std::env::var_os(name).filter(|v| !v.is_empty()).map(PathBuf::from);
    set("CHOIR_STATE_DIR")
        .or_else(|| set("XDG_STATE_HOME").map(|p| p.join("choir")))
        .or_else(|| set("HOME").map(|h| h.join(".local/state/choir")))
}

impl Identity {
    /// This machine's; made and kept the first time.
    ///
    /// # Errors
    /// The folder cannot be used, or what is kept there is not readable.
    pub fn of_machine() -> Result<Self, StaveError> {
        let folder = folder().ok_or_else(|| StaveError::Identity(PathBuf::from("$HOME"), "no home folder is set".into()))?;
        Self::kept_in(&folder)
    }

    /// As `of_machine`, in a folder of the caller's choice.
    ///
    /// # Errors
    /// As `of_machine`.
    pub fn kept_in(folder: &Path) -> Result<Self, StaveError> {
        let path = folder.join(FILE);
        let failed = |e: String| StaveError::Identity(path.clone(), e);
        let io = |e: io::Error| failed(e.to_string());
        if !path.exists() {
            DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(io)?;
            let (cert, key) = make().map_err(failed)?;
            // Whole before it has its name; a second copy that was quicker wins.
            let own = folder.join(format!("{FILE}.{}", std::process::id()));
            let written = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&own);
            let written = written.and_then(|mut f| f.write_all(format!("{cert}{key}").as_bytes()).and_then(|()| f.sync_all()));
            let linked = written.and_then(|()| match fs::hard_link(&own, &path) {
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => Ok(()),
                other => other,
            });
            let _ = fs::remove_file(&own);
            linked.map_err(io)?;
        }
        Self::of_pem(&fs::read(&path).map_err(io)?).map_err(failed)
    }

    /// One that lasts as long as the process.
    ///
    /// # Errors
    /// The system has no randomness.
    pub fn passing() -> Result<Self, StaveError> {
        let failed = |e| StaveError::Identity(PathBuf::new(), e);
        let (cert, key) = make().map_err(failed)?;
        Self::of_pem(format!("{cert}{key}").as_bytes()).map_err(failed)
    }

    fn of_pem(pem: &[u8]) -> Result<Self, String> {
        let strange = |_| "it has no certificate with its key: remove it to get a new one".to_owned();
        let cert = CertificateDer::from_pem_slice(pem).map_err(strange)?;
        let key = PrivatePkcs8KeyDer::from_pem_slice(pem).map_err(strange)?;
        let fingerprint = fingerprint_of(&cert);
        Ok(Self(Arc::new(Inner { cert, key: key.into(), fingerprint })))
    }

    /// What others may pin: 64 hexadecimal digits.
    #[must_use]
    pub fn fingerprint(&self) -> &str {
        &self.0.fingerprint
    }

    pub(super) fn cert(&self) -> CertificateDer<'static> {
        self.0.cert.clone()
    }

    pub(super) fn key(&self) -> PrivateKeyDer<'static> {
        self.0.key.clone_key()
    }

    /// A number that lasts for this machine and `what`, and tells nothing of the key.
    pub(super) fn number(&self, what: &str) -> String {
        let digest = Sha256::new().chain_update(self.0.fingerprint.as_bytes()).chain_update(what.as_bytes()).finalize();
        hex::encode(&digest[..8])
    }

    /// A key that only this machine has, the same after a restart.
    pub(super) fn own_secret(&self, what: &str) -> [u8; 32] {
        Sha256::new().chain_update(what.as_bytes()).chain_update(self.0.key.secret_der()).finalize().into()
    }
}

fn make() -> Result<(String, String), String> {
    let text = |e: rcgen::Error| e.to_string();
    let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).map_err(text)?;
    let params = CertificateParams::new(vec!["stave".to_owned()]).map_err(text)?;
    Ok((params.self_signed(&key).map_err(text)?.pem(), key.serialize_pem()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn it_is_made_once_kept_to_oneself_and_the_same_ever_after() {
        let folder = tempfile::tempdir().expect("a folder");
        let inner = folder.path().join("state");
        let first = Identity::kept_in(&inner).expect("made");
        let mode = fs::metadata(inner.join(FILE)).expect("a file").permissions().mode();
        assert_eq!(mode & 0o077, 0);
        assert_eq!(Identity::kept_in(&inner).expect("read").fingerprint(), first.fingerprint());
        assert_ne!(Identity::passing().expect("made").fingerprint(), first.fingerprint());
        assert_ne!(first.number("a"), first.number("b"));
        fs::write(inner.join(FILE), "spoilt").expect("written");
        let why = Identity::kept_in(&inner).expect_err("spoilt").to_string();
        assert!(why.contains("stave-identity.pem") && why.contains("remove it"), "{why}");
    }
}
