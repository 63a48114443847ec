//! Reads row changes and snapshots out of databases.
//!
//! A source yields whole transactions in commit order, each with a position that is a function of the database's own
//! log, and reads snapshots that tell at which position they stand. It decides nothing about who sees what: that is
//! `gossip-core`. All calls here block; the server runs them on threads of their own.
//!
//! Start with [`sqlite`]: the embedded default.

pub mod sqlite;

use std::fmt;

/// What `check` has found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Whether it keeps something from working.
    pub blocks: bool,
    /// What it is about: a table's name or the source as a whole.
    pub about: String,
    /// What is wrong and what follows from it.
    pub text: String,
    /// SQL or a command that mends it, if there is one.
    pub mend: Option<String>,
}

impl fmt::Display for Finding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.about, self.text)?;
        match &self.mend {
            Some(mend) => write!(f, "\n    mend: {mend}"),
            None => Ok(()),
        }
    }
}

/// Why a source could not be used.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    /// The URL is not one that Gossip reads.
    #[error("source url {url:?}: {problem}")]
    Url {
        /// As it was given.
        url: String,
        /// What is wrong with it.
        problem: String,
    },
    /// The database could not be opened.
    #[error("database {path}: {problem}")]
    Open {
        /// The file.
        path: String,
        /// What is wrong and what to do.
        problem: String,
    },
    /// Tables or triggers are not as they have to be.
    #[error("{0}")]
    NotReady(String),
    /// Somebody else holds the database; it can be tried again.
    #[error("database is busy: {0}")]
    Busy(String),
    /// The table differs from its description; it is described anew at the next read.
    #[error("table {0} has changed")]
    Changed(String),
    /// Anything else that the database says.
    #[error("database: {0}")]
    Database(rusqlite::Error),
}

impl From<rusqlite::Error> for SourceError {
    fn from(e: rusqlite::Error) -> Self {
        use rusqlite::ErrorCode::{DatabaseBusy, DatabaseLocked};
        match e.sqlite_error_code() {
            Some(DatabaseBusy | DatabaseLocked) => SourceError::Busy(e.to_string()),
            _ => SourceError::Database(e),
        }
    }
}

impl SourceError {
    /// Whether trying again a little later may help.
    pub fn is_passing(&self) -> bool {
        matches!(self, SourceError::Busy(_) | SourceError::Changed(_))
    }
}

/// The result of source calls.
pub type Result<T> = std::result::Result<T, SourceError>;
