use crate::facts::{Encryption, Fault, Joining, Loss, Refused, Waiting};
use std::fmt;

impl fmt::Display for Waiting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Start => f.write_str("starting"),
            Self::Caller { port, stream_id, refused } => {
                let id = stream_id.as_ref().map_or_else(String::new, |id| format!(" with stream ID \"{id}\""));
                write!(f, "no caller{id} on port {port} yet")?;
                refused.as_ref().map_or(Ok(()), |r| write!(f, "; {r}"))
            }
            Self::Publisher { port, app, refused } => {
                write!(f, "no publisher on port {port}, path {app}, yet")?;
                refused.as_ref().map_or(Ok(()), |r| write!(f, "; {r}"))
            }
            Self::Packets { port } => write!(f, "no packet on port {port} yet"),
            Self::FarEnd => f.write_str("waiting for the far end before playing"),
            Self::Take => f.write_str("ready; plays when it is taken"),
            Self::EndOfFile => f.write_str("played to the end of the file"),
            Self::Viewers => f.write_str("ready; no viewer yet"),
            Self::Receivers { no_media: true } => f.write_str("ready; its line is silent"),
            Self::Receivers { no_media: false } => f.write_str("ready; no receiver yet"),
            Self::Source { name, machine, seen, near, closed, other_groups } => {
                let machine = machine.as_ref().map_or_else(String::new, |m| format!(" on machine \"{m}\""));
                match seen {
                    Some(1) => write!(f, "name \"{name}\"{machine} not found on 1 machine")?,
                    Some(n) => write!(f, "name \"{name}\"{machine} not found on {n} machines")?,
                    None => write!(f, "name \"{name}\"{machine} not found: no network interface is up")?,
                }
                if let Some(near) = near {
                    write!(f, "; did you mean \"{near}\"?")?;
                }
                if let Some(closed) = closed {
                    write!(f, "; cannot query {closed}")?;
                }
                if !other_groups.is_empty() {
                    write!(f, "; other groups on this network: {}", other_groups.join(", "))?;
                }
                Ok(())
            }
            Self::Offer { name, machine, silent: false } => write!(f, "{machine} no longer offers \"{name}\""),
            Self::Offer { name, machine, silent: true } => write!(f, "\"{name}\" on {machine}: its line is silent"),
            Self::Discovery => f.write_str("discovery is off in [stave], and the line has no fixed address"),
        }
    }
}

impl fmt::Display for Encryption {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Clear => f.write_str("none"),
            Self::NotKnown => f.write_str("not known yet"),
            Self::Secured { key_bits } => write!(f, "AES-{key_bits} secured"),
            Self::AnyTls => f.write_str("TLS"),
            Self::Tls => f.write_str("TLS 1.3"),
            Self::Mismatch(what) => f.write_str(what),
        }
    }
}

impl fmt::Display for Joining {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Calling(peer) => write!(f, "calling {peer}"),
            Self::Meeting(peer) => write!(f, "rendezvous with {peer}"),
            Self::Asking(peer) => write!(f, "asking {peer}"),
            Self::Requesting { machine, name } => write!(f, "asking {machine} for \"{name}\""),
        }
    }
}

impl fmt::Display for Refused {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "caller {}", self.from)?;
        if let Some(id) = &self.stream_id {
            write!(f, " with stream ID \"{id}\"")?;
        }
        write!(f, " refused: {}", self.why)
    }
}

impl fmt::Display for Loss {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Call { peer, fault, why } => {
                write!(f, "{peer}: {why}")?;
                f.write_str(match fault {
                    Some(Fault::Silent) => "; check that the other end is on, and its address",
                    Some(Fault::PortClosed) => "; start the other end, or check the port",
                    _ => "",
                })
            }
            Self::Caller { peer: Some(peer), why, .. } => write!(f, "{peer}: {why}; waiting for the next call"),
            Self::Caller { peer: None, why, .. } => f.write_str(why),
            Self::Refused(refused) => refused.fmt(f),
            Self::Reading(cause) => write!(f, "reading stopped: {cause}"),
            Self::Writing { cause, retries } => {
                write!(f, "writing stopped: {cause}{}", if *retries { "; retrying" } else { "" })
            }
            Self::Source(waiting) => waiting.fmt(f),
        }
    }
}
