//! Values in commands and metadata: AMF 0, and AMF 3 as far as publishers send it, both from the
//! published formats. What comes from the network is bounded in depth, in number and by its own
//! length.

/// How deep values may stand in each other.
const DEPTH: u32 = 16;
/// Values of one message.
const VALUES: u32 = 1024;
/// Bytes of texts that are said again by reference.
const SAID_AGAIN: usize = 1 << 16;

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub enum Amf {
    /// A number.
    Number(f64),
    /// True or false.
    Flag(bool),
    /// A text.
    Text(String),
    /// Names and values in their order: an object, or an array with names.
    Object(Vec<(String, Amf)>),
    /// An array without names.
    List(Vec<Amf>),
    /// Null, undefined, and what has no place here.
    Null,
}

impl Amf {
    /// A text.
    #[must_use]
    pub fn text(text: impl Into<String>) -> Self {
        Self::Text(text.into())
    }

    /// The text that it is.
    #[must_use]
    pub fn as_text(&self) -> Option<&str> {
        if let Self::Text(t) = self { Some(t) } else { None }
    }

    /// The number that it is.
    #[must_use]
    pub fn as_number(&self) -> Option<f64> {
        if let Self::Number(n) = self { Some(*n) } else { None }
    }

    /// The value of this name in it.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&Self> {
        let Self::Object(all) = self else { return None };
        all.iter().find(|(n, _)| n == name).map(|(_, v)| v)
    }
}

/// Why values cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AmfError {
    /// It ends within a value.
    #[error("it ends within a value")]
    Short,
    /// A kind that does not exist.
    #[error("a value of kind {0} does not exist")]
    Kind(u8),
    /// Too many, or too deep in each other.
    #[error("too many values, or too deep in each other")]
    TooMany,
}

/// All values of a message body in AMF 0; those in AMF 3 are marked there.
///
/// # Errors
/// It cannot be read.
pub fn read_values(data: &[u8]) -> Result<Vec<Amf>, AmfError> {
    let mut r = Reader { data, left: VALUES, again: SAID_AGAIN };
    let mut all = Vec::new();
    while !r.data.is_empty() {
        all.push(r.value(0)?);
    }
    Ok(all)
}

struct Reader<'a> {
    data: &'a [u8],
    left: u32,
    again: usize,
}

impl<'a> Reader<'a> {
    fn bytes(&mut self, n: usize) -> Result<&'a [u8], AmfError> {
        let (taken, rest) = self.data.split_at_checked(n).ok_or(AmfError::Short)?;
        self.data = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], AmfError> {
        self.bytes(N)?.try_into().map_err(|_| AmfError::Short)
    }

    fn number(&mut self) -> Result<f64, AmfError> {
        Ok(f64::from_be_bytes(self.array()?))
    }

    fn string(&mut self) -> Result<String, AmfError> {
        let length = u16::from_be_bytes(self.array()?);
        Ok(String::from_utf8_lossy(self.bytes(length.into())?).into_owned())
    }

    /// A text or name is copied.
    fn again(&mut self, bytes: usize) -> Result<(), AmfError> {
        self.again = self.again.checked_sub(bytes).ok_or(AmfError::TooMany)?;
        Ok(())
    }

    fn one(&mut self, depth: u32) -> Result<(), AmfError> {
        self.left = self.left.checked_sub(1).filter(|_| depth < DEPTH).ok_or(AmfError::TooMany)?;
        Ok(())
    }

    fn value(&mut self, depth: u32) -> Result<Amf, AmfError> {
        self.one(depth)?;
        Ok(match self.array::<1>()?[0] {
            0x00 => Amf::Number(self.number()?),
            0x01 => Amf::Flag(self.array::<1>()?[0] != 0),
            0x02 => Amf::Text(self.string()?),
            0x03 => Amf::Object(self.pairs(depth)?),
            0x08 => {
                // The count is what the sender believes; the end is marked.
                self.bytes(4)?;
                Amf::Object(self.pairs(depth)?)
            }
            0x05 | 0x06 | 0x0D => Amf::Null,
            // A reference to something before; nobody needs what it names.
            0x07 => {
                self.bytes(2)?;
                Amf::Null
            }
            0x0A => {
                let count = u32::from_be_bytes(self.array()?);
                let mut all = Vec::new();
                for _ in 0..count {
                    all.push(self.value(depth + 1)?);
                }
                Amf::List(all)
            }
            0x0B => {
                let at = self.number()?;
                self.bytes(2)?;
                Amf::Number(at)
            }
            0x0C | 0x0F => {
                let length = u32::from_be_bytes(self.array()?);
                Amf::Text(String::from_utf8_lossy(self.bytes(length as usize)?).into_owned())
            }
            0x10 => {
                self.string()?;
                Amf::Object(self.pairs(depth)?)
            }
            0x11 => Three::default().value(self, depth + 1)?,
            other => return Err(AmfError::Kind(other)),
        })
    }

    fn pairs(&mut self, depth: u32) -> Result<Vec<(String, Amf)>, AmfError> {
        let mut all = Vec::new();
        loop {
            let name = self.string()?;
            if name.is_empty() && self.data.first() == Some(&0x09) {
                self.data = &self.data[1..];
                return Ok(all);
            }
            let value = self.value(depth + 1)?;
            all.push((name, value));
        }
    }
}

/// What AMF 3 refers back to.
#[derive(Default)]
struct Three {
    texts: Vec<String>,
    objects: Vec<Amf>,
    /// Names of the members of each class, and whether more may follow.
    classes: Vec<(Vec<String>, bool)>,
}

impl Three {
    /// A number of up to 29 bits.
    fn short(r: &mut Reader<'_>) -> Result<u32, AmfError> {
        let mut n = 0u32;
        for i in 0..4 {
            let [b] = r.array()?;
            if i == 3 {
                return Ok(n << 8 | u32::from(b));
            }
            n = n << 7 | u32::from(b & 0x7F);
            if b & 0x80 == 0 {
                break;
            }
        }
        Ok(n)
    }

    fn text(&mut self, r: &mut Reader<'_>) -> Result<String, AmfError> {
        let head = Self::short(r)?;
        if head & 1 == 0 {
            let text = self.texts.get(head as usize >> 1).ok_or(AmfError::Short)?;
            r.again(text.len())?;
            return Ok(text.clone());
        }
        let text = String::from_utf8_lossy(r.bytes(head as usize >> 1)?).into_owned();
        if !text.is_empty() {
            self.texts.push(text.clone());
        }
        Ok(text)
    }

    /// Something that was there before is not copied: nobody needs it twice.
    fn known(&self, head: u32) -> Result<Amf, AmfError> {
        self.objects.get(head as usize >> 1).map(|_| Amf::Null).ok_or(AmfError::Short)
    }

    fn value(&mut self, r: &mut Reader<'_>, depth: u32) -> Result<Amf, AmfError> {
        r.one(depth)?;
        Ok(match r.array::<1>()?[0] {
            0x00 | 0x01 => Amf::Null,
            0x02 => Amf::Flag(false),
            0x03 => Amf::Flag(true),
            // 29 bits with a sign.
            0x04 => Amf::Number(f64::from((Self::short(r)? << 3) as i32 >> 3)),
            0x05 => Amf::Number(r.number()?),
            0x06 => Amf::Text(self.text(r)?),
            0x07 | 0x0B | 0x0C => {
                let head = Self::short(r)?;
                if head & 1 == 0 {
                    return self.known(head);
                }
                self.objects.push(Amf::Null);
                Amf::Text(String::from_utf8_lossy(r.bytes(head as usize >> 1)?).into_owned())
            }
            0x08 => {
                let head = Self::short(r)?;
                if head & 1 == 0 {
                    return self.known(head);
                }
                self.objects.push(Amf::Null);
                Amf::Number(r.number()?)
            }
            0x09 => {
                let head = Self::short(r)?;
                if head & 1 == 0 {
                    return self.known(head);
                }
                self.objects.push(Amf::Null);
                let mut named = self.named(r, depth)?;
                let mut list = Vec::new();
                for _ in 0..head >> 1 {
                    list.push(self.value(r, depth + 1)?);
                }
                if named.is_empty() {
                    return Ok(Amf::List(list));
                }
                named.extend(list.into_iter().enumerate().map(|(n, v)| (n.to_string(), v)));
                Amf::Object(named)
            }
            0x0A => self.object(r, depth)?,
            other => return Err(AmfError::Kind(other)),
        })
    }

    fn object(&mut self, r: &mut Reader<'_>, depth: u32) -> Result<Amf, AmfError> {
        let head = Self::short(r)?;
        if head & 1 == 0 {
            return self.known(head);
        }
        let (names, more) = if head & 2 == 0 {
            let class = self.classes.get(head as usize >> 2).ok_or(AmfError::Short)?;
            r.again(class.0.iter().map(|name| name.len() + 1).sum())?;
            class.clone()
        } else if head & 4 != 0 {
            // It writes itself, as only its class knows.
            return Err(AmfError::Kind(0x0A));
        } else {
            self.text(r)?;
            let mut names = Vec::new();
            for _ in 0..head >> 4 {
                r.one(depth)?;
                names.push(self.text(r)?);
            }
            let class = (names, head & 8 != 0);
            self.classes.push(class.clone());
            class
        };
        self.objects.push(Amf::Null);
        let mut all = Vec::new();
        for name in names {
            all.push((name, self.value(r, depth + 1)?));
        }
        if more {
            all.extend(self.named(r, depth)?);
        }
        Ok(Amf::Object(all))
    }

    fn named(&mut self, r: &mut Reader<'_>, depth: u32) -> Result<Vec<(String, Amf)>, AmfError> {
        let mut all = Vec::new();
        loop {
            let name = self.text(r)?;
            if name.is_empty() {
                return Ok(all);
            }
            all.push((name, self.value(r, depth + 1)?));
        }
    }
}

/// Appends values in AMF 0. Texts and names beyond 65 535 bytes are cut.
pub fn write_values<'a>(values: impl IntoIterator<Item = &'a Amf>, out: &mut Vec<u8>) {
    values.into_iter().for_each(|v| write_value(v, out));
}

fn write_text(text: &str, out: &mut Vec<u8>) {
    let length = text.len().min(usize::from(u16::MAX));
    out.extend_from_slice(&(length as u16).to_be_bytes());
    out.extend_from_slice(&text.as_bytes()[..length]);
}

fn write_value(value: &Amf, out: &mut Vec<u8>) {
    match value {
        Amf::Number(n) => {
            out.push(0x00);
            out.extend_from_slice(&n.to_be_bytes());
        }
        Amf::Flag(b) => out.extend_from_slice(&[0x01, u8::from(*b)]),
        Amf::Text(t) => {
            out.push(0x02);
            write_text(t, out);
        }
        Amf::Object(all) => {
            out.push(0x03);
            for (name, value) in all {
                write_text(name, out);
                write_value(value, out);
            }
            out.extend_from_slice(&[0, 0, 0x09]);
        }
        Amf::List(all) => {
            out.push(0x0A);
            out.extend_from_slice(&(all.len() as u32).to_be_bytes());
            write_values(all, out);
        }
        Amf::Null => out.push(0x05),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn values() -> impl Strategy<Value = Amf> {
        let leaf = prop_oneof![
            any::<f64>().prop_filter("equal to itself", |n| !n.is_nan()).prop_map(Amf::Number),
            any::<bool>().prop_map(Amf::Flag),
            "[a-z ü]{0,12}".prop_map(Amf::Text),
            Just(Amf::Null),
        ];
        leaf.prop_recursive(4, 40, 6, |inner| {
            prop_oneof![
                prop::collection::vec(("[a-z]{1,8}", inner.clone()), 0..6).prop_map(Amf::Object),
                prop::collection::vec(inner, 0..6).prop_map(Amf::List),
            ]
        })
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_and_cut_anywhere_it_is_an_error_or_shorter(all in prop::collection::vec(values(), 1..5)) {
            let mut out = Vec::new();
            write_values(&all, &mut out);
            prop_assert_eq!(read_values(&out), Ok(all.clone()));
            for cut in 0..out.len() {
                if let Ok(some) = read_values(&out[..cut]) {
                    prop_assert!(some.len() < all.len() && some[..] == all[..some.len()], "{}", cut);
                }
            }
        }

        #[test]
        fn anything_is_read_or_refused(data in prop::collection::vec(any::<u8>(), 0..300)) {
            let _ = read_values(&data);
            let _ = read_values(&[&[0x11], &data[..]].concat());
        }
    }

    #[test]
    fn other_kinds_are_read_as_what_they_say() {
        // An array with names and a wrong count, a date, a long text, a class, a reference.
        let mut data = vec![0x08, 0, 0, 0, 99, 0, 1, b'w', 0x00];
        data.extend_from_slice(&1280f64.to_be_bytes());
        data.extend_from_slice(&[0, 0, 9, 0x0B]);
        data.extend_from_slice(&5f64.to_be_bytes());
        data.extend_from_slice(&[0, 0, 0x0C, 0, 0, 0, 2, b'h', b'i', 0x10, 0, 1, b'C', 0, 0, 9, 0x07, 0, 0, 0x06]);
        let object = Amf::Object(vec![("w".into(), Amf::Number(1280.0))]);
        assert_eq!(object.get("w").and_then(Amf::as_number), Some(1280.0));
        let wanted = vec![object, Amf::Number(5.0), Amf::text("hi"), Amf::Object(vec![]), Amf::Null, Amf::Null];
        assert_eq!(read_values(&data), Ok(wanted));
    }

    #[test]
    fn amf_3_is_read_with_its_references() {
        // An object without a class name: a member "k" with "k" again by reference, more: "n" = -2.
        let data = [0x11, 0x0A, 0x1B, 0x01, 0x03, b'k', 0x06, 0x00, 0x03, b'n', 0x04, 0xFF, 0xFF, 0xFF, 0xFE, 0x01];
        let wanted = Amf::Object(vec![("k".into(), Amf::text("k")), ("n".into(), Amf::Number(-2.0))]);
        assert_eq!(read_values(&data), Ok(vec![wanted]));
        // A list of two numbers.
        assert_eq!(read_values(&[0x11, 0x09, 0x05, 0x01, 0x04, 0x07, 0x03]), Ok(vec![Amf::List(vec![Amf::Number(7.0), Amf::Flag(true)])]));
        assert_eq!(read_values(&[0x11, 0x06, 0x04]), Err(AmfError::Short), "nothing there to refer to");
    }

    #[test]
    fn depth_and_number_are_bounded() {
        let deep: Vec<u8> = [0x0A, 0, 0, 0, 1].repeat(40);
        assert_eq!(read_values(&deep), Err(AmfError::TooMany));
        assert_eq!(read_values(&[0x05; 2000]), Err(AmfError::TooMany));
        assert_eq!(read_values(&[0x0A, 0xFF, 0xFF, 0xFF, 0xFF, 0x05]), Err(AmfError::Short), "a count is not believed");
        assert_eq!(read_values(&[0x0E]), Err(AmfError::Kind(0x0E)));
    }
}
