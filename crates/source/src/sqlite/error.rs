//! What SQLite says, as an error of the source.

use crate::SourceError;

impl From<rusqlite::Error> for SourceError {
    fn from(e: rusqlite::Error) -> Self {
        use rusqlite::ErrorCode::{DatabaseBusy, DatabaseLocked};
        match e.sqlite_error_code() {
            Some(DatabaseBusy | DatabaseLocked) => SourceError::Busy(e.to_string()),
            _ => SourceError::Database(e.to_string()),
        }
    }
}
