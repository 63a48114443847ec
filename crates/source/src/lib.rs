//! Reads row changes and snapshots out of databases.
//!
//! A source yields whole transactions in commit order, each with a position that is a function of the database's own
//! log, and reads snapshots that tell what they show. It decides nothing about who sees what: that is `gossip-core`.
//! All calls here block; the server runs them on threads of their own.
//!
//! Start with [`Source`]; then [`sqlite`], the embedded default, or [`postgres`].

mod only;
pub mod postgres;
mod settings;
mod source;
pub mod sqlite;

use std::fmt;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use gossip_core::position::{Interval, Micros, Position};

pub use settings::Settings;
pub use source::Source;

/// Microseconds since 1970, by this machine's clock.
pub fn now() -> Micros {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_micros() as Micros)
}

/// The reader of a source at work. Dropping it gives the office up.
pub trait ChangeReader: Send {
    /// Its term of office.
    fn epoch(&self) -> u64;

    /// An interval that says only that nothing has happened, as far as is known now.
    fn heartbeat(&mut self) -> Result<Interval>;

    /// What was committed since the last call; waits for it, at most about `longest`. The caller hands the interval on
    /// and then calls [`ChangeReader::acknowledge`].
    fn next(&mut self, longest: Duration) -> Result<Option<Interval>>;

    /// Everything up to here is kept elsewhere: the source may forget it.
    fn acknowledge(&mut self, to: Position) -> Result<()>;

    /// What keeps it from reading at present, if anything has for a while.
    fn trouble(&self) -> Option<String>;
}

/// Where the last known reader of a source stopped.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Last {
    /// Its term of office.
    pub epoch: u64,
    /// The end of its last interval.
    pub position: Position,
    /// The log that the position counts in.
    pub timeline: u64,
    /// Its mark.
    pub mark: u64,
}

impl Last {
    /// As the reader's last interval says.
    pub fn of(interval: &Interval) -> Last {
        Last { epoch: interval.epoch, position: interval.to, timeline: interval.timeline, mark: interval.mark }
    }
}

/// What has to be done to a database, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Plan {
    /// SQL.
    pub statements: Vec<String>,
    /// What it means for those who write to the database.
    pub effects: Vec<String>,
}

/// What a rule or a query needs of a table, for `check`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Condition {
    /// The table.
    pub table: gossip_core::schema::TableName,
    /// Columns that decide about rows.
    pub columns: Vec<String>,
    /// Those of them that are compared by order.
    pub ordered: Vec<String>,
    /// Where the condition stands, to be shown: `the rule in line 12`.
    pub place: String,
}

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
            Some(mend) => write!(f, "\n    fix: {mend}"),
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
        /// As it was given, without secrets.
        url: String,
        /// What is wrong with it.
        problem: String,
    },
    /// The database could not be opened.
    #[error("database {path}: {problem}")]
    Open {
        /// The file, or host, port and name.
        path: String,
        /// What is wrong and what to do.
        problem: String,
    },
    /// Tables, triggers, publications or slots are not as they have to be.
    #[error("{0}")]
    NotReady(String),
    /// Somebody else holds the database; it can be tried again.
    #[error("database is busy: {0}")]
    Busy(String),
    /// The table differs from its description; it is described anew at the next read.
    #[error("table {0} has changed")]
    Changed(String),
    /// The connection was lost; it can be tried again.
    #[error("connection to {place} was lost: {problem}")]
    Lost {
        /// Host, port and name.
        place: String,
        /// What happened.
        problem: String,
    },
    /// What the database sent is not what it should be.
    #[error("the database sent {0}; this is a mistake in Gossip or an unknown server version")]
    Protocol(String),
    /// A file for what does not fit into memory could not be written or read.
    #[error("spool file: {0}; Gossip keeps large transactions in the system's folder for temporary files")]
    Spool(#[from] std::io::Error),
    /// Anything else that SQLite says.
    #[error("database: {0}")]
    Sqlite(rusqlite::Error),
    /// Anything else that PostgreSQL says.
    #[error("database: {0}")]
    Postgres(String),
}

impl From<rusqlite::Error> for SourceError {
    fn from(e: rusqlite::Error) -> Self {
        use rusqlite::ErrorCode::{DatabaseBusy, DatabaseLocked};
        match e.sqlite_error_code() {
            Some(DatabaseBusy | DatabaseLocked) => SourceError::Busy(e.to_string()),
            _ => SourceError::Sqlite(e),
        }
    }
}

/// The server's own words, with its hint, and without the driver's "db error".
impl From<tokio_postgres::Error> for SourceError {
    fn from(e: tokio_postgres::Error) -> Self {
        let text = match e.as_db_error() {
            Some(db) => match db.hint().or(db.detail()) {
                Some(more) => format!("{} ({more})", db.message()),
                None => db.message().to_string(),
            },
            None => match std::error::Error::source(&e) {
                Some(cause) => format!("{e}: {cause}"),
                None => e.to_string(),
            },
        };
        SourceError::Postgres(text)
    }
}

impl SourceError {
    /// Whether trying again a little later may help.
    pub fn is_passing(&self) -> bool {
        matches!(self, SourceError::Busy(_) | SourceError::Changed(_) | SourceError::Lost { .. })
    }
}

/// The result of source calls.
pub type Result<T> = std::result::Result<T, SourceError>;
