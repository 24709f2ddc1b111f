//! Boxes: found in bytes, and written.

/// A box: its kind and what is in it.
pub(super) type Found<'a> = ([u8; 4], &'a [u8]);

/// The boxes that stand behind each other in these bytes, as far as they are whole.
pub(super) fn boxes(mut data: &[u8]) -> impl Iterator<Item = Found<'_>> {
    std::iter::from_fn(move || {
        let (head, kind, size) = head(data)?;
        let size = size.map_or(data.len(), |size| usize::try_from(size).unwrap_or(usize::MAX));
        let inside = data.get(head..size)?;
        data = &data[size..];
        Some((kind, inside))
    })
}

/// Size of a box's head, its kind, and the size of the whole; none where it goes on to the end.
pub(super) fn head(data: &[u8]) -> Option<(usize, [u8; 4], Option<u64>)> {
    let size = u32::from_be_bytes(*data.first_chunk()?);
    let kind = *data.get(4..8)?.first_chunk()?;
    match size {
        0 => Some((8, kind, None)),
        1 => {
            let size = u64::from_be_bytes(*data.get(8..16)?.first_chunk()?);
            (size >= 16).then_some((16, kind, Some(size)))
        }
        _ => (size >= 8).then_some((8, kind, Some(size.into()))),
    }
}

/// The first box of this kind.
pub(super) fn find<'a>(data: &'a [u8], kind: &[u8; 4]) -> Option<&'a [u8]> {
    boxes(data).find(|(k, _)| k == kind).map(|(_, inside)| inside)
}

/// The box at the end of a path.
pub(super) fn path<'a>(data: &'a [u8], kinds: &[&[u8; 4]]) -> Option<&'a [u8]> {
    kinds.iter().try_fold(data, |inside, kind| find(inside, kind))
}

/// Reads numbers, big end first.
#[derive(Debug, Clone, Copy)]
pub(super) struct Numbers<'a>(pub &'a [u8]);

impl Numbers<'_> {
    pub fn u8(&mut self) -> Option<u8> {
        let (first, rest) = self.0.split_first()?;
        self.0 = rest;
        Some(*first)
    }
    pub fn u32(&mut self) -> Option<u32> {
        let n = u32::from_be_bytes(*self.0.first_chunk()?);
        self.0 = &self.0[4..];
        Some(n)
    }
    pub fn u64(&mut self) -> Option<u64> {
        Some(u64::from(self.u32()?) << 32 | u64::from(self.u32()?))
    }
    /// 32 or 64 bits, by the version of the box.
    pub fn wide(&mut self, version: u8) -> Option<u64> {
        if version == 1 { self.u64() } else { self.u32().map(u64::from) }
    }
    pub fn skip(&mut self, bytes: usize) -> Option<()> {
        self.0 = self.0.get(bytes..)?;
        Some(())
    }
    /// Version and flags of a full box.
    pub fn full(&mut self) -> Option<(u8, u32)> {
        let word = self.u32()?;
        Some(((word >> 24) as u8, word & 0x00FF_FFFF))
    }
}

/// A box of these parts.
pub(super) fn make(kind: &[u8; 4], parts: &[&[u8]]) -> Vec<u8> {
    let size = 8 + parts.iter().map(|p| p.len()).sum::<usize>();
    let mut out = Vec::with_capacity(size);
    out.extend_from_slice(&(size as u32).to_be_bytes());
    out.extend_from_slice(kind);
    parts.iter().for_each(|p| out.extend_from_slice(p));
    out
}

/// A full box of these parts.
pub(super) fn make_full(kind: &[u8; 4], version: u8, flags: u32, parts: &[&[u8]]) -> Vec<u8> {
    let word = (u32::from(version) << 24 | flags).to_be_bytes();
    let all: Vec<&[u8]> = std::iter::once(&word[..]).chain(parts.iter().copied()).collect();
    make(kind, &all)
}
