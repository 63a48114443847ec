//! What the server says, as an error of the source.

use crate::SourceError;

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
        SourceError::Database(text)
    }
}
