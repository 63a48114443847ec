//! `gossip open`: the workbench with its own instance.

use std::path::PathBuf;
use std::sync::Arc;

use gossip_server::auth::Tokens;
use gossip_server::config::{Auth, Config};
use tokio::sync::Mutex;

use crate::config_file::ConfigFile;
use crate::local::{Cluster, source, tokens};
use crate::outcome::{Failure, Outcome};
use crate::personas::Personas;
use crate::signals::Ending;
use crate::workbench::{Access, Place};
use crate::{recording, setup, workbench};

/// The role of the workbench's own operator where the configuration names none.
const OWN_OPERATOR: &str = "gossip-workbench";

/// Arguments of `open`.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    file: ConfigFile,
    /// Open a recording instead; no instance is started, and nothing is connected.
    #[arg(long, value_name = "FILE", conflicts_with = "config")]
    recording: Option<PathBuf>,
}

/// Runs the workbench.
///
/// # Errors
/// The configuration, the recording or the database cannot be read, or the terminal fails.
pub async fn run(args: Args) -> Outcome {
    if let Some(path) = &args.recording {
        let events = recording::read(path).map_err(Failure::usage)?;
        if events.is_empty() {
            return Err(Failure::usage(format!("{}: nothing is recorded in it", path.display())));
        }
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let (title, ending) = (format!("recording {name}"), Ending::with_terminal()?);
        return workbench::replay(events, title, ending).await.map_err(Failure::connect);
    }
    let args = args.file;
    let first_steps = !args.config.exists();
    if first_steps {
        let path = args.config.clone();
        let led = tokio::task::spawn_blocking(move || setup::run(&path)).await.map_err(Failure::usage)?;
        if !led.map_err(Failure::usage)? {
            return Ok(());
        }
    }
    let mut config = Config::read(&args.config).map_err(Failure::usage)?;
    let people = Personas::read(&args.config).map_err(Failure::usage)?;
    // Without [auth] only this workbench uses the instance, so a random secret will do.
    let tokens = match tokens(&config)? {
        Some(tokens) if tokens.operators().is_some() => tokens,
        Some(_) => {
            let what = "auth.operators is missing: the workbench needs a role that may operate";
            return Err(Failure::usage(format!("{}: {what}", config.path.display())));
        }
        None => {
            let auth = Auth { operators: Some(OWN_OPERATOR.into()), ..Auth::default() };
            config.auth = Some(auth.clone());
            Arc::new(Tokens::new(auth, &rand::random::<[u8; 32]>()).map_err(Failure::usage)?)
        }
    };
    let cluster = Cluster::start(&config, &[config.name.clone()], Some(tokens.clone())).await?;
    let places = cluster.places().into_iter().map(|(name, a)| Place { name, url: a.to_string() }).collect();
    let operator = workbench::operator_token(&tokens).map_err(Failure::usage)?;
    let access = Access {
        places,
        operator,
        tokens: Some(tokens),
        database: Some(source(&config)?),
        personas: people.personas,
        rules: config.rules.clone(),
        watchers: people.watchers,
        queries: config.queries.values().map(|q| q.sql.clone()).collect(),
        config: Some(config.path.clone()),
        first_steps,
        cluster: Some(Arc::new(Mutex::new(Some(cluster)))),
        ..Access::default()
    };
    let cluster = access.cluster.clone();
    let outcome = workbench::run(access, Ending::with_terminal()?).await.map_err(Failure::connect);
    if let Some(cluster) = cluster
        && let Some(cluster) = cluster.lock().await.take()
    {
        cluster.stop().await;
    }
    outcome
}
