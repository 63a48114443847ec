//! `gossip watch`: prints a live query as JSON Lines.

use std::path::PathBuf;
use std::time::Duration;

use gossip_client::result_set::Applied;
use gossip_client::{ClientError, Incoming, ResultSet, Session};
use gossip_protocol::Notification;
use gossip_protocol::call::{Send, Subscribe};
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
    /// What is printed of a changed row: rows, changed (columns), keys, or signal (only that something changed).
    #[arg(long, value_name = "WHAT")]
    send: Option<String>,
    /// Print only changes, and not the result that they begin from.
    #[arg(long)]
    changes: bool,
    /// Print rows that were replaced or removed as they were, too.
    #[arg(long)]
    was: bool,
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
    let send = Send::read(args.send.as_deref()).map_err(|e| Failure::usage(format!("--{}", e.message)))?;
    let mut session = Session::connect(&args.url, token.as_deref()).await?;
    let until = tokio::time::sleep(args.seconds.map_or(Duration::from_secs(u64::from(u32::MAX)), Duration::from_secs));
    tokio::pin!(until);
    let asked = Subscribe { params, send, changes_only: args.changes, was: args.was, ..Subscribe::from(&args.query) };
    let answer = session.subscribe(asked).await?;
    print_line(&json!({"result": answer}).to_string())?;
    let number = answer.subscription;
    // Where it is whole, each change is held against it.
    let has_result = !args.changes && matches!(send, Send::Rows | Send::Changed);
    let mut live = has_result.then(|| ResultSet::new(answer));
    let mut lines = 1;
    while args.count.is_none_or(|c| lines < c) {
        let (incoming, text) = tokio::select! {
            next = session.next() => next?,
            () = &mut until => return Ok(()),
        };
        let Incoming::Notification(told) = incoming else { continue };
        match (&mut live, told) {
            (Some(live), told) => {
                let applied = live.apply(&told);
                match applied.map_err(|e| Failure::check(format!("the instance sent what does not fit: {e}")))? {
                    Applied::NotMine => continue,
                    Applied::Closed(why) => return Err(ClientError::Ended(why).into()),
                    _ => {}
                }
            }
            (None, Notification::Closed { why, .. }) => return Err(ClientError::Ended(why).into()),
            (
                None,
                Notification::Delta { subscription, .. }
                | Notification::Rows { subscription, .. }
                | Notification::Snapshot { subscription, .. },
            ) if subscription == number => {}
            (None, _) => continue,
        }
        let message: Json = serde_json::from_str(&text).unwrap_or_default();
        print_line(&json!({(message["method"].as_str().unwrap_or("message")): message["params"]}).to_string())?;
        lines += 1;
    }
    session.close().await;
    Ok(())
}
