//! An ordinary connection of which every call has a deadline.
//!
//! A server can vanish without a word: a proxy that is frozen, a network that drops packets. What waits for it then must
//! not wait for ever, whoever it is. The driver's own blocking client has no such deadline, so this is one of our own on
//! its asynchronous client: a call that is not answered in time gives the connection up.

use std::time::Duration;

use tokio::runtime::{Builder, Runtime};
use tokio_postgres::tls::MakeTlsConnect;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Config, Error, Row, SimpleQueryMessage, Socket, Statement, ToStatement};

use crate::{Result, SourceError};

/// Default deadline of a call: longer than the server lets a statement of ours run.
const DEADLINE: Duration = Duration::from_secs(65);

/// A connection for a thread that may block. Its calls must not be made from an asynchronous task.
pub struct Client {
    runtime: Runtime,
    client: tokio_postgres::Client,
    place: String,
    deadline: Duration,
}

impl std::fmt::Debug for Client {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Client({})", self.place)
    }
}

impl Client {
    /// Connects within `timeout`, name lookup, TLS and authentication included.
    ///
    /// # Errors
    /// [`SourceError::Lost`] without an answer in time, else the server's error.
    pub fn connect<T>(config: &Config, tls: T, place: String, timeout: Duration) -> Result<Client>
    where
        T: MakeTlsConnect<Socket> + 'static,
        T::Stream: Send,
    {
        let runtime = Builder::new_current_thread().enable_all().build()?;
        let connected = runtime.block_on(async { tokio::time::timeout(timeout, config.connect(tls)).await });
        let (client, connection) = connected.map_err(|_| silent(&place, timeout))??;
        // Goes on whenever a call waits.
        runtime.spawn(async move { drop(connection.await) });
        Ok(Client { runtime, client, place, deadline: DEADLINE })
    }

    /// Sets how long each call may take from now on.
    pub fn set_deadline(&mut self, deadline: Duration) {
        self.deadline = deadline;
    }

    fn run<T>(&self, call: impl Future<Output = std::result::Result<T, Error>>) -> Result<T> {
        match self.runtime.block_on(async { tokio::time::timeout(self.deadline, call).await }) {
            Ok(answer) => answer.map_err(|e| self.said(e)),
            Err(_) => Err(silent(&self.place, self.deadline)),
        }
    }

    fn said(&self, e: Error) -> SourceError {
        if e.is_closed()
            || e.as_db_error().is_none() && std::error::Error::source(&e).is_some_and(|s| s.is::<std::io::Error>())
        {
            return SourceError::Lost { place: self.place.clone(), problem: e.to_string() };
        }
        e.into()
    }

    /// Runs a statement and returns its rows.
    ///
    /// # Errors
    /// What the server says, or that it does not answer; so for all calls here.
    pub fn query<T>(&mut self, statement: &T, params: &[&(dyn ToSql + Sync)]) -> Result<Vec<Row>>
    where
        T: ?Sized + ToStatement,
    {
        self.run(self.client.query(statement, params))
    }

    /// Runs a statement that returns one row.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn query_one<T>(&mut self, statement: &T, params: &[&(dyn ToSql + Sync)]) -> Result<Row>
    where
        T: ?Sized + ToStatement,
    {
        self.run(self.client.query_one(statement, params))
    }

    /// Runs a statement that returns one row or none.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn query_opt<T>(&mut self, statement: &T, params: &[&(dyn ToSql + Sync)]) -> Result<Option<Row>>
    where
        T: ?Sized + ToStatement,
    {
        self.run(self.client.query_opt(statement, params))
    }

    /// Runs statements one after the other.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn batch_execute(&mut self, sql: &str) -> Result<()> {
        self.run(self.client.batch_execute(sql))
    }

    /// Runs statements and returns rows as texts.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn simple_query(&mut self, sql: &str) -> Result<Vec<SimpleQueryMessage>> {
        self.run(self.client.simple_query(sql))
    }

    /// Prepares a statement.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn prepare(&mut self, sql: &str) -> Result<Statement> {
        self.run(self.client.prepare(sql))
    }

    /// Whether the server answers within this time.
    pub fn is_valid(&mut self, within: Duration) -> bool {
        let call = async { tokio::time::timeout(within, self.client.simple_query("")).await };
        matches!(self.runtime.block_on(call), Ok(Ok(_)))
    }
}

fn silent(place: &str, deadline: Duration) -> SourceError {
    SourceError::Lost { place: place.into(), problem: format!("no answer within {} s", deadline.as_secs()) }
}
