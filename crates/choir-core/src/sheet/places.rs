//! Where in the text each value of an entry stands, so that a finding can point at it.

use std::{collections::BTreeMap, ops::Range};
use toml_edit::{Item, TableLike, Value};

/// Where a value begins in the text.
pub(super) fn start(span: Option<Range<usize>>) -> usize {
    span.map_or(0, |s| s.start)
}

/// Where an entry stands.
#[derive(Debug, Clone)]
pub(super) struct Spot {
    /// Its heading.
    pub at: usize,
    places: Places,
}

impl Spot {
    pub(super) fn of(table: &dyn TableLike, at: usize) -> Self {
        let mut places = Places::default();
        places.table("", table);
        Self { at, places }
    }

    /// True when there is such a value.
    pub(super) fn has(&self, path: &str) -> bool {
        self.places.0.contains_key(path)
    }

    /// Where a value stands; one that is not there, where it would stand.
    pub(super) fn of_value(&self, path: &str) -> usize {
        self.places.at(path).unwrap_or(self.at)
    }
}

/// Offsets by dotted path: `from.latency`, `to.0`, `main.bitrate`.
#[derive(Debug, Clone, Default)]
struct Places(BTreeMap<String, usize>);

impl Places {
    fn table(&mut self, prefix: &str, table: &dyn TableLike) {
        for (key, item) in table.iter() {
            let path = if prefix.is_empty() { key.to_owned() } else { format!("{prefix}.{key}") };
            self.0.insert(path.clone(), start(item.span()));
            if let Some(inner) = item.as_table_like() {
                self.table(&path, inner);
            } else if let Some(array) = item.as_array() {
                for (n, value) in array.iter().enumerate() {
                    let path = format!("{path}.{n}");
                    self.0.insert(path.clone(), start(value.span()));
                    if let Value::InlineTable(inner) = value {
                        self.table(&path, inner);
                    }
                }
            }
        }
    }

    /// The nearest place: a path that is not there points at what it would stand in.
    fn at(&self, path: &str) -> Option<usize> {
        let mut path = path;
        loop {
            if let Some(at) = self.0.get(path) {
                return Some(*at);
            }
            path = path.rsplit_once('.')?.0;
        }
    }
}

/// Items of a list of texts, or one text.
pub(super) fn texts(item: &Item) -> Option<Vec<(String, usize)>> {
    if let Some(text) = item.as_str() {
        return Some(vec![(text.to_owned(), start(item.span()))]);
    }
    item.as_array()?.iter().map(|v| Some((v.as_str()?.to_owned(), start(v.span())))).collect()
}
