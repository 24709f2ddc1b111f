//! What a live production engineer knows, as types and rules: units, link settings, the patch sheet
//! and its checks, health. No I/O of any kind.
//!
//! | module | holds |
//! |---|---|
//! | [`units`] | bitrates, times and shares as engineers write them |
//! | [`secret`] | passphrases and where they come from; never printed |
//! | [`link`] | one link's settings, as URL and as fields |
//! | [`model`] | what a patch sheet says, as values, and how two differ |
//! | [`sheet`] | the patch sheet: reading it, and every finding with its place |
//! | [`device`] | what is wanted of a device, what it has, and what differs |
//! | [`find`] | which addresses to ask, and what the answers add up to |
//! | [`network`] | the networks that streams cross |
//! | [`advice`] | latency and overhead for a path, from a stated model |
//! | [`budget`] | what the streams need on each network |
//! | [`by_hand`] | what is set by hand on a device without control |
//! | [`card`] | what to type at the other end |
//! | [`linecheck`] | what was seen of a line, step by step |
//! | [`id`] | who is who in a show |
//! | [`director`] | who is on a feed, and what stands in |
//! | [`rota`] | a timed list of what is on a feed |
//! | [`command`] | what may be asked of a running show, and how it refuses |
//! | [`facts`] | how links stand, what is measured each second, what happened |
//! | [`limits`] | from which numbers on a state changes |
//! | [`health`] | from facts to a state with its reason |
//! | [`summary`] | the ticks of a way, added up over spans of time |
//! | [`alarm`] | which of all that is wrong needs somebody |
//! | [`words`] | the sentences of facts, reasons and events |
//! | [`view`] | snapshots of a running show, for every kind of output |

pub mod advice;
pub mod alarm;
pub mod budget;
pub mod by_hand;
pub mod card;
pub mod command;
pub mod content;
pub mod device;
pub mod diagnosis;
pub mod director;
pub mod facts;
pub mod find;
pub mod finding;
pub mod health;
pub mod id;
pub mod limits;
pub mod linecheck;
pub mod link;
pub mod model;
pub mod network;
pub mod rota;
pub mod secret;
pub mod sheet;
pub mod spelling;
pub mod stave;
pub mod summary;
pub mod units;
pub mod view;
pub mod words;

pub use finding::{Finding, Grade, Place};
