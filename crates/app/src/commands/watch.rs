//! `gossip watch`: prints a live query as JSON Lines.

use std::path::PathBuf;
use std::time::Duration;

use gossip_client::{ClientError, Incoming, ResultSet, Session};
use gossip_protocol::call::Subscribe;
use serde_json::{Map, Value as Json, json};

use crate::outcome::{Failure, Outcome, print_line};

/// Arguments of `watch`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The instance: host:port or ws://host:port.
    url: String,
    /// The live query.
    query: String,
    /// A file with the token. Without one, the `anonymous` rules apply.
    #[arg(long)]
    token_file: Option<PathBuf>,
    /// A parameter of the query; a value that is not JSON is read as text.
    #[arg(long = "param", value_name = "NAME=VALUE")]
    params: Vec<String>,
    /// Stop after this many lines.
    #[arg(long)]
    count: Option<u64>,
    /// Stop after this many seconds.
    #[arg(long)]
    seconds: Option<u64>,
}

/// Reads a token from a file.
///
/// # Errors
/// The file cannot be read.
pub fn read_token(path: &PathBuf) -> Result<String, Failure> {
    let text = std::fs::read_to_string(path).map_err(|e| Failure::usage(format!("{}: {e}", path.display())))?;
    Ok(text.trim().to_string())
}

fn parse_params(params: &[String]) -> Result<Map<String, Json>, Failure> {
    let one = |p: &String| {
        let (name, value) =
            p.split_once('=').ok_or_else(|| Failure::usage(format!("--param {p}: expected name=value")))?;
        let value = serde_json::from_str(value).unwrap_or_else(|_| Json::from(value));
        Ok((name.to_string(), value))
    };
    params.iter().map(one).collect()
}

/// Prints until the limit of lines or time is reached, or the connection ends.
///
/// # Errors
/// The instance cannot be reached, or refuses the query or the token.
pub async fn run(args: Args) -> Outcome {
    let token = args.token_file.as_ref().map(read_token).transpose()?;
    let params = parse_params(&args.params)?;
    let mut session = Session::connect(&args.url, token.as_deref()).await?;
    let until = tokio::time::sleep(args.seconds.map_or(Duration::from_secs(u64::from(u32::MAX)), Duration::from_secs));
    tokio::pin!(until);
    let answer = session.subscribe(Subscribe { params, ..Subscribe::from(&args.query) }).await?;
    print_line(&json!({"result": answer}).to_string())?;
    let mut live = ResultSet::new(answer);
    let mut lines = 1;
    while args.count.is_none_or(|c| lines < c) {
        let (incoming, text) = tokio::select! {
            next = session.next() => next?,
            () = &mut until => return Ok(()),
        };
        let Incoming::Notification(told) = incoming else { continue };
        match live.apply(&told).map_err(|e| Failure::check(format!("the instance sent what does not fit: {e}")))? {
            gossip_client::result_set::Applied::NotMine => continue,
            gossip_client::result_set::Applied::Closed(why) => return Err(ClientError::Ended(why).into()),
            _ => {}
        }
        let message: Json = serde_json::from_str(&text).unwrap_or_default();
        print_line(&json!({(message["method"].as_str().unwrap_or("message")): message["params"]}).to_string())?;
        lines += 1;
    }
    session.close().await;
    Ok(())
}
