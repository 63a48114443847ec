//! `gossip drain`: drains and stops an instance, asked through any instance of its cluster.

use std::path::PathBuf;

use gossip_client::Session;
use gossip_protocol::Call;

use crate::commands::watch::read_token;
use crate::outcome::{Outcome, print_line};

/// Arguments of `drain`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Any instance of the cluster: host:port or ws://host:port.
    url: String,
    /// The name of the instance to drain; by default the one at the address.
    #[arg(long)]
    instance: Option<String>,
    /// A file with an operator's token.
    #[arg(long)]
    token_file: PathBuf,
}

/// Drains it: it takes no new connections, sends its clients to the other instances, then its process ends.
///
/// # Errors
/// The instance cannot be reached, or the token does not permit it.
pub async fn run(args: Args) -> Outcome {
    let token = read_token(&args.token_file)?;
    let mut session = Session::connect(&args.url, Some(&token)).await?;
    session.make(&Call::Drain { instance: args.instance.clone() }).await?;
    print_line(&format!("{} goes", args.instance.as_deref().unwrap_or(&args.url)))?;
    session.close().await;
    Ok(())
}
