//! An SQLite file as a source, with all that the other modules can do.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use gossip_core::plan::SnapshotRequest;
use gossip_core::position::SnapshotPoint;
use gossip_core::schema::{Row, Table, TableName};

use super::schema::{self, Lookup};
use super::{SqliteSource, follow, indexes, reader, snapshot, triggers};
use crate::settings::BadOption;
use crate::{ChangeReader, Condition, Database, Finding, Kind, Last, Plan, Result, Settings, Source, SourceError};

/// How long writers may keep the file from being prepared.
const BUSY: Duration = Duration::from_secs(5);

/// SQLite, a kind of database.
pub struct Sqlite;

impl Kind for Sqlite {
    fn schemes(&self) -> &'static [&'static str] {
        &["sqlite"]
    }

    fn form(&self) -> &'static str {
        "sqlite:path-of-the-file"
    }

    fn default_schema<'a>(&self, _: &'a Settings) -> &'a str {
        ""
    }

    fn check_options(&self, settings: &Settings) -> std::result::Result<(), BadOption> {
        match settings.options.keys().next() {
            Some(name) if name == "old_values" => {
                Err(BadOption::new(name, "is not needed: SQLite has the old values of all tables"))
            }
            Some(name) => Err(BadOption::unknown(name, &[])),
            None => Ok(()),
        }
    }

    fn source(&self, s: &Settings, base: &Path) -> Result<Arc<dyn Source>> {
        Ok(Arc::new(SqliteSource::new(&s.name, &s.url, s.tables.clone(), base)?))
    }
}

impl Source for SqliteSource {
    fn name(&self) -> &Arc<str> {
        &self.name
    }

    fn tables(&self) -> &[String] {
        &self.tables
    }

    fn with_tables(&self, tables: Vec<String>) -> Arc<dyn Source> {
        Arc::new(SqliteSource { tables, ..self.clone() })
    }

    fn is_table(&self, wanted: &str, name: &TableName) -> bool {
        name.schema.is_empty() && wanted.eq_ignore_ascii_case(&name.name)
    }

    fn is_same_table(&self, a: &str, b: &str) -> bool {
        a.eq_ignore_ascii_case(b)
    }

    fn place(&self) -> String {
        self.path.display().to_string()
    }

    fn default_schema(&self) -> &str {
        ""
    }

    fn describe(&self) -> Result<Vec<Arc<Table>>> {
        let db = self.connect()?;
        let mut tables = Vec::new();
        for wanted in &self.tables {
            if let Lookup::Table(t) = schema::describe(&db, wanted)? {
                tables.push(t.table(&self.name));
            }
        }
        Ok(tables)
    }

    fn need_prepared(&self) -> Result<()> {
        if triggers::is_prepared(&self.connect_to_write()?)? {
            return Ok(());
        }
        let text = format!("database {} is not prepared; run gossip prepare first", self.path.display());
        Err(SourceError::NotReady(text))
    }

    fn check(&self, conditions: &[Condition]) -> Result<Vec<Finding>> {
        let mut findings = triggers::check(self)?;
        findings.extend(indexes::check(self, conditions)?);
        Ok(findings)
    }

    fn plan(&self) -> Result<Plan> {
        triggers::plan(&self.connect()?, self)
    }

    fn removal(&self) -> Result<Plan> {
        Ok(Plan { statements: triggers::removal(&self.connect()?)?, effects: vec![] })
    }

    fn carry_out(&self, statements: &[String]) -> Result<()> {
        let mut db = self.connect_to_write()?;
        db.busy_timeout(BUSY)?;
        match statements {
            // A pragma may not be part of a transaction.
            [one] if one.trim_start().to_ascii_uppercase().starts_with("PRAGMA") => Ok(db.execute_batch(one)?),
            all => triggers::carry_out(&mut db, all),
        }
    }

    fn try_to_lead(&self, instance: &str, last: Option<Last>) -> Result<Option<Box<dyn ChangeReader>>> {
        let following = follow::Following::try_start(self, instance, last)?;
        Ok(following.map(|f| Box::new(f) as Box<dyn ChangeReader>))
    }

    fn drop_backlog(&self) -> Result<bool> {
        reader::drop_backlog(self)
    }

    fn snapshot(
        &self,
        wanted: &SnapshotRequest,
        take: &mut dyn FnMut(Vec<Row>) -> bool,
    ) -> Result<Option<SnapshotPoint>> {
        Ok(snapshot::snapshot(self, wanted, take)?.map(SnapshotPoint::UpTo))
    }

    fn database(&self) -> &dyn Database {
        self
    }
}
