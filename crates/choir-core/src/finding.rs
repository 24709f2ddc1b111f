//! A finding: what is wrong (or could be better), where, and what to do.

use serde::Serialize;
use std::fmt;

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Grade {
    /// Could be better.
    Advice,
    /// Will probably hurt.
    Warning,
    /// Cannot work.
    Error,
}

impl fmt::Display for Grade {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Advice => "advice",
            Self::Warning => "warning",
            Self::Error => "error",
        })
    }
}

/// A place in a file, both counted from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Place {
    /// Line number.
    pub line: usize,
    /// Column, in characters.
    pub column: usize,
}

impl Place {
    /// The place of a byte offset in `text`.
    #[must_use]
    pub fn of(text: &str, offset: usize) -> Self {
        let before = text.get(..offset).unwrap_or(text);
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
        Self { line, column }
    }
}

/// One finding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// How bad.
    pub grade: Grade,
    /// Where in the file; absent for a URL given on the command line.
    pub place: Option<Place>,
    /// What it is about: `line "finish-tower"`.
    pub subject: String,
    /// What is the case, as a sentence.
    pub what: String,
    /// What to do.
    pub remedy: String,
}

impl Finding {
    /// The finding with its file, as compilers write it.
    #[must_use]
    pub fn in_file<'a>(&'a self, file: &'a str) -> impl fmt::Display + 'a {
        InFile { finding: self, file }
    }
}

struct InFile<'a> {
    finding: &'a Finding,
    file: &'a str,
}

impl fmt::Display for InFile<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Finding { grade, place, subject, what, remedy } = self.finding;
        match place {
            Some(p) => write!(f, "{}:{}:{}: ", self.file, p.line, p.column)?,
            None => write!(f, "{}: ", self.file)?,
        }
        write!(f, "{grade}: ")?;
        if !subject.is_empty() {
            write!(f, "{subject}: ")?;
        }
        write!(f, "{what}")?;
        if !remedy.is_empty() {
            write!(f, "\n    {remedy}")?;
        }
        Ok(())
    }
}
