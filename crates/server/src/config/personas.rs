//! Test identities, and what they listen to.

use serde::Deserialize;
use serde_json::{Map, Value as Json};

/// A test identity.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Persona {
    /// Its roles; none means without a token.
    #[serde(default)]
    pub roles: Vec<String>,
    /// Further claims.
    #[serde(default)]
    pub claims: Map<String, Json>,
}

/// A persona that listens to a live query.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Watcher {
    /// The persona's name.
    pub persona: String,
    /// The live query.
    pub query: String,
    /// The instance it connects to, by name; the first if absent.
    pub instance: Option<String>,
}
