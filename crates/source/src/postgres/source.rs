//! A PostgreSQL database as a source, with all that the other modules can do.

use std::path::Path;
use std::sync::Arc;

use gossip_core::plan::SnapshotRequest;
use gossip_core::position::SnapshotPoint;
use gossip_core::schema::{Row, Table, TableName};

use super::PostgresSource;
use super::catalog::{split_name, table_name};
use super::options::Options;
use crate::settings::BadOption;
use crate::{ChangeReader, Condition, Database, Finding, Kind, Last, Plan, Result, Settings, Source};

/// PostgreSQL, a kind of database.
pub struct Postgres;

impl Kind for Postgres {
    fn schemes(&self) -> &'static [&'static str] {
        &["postgres", "postgresql"]
    }

    fn form(&self) -> &'static str {
        "postgres://user@host/database"
    }

    fn default_schema<'a>(&self, settings: &'a Settings) -> &'a str {
        settings.options.get("schema").and_then(|s| s.as_str()).unwrap_or(super::DEFAULT_SCHEMA)
    }

    fn check_options(&self, settings: &Settings) -> std::result::Result<(), BadOption> {
        Options::read(&settings.options, &settings.tables).map(drop)
    }

    fn source(&self, settings: &Settings, base: &Path) -> Result<Arc<dyn Source>> {
        Ok(Arc::new(PostgresSource::new(settings, base)?))
    }
}

// Where a name is the trait's and the struct's own, the struct's own does the work.
impl Source for PostgresSource {
    fn name(&self) -> &Arc<str> {
        &self.name
    }

    fn tables(&self) -> &[String] {
        &self.tables
    }

    fn with_tables(&self, tables: Vec<String>) -> Arc<dyn Source> {
        Arc::new(PostgresSource { tables, ..self.clone() })
    }

    fn is_table(&self, wanted: &str, name: &TableName) -> bool {
        let (schema, table) = split_name(wanted, &self.schema);
        table_name(&schema, &table, &self.schema) == *name
    }

    fn is_same_table(&self, a: &str, b: &str) -> bool {
        split_name(a, &self.schema) == split_name(b, &self.schema)
    }

    fn place(&self) -> String {
        PostgresSource::place(self)
    }

    fn default_schema(&self) -> &str {
        &self.schema
    }

    fn describe(&self) -> Result<Vec<Arc<Table>>> {
        PostgresSource::describe(self)
    }

    fn describe_streaming(&self) -> Result<Vec<Arc<Table>>> {
        PostgresSource::describe_streaming(self)
    }

    fn need_prepared(&self) -> Result<()> {
        PostgresSource::need_prepared(self)
    }

    fn check(&self, conditions: &[Condition]) -> Result<Vec<Finding>> {
        PostgresSource::check(self, conditions)
    }

    fn plan(&self) -> Result<Plan> {
        PostgresSource::plan(self)
    }

    fn removal(&self) -> Result<Plan> {
        PostgresSource::removal(self)
    }

    fn carry_out(&self, statements: &[String]) -> Result<()> {
        PostgresSource::carry_out(self, statements)
    }

    fn try_to_lead(&self, instance: &str, last: Option<Last>) -> Result<Option<Box<dyn ChangeReader>>> {
        PostgresSource::try_to_lead(self, instance, last)
    }

    fn drop_backlog(&self) -> Result<bool> {
        PostgresSource::drop_backlog(self)
    }

    fn snapshot(
        &self,
        wanted: &SnapshotRequest,
        take: &mut dyn FnMut(Vec<Row>) -> bool,
    ) -> Result<Option<SnapshotPoint>> {
        PostgresSource::snapshot(self, wanted, take)
    }

    fn database(&self) -> &dyn Database {
        self
    }
}
