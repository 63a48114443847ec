//! The demo's scenario in an SQLite file.

use std::time::Duration;

use rusqlite::Connection;
use rusqlite::types::ValueRef;

use crate::database::{Cells, Result, Store};
use crate::sqlite::SqliteSource;

/// A connection to the file.
struct File(Connection);

/// Connects, and creates the file if there is none.
pub(super) fn open(source: &SqliteSource) -> Result<Box<dyn Store>> {
    let open = || {
        let db = Connection::open(&source.path)?;
        db.busy_timeout(Duration::from_secs(5))?;
        db.pragma_update(None, "synchronous", "NORMAL")?;
        db.pragma_update(None, "foreign_keys", true)?;
        Ok(db)
    };
    open().map(|db| Box::new(File(db)) as Box<dyn Store>).map_err(|e: rusqlite::Error| e.to_string())
}

impl Store for File {
    fn run(&mut self, sql: &str) -> Result<()> {
        self.0.execute_batch(sql).map_err(|e| e.to_string())
    }

    fn rows(&mut self, sql: &str) -> Result<Vec<Cells>> {
        let read = || {
            let mut s = self.0.prepare_cached(sql)?;
            let width = s.column_count();
            let cell = |v: ValueRef<'_>| match v {
                ValueRef::Null => None,
                ValueRef::Integer(i) => Some(i.to_string()),
                ValueRef::Real(x) => Some(x.to_string()),
                ValueRef::Text(t) | ValueRef::Blob(t) => Some(String::from_utf8_lossy(t).into_owned()),
            };
            let row = |r: &rusqlite::Row<'_>| (0..width).map(|i| Ok(cell(r.get_ref(i)?))).collect();
            s.query_map([], row)?.collect::<rusqlite::Result<Vec<Cells>>>()
        };
        read().map_err(|e| e.to_string())
    }

    fn begin(&mut self) -> Result<()> {
        self.run("BEGIN IMMEDIATE")
    }

    fn place(&mut self) -> Result<u64> {
        self.number("SELECT max(seq) FROM gossip_log").map(i64::unsigned_abs)
    }
}
