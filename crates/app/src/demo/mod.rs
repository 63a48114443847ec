//! The shipped scenario: Saltmarsh Roads, a small harbour, in a temporary directory that is removed at the end.
//!
//! [`page`] shows it to people in a browser, [`harbour`] moves the vessels, [`gauges`] report, [`headless`] runs without a
//! screen and compares what was received with [`audit`], which knows what should have been received and shares no code with
//! the engine.

pub mod audit;
pub mod gauges;
pub mod harbour;
pub mod headless;
pub mod page;
pub mod scene;

use std::sync::Arc;
use std::time::Duration;

use gossip_source::Source;
use tokio::sync::Mutex;

use crate::demo::harbour::Harbour;
use crate::demo::page::Page;
use crate::demo::scene::{Scene, remove};
use crate::local::source;
use crate::outcome::{Failure, Outcome, print_line};
use crate::signals::Ending;
use crate::workbench;
use crate::workbench::{Access, Place};

/// Arguments of `demo`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Run without the screen and print a summary.
    #[arg(long)]
    pub headless: bool,
    /// Serve a page on the scenario, on this machine, at this port or a free one. With --headless nothing but the page, until
    /// interrupted.
    #[arg(long, value_name = "PORT", num_args = 0..=1, default_missing_value = "0")]
    pub page: Option<u16>,
    /// Duration of a headless run, in seconds; 10 if absent.
    #[arg(long)]
    pub seconds: Option<u64>,
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
    if args.headless && args.page.is_none() {
        let (seconds, pace) = (args.seconds.unwrap_or(10), args.pace.unwrap_or(50.0));
        let options = headless::Options { seconds, pace, seed: args.seed, lose: None };
        let summary = headless::run(options, args.source.as_deref(), args.relay.as_deref()).await?;
        return print_line(&if args.json { summary.to_json().to_string() } else { summary.to_text() });
    }
    // What is begun from here on is to be taken back, also where the terminal is closed.
    let ending = Ending::with_terminal()?;
    let scene = Scene::start(args.source.as_deref(), args.relay.as_deref()).await?;
    let source = source(&scene.config)?;
    let pace = Duration::from_secs_f64(1.0 / args.pace.unwrap_or(1.6).clamp(0.05, 10_000.0));
    let simulation = harbour::Simulation::start(opened(source.clone(), args.seed).await?, pace, |_, _| {});
    let roles = ["gauge", "control"].map(String::from);
    let now = gossip_server::now() / 1_000_000;
    let token = scene.tokens.mint_for("harbour watch", &roles, &Default::default(), now, 86_400 * 365);
    let urls = scene.cluster.places().into_iter().map(|(_, a)| a.to_string()).collect();
    let gauges = tokio::spawn(gauges::run(urls, token.map_err(Failure::usage)?, args.seed));
    let Scene { cluster, tokens, config, people, _dir } = scene;
    let places = cluster.places().into_iter().map(|(name, a)| Place { name, url: a.to_string() }).collect();
    let operator = workbench::operator_token(&tokens).map_err(Failure::usage)?;
    let cluster = Arc::new(Mutex::new(Some(cluster)));
    let page = match args.page {
        Some(port) => {
            let people = people.personas.clone();
            Some(Page::serve(cluster.clone(), tokens.clone(), people, port).await?)
        }
        None => None,
    };
    let outcome = match &page {
        Some(page) if args.headless => alone(page, args.seconds, ending).await,
        _ => {
            let title =
                page.iter().fold("Saltmarsh Roads".to_string(), |title, page| format!("{title} · {}", page.url));
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
                title,
            };
            workbench::run(access, ending).await.map_err(Failure::connect)
        }
    };
    drop(page);
    gauges.abort();
    let _ = tokio::task::spawn_blocking(move || simulation.stop()).await;
    if let Some(cluster) = cluster.lock().await.take() {
        cluster.stop().await;
    }
    outcome.and(remove(source).await)
}

async fn opened(source: Arc<dyn Source>, seed: u64) -> Result<Harbour, Failure> {
    let opened = tokio::task::spawn_blocking(move || Harbour::open(&*source, seed)).await;
    let opened = opened.unwrap_or_else(|e| Err(e.to_string()));
    opened.map_err(|e| Failure::connect(format!("demo database: {e}")))
}

/// Serves the page and nothing else: until interrupted, or for so many seconds.
async fn alone(page: &Page, seconds: Option<u64>, mut ending: Ending) -> Outcome {
    print_line(&page.url)?;
    let over = async {
        match seconds {
            Some(seconds) => tokio::time::sleep(Duration::from_secs(seconds)).await,
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        () = ending.told() => {}
        () = over => {}
    }
    Ok(())
}
