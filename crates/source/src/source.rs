//! A database of either kind, behind one set of calls.

use std::path::Path;
use std::sync::Arc;

use gossip_core::engine::RowFilter;
use gossip_core::position::SnapshotPoint;
use gossip_core::schema::{Row, Table, TableName};

use crate::postgres::PostgresSource;
use crate::postgres::catalog::{split_name, table_name};
use crate::sqlite::schema::{Found, describe};
use crate::sqlite::{self, SqliteSource, triggers};
use crate::{ChangeReader, Condition, Finding, Last, Plan, Result, Settings, SourceError};

/// A database that is a source.
#[derive(Clone, Debug)]
#[expect(clippy::large_enum_variant, reason = "an instance has one")]
pub enum Source {
    /// A file.
    Sqlite(SqliteSource),
    /// A server.
    Postgres(PostgresSource),
}

impl Source {
    /// Takes what a configuration says; relative paths start from `base`. Connects to nothing.
    pub fn new(settings: &Settings, base: &Path) -> Result<Source> {
        let s = settings;
        match s.url.split_once(':').map(|(scheme, _)| scheme) {
            Some("postgres" | "postgresql") => PostgresSource::new(s, base).map(Source::Postgres),
            Some("sqlite") => SqliteSource::new(&s.name, &s.url, s.tables.clone(), base).map(Source::Sqlite),
            _ => Err(SourceError::Url {
                url: sqlite::without_password(&s.url),
                problem: "expected sqlite:path-of-the-file or postgres://user@host/database".into(),
            }),
        }
    }

    /// Its name in the configuration.
    pub fn name(&self) -> &Arc<str> {
        match self {
            Source::Sqlite(s) => &s.name,
            Source::Postgres(s) => &s.name,
        }
    }

    /// The tables to stream, as the configuration names them.
    pub fn tables(&self) -> &[String] {
        match self {
            Source::Sqlite(s) => &s.tables,
            Source::Postgres(s) => &s.tables,
        }
    }

    /// Whether a table that the configuration names so is the one that rules and queries know by `name`.
    pub fn is_table(&self, wanted: &str, name: &TableName) -> bool {
        match self {
            Source::Sqlite(_) => name.schema.is_empty() && wanted.eq_ignore_ascii_case(&name.name),
            Source::Postgres(s) => {
                let (schema, table) = split_name(wanted, &s.schema);
                table_name(&schema, &table, &s.schema) == *name
            }
        }
    }

    /// The same source with other tables.
    pub fn with_tables(&self, tables: Vec<String>) -> Source {
        match self {
            Source::Sqlite(s) => Source::Sqlite(SqliteSource { tables, ..s.clone() }),
            Source::Postgres(s) => Source::Postgres(PostgresSource { tables, ..s.clone() }),
        }
    }

    /// Where the database is, to be shown.
    pub fn place(&self) -> String {
        match self {
            Source::Sqlite(s) => s.path.display().to_string(),
            Source::Postgres(s) => s.place(),
        }
    }

    /// The schema of tables that are named without one; empty where there are no schemas.
    pub fn default_schema(&self) -> &str {
        match self {
            Source::Sqlite(_) => "",
            Source::Postgres(s) => &s.schema,
        }
    }

    /// The tables that can be streamed, of those that are wanted.
    pub fn describe(&self) -> Result<Vec<Arc<Table>>> {
        match self {
            Source::Sqlite(s) => {
                let db = s.connect()?;
                let mut tables = Vec::new();
                for wanted in &s.tables {
                    if let Found::Table(t) = describe(&db, wanted)? {
                        tables.push(t.table(&s.name));
                    }
                }
                Ok(tables)
            }
            Source::Postgres(s) => s.describe(),
        }
    }

    /// As [`Source::describe`], but only those whose changes stream as things are now.
    pub fn describe_streaming(&self) -> Result<Vec<Arc<Table>>> {
        match self {
            Source::Sqlite(_) => self.describe(),
            Source::Postgres(s) => s.describe_streaming(),
        }
    }

    /// As [`Source::describe`], but an error unless the source is prepared and all tables can be streamed.
    pub fn open(&self) -> Result<Vec<Arc<Table>>> {
        match self {
            Source::Sqlite(s) => {
                let db = s.connect_to_write()?;
                if !triggers::is_prepared(&db)? {
                    let text = format!("database {} is not prepared; run gossip prepare first", s.path.display());
                    return Err(SourceError::NotReady(text));
                }
            }
            Source::Postgres(s) => s.need_prepared()?,
        }
        let tables = self.describe()?;
        if tables.len() < self.tables().len() {
            let blocking = self.check(&[])?.into_iter().find(|f| f.blocks && self.tables().contains(&f.about));
            let text = match blocking {
                Some(f) => format!("table {} cannot be streamed: it {}", f.about, f.text),
                None => "not every table can be streamed; gossip check says why".into(),
            };
            return Err(SourceError::NotReady(text));
        }
        Ok(tables)
    }

    /// Holds the source, and what rules and queries need of it, against the database.
    pub fn check(&self, conditions: &[Condition]) -> Result<Vec<Finding>> {
        match self {
            Source::Sqlite(s) => triggers::check(s),
            Source::Postgres(s) => s.check(conditions),
        }
    }

    /// What has to be done so that all tables can be followed. Nothing, if they can.
    pub fn plan(&self) -> Result<Plan> {
        match self {
            Source::Sqlite(s) => triggers::plan(&s.connect()?, s),
            Source::Postgres(s) => s.plan(),
        }
    }

    /// What takes everything of ours out of the database again.
    pub fn removal(&self) -> Result<Plan> {
        match self {
            Source::Sqlite(s) => Ok(Plan { statements: triggers::removal(&s.connect()?)?, effects: vec![] }),
            Source::Postgres(s) => s.removal(),
        }
    }

    /// Does what a plan says. Where the database can do it all in one transaction, all of it or nothing.
    pub fn carry_out(&self, statements: &[String]) -> Result<()> {
        match self {
            Source::Sqlite(s) => triggers::carry_out(&mut s.connect_to_write()?, statements),
            Source::Postgres(s) => s.carry_out(statements),
        }
    }

    /// Becomes the reader, if nobody else is. `last` is where the one before stopped, if that is known.
    pub fn try_to_lead(&self, instance: &str, last: Option<Last>) -> Result<Option<Box<dyn ChangeReader>>> {
        match self {
            Source::Sqlite(s) => {
                let following = sqlite::follow::Following::try_start(s, instance, last)?;
                Ok(following.map(|f| Box::new(f) as Box<dyn ChangeReader>))
            }
            Source::Postgres(s) => s.try_to_lead(instance, last),
        }
    }

    /// Lets go of what the database keeps for a reader beyond its limit, if nobody is reading: for as long as nothing can
    /// be handed on. Whoever reads next begins after a gap. Returns whether anything was let go.
    pub fn drop_backlog(&self) -> Result<bool> {
        match self {
            Source::Sqlite(s) => sqlite::reader::drop_backlog(s),
            Source::Postgres(s) => s.drop_backlog(),
        }
    }

    /// Reads the rows of `table` that are wanted, and possibly others, at one moment and hands them to `take` in pieces;
    /// `take` says whether to go on. Returns what they show, or `None` if `take` had enough. Rows with a NULL in their
    /// key have no name to be told apart by and are left out.
    pub fn snapshot(
        &self,
        table: &Arc<Table>,
        wanted: Option<&RowFilter>,
        take: &mut dyn FnMut(Vec<Row>) -> bool,
    ) -> Result<Option<SnapshotPoint>> {
        match self {
            Source::Sqlite(s) => Ok(sqlite::snapshot::snapshot(s, table, wanted, take)?.map(SnapshotPoint::UpTo)),
            Source::Postgres(s) => s.snapshot(table, wanted, take),
        }
    }
}
