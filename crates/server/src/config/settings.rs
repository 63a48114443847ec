//! What a configuration says.

use std::collections::BTreeMap;
use std::fmt;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use gossip_core::rule::RuleText;
use gossip_core::topic::Topic;
use gossip_relay::ingest::Ingest;
use gossip_source::Settings;

use super::text::scheme;
use crate::admission::Admission;
use crate::authz_webhook;

/// The default address to listen on.
pub const DEFAULT_LISTEN: &str = "127.0.0.1:4750";

/// A configuration that was read and is valid in itself; whether it fits the database is up to `check`.
#[derive(Clone, Debug)]
pub struct Config {
    /// The file it was read from.
    pub path: PathBuf,
    /// The instance's name.
    pub name: String,
    /// Where it listens.
    pub listen: SocketAddr,
    /// Who may come and with which queries.
    pub admission: Admission,
    /// The source.
    pub source: Settings,
    /// How tokens are checked; `None`: nobody can authenticate.
    pub auth: Option<Auth>,
    /// How instances pass changes to each other.
    pub relay: gossip_relay::Settings,
    /// Where the secrets are by which instances know each other on a broker.
    pub relay_secrets: RelaySecrets,
    /// Who decides about rights outside; `None`: nobody.
    pub decisions: Option<authz_webhook::Settings>,
    /// Topics by name.
    pub topics: BTreeMap<String, TopicSettings>,
    /// The rules.
    pub rules: Vec<RuleText>,
    /// Stored queries by name.
    pub queries: BTreeMap<String, StoredQuery>,
}

/// How tokens are checked.
#[derive(Clone, Debug)]
pub struct Auth {
    /// The environment variable that holds a shared secret, for HS256.
    pub secret_env: Option<String>,
    /// Where the JWK set is: a file, or an address.
    pub jwks: Option<String>,
    /// The issuer that a token must name.
    pub issuer: Option<String>,
    /// How far clocks may differ.
    pub leeway: Duration,
    /// How long subscriptions go on after their token has ended, so that it can be renewed.
    pub grace: Duration,
    /// The audience that a token must name.
    pub audience: Option<String>,
    /// The claim that lists the roles.
    pub roles: String,
    /// The role that may operate.
    pub operators: Option<String>,
}

/// Environment variables that hold secrets by which instances know each other on a broker.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RelaySecrets {
    /// The secret that is used; that of tokens if absent.
    pub own: Option<String>,
    /// One more whose messages are believed as well, while the secret is changed.
    pub other: Option<String>,
}

/// A topic: a table of events.
#[derive(Clone, PartialEq)]
pub struct TopicSettings {
    /// How its events become rows.
    pub topic: Arc<Topic>,
    /// Where they come from; `None`: only what is published through Gossip.
    pub from: Option<Ingest>,
}

impl fmt::Debug for TopicSettings {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "TopicSettings({}, from {:?})", self.topic.table.name, self.from.as_ref().map(|f| scheme(&f.url)))
    }
}

/// A live query that clients can subscribe to by its name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredQuery {
    /// The query.
    pub sql: String,
    /// Where it stands in the file.
    pub line: usize,
}

impl Default for Auth {
    fn default() -> Auth {
        Auth {
            secret_env: None,
            jwks: None,
            issuer: None,
            leeway: Duration::from_secs(5),
            grace: Duration::from_secs(10),
            audience: None,
            roles: "roles".into(),
            operators: None,
        }
    }
}

/// What is wrong with a configuration, one line per finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ConfigError(pub Vec<String>);

impl fmt::Display for ConfigError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.join("\n"))
    }
}

impl std::error::Error for ConfigError {}
