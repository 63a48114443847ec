//! The shipped scenario: Saltmarsh Roads, a small harbour, in a temporary directory that is removed at the end.
//!
//! [`harbour`] moves the vessels, [`gauges`] report, [`headless`] runs without a screen and compares what was received with [`audit`], which
//! knows what should have been received and shares no code with the engine.

pub mod audit;
pub mod gauges;
pub mod harbour;
pub mod headless;
pub mod scene;

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::Mutex;

use crate::demo::harbour::Harbour;
use crate::demo::scene::{Scene, remove};
use crate::local::source;
use crate::outcome::{Failure, Outcome, print_line};
use crate::workbench;
use crate::workbench::{Access, Place};

/// Arguments of `demo`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Run without the screen and print a summary.
    #[arg(long)]
    pub headless: bool,
    /// Duration of a headless run, in seconds.
    #[arg(long, default_value_t = 10)]
    pub seconds: u64,
    /// Print the summary as one JSON object.
    #[arg(long)]
    pub json: bool,
    /// Transactions per second; the default is slow enough to follow on screen, and faster when headless.
    #[arg(long)]
    pub pace: Option<f64>,
    /// Seed of the simulation.
    #[arg(long, default_value_t = 1860)]
    pub seed: u64,
    /// Relay changes through this broker (nats://…, redis://…, mqtt://…, amqp://…) instead of within the process.
    #[arg(long, value_name = "URL")]
    pub relay: Option<String>,
    /// Run on this PostgreSQL database (postgres://…), in a temporary schema that is removed at the end.
    #[arg(long, value_name = "URL")]
    pub source: Option<String>,
}

/// Runs the demo.
///
/// # Errors
/// The scenario does not start, or clients received something wrong.
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
    let Scene { cluster, tokens, config, people, _dir } = scene;
    let places = cluster.places().into_iter().map(|(name, a)| Place { name, url: a.to_string() }).collect();
    let operator = workbench::operator_token(&tokens).map_err(Failure::usage)?;
    let cluster = Arc::new(Mutex::new(Some(cluster)));
    let access = Access {
        places,
        operator,
        given: Default::default(),
        tokens: Some(tokens),
        database: Some(source.clone()),
        personas: people.personas,
        rules: config.rules,
        watchers: people.watchers,
        queries: config.queries.into_values().map(|q| q.sql).collect(),
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
