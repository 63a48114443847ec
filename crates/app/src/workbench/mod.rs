//! The workbench.
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use gossip_server::auth::Tokens;
use gossip_server::config::{Persona, Watcher};
use gossip_source::sqlite::SqliteSource;
use serde_json::Map;
use tokio::sync::Mutex;

use crate::local::Cluster;

/// An instance to look at.
#[derive(Clone, Debug, Default)]
pub struct Place {
    /// Its name, where it is known before.
    pub name: String,
    /// Where it listens.
    pub url: String,
}

/// What the workbench may reach. Whatever is absent, the actions that need it are absent too.
#[derive(Clone, Default)]
pub struct Access {
    /// The instances.
    pub places: Vec<Place>,
    /// An operator's token.
    pub operator: String,
    /// Mints tokens for personas.
    pub tokens: Option<Arc<Tokens>>,
    /// The database itself.
    pub database: Option<SqliteSource>,
    /// The personas.
    pub personas: BTreeMap<String, Persona>,
    /// The watchers to begin with.
    pub watchers: Vec<Watcher>,
    /// The configuration, to keep personas and watchers in.
    pub config: Option<PathBuf>,
    /// The instances themselves, where they run in this process.
    pub cluster: Option<Arc<Mutex<Option<Cluster>>>>,
    /// What is looked at, for the head line.
    pub title: String,
}

/// A token for the workbench's own operator.
pub fn operator_token(tokens: &Tokens) -> Result<String, String> {
    let role = tokens.operators().ok_or("auth.operators is missing")?.to_string();
    tokens.mint_for("workbench", &[role], &Map::new(), gossip_server::now() / 1_000_000, 30 * 86_400)
}

/// Runs the workbench until the user leaves it.
pub async fn run(_access: Access) -> Result<(), String> {
    Ok(())
}
