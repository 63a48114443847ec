//! The scenario's database, of either kind, as the simulation and the audit use it: SQL texts in, texts out.

use gossip_source::postgres::PostgresSource;
use gossip_source::postgres::client::Client;
use gossip_source::postgres::connect::{connect_plainly, literal, quote};
use gossip_source::{Source, SourceError};
use rusqlite::types::ValueRef;
use tokio_postgres::SimpleQueryMessage;

/// What the schema of a demo in PostgreSQL is marked with, so that one that was left behind is known again.
const MARK: &str = "made by gossip demo; removed at its end";

/// What the database says when it refuses.
pub type Result<T> = std::result::Result<T, String>;

/// A row, as texts.
pub type Cells = Vec<Option<String>>;

/// A connection to the scenario's database.
pub enum Store {
    /// A file.
    Sqlite(rusqlite::Connection),
    /// A server.
    Postgres(Client),
}

fn said(e: SourceError) -> String {
    e.to_string()
}

impl Store {
    /// Connects as any other program would. Creates the file if there is none.
    pub fn open(source: &Source) -> Result<Store> {
        match source {
            Source::Sqlite(s) => {
                let db = rusqlite::Connection::open(&s.path).map_err(|e| e.to_string())?;
                let set_up = || {
                    db.busy_timeout(std::time::Duration::from_secs(5))?;
                    db.pragma_update(None, "synchronous", "NORMAL")?;
                    db.pragma_update(None, "foreign_keys", true)
                };
                set_up().map_err(|e| e.to_string())?;
                Ok(Store::Sqlite(db))
            }
            Source::Postgres(s) => {
                let mut db = connect_plainly(&s.address).map_err(|e| e.to_string())?;
                db.batch_execute(&format!("SET search_path = {}", quote(&s.schema))).map_err(said)?;
                Ok(Store::Postgres(db))
            }
        }
    }

    /// Runs statements.
    pub fn run(&mut self, sql: &str) -> Result<()> {
        match self {
            Store::Sqlite(db) => db.execute_batch(sql).map_err(|e| e.to_string()),
            Store::Postgres(db) => db.batch_execute(sql).map_err(said),
        }
    }

    /// All rows of a query.
    pub fn rows(&mut self, sql: &str) -> Result<Vec<Cells>> {
        match self {
            Store::Sqlite(db) => {
                let read = || {
                    let mut s = db.prepare_cached(sql)?;
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
            Store::Postgres(db) => {
                let cells = |m: SimpleQueryMessage| match m {
                    SimpleQueryMessage::Row(r) => Some((0..r.len()).map(|i| r.get(i).map(String::from)).collect()),
                    _ => None,
                };
                Ok(db.simple_query(sql).map_err(said)?.into_iter().filter_map(cells).collect())
            }
        }
    }

    /// The first row of a query, if there is one.
    pub fn row(&mut self, sql: &str) -> Result<Option<Cells>> {
        Ok(self.rows(sql)?.into_iter().next())
    }

    /// One number.
    pub fn number(&mut self, sql: &str) -> Result<i64> {
        let cell = self.row(sql)?.and_then(|r| r.into_iter().next().flatten());
        cell.and_then(|t| t.parse().ok()).ok_or_else(|| format!("no number from {sql}"))
    }

    /// Begins a transaction.
    pub fn begin(&mut self) -> Result<()> {
        let sql = if matches!(self, Store::Sqlite(_)) { "BEGIN IMMEDIATE" } else { "BEGIN" };
        self.run(sql)
    }

    /// A place in the change log at or before which everything in this transaction will stand, and after which nothing
    /// that was committed before it does.
    pub fn place(&mut self) -> Result<u64> {
        let at = match self {
            Store::Sqlite(_) => self.number("SELECT max(seq) FROM gossip_log"),
            // The commit's own record comes after all that is written now.
            Store::Postgres(_) => self.number("SELECT (pg_current_wal_insert_lsn() - '0/0')::int8 + 1"),
        };
        Ok(at?.unsigned_abs())
    }

    /// SQL of the audit, which is written for SQLite, in this database's words.
    pub fn in_own_words(&self, sql: &str) -> String {
        match self {
            Store::Sqlite(_) => sql.into(),
            Store::Postgres(_) => sql.replace("json_object(", "json_build_object("),
        }
    }
}

/// The scenario's schema, which is written for SQLite, for PostgreSQL.
fn for_postgres(schema: &str) -> String {
    let lines = schema.lines().filter(|l| !l.starts_with("PRAGMA"));
    lines
        .collect::<Vec<_>>()
        .join("\n")
        .replace("INTEGER PRIMARY KEY", "bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY")
        .replace("INTEGER", "bigint")
        .replace("REAL", "double precision")
}

/// Makes the tables of the scenario. In PostgreSQL in a schema of their own, which must not be there already, unless an
/// earlier demo has left it.
pub fn make_tables(source: &Source, schema: &str) -> Result<()> {
    match source {
        Source::Sqlite(_) => Store::open(source)?.run(schema),
        Source::Postgres(s) => {
            let mut db = Store::open(source)?;
            let own = literal(&s.schema);
            let found = db
                .row(&format!("SELECT obj_description(oid, 'pg_namespace') FROM pg_namespace WHERE nspname = {own}"))?;
            match found {
                None => {}
                Some(mark) if mark == [Some(MARK.to_string())] => remove_tables(s)?,
                Some(_) => return Err(format!("schema {} is there already and is not of a demo", s.schema)),
            }
            let name = quote(&s.schema);
            db.run(&format!("CREATE SCHEMA {name}; COMMENT ON SCHEMA {name} IS {}", literal(MARK)))?;
            db.run(&for_postgres(schema))
        }
    }
}

/// Takes everything of the demo out of the server again.
pub fn remove_tables(source: &PostgresSource) -> Result<()> {
    let plan = source.removal().map_err(|e| e.to_string())?;
    source.carry_out(&plan.statements).map_err(|e| e.to_string())?;
    let own = Source::Postgres(source.clone());
    Store::open(&own)?.run(&format!("DROP SCHEMA {} CASCADE", quote(&source.schema)))
}
