//! SQLite as a source: triggers log which keys were touched and the rows as they were, so that the writes of any
//! process are seen.
//!
//! - [`schema`] reads what tables there are;
//! - [`triggers`] writes the SQL that follows them, and takes it away again;
//! - [`leadership`] decides who reads, and remembers where the last one stood;
//! - [`reader`] turns the log into intervals;
//! - [`follow`] is the reader at work: when to look and when to wait;
//! - [`snapshot`] reads whole tables with the position that they show;
//! - [`watch`] says when it is worth looking, without spinning;
//! - `source` puts all of it together; `database` and `demo` use the file as any other program does.

mod database;
mod demo;
mod error;
pub mod follow;
mod indexes;
pub mod leadership;
pub mod reader;
pub mod schema;
pub mod snapshot;
mod source;
mod tokens;
pub mod triggers;
pub mod watch;

pub use source::Sqlite;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};

use crate::settings::without_password;
use crate::{Result, SourceError};
use gossip_core::datetime;
use gossip_core::value::{Type, Value};

/// A database file that is a source.
#[derive(Clone, Debug)]
pub struct SqliteSource {
    /// The source's name in the configuration.
    pub name: Arc<str>,
    /// The file.
    pub path: PathBuf,
    /// The tables to stream.
    pub tables: Vec<String>,
}

impl SqliteSource {
    /// Takes a URL of the form `sqlite:path`; a relative path is taken from `base`.
    ///
    /// # Errors
    /// It is no such URL.
    pub fn new(name: &str, url: &str, tables: Vec<String>, base: &Path) -> Result<SqliteSource> {
        let problem = |text: &str| SourceError::Url { url: without_password(url), problem: text.into() };
        let path = url.strip_prefix("sqlite:").ok_or_else(|| problem("expected sqlite:path-of-the-file"))?;
        if path.is_empty() {
            return Err(problem("the path is missing"));
        }
        Ok(SqliteSource { name: name.into(), path: base.join(path), tables })
    }

    /// As [`SqliteSource::connect`], but refuses a file that cannot be written: the change log has to be.
    ///
    /// # Errors
    /// There is no such file, it is no database, or it cannot be written.
    pub fn connect_to_write(&self) -> Result<Connection> {
        let db = self.connect()?;
        if db.is_readonly("main")? {
            let problem =
                "the file is read-only; the change log cannot be written: give write access to it and its folder";
            return Err(SourceError::Open { path: self.path.display().to_string(), problem: problem.into() });
        }
        Ok(db)
    }

    /// Opens the file for reading and, where it may, writing. Never creates it.
    ///
    /// # Errors
    /// There is no such file, or it is no database.
    pub fn connect(&self) -> Result<Connection> {
        let fail = |problem: String| SourceError::Open { path: self.path.display().to_string(), problem };
        if !self.path.exists() {
            return Err(fail("there is no such file; create the database first or fix the url".into()));
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let db = Connection::open_with_flags(&self.path, flags).map_err(|e| fail(e.to_string()))?;
        db.busy_timeout(Duration::from_millis(200))?;
        // The first read finds out whether this is a database at all.
        match db.query_row("SELECT count(*) FROM sqlite_master", [], |r| r.get::<_, i64>(0)) {
            Ok(_) => Ok(db),
            Err(e) => match SourceError::from(e) {
                SourceError::Database(e) => Err(fail(format!("{e}; is it an SQLite database?"))),
                other => Err(other),
            },
        }
    }
}

/// A stored value as a value of the column's type, and whether it fits that type. One that does not stays as it is
/// stored: it compares to nothing of the declared type.
pub fn to_value(stored: ValueRef<'_>, ty: Type) -> (Value, bool) {
    let value = match (stored, ty) {
        (ValueRef::Null, _) => return (Value::Null, true),
        (ValueRef::Integer(i @ (0 | 1)), Type::Bool) => Value::Bool(i == 1),
        (ValueRef::Integer(i), Type::Float8) => Value::Float(i as f64),
        (ValueRef::Integer(i), _) => Value::Int(i),
        (ValueRef::Real(x), _) => Value::Float(x),
        (ValueRef::Text(bytes), _) => match std::str::from_utf8(bytes) {
            Ok(s) if ty == Type::Timestamptz => moment(s).map_or_else(|| Value::text(s), Value::Timestamptz),
            Ok(s) => Value::text(s),
            Err(_) => Value::Bytes(bytes.into()),
        },
        (ValueRef::Blob(bytes), _) => Value::Bytes(bytes.into()),
    };
    let fits = ty == Type::Any || value.type_of() == ty;
    (value, fits)
}

/// A moment as SQLite's own functions write it, or as RFC 3339 does; in UTC where it has no offset.
fn moment(text: &str) -> Option<i64> {
    // Not the words that PostgreSQL has for moments.
    text.starts_with(|c: char| c.is_ascii_digit()).then(|| datetime::parse_timestamp(text, true))?
}

/// A name in double quotes, for SQL.
pub fn quote(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}
