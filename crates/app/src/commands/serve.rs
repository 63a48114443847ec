//! `gossip serve`: runs instances as a server.

use gossip_server::config::Config;
use gossip_server::supervisor::{OnFailure, faults};

use crate::config_file::ConfigFile;
use crate::local::{Cluster, tokens};
use crate::outcome::{Failure, Outcome, print_line};
use crate::signals::told_to_end;

/// Arguments of `serve`.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    file: ConfigFile,
    /// Number of instances to run in this process, on consecutive ports, to try it out.
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..=16))]
    instances: u16,
}

/// Runs until SIGINT or SIGTERM, then drains; or until operators have drained every instance.
///
/// # Errors
/// The configuration cannot be read, the instance does not start, or a part of it has failed.
pub async fn run(args: Args) -> Outcome {
    let config = Config::read(&args.file.config).map_err(Failure::usage)?;
    let tokens = tokens(&config)?;
    let name = |i: u16| if i == 1 { config.name.clone() } else { format!("{}-{i}", config.name) };
    let names: Vec<String> = (1..=args.instances).map(name).collect();
    let cluster = Cluster::start_with(&config, &names, tokens, OnFailure::Exit).await?;
    faults::from_environment();
    for (name, address) in cluster.places() {
        print_line(&format!("{name} is listening on ws://{address}/v1/socket"))?;
    }
    if !config.listen.ip().is_loopback() {
        tracing::warn!("listening on {} without TLS: tokens and rows can be read on the way", config.listen.ip());
    }
    tokio::select! {
        signal = told_to_end() => signal?,
        () = cluster.over() => tracing::info!("an operator has everything here drained"),
    }
    tracing::info!("stopping");
    cluster.stop().await;
    Ok(())
}
