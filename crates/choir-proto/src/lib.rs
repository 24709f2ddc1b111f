//! Sans-I/O protocols and media formats of Cable Choir.
//!
//! Nothing here opens a socket, reads a clock or asks the system for randomness: bytes, the time
//! and a seed are handed in; bytes to send, events and the next deadline are polled out.
//!
//! | module | holds |
//! |---|---|
//! | [`srt`] | SRT live mode, after draft-sharabayko-srt: [`srt::Endpoint`] per socket |
//! | [`ts`] | MPEG transport streams (ISO 13818-1): reader, writer, splicer |
//! | [`rtsp`] | RTSP 1.0 (RFC 2326): client and server, session descriptions |
//! | [`rtmp`] | RTMP 1.0: publishers, players and servers, and their tags |
//! | [`auth`] | Basic and Digest, both ends of it |
//! | [`onvif`] | what is said to a device by ONVIF: SOAP messages, WS-Discovery, both written and read |
//! | [`visca`] | VISCA: messages, the header over IP, and a controller for one camera |
//! | [`rtp`] | RTP and RTCP (RFC 3550) with the payload formats of cameras, both ways |
//! | [`legs`] | what arrives, by one network path or more |
//! | [`sequence`] | access units in time: decoding times, and a clock that runs with the sender's |
//! | [`mux`] | timed units to a transport stream |
//! | [`unit_splice`] | takes between sources of access units |
//! | [`h26x`] | H.264 and H.265 byte streams: parameter sets, access units, time stamps in user data |
//! | [`adts`], [`audio`] | AAC frames in ADTS (ISO 13818-7), LATM, G.711, PCM in transport streams |
//! | [`hls`] | playlists of HTTP Live Streaming (RFC 8216) |
//! | [`survey`] | measuring a path between two of our own |
//! | [`foreign`] | text from outside, made fit to be shown |
//! | [`media`] | access units on their way between these |
//!
//! Every engine has the same verbs: `handle_*` takes input and the time, `poll_*` gives output,
//! `poll_timeout` says when to call again. Time never goes backwards.

pub mod adts;
pub mod arena;
pub mod audio;
pub mod auth;
mod bits;
pub mod foreign;
pub mod h26x;
pub mod hls;
pub mod legs;
pub mod media;
pub mod mp4;
pub mod mux;
pub mod onvif;
pub mod rtmp;
pub mod rtp;
pub mod rtsp;
pub mod sequence;
pub mod srt;
mod stamps;
pub mod stave;
pub mod survey;
pub mod ts;
pub mod unit_splice;
pub mod visca;
