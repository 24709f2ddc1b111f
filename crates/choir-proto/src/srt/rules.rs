//! Whom a listener takes.

use super::{LinkConfig, wire::StreamId};

/// Number of an [`AcceptRule`], chosen by whoever made it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RuleId(pub u32);

/// Which stream IDs a rule takes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StreamMatch {
    /// Any, also none.
    Any,
    /// This text, or the key=value form asking for this resource.
    Exactly(String),
}

/// Whom a listener takes, and with which settings.
#[derive(Debug, Clone)]
pub struct AcceptRule {
    /// Comes back in events.
    pub id: RuleId,
    /// Stream IDs it takes; exact rules are asked before [`StreamMatch::Any`].
    pub stream: StreamMatch,
    /// Settings of the connections it makes.
    pub config: LinkConfig,
    /// Callers at the same time; one more is refused as in use.
    pub max_callers: usize,
    /// Known, but takes nobody for now.
    pub held: bool,
    /// Callers send media here; else they receive it.
    pub callers_send: bool,
}

impl AcceptRule {
    /// Whether a stream ID in the key=value form asks for the direction that this rule has (`m`:
    /// request, publish).
    pub(super) fn fits_mode(&self, stream_id: Option<&str>) -> bool {
        let wrong = if self.callers_send { "request" } else { "publish" };
        stream_id.is_none_or(|s| StreamId::parse(s).get("m") != Some(wrong))
    }
}

impl StreamMatch {
    pub(super) fn takes(&self, asked: Option<&str>) -> bool {
        match self {
            Self::Any => true,
            Self::Exactly(wanted) => asked.is_some_and(|a| a == wanted || StreamId::parse(a).resource() == Some(wanted)),
        }
    }
}
