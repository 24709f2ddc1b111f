//! Sans-I/O protocols and media formats of Cable Choir.
//!
//! Nothing here opens a socket, reads a clock or asks the system for randomness: bytes, the time and
//! a seed are handed in; bytes to send, events and the next deadline are polled out.
//!
//! | module | holds |
//! |---|---|
//! | [`srt`] | SRT live mode, after draft-sharabayko-srt: [`srt::Endpoint`] per socket |
//! | [`ts`] | MPEG transport streams (ISO 13818-1): reader, writer, splicer |
//! | [`h26x`] | H.264 byte streams: parameter sets, access units, time stamps in user data |
//! | [`adts`] | AAC frames in ADTS (ISO 13818-7) |
//!
//! Every engine has the same verbs: `handle_*` takes input and the time, `poll_*` gives output,
//! `poll_timeout` says when to call again. Time never goes backwards.

pub mod adts;
mod bits;
pub mod h26x;
pub mod srt;
pub mod ts;
