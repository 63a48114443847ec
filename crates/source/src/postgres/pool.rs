//! A pool of connections for snapshots, each with the descriptions of the tables it has read.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use tokio_postgres::Statement;

use super::address::Address;
use super::catalog::{self, Described};
use super::client::Client;
use super::connect::connect;
use crate::Result;

/// Idle connections in the pool.
const MAX_IDLE: usize = 4;

/// Idle connections, and what tables are.
#[derive(Debug)]
pub struct Pool {
    address: Address,
    idle: Mutex<Vec<Connection>>,
    /// By name, as the catalog had it when its signature was this. No more than there are tables to be read.
    pub(super) described: Mutex<HashMap<String, (String, Arc<Described>)>>,
}

pub(super) struct Connection {
    pub(super) client: Client,
    /// Asks for a table's signature.
    pub(super) signature: Statement,
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("connection")
    }
}

impl Pool {
    /// Keeps connections to this server. Connects to nothing yet.
    pub fn new(address: Address) -> Pool {
        Pool { address, idle: Mutex::default(), described: Mutex::default() }
    }

    pub(super) fn take(&self) -> Result<Connection> {
        while let Some(mut connection) = self.take_idle() {
            // It may have ended while it waited.
            if connection.client.is_valid(Duration::from_secs(1)) {
                return Ok(connection);
            }
        }
        let mut client = connect(&self.address)?;
        // Getting past a place in the log must not wait for a standby. The one prepared statement is not to be planned for
        // each of its uses, which takes longer than most reads.
        client.batch_execute("SET synchronous_commit = local; SET plan_cache_mode = force_generic_plan")?;
        let signature = client.prepare(catalog::SIGNATURE)?;
        Ok(Connection { client, signature })
    }

    fn take_idle(&self) -> Option<Connection> {
        self.idle.lock().pop()
    }

    pub(super) fn keep(&self, connection: Connection) {
        let mut idle = self.idle.lock();
        if idle.len() < MAX_IDLE {
            idle.push(connection);
        }
    }
}

impl Drop for Pool {
    fn drop(&mut self) {
        // Ending a connection waits for it, which the last owner of the pool may not be in a place to do.
        let idle = std::mem::take(&mut *self.idle.lock());
        if !idle.is_empty() {
            std::thread::spawn(move || drop(idle));
        }
    }
}
