//! PostgreSQL as a source: its streaming replication protocol with the built-in `pgoutput` plugin.
//!
//! In the order of a change's travel:
//!
//! - [`address`], [`tls`], [`connect`], [`client`]: how to reach the server, as `libpq` would, and not to wait for ever;
//! - [`prepare`] and [`check`]: what the server needs, and what is wrong with it;
//! - [`stream`]: the replication connection; [`pgoutput`] decodes what it brings;
//! - [`relations`] lists what is there, [`catalog`] describes tables, [`types`] reads values, [`rows`] puts both together;
//! - [`transaction`] gathers a transaction's changes; [`reader`] makes intervals of them;
//! - [`snapshot`] reads whole tables and says which transactions they show;
//! - `source` puts all of it together; `database` and `demo` use the database as any other program does.

pub mod address;
pub mod catalog;
pub mod check;
pub mod client;
pub mod connect;
mod database;
mod demo;
mod error;
mod indexes;
mod literal;
mod options;
pub mod pgoutput;
mod pool;
pub mod prepare;
pub mod reader;
pub mod relations;
pub mod rows;
pub mod snapshot;
mod source;
pub mod stream;
mod tls;
pub mod transaction;
pub mod types;
mod visibility;

pub use source::Postgres;

use std::path::Path;
use std::sync::Arc;

use gossip_core::schema::Table;

use crate::settings::BadOption;
use crate::{Result, Settings, SourceError};
use address::Address;
use catalog::{CatalogRequest, Described};
use client::Client;
use options::Options;
use pool::Pool;

/// Default limit of the log that the slot may retain, in bytes.
pub const MAX_WAL: u64 = 8 << 30;

/// The schema of tables that are named without one, where nothing else is said.
const DEFAULT_SCHEMA: &str = "public";

/// A server's database that is a source.
#[derive(Clone, Debug)]
pub struct PostgresSource {
    /// The source's name in the configuration.
    pub name: Arc<str>,
    /// The tables to stream, as the configuration names them.
    pub tables: Vec<String>,
    /// The schema of tables that are named without one.
    pub schema: String,
    /// Where queries go.
    pub address: Address,
    /// Where changes are streamed from.
    pub replication: Address,
    /// The publication of tables with a key.
    pub publication: String,
    /// The replication slot.
    pub slot: String,
    /// Tables whose old values are requested.
    pub old_values: Vec<String>,
    /// Bytes of log that the slot may retain before the backlog is dropped.
    pub max_wal_bytes: u64,
    /// Whether a lost slot is replaced automatically.
    pub renew_lost_slot: bool,
    pub(crate) pool: Arc<Pool>,
}

impl PostgresSource {
    /// Takes what a configuration says.
    ///
    /// # Errors
    /// The URL or an option is not one that such a source has.
    pub fn new(s: &Settings, base: &Path) -> Result<PostgresSource> {
        let options = Options::read(&s.options, &s.tables).map_err(|BadOption { name, problem }| {
            SourceError::NotReady(format!("source.{}.{name}: {problem}", s.name))
        })?;
        let address = Address::parse(&s.url, base)?;
        let replication = match &options.replication_url {
            Some(url) => Address::parse(url, base)?,
            None => address.clone(),
        };
        Ok(PostgresSource {
            name: s.name.as_str().into(),
            tables: s.tables.clone(),
            schema: options.schema.unwrap_or_else(|| DEFAULT_SCHEMA.into()),
            pool: Arc::new(Pool::new(address.clone())),
            address,
            replication,
            publication: options.publication.unwrap_or_else(|| "gossip".into()),
            slot: options.slot.unwrap_or_else(|| "gossip".into()),
            old_values: options.old_values,
            max_wal_bytes: options.max_wal_mb.map_or(MAX_WAL, |mb| mb.saturating_mul(1 << 20)),
            renew_lost_slot: options.renew_lost_slot,
        })
    }

    /// Host, port and database, to be shown.
    pub fn place(&self) -> String {
        self.address.place()
    }

    /// The publication of tables that publish only inserts.
    pub fn keyless_publication(&self) -> String {
        format!("{}_keyless", self.publication)
    }

    /// An ordinary connection with the settings that reading values needs.
    ///
    /// # Errors
    /// The server cannot be reached in time, or refuses.
    pub fn connect(&self) -> Result<Client> {
        connect::connect(&self.address)
    }

    /// The tables that can be streamed, of those that are wanted.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn describe(&self) -> Result<Vec<Arc<Table>>> {
        let found = catalog::describe(&mut self.connect()?, &self.wanted(&self.tables))?;
        Ok(found.values().filter(|d| d.can_stream()).map(|d| d.table(&self.name)).collect())
    }

    /// As [`PostgresSource::describe`], but only those whose changes stream now.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn describe_streaming(&self) -> Result<Vec<Arc<Table>>> {
        let found = catalog::describe(&mut self.connect()?, &self.wanted(&self.tables))?;
        let streams = |d: &&Described| d.can_stream() && d.is_published();
        Ok(found.values().filter(streams).map(|d| d.table(&self.name)).collect())
    }

    /// A catalog request for these tables.
    pub fn wanted<'a>(&'a self, tables: &'a [String]) -> CatalogRequest<'a> {
        CatalogRequest {
            tables,
            schema: &self.schema,
            publications: [self.publication.clone(), self.keyless_publication()],
        }
    }
}
