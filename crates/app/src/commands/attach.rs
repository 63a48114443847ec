//! `gossip attach`: the workbench on instances that run elsewhere.

use std::path::PathBuf;

use super::watch::read_token;
use crate::cli::{Failure, Outcome};
use crate::workbench::{self, Access, Place};

/// Arguments of `attach`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The instances: host:port or ws://host:port, one or several of one cluster.
    #[arg(required = true)]
    urls: Vec<String>,
    /// A file that holds an operator's token.
    #[arg(long)]
    token_file: PathBuf,
}

/// Runs the workbench.
pub async fn run(args: Args) -> Outcome {
    let token = read_token(&args.token_file)?;
    for url in &args.urls {
        gossip_client::socket_url(url)?;
    }
    let places = args.urls.iter().map(|url| Place { name: String::new(), url: url.clone() }).collect();
    let access = Access { places, operator: token, ..Access::default() };
    workbench::run(access).await.map_err(Failure::connect)
}
