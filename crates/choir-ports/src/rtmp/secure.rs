//! RTMP within TLS: whose certificates a caller trusts, and which one a port shows.

use rustls::{
    ClientConfig, RootCertStore, ServerConfig,
    crypto::CryptoProvider,
    pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
};
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

fn provider() -> Arc<CryptoProvider> {
    Arc::new(rustls::crypto::ring::default_provider())
}

/// Certificates of a PEM file, at least one.
fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let all: Result<Vec<_>, _> = CertificateDer::pem_file_iter(path).map_err(|e| e.to_string())?.collect();
    let all = all.map_err(|e| e.to_string())?;
    if all.is_empty() { Err("no certificate is in it".into()) } else { Ok(all) }
}

/// Whose signature is taken for a server's certificate: the usual authorities', or those of a file.
pub(super) fn caller(authority: Option<&Path>) -> Result<ClientConfig, String> {
    let mut roots = RootCertStore::empty();
    match authority {
        None => roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
        Some(path) => {
            let say = |e: String| format!("authority {}: {e}", path.display());
            for cert in certificates(path).map_err(say)? {
                roots.add(cert).map_err(|e| say(e.to_string()))?;
            }
        }
    }
    let config = ClientConfig::builder_with_provider(provider()).with_safe_default_protocol_versions().map_err(|e| e.to_string())?;
    Ok(config.with_root_certificates(roots).with_no_client_auth())
}

/// What a port shows that is called within TLS. Two are the same if they are of the same files.
#[derive(Clone)]
pub struct Shown {
    files: (PathBuf, PathBuf),
    pub(super) config: Arc<ServerConfig>,
}

impl PartialEq for Shown {
    fn eq(&self, other: &Self) -> bool {
        self.files == other.files
    }
}

impl Shown {
    /// Reads a certificate with those that sign it, and its key: PEM files.
    ///
    /// # Errors
    /// A file cannot be read, or the key is not the certificate's. Never says anything of the key.
    pub fn read(certificate: &Path, key: &Path) -> Result<Self, String> {
        let chain = certificates(certificate).map_err(|e| format!("certificate {}: {e}", certificate.display()))?;
        let private =
            PrivateKeyDer::from_pem_file(key).map_err(|_| format!("certificate key {}: it has no key that can be read", key.display()))?;
        let config = ServerConfig::builder_with_provider(provider()).with_safe_default_protocol_versions().map_err(|e| e.to_string())?;
        let config = config.with_no_client_auth().with_single_cert(chain, private);
        let config = config.map_err(|_| format!("{} is not the key of {}", key.display(), certificate.display()))?;
        Ok(Self { files: (certificate.to_owned(), key.to_owned()), config: Arc::new(config) })
    }
}
