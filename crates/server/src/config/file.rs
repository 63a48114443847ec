//! The sections of `gossip.toml`, as they are written. What is not known in one is an error.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::Deserialize;
use serde::de::IgnoredAny;
use toml::Spanned;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct File {
    #[serde(default)]
    pub(super) instance: Instance,
    #[serde(default)]
    pub(super) source: BTreeMap<String, Spanned<Source>>,
    pub(super) relay: Option<Spanned<Relay>>,
    pub(super) auth: Option<Spanned<AuthSection>>,
    pub(super) decisions: Option<Spanned<DecisionsSection>>,
    #[serde(default)]
    pub(super) topic: BTreeMap<String, Spanned<TopicSection>>,
    #[serde(default)]
    pub(super) rule: Vec<Spanned<RuleSection>>,
    #[serde(default)]
    pub(super) query: BTreeMap<String, Spanned<QuerySection>>,
    /// The workbench's own, which reads them itself.
    #[serde(default, rename = "persona")]
    _persona: Option<IgnoredAny>,
    #[serde(default, rename = "watcher")]
    _watcher: Option<IgnoredAny>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Instance {
    pub(super) name: Option<String>,
    pub(super) listen: Option<Spanned<String>>,
    pub(super) queries: Option<Spanned<String>>,
    pub(super) origins: Option<Vec<Spanned<String>>>,
    pub(super) silence_seconds: Option<Spanned<u64>>,
}

#[derive(Deserialize)]
pub(super) struct Source {
    pub(super) url: String,
    #[serde(default)]
    pub(super) tables: Vec<String>,
    /// What else is said; each kind of database has its own.
    #[serde(flatten)]
    pub(super) options: BTreeMap<String, serde_json::Value>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Relay {
    pub(super) url: String,
    pub(super) prefix: Option<String>,
    pub(super) ca: Option<PathBuf>,
    pub(super) keep_minutes: Option<u64>,
    pub(super) keep_mb: Option<u64>,
    pub(super) secret_env: Option<String>,
    pub(super) other_secret_env: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct AuthSection {
    pub(super) secret_env: Option<String>,
    pub(super) jwks: Option<String>,
    pub(super) issuer: Option<String>,
    pub(super) leeway_seconds: Option<u64>,
    pub(super) grace_seconds: Option<u64>,
    pub(super) audience: Option<String>,
    pub(super) roles: Option<String>,
    pub(super) operators: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct DecisionsSection {
    pub(super) url: String,
    pub(super) tables: Vec<String>,
    pub(super) key_env: Option<String>,
    pub(super) timeout_ms: Option<u64>,
    pub(super) cache_seconds: Option<u64>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct TopicSection {
    pub(super) columns: toml::Table,
    pub(super) from: Option<String>,
    #[serde(default)]
    pub(super) key: Vec<String>,
    pub(super) keep: Option<toml::Value>,
    pub(super) order: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RuleSection {
    pub(super) role: String,
    pub(super) table: String,
    pub(super) may: Vec<Spanned<String>>,
    pub(super) rows: Option<String>,
    pub(super) columns: Option<Vec<String>>,
    #[serde(default)]
    pub(super) masks: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct QuerySection {
    pub(super) sql: String,
}
