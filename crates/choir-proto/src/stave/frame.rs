//! Frames of the control stream (section 4): length, type, JSON.

use super::message::Message;

/// Largest body. A catalogue of 64 sources with eight streams each stays below.
pub const FRAME_MAX: usize = 262_144;
const HEAD: usize = 6;

/// Why a control stream cannot go on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Broken {
    /// A frame says it is larger than any may be.
    #[error("a control message of {0} bytes; at most {FRAME_MAX} are taken")]
    TooLong(usize),
    /// A known message is not as it must be.
    #[error("control message {kind} is not understood: {why}")]
    Body {
        /// Its type.
        kind: u16,
        /// What is wrong.
        why: String,
    },
    /// A message that may not come now.
    #[error("{0} out of turn")]
    OutOfTurn(&'static str),
    /// More than a peer may ask for.
    #[error("more than {0}")]
    TooMany(&'static str),
    /// Silent for too long.
    #[error("{0} did not come in time")]
    TooLate(&'static str),
}

/// Writes one message.
#[must_use]
pub fn frame(message: &Message) -> Vec<u8> {
    let body = message.body();
    let mut out = Vec::with_capacity(HEAD + body.len());
    out.extend_from_slice(&(body.len() as u32).to_be_bytes());
    out.extend_from_slice(&message.kind().to_be_bytes());
    out.extend_from_slice(&body);
    out
}

/// Cuts a control stream into messages. Types that are not known are skipped, however they are
/// filled.
#[derive(Debug, Default)]
pub struct Framer {
    held: Vec<u8>,
    /// Messages skipped since their type is not known.
    skipped: u64,
}

impl Framer {
    /// Takes bytes as they come; gives the messages that are complete.
    ///
    /// # Errors
    /// The stream makes no sense: nothing behind it can be trusted.
    pub fn push(&mut self, data: &[u8]) -> Result<Vec<Message>, Broken> {
        self.held.extend_from_slice(data);
        let mut out = Vec::new();
        let mut at = 0;
        while let Some(head) = self.held.get(at..at + HEAD) {
            let len = u32::from_be_bytes([head[0], head[1], head[2], head[3]]) as usize;
            let kind = u16::from_be_bytes([head[4], head[5]]);
            if len > FRAME_MAX {
                return Err(Broken::TooLong(len));
            }
            let Some(body) = self.held.get(at + HEAD..at + HEAD + len) else { break };
            match Message::read(kind, body) {
                Ok(Some(m)) => out.push(m),
                Ok(None) => self.skipped += 1,
                Err(e) => return Err(Broken::Body { kind, why: e.to_string() }),
            }
            at += HEAD + len;
        }
        self.held.drain(..at);
        Ok(out)
    }

    /// Messages of types that this version does not know.
    #[must_use]
    pub fn skipped(&self) -> u64 {
        self.skipped
    }
}
