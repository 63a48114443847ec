//! `gossip drain`: lets an instance go, from any instance of its cluster.

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
    /// The name of the instance that is to go; the one at the address if absent.
    #[arg(long)]
    instance: Option<String>,
    /// A file that holds an operator's token.
    #[arg(long)]
    token_file: PathBuf,
}

/// Has it drained: no new connections, clients are told to come back elsewhere, then its process ends.
///
/// # Errors
/// The instance cannot be reached, or does not let itself be drained by this token.
pub async fn run(args: Args) -> Outcome {
    let token = read_token(&args.token_file)?;
    let mut session = Session::connect(&args.url, Some(&token)).await?;
    session.make(&Call::Drain { instance: args.instance.clone() }).await?;
    print_line(&format!("{} goes", args.instance.as_deref().unwrap_or(&args.url)))?;
    session.close().await;
    Ok(())
}
