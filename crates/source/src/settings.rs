//! What a configuration says about a source.

use std::collections::BTreeMap;
use std::fmt;

use gossip_protocol::spelling::similar;
use serde_json::Value as Json;

/// A source as a configuration has it.
#[derive(Clone, Default)]
pub struct Settings {
    /// Its name.
    pub name: String,
    /// Where the database is.
    pub url: String,
    /// The tables to stream.
    pub tables: Vec<String>,
    /// Whatever else its section says, for its kind of database to read.
    pub options: BTreeMap<String, Json>,
}

impl fmt::Debug for Settings {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // URLs may hold passwords.
        f.debug_struct("Settings").field("name", &self.name).field("tables", &self.tables).finish_non_exhaustive()
    }
}

/// An option that a kind of database does not have, or not so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BadOption {
    /// Its name, as it was written.
    pub name: String,
    /// What is wrong, and what was expected.
    pub problem: String,
}

impl BadOption {
    /// A problem with one option.
    pub fn new(name: &str, problem: impl Into<String>) -> BadOption {
        BadOption { name: name.into(), problem: problem.into() }
    }

    /// An option that is not one of these.
    pub(crate) fn unknown(name: &str, known: &[&str]) -> BadOption {
        let all = || ["url", "tables"].iter().chain(known).copied();
        let problem = match similar(name, all()) {
            Some(s) => format!("is not known; did you mean {s}?"),
            None => format!("is not known; this kind of source has {}", all().collect::<Vec<_>>().join(", ")),
        };
        BadOption::new(name, problem)
    }
}

/// A URL without what may be a password, to be shown.
pub(crate) fn without_password(url: &str) -> String {
    match (url.find("://"), url.rfind('@')) {
        (Some(start), Some(at)) if at > start => format!("{}…{}", &url[..start + 3], &url[at..]),
        _ => url.to_string(),
    }
}
