//! The shipped scenario: Saltmarsh Roads, a small harbour, in a temporary directory that is removed at the end.
//!
//! [`harbour`] moves the vessels, [`headless`] runs without a screen and holds what was heard against [`audit`], which
//! knows what should have been heard and shares nothing with the engine.

pub mod audit;
pub mod harbour;
pub mod headless;

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use gossip_server::auth::Tokens;
use gossip_server::config::Config;
use gossip_source::sqlite::triggers;
use rusqlite::Connection;
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
    /// Sets the scenario up in a new temporary directory.
    pub async fn start() -> Result<Scene, Failure> {
        let dir = tempfile::Builder::new().prefix("gossip-demo-").tempdir();
        let dir = dir.map_err(|e| Failure::usage(format!("temporary directory: {e}")))?;
        let path = dir.path().join("gossip.toml");
        let write = |path: &Path, text: &str| {
            std::fs::write(path, text).map_err(|e| Failure::usage(format!("{}: {e}", path.display())))
        };
        write(&path, CONFIG)?;
        let mut config = Config::read(&path).map_err(Failure::usage)?;
        // Any free port: a demo must not stand in the way of something that runs.
        config.listen.set_port(0);
        let source = source(&config)?;
        let fail = |e: rusqlite::Error| Failure::usage(format!("demo database: {e}"));
        let db = Connection::open(&source.path).map_err(fail)?;
        db.execute_batch(SCHEMA).map_err(fail)?;
        harbour::fill(&db).map_err(fail)?;
        drop(db);
        let mut db = source.connect().map_err(Failure::usage)?;
        let plan = triggers::plan(&db, &source).map_err(Failure::usage)?;
        triggers::carry_out(&mut db, &plan.statements).map_err(Failure::usage)?;
        let auth = config.auth.clone().ok_or_else(|| Failure::usage("demo: [auth] is missing"))?;
        let tokens = Arc::new(Tokens::new(auth, &rand::random::<[u8; 32]>()).map_err(Failure::usage)?);
        let names = INSTANCES.map(String::from);
        let cluster = Cluster::start(&config, &names, Some(tokens.clone())).await?;
        Ok(Scene { cluster, tokens, config, _dir: dir })
    }
}

/// Runs the demo.
pub async fn run(args: Args) -> Outcome {
    if args.headless {
        let options =
            headless::Options { seconds: args.seconds, pace: args.pace.unwrap_or(50.0), seed: args.seed, lose: None };
        let summary = headless::run(options).await?;
        return print_line(&if args.json { summary.to_json().to_string() } else { summary.to_text() });
    }
    let scene = Scene::start().await?;
    let source = source(&scene.config)?;
    let pace = Duration::from_secs_f64(1.0 / args.pace.unwrap_or(1.6).clamp(0.05, 10_000.0));
    let harbour = Harbour::open(&source.path, args.seed).map_err(|e| Failure::usage(format!("demo database: {e}")))?;
    let simulation = harbour::Simulation::start(harbour, pace, |_, _| {});
    let Scene { cluster, tokens, config, _dir } = scene;
    let places = cluster.places().into_iter().map(|(name, a)| Place { name, url: a.to_string() }).collect();
    let operator = workbench::operator_token(&tokens).map_err(Failure::usage)?;
    let cluster = Arc::new(Mutex::new(Some(cluster)));
    let access = Access {
        places,
        operator,
        given: Default::default(),
        tokens: Some(tokens),
        database: Some(source),
        personas: config.personas,
        rules: config.rules,
        watchers: config.watchers,
        config: Some(config.path),
        first_steps: false,
        cluster: Some(cluster.clone()),
        title: "Saltmarsh Roads".into(),
    };
    let outcome = workbench::run(access).await.map_err(Failure::connect);
    simulation.stop();
    if let Some(cluster) = cluster.lock().await.take() {
        cluster.stop().await;
    }
    outcome
}
