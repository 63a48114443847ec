//! What every database can do that is a source.

use std::fmt::Debug;
use std::path::Path;
use std::sync::Arc;

use gossip_core::plan::SnapshotRequest;
use gossip_core::position::SnapshotPoint;
use gossip_core::schema::{Row, Table, TableName};

use crate::settings::BadOption;
use crate::{ChangeReader, Condition, Database, Finding, Last, Plan, Result, Settings, SourceError};

/// A kind of database: what [`crate::from_settings`] chooses by the URL.
pub trait Kind: Sync {
    /// The schemes of its URLs.
    fn schemes(&self) -> &'static [&'static str];

    /// What its URLs look like, for errors.
    fn form(&self) -> &'static str;

    /// The schema of tables that are named without one; empty where there are no schemas.
    fn default_schema<'a>(&self, settings: &'a Settings) -> &'a str;

    /// Whether it has the options that a configuration names, and so.
    ///
    /// # Errors
    /// The first that it has not.
    fn check_options(&self, settings: &Settings) -> std::result::Result<(), BadOption>;

    /// Takes what a configuration says; relative paths start from `base`. Connects to nothing.
    ///
    /// # Errors
    /// The URL or a setting is not one that this kind has.
    fn source(&self, settings: &Settings, base: &Path) -> Result<Arc<dyn Source>>;
}

/// A database that is a source. Errors of all calls are the database's own where nothing else is said.
pub trait Source: Debug + Send + Sync {
    /// Its name in the configuration.
    fn name(&self) -> &Arc<str>;

    /// The tables to stream, as the configuration names them.
    fn tables(&self) -> &[String];

    /// The same source with other tables.
    fn with_tables(&self, tables: Vec<String>) -> Arc<dyn Source>;

    /// Whether a table that the configuration names so is the one that rules and queries know by `name`.
    fn is_table(&self, wanted: &str, name: &TableName) -> bool;

    /// Whether two names in a configuration are of one table.
    fn is_same_table(&self, a: &str, b: &str) -> bool;

    /// Where the database is, to be shown.
    fn place(&self) -> String;

    /// The schema of tables that are named without one; empty where there are no schemas.
    fn default_schema(&self) -> &str;

    /// The tables that can be streamed, of those that are wanted.
    fn describe(&self) -> Result<Vec<Arc<Table>>>;

    /// As [`Source::describe`], but only those whose changes stream as things are now.
    fn describe_streaming(&self) -> Result<Vec<Arc<Table>>> {
        self.describe()
    }

    /// Whether everything is there that is needed to follow changes.
    ///
    /// # Errors
    /// It is not: what is missing, and what to do.
    fn need_prepared(&self) -> Result<()>;

    /// As [`Source::describe`], for an instance that is about to begin.
    ///
    /// # Errors
    /// The source is not prepared, or one of the tables cannot be streamed.
    fn open(&self) -> Result<Vec<Arc<Table>>> {
        self.need_prepared()?;
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
    fn check(&self, conditions: &[Condition]) -> Result<Vec<Finding>>;

    /// What has to be done so that all tables can be followed. Nothing, if they can.
    fn plan(&self) -> Result<Plan>;

    /// What takes everything of ours out of the database again.
    fn removal(&self) -> Result<Plan>;

    /// Does what a plan says. Where the database can do it all in one transaction, all of it or nothing.
    fn carry_out(&self, statements: &[String]) -> Result<()>;

    /// Becomes the reader, if there is none. `last` is where the one before stopped, if that is known.
    fn try_to_lead(&self, instance: &str, last: Option<Last>) -> Result<Option<Box<dyn ChangeReader>>>;

    /// Drops the log that the database retains for a reader beyond its limit, if nothing is reading it. The next reader
    /// starts after a gap. Returns whether anything was dropped.
    fn drop_backlog(&self) -> Result<bool>;

    /// Reads the rows that are wanted, and possibly others, at one moment and hands them to `take` in pieces;
    /// `take` says whether to go on. Returns what they show, or `None` if `take` had enough. Rows with a NULL in their
    /// key cannot be identified and are left out. Of a page, what is not handed over stands behind what is; where the order
    /// cannot be had of the database, all rows are handed over.
    fn snapshot(
        &self,
        wanted: &SnapshotRequest,
        take: &mut dyn FnMut(Vec<Row>) -> bool,
    ) -> Result<Option<SnapshotPoint>>;

    /// The same database, as any other program uses it.
    fn database(&self) -> &dyn Database;
}
