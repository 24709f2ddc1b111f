//! Collects what is wrong while a sheet is read, with its place.

use super::places::start;
use crate::{
    finding::{Finding, Grade, Place},
    link::Field,
    model::Pattern,
    spelling::did_you_mean,
};
use std::collections::BTreeMap;
use toml_edit::TableLike;

pub(super) struct Reader<'a> {
    text: &'a str,
    pub findings: Vec<Finding>,
    /// `[link.NAME]`: what links draw on by `like`.
    pub links: BTreeMap<String, Vec<Field>>,
    /// `[pattern.NAME]`.
    pub patterns: BTreeMap<String, Pattern>,
}

impl<'a> Reader<'a> {
    pub const fn new(text: &'a str) -> Self {
        Self { text, findings: Vec::new(), links: BTreeMap::new(), patterns: BTreeMap::new() }
    }

    pub fn add(&mut self, grade: Grade, at: usize, subject: &str, what: impl Into<String>, remedy: impl Into<String>) {
        let place = Some(Place::of(self.text, at));
        self.findings.push(Finding { grade, place, subject: subject.into(), what: what.into(), remedy: remedy.into() });
    }

    pub(super) fn error(&mut self, at: usize, subject: &str, what: impl Into<String>, remedy: impl Into<String>) {
        self.add(Grade::Error, at, subject, what, remedy);
    }

    /// Reports keys that are not among these.
    pub(super) fn known(&mut self, table: &dyn TableLike, subject: &str, known: &[&str]) {
        for (key, item) in table.iter() {
            if !known.contains(&key) {
                let at = table.get_key_value(key).map_or(0, |(k, _)| start(k.span().or_else(|| item.span())));
                self.error(at, subject, format!("\"{key}\" is unknown here."), did_you_mean(key, known));
            }
        }
    }

    pub(super) fn string(&mut self, table: &dyn TableLike, subject: &str, key: &str) -> Option<(String, usize)> {
        let item = table.get(key)?;
        let at = start(item.span());
        match item.as_str() {
            Some(s) => Some((s.to_owned(), at)),
            None => {
                self.error(at, subject, format!("{key} must be a text."), "Write it in quotes.");
                None
            }
        }
    }
}
