//! What a configuration says about a source.

use std::fmt;

/// A source as a configuration has it.
#[derive(Clone, Default)]
pub struct Settings {
    /// Its name.
    pub name: String,
    /// Where the database is.
    pub url: String,
    /// Where changes are streamed from, if not from there: a pooler does not pass replication on.
    pub replication_url: Option<String>,
    /// The tables to stream.
    pub tables: Vec<String>,
    /// The schema of tables that are named without one. PostgreSQL only.
    pub schema: Option<String>,
    /// The publication. PostgreSQL only.
    pub publication: Option<String>,
    /// The replication slot. PostgreSQL only.
    pub slot: Option<String>,
    /// Tables of which `prepare` makes the old values available. PostgreSQL only.
    pub old_values: Vec<String>,
    /// Bytes of log that may be held back for us before it is given up. PostgreSQL only.
    pub max_wal_bytes: Option<u64>,
    /// Whether a lost slot is made anew without being asked. PostgreSQL only.
    pub renew_lost_slot: bool,
}

impl fmt::Debug for Settings {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // URLs may hold passwords.
        f.debug_struct("Settings").field("name", &self.name).field("tables", &self.tables).finish_non_exhaustive()
    }
}

/// A URL without what may be a password, to be shown.
pub(crate) fn without_password(url: &str) -> String {
    match (url.find("://"), url.rfind('@')) {
        (Some(start), Some(at)) if at > start => format!("{}…{}", &url[..start + 3], &url[at..]),
        _ => url.to_string(),
    }
}
