//! What the workbench has access to.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use gossip_core::rule::RuleText;
use gossip_server::auth::Tokens;
use gossip_source::Source;
use tokio::sync::Mutex;

use crate::local::Cluster;
use crate::personas::{Persona, Watcher};

/// An instance to connect to.
#[derive(Clone, Debug, Default)]
pub struct Place {
    /// Its name, if already known.
    pub name: String,
    /// Where it listens.
    pub url: String,
}

/// What the workbench can reach. Actions that need something absent are absent too.
#[derive(Clone, Default)]
pub struct Access {
    /// The instances.
    pub places: Vec<Place>,
    /// An operator's token.
    pub operator: String,
    /// Mints tokens for personas.
    pub tokens: Option<Arc<Tokens>>,
    /// Tokens of personas for whom none can be minted here, by name.
    pub given: BTreeMap<String, String>,
    /// The database itself.
    pub database: Option<Arc<dyn Source>>,
    /// The personas.
    pub personas: BTreeMap<String, Persona>,
    /// The rules, where the configuration can be read.
    pub rules: Vec<RuleText>,
    /// The initial watchers.
    pub watchers: Vec<Watcher>,
    /// The stored queries, which Ask offers as earlier ones.
    pub queries: Vec<String>,
    /// Whether to start in First steps.
    pub first_steps: bool,
    /// The configuration file, to save personas and watchers to.
    pub config: Option<PathBuf>,
    /// The instances themselves, where they run in this process.
    pub cluster: Option<Arc<Mutex<Option<Cluster>>>>,
    /// The title in the head line.
    pub title: String,
}

/// Shown as the role of a persona whose token does not contain roles.
pub const UNKNOWN_ROLES: &str = "by token";
