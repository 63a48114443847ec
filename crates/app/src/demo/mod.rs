//! The shipped scenario: Saltmarsh Roads, a small harbour, in a temporary directory that is removed at the end.
//!
//! [`harbour`] moves the vessels, [`gauges`] report, [`headless`] runs without a screen and holds what was heard against [`audit`], which
//! knows what should have been heard and shares nothing with the engine.

pub mod audit;
pub mod gauges;
pub mod harbour;
pub mod headless;

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use gossip_server::auth::Tokens;
use gossip_server::config::Config;
use gossip_source::Source;
use tokio::sync::Mutex;

use crate::cli::{Failure, Outcome, print_line};
use crate::local::{Cluster, source};
use crate::workbench::{self, Access, Place};
use harbour::Harbour;

const CONFIG: &str = include_str!("../../../../demo/gossip.toml");
const SCHEMA: &str = include_str!("../../../../demo/harbour.sql");

/// The instances of the scenario.
pub const INSTANCES: [&str; 2] = ["north", "south"];

/// Arguments of `demo`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Run without a screen and print a summary.
    #[arg(long)]
    pub headless: bool,
    /// How long a headless run takes.
    #[arg(long, default_value_t = 10)]
    pub seconds: u64,
    /// Print the summary as one JSON object.
    #[arg(long)]
    pub json: bool,
    /// Transactions per second; a pace to follow on the screen, more without one.
    #[arg(long)]
    pub pace: Option<f64>,
    /// What happens in the harbour is a function of this number.
    #[arg(long, default_value_t = 1860)]
    pub seed: u64,
    /// Pass changes over this broker (nats://…, redis://…, mqtt://…, amqp://…) and not within the process.
    #[arg(long, value_name = "URL")]
    pub relay: Option<String>,
    /// Run it on this PostgreSQL database instead (postgres://…), in a schema of its own that is removed at the end.
    #[arg(long, value_name = "URL")]
    pub source: Option<String>,
}

/// The demo's schema, publication and slot in PostgreSQL.
const IN_POSTGRES: &str = "gossip_demo";

/// Where the scenario's database is, in the configuration.
const FILE: &str = "url = \"sqlite:harbour.db\"";

/// The shipped configuration, or the same on a PostgreSQL database.
fn configuration(database: Option<&str>, relay: Option<&str>) -> Result<String, Failure> {
    let has_password = |url: &str| {
        let who = url.split_once("://").and_then(|(_, rest)| rest.split_once('@')).map(|(who, _)| who);
        who.is_some_and(|who| who.contains(':')) || url.contains("password=")
    };
    let config = match relay {
        None => CONFIG.to_string(),
        Some(url) if has_password(url) => {
            let text = "--relay: a password does not belong on a command line; serve demo/gossip.toml instead";
            return Err(Failure::usage(text));
        }
        // Names of its own, so that two demos on a broker do not hear each other.
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
    _dir: tempfile::TempDir,
}

impl Scene {
    /// Sets the scenario up in a new temporary directory, or in a schema of its own in a PostgreSQL database.
    pub async fn start(database: Option<&str>, relay: Option<&str>) -> Result<Scene, Failure> {
        let dir = tempfile::Builder::new().prefix("gossip-demo-").tempdir();
        let dir = dir.map_err(|e| Failure::usage(format!("temporary directory: {e}")))?;
        let path = dir.path().join("gossip.toml");
        let write = |path: &Path, text: &str| {
            std::fs::write(path, text).map_err(|e| Failure::usage(format!("{}: {e}", path.display())))
        };
        write(&path, &configuration(database, relay)?)?;
        let mut config = Config::read(&path).map_err(Failure::usage)?;
        // Any free port: a demo must not stand in the way of something that runs.
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
        Ok(Scene { cluster, tokens, config, _dir: dir })
    }
}

/// Takes the scenario out of a server again, once its instances have stopped. The directory goes by itself.
async fn remove(source: Arc<dyn Source>) -> Outcome {
    let place = source.place();
    let removed = tokio::task::spawn_blocking(move || source.database().remove_demo()).await;
    let removed = removed.unwrap_or_else(|e| Err(e.to_string()));
    removed.map_err(|e| Failure::connect(format!("{place}: the demo's schema {IN_POSTGRES} could not be removed: {e}")))
}

/// Runs the demo.
pub async fn run(args: Args) -> Outcome {
    if args.headless {
        let options =
            headless::Options { seconds: args.seconds, pace: args.pace.unwrap_or(50.0), seed: args.seed, lose: None };
        let summary = headless::run(options, args.source.as_deref(), args.relay.as_deref()).await?;
        return print_line(&if args.json { summary.to_json().to_string() } else { summary.to_text() });
    }
    let scene = Scene::start(args.source.as_deref(), args.relay.as_deref()).await?;
    let source = source(&scene.config)?;
    let pace = Duration::from_secs_f64(1.0 / args.pace.unwrap_or(1.6).clamp(0.05, 10_000.0));
    let (own, seed) = (source.clone(), args.seed);
    let harbour = tokio::task::spawn_blocking(move || Harbour::open(&*own, seed)).await;
    let harbour = harbour.unwrap_or_else(|e| Err(e.to_string()));
    let harbour = harbour.map_err(|e| Failure::connect(format!("demo database: {e}")))?;
    let simulation = harbour::Simulation::start(harbour, pace, |_, _| {});
    let roles = ["gauge", "control"].map(String::from);
    let now = gossip_server::now() / 1_000_000;
    let token = scene.tokens.mint_for("harbour watch", &roles, &Default::default(), now, 86_400 * 365);
    let urls = scene.cluster.places().into_iter().map(|(_, a)| a.to_string()).collect();
    let gauges = tokio::spawn(gauges::run(urls, token.map_err(Failure::usage)?, args.seed));
    let Scene { cluster, tokens, config, _dir } = scene;
    let places = cluster.places().into_iter().map(|(name, a)| Place { name, url: a.to_string() }).collect();
    let operator = workbench::operator_token(&tokens).map_err(Failure::usage)?;
    let cluster = Arc::new(Mutex::new(Some(cluster)));
    let access = Access {
        places,
        operator,
        given: Default::default(),
        tokens: Some(tokens),
        database: Some(source.clone()),
        personas: config.personas,
        rules: config.rules,
        watchers: config.watchers,
        config: Some(config.path),
        first_steps: false,
        cluster: Some(cluster.clone()),
        title: "Saltmarsh Roads".into(),
    };
    let outcome = workbench::run(access).await.map_err(Failure::connect);
    gauges.abort();
    let _ = tokio::task::spawn_blocking(move || simulation.stop()).await;
    if let Some(cluster) = cluster.lock().await.take() {
        cluster.stop().await;
    }
    outcome.and(remove(source).await)
}
