//! Proving the group key to each other (section 3): tied to this very connection, so that nobody in
//! between can pass a proof on.

use hmac::{Hmac, Mac};
use sha2::Sha256;
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

/// Label by which both ends export keying material (RFC 5705, RFC 8446 section 7.5).
pub const EXPORTER_LABEL: &[u8] = b"EXPORTER-stave-1";
/// Bytes exported.
pub const EXPORTER_LEN: usize = 32;
/// Rounds of PBKDF2: guessing keys by a recorded proof must be slow.
const ROUNDS: u32 = 100_000;

/// Whose proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// Of the one that called.
    Caller,
    /// Of the one that was called.
    Answerer,
}

/// A group key, made slow to guess.
#[derive(Clone)]
pub struct SharedKey(Zeroizing<[u8; 32]>);

impl std::fmt::Debug for SharedKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SharedKey(hidden)")
    }
}

impl SharedKey {
    /// From the words that all of a group have. Takes some tens of milliseconds: once a start, not
    /// once a connection.
    #[must_use]
    pub fn derive(words: &str, group: &str) -> Self {
        let mut key = Zeroizing::new([0; 32]);
        let salt = [b"stave-1 ", group.as_bytes()].concat();
        pbkdf2::pbkdf2_hmac::<Sha256>(words.as_bytes(), &salt, ROUNDS, key.as_mut());
        Self(key)
    }

    fn mac(&self, side: Side, exported: &[u8; EXPORTER_LEN]) -> Hmac<Sha256> {
        let mut mac = Hmac::<Sha256>::new_from_slice(self.0.as_ref()).unwrap_or_else(|_| Hmac::new(&Default::default()));
        mac.update(match side {
            Side::Caller => b"stave-1 caller",
            Side::Answerer => b"stave-1 answer",
        });
        mac.update(exported);
        mac
    }

    /// The proof of a side, as hexadecimal digits.
    #[must_use]
    pub fn proof(&self, side: Side, exported: &[u8; EXPORTER_LEN]) -> String {
        hex::encode(self.mac(side, exported).finalize().into_bytes())
    }

    /// True when `said` is that side's proof.
    #[must_use]
    pub fn proves(&self, side: Side, exported: &[u8; EXPORTER_LEN], said: &str) -> bool {
        self.proof(side, exported).as_bytes().ct_eq(said.as_bytes()).into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_proof_holds_for_its_side_key_group_and_connection_only() {
        let key = SharedKey::derive("eight oars and a cox", "regatta");
        let here = [7; EXPORTER_LEN];
        let proof = key.proof(Side::Caller, &here);
        assert!(key.proves(Side::Caller, &here, &proof));
        assert!(!key.proves(Side::Answerer, &here, &proof), "sent back to its maker");
        assert!(!key.proves(Side::Caller, &[8; EXPORTER_LEN], &proof), "passed on to another connection");
        assert!(!SharedKey::derive("eight oars and a cox", "other").proves(Side::Caller, &here, &proof));
        assert!(!SharedKey::derive("eight oars and no cox", "regatta").proves(Side::Caller, &here, &proof));
        assert!(!key.proves(Side::Caller, &here, "") && !format!("{key:?}").contains('7'));
    }
}
