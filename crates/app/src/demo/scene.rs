//! The scenario, set up and running.

use std::path::Path;
use std::sync::Arc;

use gossip_server::auth::Tokens;
use gossip_server::config::Config;
use gossip_source::Source;

use super::harbour;
use crate::local::{Cluster, has_password, source};
use crate::outcome::{Failure, Outcome};
use crate::personas::Personas;

const CONFIG: &str = include_str!("../../../../demo/gossip.toml");

const SCHEMA: &str = include_str!("../../../../demo/harbour.sql");

/// The instances of the scenario.
pub const INSTANCES: [&str; 2] = ["north", "south"];

/// The demo's schema, publication and slot in PostgreSQL.
const IN_POSTGRES: &str = "gossip_demo";

/// Where the scenario's database is, in the configuration.
const FILE: &str = "url = \"sqlite:harbour.db\"";

/// The shipped configuration, or the same on a PostgreSQL database.
fn configuration(database: Option<&str>, relay: Option<&str>) -> Result<String, Failure> {
    let config = match relay {
        None => CONFIG.to_string(),
        Some(url) if has_password(url) => {
            let text = "--relay: a password does not belong on a command line; serve demo/gossip.toml instead";
            return Err(Failure::usage(text));
        }
        // A unique prefix, so that two demos on one broker do not receive each other's messages.
        Some(url) => CONFIG.replace(
            "url = \"inproc:\"",
            &format!("url = {}\nprefix = \"gossip-demo-{}\"", toml_edit::Value::from(url), std::process::id()),
        ),
    };
    let Some(url) = database else { return Ok(config) };
    if has_password(url) {
        return Err(Failure::usage("--source: a password does not belong on a command line; give it with PGPASSWORD"));
    }
    let own = format!(
        "url = {}\nschema = \"{IN_POSTGRES}\"\npublication = \"{IN_POSTGRES}\"\nslot = \"{IN_POSTGRES}\"\n\
         old_values = [\"vessels\", \"berths\", \"calls\", \"tug_orders\"]",
        toml_edit::Value::from(url)
    );
    Ok(config.replace(FILE, &own))
}

/// The scenario, running.
pub struct Scene {
    /// The instances.
    pub cluster: Cluster,
    /// Checks and mints tokens.
    pub tokens: Arc<Tokens>,
    /// The configuration.
    pub config: Config,
    /// Personas and watchers.
    pub people: Personas,
    /// Removed with it.
    pub(super) _dir: tempfile::TempDir,
}

impl Scene {
    /// Sets the scenario up in a new temporary directory, or in a temporary schema of a PostgreSQL database.
    ///
    /// # Errors
    /// The directory, the database or an instance cannot be set up.
    pub async fn start(database: Option<&str>, relay: Option<&str>) -> Result<Scene, Failure> {
        let dir = tempfile::Builder::new().prefix("gossip-demo-").tempdir();
        let dir = dir.map_err(|e| Failure::usage(format!("temporary directory: {e}")))?;
        let path = dir.path().join("gossip.toml");
        let write = |path: &Path, text: &str| {
            std::fs::write(path, text).map_err(|e| Failure::usage(format!("{}: {e}", path.display())))
        };
        write(&path, &configuration(database, relay)?)?;
        let mut config = Config::read(&path).map_err(Failure::usage)?;
        let people = Personas::read(&path).map_err(Failure::usage)?;
        // Any free port: a demo must not take one that another program uses.
        config.listen.set_port(0);
        let source = source(&config)?;
        let own = source.clone();
        let made = tokio::task::spawn_blocking(move || -> Result<(), String> {
            own.database().make_demo(SCHEMA)?;
            harbour::fill(&mut *own.database().store()?)?;
            let plan = own.plan().map_err(|e| e.to_string())?;
            own.carry_out(&plan.statements).map_err(|e| e.to_string())
        });
        let made = made.await.unwrap_or_else(|e| Err(e.to_string()));
        made.map_err(|e| Failure::connect(format!("demo database: {e}")))?;
        let auth = config.auth.clone().ok_or_else(|| Failure::usage("demo: [auth] is missing"))?;
        let tokens = Arc::new(Tokens::new(auth, &rand::random::<[u8; 32]>()).map_err(Failure::usage)?);
        let names = INSTANCES.map(String::from);
        let cluster = Cluster::start(&config, &names, Some(tokens.clone())).await?;
        Ok(Scene { cluster, tokens, config, people, _dir: dir })
    }
}

/// Removes the scenario from a server, once its instances have stopped. The directory removes itself.
///
/// # Errors
/// The schema cannot be removed.
pub async fn remove(source: Arc<dyn Source>) -> Outcome {
    let place = source.place();
    let removed = tokio::task::spawn_blocking(move || source.database().remove_demo()).await;
    let removed = removed.unwrap_or_else(|e| Err(e.to_string()));
    removed.map_err(|e| Failure::connect(format!("{place}: the demo's schema {IN_POSTGRES} could not be removed: {e}")))
}
