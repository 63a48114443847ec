//! `gossip publish`: publishes one event.

use std::path::PathBuf;

use gossip_client::Session;
use gossip_protocol::Call;
use gossip_protocol::call::Publish;
use serde_json::Value as Json;

use crate::commands::watch::read_token;
use crate::config_file::address_of;
use crate::outcome::{Failure, Outcome, print_line};

/// Arguments of `publish`.
#[derive(Debug, clap::Args)]
#[command(override_usage = "gossip publish [OPTIONS] [URL] <TOPIC> <DATA>")]
pub struct Args {
    /// The instance (host:port or ws://host:port; the one of gossip.toml in this folder if absent), the topic, and the event's
    /// data as JSON.
    #[arg(num_args = 2..=3, required = true, value_name = "URL TOPIC DATA")]
    url_topic_and_data: Vec<String>,
    /// A file with the token. Without one, the `anonymous` rules apply.
    #[arg(long)]
    token_file: Option<PathBuf>,
    /// The event's id. Publishing again under the same id has no further effect.
    #[arg(long)]
    id: Option<String>,
}

/// Publishes, and prints the event's position.
///
/// # Errors
/// The instance cannot be reached, or refuses the event.
pub async fn run(args: Args) -> Outcome {
    let (url, topic, data) = match &args.url_topic_and_data[..] {
        [url, topic, data] => (url.clone(), topic, data),
        [topic, data] => (address_of(std::path::Path::new("gossip.toml"))?, topic, data),
        _ => return Err(Failure::usage("expected [URL] TOPIC DATA")),
    };
    let data: Json = serde_json::from_str(data)
        .map_err(|e| Failure::usage(format!("the data is not JSON: {e}; quote it for the shell")))?;
    let token = args.token_file.as_ref().map(read_token).transpose()?;
    let mut session = Session::connect(&url, token.as_deref()).await?;
    let event = Publish { topic: topic.clone(), data, id: args.id };
    let answer = session.make(&Call::Publish(event)).await?;
    print_line(&answer.to_string())?;
    session.close().await;
    Ok(())
}
