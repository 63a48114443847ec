//! What the workbench is opened on.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use gossip_core::rule::RuleText;
use gossip_server::auth::Tokens;
use gossip_source::Source;
use tokio::sync::Mutex;

use crate::local::Cluster;
use crate::personas::{Persona, Watcher};

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
    /// Tokens of personas for whom none can be minted here, by name.
    pub given: BTreeMap<String, String>,
    /// The database itself.
    pub database: Option<Arc<dyn Source>>,
    /// The personas.
    pub personas: BTreeMap<String, Persona>,
    /// The rules, where the configuration can be read.
    pub rules: Vec<RuleText>,
    /// The watchers to begin with.
    pub watchers: Vec<Watcher>,
    /// Whether to begin with what is still to be done.
    pub first_steps: bool,
    /// The configuration, to keep personas and watchers in.
    pub config: Option<PathBuf>,
    /// The instances themselves, where they run in this process.
    pub cluster: Option<Arc<Mutex<Option<Cluster>>>>,
    /// What is looked at, for the head line.
    pub title: String,
}

/// Stands for the roles of somebody whose token does not show them.
pub const UNKNOWN_ROLES: &str = "by token";
