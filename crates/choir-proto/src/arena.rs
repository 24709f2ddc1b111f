//! Small pieces that lie together in blocks, so that not each of them costs an allocation.

use bytes::BytesMut;

/// Bytes of a block. A larger one would be held as a whole by the one piece of it that is kept.
const BLOCK: usize = 16 * 1024;

/// Copies `data` into the arena and cuts it off.
pub fn cut(arena: &mut BytesMut, data: &[u8]) -> BytesMut {
    if arena.capacity() < data.len() {
        arena.reserve(BLOCK.max(data.len()));
    }
    arena.extend_from_slice(data);
    arena.split()
}
