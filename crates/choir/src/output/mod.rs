//! What commands print: tables for people, lines for logs.

pub mod advice;
pub mod alarms;
pub mod budget;
pub mod cards;
pub mod compare;
pub mod devices;
pub mod events;
pub mod facts;
pub mod found;
mod halves;
pub mod linecheck;
pub mod linecheck_page;
pub mod names;
pub mod one_line;
pub mod palette;
pub mod path;
pub mod recordings;
pub mod redraw;
pub mod rotas;
pub mod sentences;
pub mod tables;

/// `1 line`, `2 lines`.
pub fn plural(n: usize, word: &str) -> String {
    format!("{n} {word}{}", if n == 1 { "" } else { "s" })
}
