//! The sentences of what is known of a running show, each made in one place from its typed value,
//! and never read back.

mod alarm;
mod contact;
mod content;
mod diagnosis;
mod event;
mod health;
mod notice;

pub use content::content_words;
pub use event::{Names, done_words, event_words, unfit_words};

use crate::command::By;

pub(super) const fn by_words(by: By) -> &'static str {
    match by {
        By::CommandLine => "by the engineer",
        By::LiveView => "in the live view",
        By::Sheet => "by the sheet",
        By::Rota => "by a rota",
    }
}

/// `1 packet`, `3 packets`.
pub(crate) fn count(n: u64, one: &str) -> String {
    if n == 1 { format!("1 {one}") } else { format!("{n} {one}s") }
}
