//! Why a source could not be used.

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
    /// The table differs from its description; it is described again at the next read.
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
    /// Anything else that the database says.
    #[error("database: {0}")]
    Database(String),
}

impl SourceError {
    /// Whether trying again a little later may help.
    pub fn is_passing(&self) -> bool {
        matches!(self, SourceError::Busy(_) | SourceError::Changed(_) | SourceError::Lost { .. })
    }
}

/// The result of source calls.
pub type Result<T> = std::result::Result<T, SourceError>;
