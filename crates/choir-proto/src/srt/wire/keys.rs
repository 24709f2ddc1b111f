//! The key material message (KM): salt and wrapped stream keys.

use super::WireError;
use crate::bits::{be16, be32};

/// Which keys a message carries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeySlots {
    /// Even only.
    Even,
    /// Odd only.
    Odd,
    /// Even, then odd.
    Both,
}

/// A parsed KM message; the keys are still wrapped.
#[derive(Clone, PartialEq, Eq)]
pub struct KeyMaterial {
    /// Keys inside.
    pub slots: KeySlots,
    /// 16 bytes.
    pub salt: [u8; 16],
    /// 16, 24 or 32.
    pub key_bytes: usize,
    /// RFC 3394 wrap of the keys: 8 bytes and the keys.
    pub wrapped: Vec<u8>,
}

impl std::fmt::Debug for KeyMaterial {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "KeyMaterial({:?}, {} bytes each)", self.slots, self.key_bytes)
    }
}

const HEAD: usize = 16;

impl KeyMaterial {
    /// Parses and checks every fixed field.
    ///
    /// # Errors
    /// Any field that is not AES-CTR with a 16-byte salt and a known key length.
    pub fn parse(data: &[u8]) -> Result<Self, WireError> {
        let byte = |at: usize| data.get(at).copied().ok_or(WireError::Truncated);
        if byte(0)? != 0x12 || be16(data, 1) != Some(0x2029) {
            return Err(WireError::Invalid("not a key material message"));
        }
        let (slots, count) = match byte(3)? & 3 {
            1 => (KeySlots::Even, 1),
            2 => (KeySlots::Odd, 1),
            3 => (KeySlots::Both, 2),
            _ => return Err(WireError::Invalid("key material without a key")),
        };
        if be32(data, 4) != Some(0) || byte(8)? != 2 || byte(9)? != 0 || byte(10)? != 2 || byte(14)? != 4 {
            return Err(WireError::Invalid("key material of an unknown cipher"));
        }
        let key_bytes = usize::from(byte(15)?) * 4;
        if !matches!(key_bytes, 16 | 24 | 32) {
            return Err(WireError::Invalid("key material of an unknown key length"));
        }
        let mut salt = [0; 16];
        salt.copy_from_slice(data.get(HEAD..32).ok_or(WireError::Truncated)?);
        let wrapped = data.get(32..).ok_or(WireError::Truncated)?;
        if wrapped.len() != 8 + count * key_bytes {
            return Err(WireError::Truncated);
        }
        Ok(Self { slots, salt, key_bytes, wrapped: wrapped.to_vec() })
    }

    /// The bytes on the wire.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let kk = match self.slots {
            KeySlots::Even => 1,
            KeySlots::Odd => 2,
            KeySlots::Both => 3,
        };
        let mut out = vec![0x12, 0x20, 0x29, kk, 0, 0, 0, 0, 2, 0, 2, 0, 0, 0, 4, (self.key_bytes / 4) as u8];
        out.extend_from_slice(&self.salt);
        out.extend_from_slice(&self.wrapped);
        out
    }
}
