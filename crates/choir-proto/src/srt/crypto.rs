//! Stream encryption: passphrase to key-encrypting key, key wrap, AES in counter mode.
//!
//! Key schedules are made once per key, never per packet.

use super::{
    KeyLength, Passphrase, Seq,
    wire::{KeyFlag, KeyMaterial, KeySlots, WireError},
};
use aes::{
    Aes128, Aes192, Aes256,
    cipher::{InnerIvInit, KeyInit, StreamCipherCore},
};
use ctr::CtrCore;
use rand_core::RngCore;
use zeroize::Zeroizing;

const ITERATIONS: u32 = 2048;

/// PBKDF2-HMAC-SHA1 over the last 8 bytes of the salt.
#[must_use]
pub fn derive_kek(passphrase: &Passphrase, salt: &[u8; 16], length: KeyLength) -> Zeroizing<Vec<u8>> {
    let mut kek = Zeroizing::new(vec![0; length.bytes()]);
    pbkdf2::pbkdf2_hmac::<sha1::Sha1>(passphrase.bytes(), &salt[8..], ITERATIONS, &mut kek);
    kek
}

fn wrap(kek: &[u8], keys: &[u8]) -> Option<Vec<u8>> {
    let mut out = vec![0; keys.len() + 8];
    match kek.len() {
        16 => aes_kw::KekAes128::try_from(kek).ok()?.wrap(keys, &mut out).ok()?,
        24 => aes_kw::KekAes192::try_from(kek).ok()?.wrap(keys, &mut out).ok()?,
        _ => aes_kw::KekAes256::try_from(kek).ok()?.wrap(keys, &mut out).ok()?,
    }
    Some(out)
}

fn unwrap(kek: &[u8], wrapped: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
    let mut out = Zeroizing::new(vec![0; wrapped.len().checked_sub(8)?]);
    match kek.len() {
        16 => aes_kw::KekAes128::try_from(kek).ok()?.unwrap(wrapped, &mut out).ok()?,
        24 => aes_kw::KekAes192::try_from(kek).ok()?.unwrap(wrapped, &mut out).ok()?,
        _ => aes_kw::KekAes256::try_from(kek).ok()?.unwrap(wrapped, &mut out).ok()?,
    }
    Some(out)
}

#[derive(Clone)]
enum Schedule {
    A128(Box<Aes128>),
    A192(Box<Aes192>),
    A256(Box<Aes256>),
}

/// One stream key with its schedule and the salt it came with.
#[derive(Clone)]
struct StreamKey {
    bytes: Zeroizing<Vec<u8>>,
    schedule: Schedule,
    salt: [u8; 16],
}

impl StreamKey {
    fn new(bytes: &[u8], salt: [u8; 16]) -> Option<Self> {
        let schedule = match bytes.len() {
            16 => Schedule::A128(Box::new(Aes128::new_from_slice(bytes).ok()?)),
            24 => Schedule::A192(Box::new(Aes192::new_from_slice(bytes).ok()?)),
            32 => Schedule::A256(Box::new(Aes256::new_from_slice(bytes).ok()?)),
            _ => return None,
        };
        Some(Self { bytes: Zeroizing::new(bytes.to_vec()), schedule, salt })
    }

    /// Encrypts or decrypts in place: the counter mode is its own inverse.
    fn apply(&self, seq: Seq, data: &mut [u8]) {
        let mut iv = [0u8; 16];
        iv[..14].copy_from_slice(&self.salt[..14]);
        for (b, s) in iv[10..14].iter_mut().zip(seq.raw().to_be_bytes()) {
            *b ^= s;
        }
        macro_rules! run {
            ($cipher:expr) => {
                CtrCore::<_, ctr::flavors::Ctr128BE>::inner_iv_init($cipher, &iv.into()).apply_keystream_partial(data.into())
            };
        }
        match &self.schedule {
            Schedule::A128(c) => run!(RefCipher(c.as_ref())),
            Schedule::A192(c) => run!(RefCipher(c.as_ref())),
            Schedule::A256(c) => run!(RefCipher(c.as_ref())),
        }
    }
}

/// Lends a kept key schedule to the counter mode, which would else want to own a copy of it.
struct RefCipher<'a, C>(&'a C);

impl<C: aes::cipher::BlockSizeUser> aes::cipher::BlockSizeUser for RefCipher<'_, C> {
    type BlockSize = C::BlockSize;
}
impl<C: aes::cipher::BlockEncrypt> aes::cipher::BlockCipher for RefCipher<'_, C> {}
impl<C: aes::cipher::BlockEncrypt> aes::cipher::BlockEncrypt for RefCipher<'_, C> {
    fn encrypt_with_backend(&self, f: impl aes::cipher::BlockClosure<BlockSize = Self::BlockSize>) {
        self.0.encrypt_with_backend(f);
    }
}

/// The keys of one direction: an even and an odd slot, both kept since retransmissions may still
/// use the old one.
#[derive(Clone, Default)]
pub struct CipherKeys {
    even: Option<StreamKey>,
    odd: Option<StreamKey>,
    /// Of the last message: a refresh has the same salt, and must not cost a millisecond of hashing
    /// between media packets.
    kek: Option<Kek>,
}

/// The key that wraps keys, and what it was derived from beside the passphrase.
#[derive(Clone)]
struct Kek {
    salt: [u8; 16],
    bytes: Zeroizing<Vec<u8>>,
}

impl std::fmt::Debug for CipherKeys {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "CipherKeys(even: {}, odd: {})", self.even.is_some(), self.odd.is_some())
    }
}

/// Why a KM message was not taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum KeyError {
    Malformed,
    BadSecret,
}

impl From<WireError> for KeyError {
    fn from(_: WireError) -> Self {
        Self::Malformed
    }
}

impl CipherKeys {
    /// Draws a salt and a first key for the even slot.
    pub(crate) fn generate(length: KeyLength, rng: &mut impl RngCore) -> Self {
        let mut salt = [0; 16];
        rng.fill_bytes(&mut salt);
        Self { even: draw(length.bytes(), salt, rng), ..Self::default() }
    }

    /// Puts given keys into the slots; for tests against published vectors.
    #[must_use]
    pub fn from_even(key: &[u8], salt: [u8; 16]) -> Option<Self> {
        Some(Self { even: Some(StreamKey::new(key, salt)?), ..Self::default() })
    }

    /// The slot that has a key: the even one where both have.
    pub(crate) fn first(&self) -> KeyFlag {
        if self.even.is_none() && self.odd.is_some() { KeyFlag::Odd } else { KeyFlag::Even }
    }

    /// Draws a new key into `slot`, with the salt of the other one.
    pub(crate) fn renew(&mut self, slot: KeyFlag, rng: &mut impl RngCore) {
        let old = if slot == KeyFlag::Odd { &self.even } else { &self.odd };
        let Some((salt, length)) = old.as_ref().map(|k| (k.salt, k.bytes.len())) else { return };
        let new = draw(length, salt, rng);
        match slot {
            KeyFlag::Odd => self.odd = new,
            _ => self.even = new,
        }
    }

    /// Forgets a slot.
    pub(crate) fn retire(&mut self, slot: KeyFlag) {
        match slot {
            KeyFlag::Even => self.even = None,
            KeyFlag::Odd => self.odd = None,
            KeyFlag::Clear => {}
        }
    }

    fn slot(&self, flag: KeyFlag) -> Option<&StreamKey> {
        match flag {
            KeyFlag::Clear => None,
            KeyFlag::Even => self.even.as_ref(),
            KeyFlag::Odd => self.odd.as_ref(),
        }
    }

    /// Encrypts or decrypts in place; false when that slot is empty.
    #[must_use]
    pub fn apply(&self, flag: KeyFlag, seq: Seq, data: &mut [u8]) -> bool {
        self.slot(flag).map(|key| key.apply(seq, data)).is_some()
    }

    pub(crate) fn length(&self) -> Option<KeyLength> {
        self.even.as_ref().or(self.odd.as_ref()).and_then(|k| KeyLength::from_bytes(k.bytes.len()))
    }

    /// Derived once for a salt. All messages of one connection have one passphrase.
    fn kek(&mut self, passphrase: &Passphrase, salt: [u8; 16], length: KeyLength) -> &[u8] {
        let kept = self.kek.take().filter(|k| k.salt == salt && k.bytes.len() == length.bytes());
        &self.kek.insert(kept.unwrap_or_else(|| Kek { salt, bytes: derive_kek(passphrase, &salt, length) })).bytes
    }

    /// The KM message for every key held, wrapped with the passphrase.
    #[must_use]
    pub fn to_message(&mut self, passphrase: &Passphrase) -> Option<Vec<u8>> {
        let first = self.even.as_ref().or(self.odd.as_ref())?;
        let slots = match (&self.even, &self.odd) {
            (Some(_), Some(_)) => KeySlots::Both,
            (Some(_), None) => KeySlots::Even,
            _ => KeySlots::Odd,
        };
        let (salt, key_bytes) = (first.salt, first.bytes.len());
        let mut keys = Zeroizing::new(Vec::new());
        for key in [&self.even, &self.odd].into_iter().flatten() {
            keys.extend_from_slice(&key.bytes);
        }
        let wrapped = wrap(self.kek(passphrase, salt, KeyLength::from_bytes(key_bytes)?), &keys)?;
        Some(KeyMaterial { slots, salt, key_bytes, wrapped }.to_bytes())
    }

    /// Takes the keys of a KM message; slots it does not carry stay.
    pub(crate) fn take_message(&mut self, message: &[u8], passphrase: &Passphrase) -> Result<(), KeyError> {
        let km = KeyMaterial::parse(message)?;
        let length = KeyLength::from_bytes(km.key_bytes).ok_or(KeyError::Malformed)?;
        let keys = unwrap(self.kek(passphrase, km.salt, length), &km.wrapped).ok_or(KeyError::BadSecret)?;
        let (first, second) = keys.split_at(km.key_bytes.min(keys.len()));
        match km.slots {
            KeySlots::Even => self.even = StreamKey::new(first, km.salt),
            KeySlots::Odd => self.odd = StreamKey::new(first, km.salt),
            KeySlots::Both => {
                self.even = StreamKey::new(first, km.salt);
                self.odd = StreamKey::new(second, km.salt);
            }
        }
        Ok(())
    }
}

fn draw(length: usize, salt: [u8; 16], rng: &mut impl RngCore) -> Option<StreamKey> {
    let mut key = Zeroizing::new(vec![0; length]);
    rng.fill_bytes(&mut key);
    StreamKey::new(&key, salt)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand_chacha::ChaCha20Rng;
    use rand_core::SeedableRng as _;

    fn hex(s: &str) -> Vec<u8> {
        hex::decode(s).expect("hex")
    }

    #[test]
    fn matches_the_published_vectors() {
        let pass = Passphrase::new("correct horse 1").expect("length");
        let salt: [u8; 16] = std::array::from_fn(|i| i as u8);
        let kek = "de5091900e59c7e0e87b40ec9431ebf84bcd6cfb9d85b559d998a24af0cfcd32";
        let rows = [
            (16, "ecd674fb7ac3441640edb29d6af6f1581054a894df3afea3", "0d6fe29645d0505affe9c121a3b21e69b222f47a"),
            (24, "b5c83b2784d764e09b211bfcb9deccfefcccd0b077c762bfcf27a605a06490e8", "9e7692d4ec4d930af59a20ed493840a76948726a"),
            (
                32,
                "8ddcf2941cd9bbf1b8b99707694fee53c4e34cf8655f991af56a20243fbbd63a65063fc10757531c",
                "67942b50e05f3f6c6d086cd81599ba3f1e94babf",
            ),
        ];
        for (klen, wrapped, payload) in rows {
            let length = KeyLength::from_bytes(klen).expect("length");
            assert_eq!(derive_kek(&pass, &salt, length).to_vec(), hex(&kek[..klen * 2]));
            let sek: Vec<u8> = (0x20..0x20 + klen as u8).collect();
            let mut keys = CipherKeys::from_even(&sek, salt).expect("keys");
            let message = keys.to_message(&pass).expect("message");
            assert_eq!(&message[32..], hex(wrapped));
            let mut data: Vec<u8> = (0x47..=0x5a).collect();
            assert!(keys.apply(KeyFlag::Even, Seq::new(0x1234_5678), &mut data));
            assert_eq!(data, hex(payload));
            let mut again = CipherKeys::default();
            again.take_message(&message, &pass).expect("taken");
            assert!(again.apply(KeyFlag::Even, Seq::new(0x1234_5678), &mut data));
            assert_eq!(data, (0x47..=0x5a).collect::<Vec<u8>>());
            assert!(!again.apply(KeyFlag::Odd, Seq::new(1), &mut data));
        }
    }

    #[test]
    fn head_of_the_message_is_as_published() {
        let pass = Passphrase::new("correct horse 1").expect("length");
        let mut keys = CipherKeys::from_even(&[1; 16], [0; 16]).expect("keys");
        assert_eq!(&keys.to_message(&pass).expect("message")[..16], hex("12202901000000000200020000000404"));
    }

    #[test]
    fn another_passphrase_does_not_unwrap() {
        let mut keys = CipherKeys::from_even(&[1; 16], [3; 16]).expect("keys");
        let message = keys.to_message(&Passphrase::new("tarn hollow 1").expect("ok")).expect("message");
        let other = Passphrase::new("tarn hollow 2").expect("ok");
        assert_eq!(CipherKeys::default().take_message(&message, &other), Err(KeyError::BadSecret));
    }

    #[test]
    fn a_refresh_derives_nothing_unless_its_salt_is_new() {
        let pass = Passphrase::new("correct horse 1").expect("length");
        let mut sender = CipherKeys::from_even(&[1; 16], [3; 16]).expect("keys");
        let mut receiver = CipherKeys::default();
        let derived = |keys: &CipherKeys| keys.kek.as_ref().map(|k| k.bytes.as_ptr());
        receiver.take_message(&sender.to_message(&pass).expect("message"), &pass).expect("taken");
        let first = (derived(&sender), derived(&receiver));
        sender.renew(KeyFlag::Odd, &mut ChaCha20Rng::seed_from_u64(1));
        receiver.take_message(&sender.to_message(&pass).expect("message"), &pass).expect("taken");
        assert_eq!((derived(&sender), derived(&receiver)), first);
        let mut data = [7; 20];
        assert!(sender.apply(KeyFlag::Odd, Seq::new(9), &mut data) && receiver.apply(KeyFlag::Odd, Seq::new(9), &mut data));
        assert_eq!(data, [7; 20]);
        let mut anew = CipherKeys::from_even(&[2; 16], [4; 16]).expect("keys");
        receiver.take_message(&anew.to_message(&pass).expect("message"), &pass).expect("taken");
        assert_eq!(receiver.kek.as_ref().map(|k| k.salt), Some([4; 16]));
    }
}
