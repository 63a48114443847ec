//! `gossip watch`: follows a live query, and prints it as JSON Lines for programs or as tables for people.
//!
//! Once it has a result it goes on where a connection is lost, from where it was. What comes is held against what is known of
//! the result: a change that does not fit ends it with an error.

mod table;

use std::io::IsTerminal as _;
use std::path::PathBuf;
use std::time::Duration;

use gossip_client::subscription::pauses;
use gossip_client::{ClientError, Incoming, ResultSet, Session};
use gossip_protocol::call::{Send, Subscribe};
use gossip_protocol::{Notification, code};
use serde_json::{Map, Value as Json, json};

use crate::config_file::address_of;
use crate::outcome::{Failure, Outcome, print_line};

/// Silence after which a connection counts as lost: an instance says every second or two how current it is.
const SILENCE: Duration = Duration::from_secs(10);

/// Arguments of `watch`.
#[derive(Debug, clap::Args)]
#[command(override_usage = "gossip watch [OPTIONS] [URL] <QUERY>")]
pub struct Args {
    /// The instance (host:port or ws://host:port; the one of gossip.toml in this folder if absent), and the live query.
    #[arg(num_args = 1..=2, required = true, value_name = "URL QUERY")]
    url_and_query: Vec<String>,
    /// A file with the token. Without one, the `anonymous` rules apply.
    #[arg(long)]
    token_file: Option<PathBuf>,
    /// A parameter of the query; a value that is not JSON is read as text.
    #[arg(long = "param", value_name = "NAME=VALUE")]
    params: Vec<String>,
    /// Print each state of the result as a table.
    #[arg(long, conflicts_with_all = ["send", "changes", "was"])]
    table: bool,
    /// What is printed of a changed row: rows, changed (columns), keys, or signal (only that something changed).
    #[arg(long, value_name = "WHAT")]
    send: Option<String>,
    /// Print only changes, and not the result that they begin from.
    #[arg(long)]
    changes: bool,
    /// Print rows that were replaced or removed as they were, too.
    #[arg(long)]
    was: bool,
    /// Stop after this many lines, or tables.
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

/// What ends a connection.
enum Over {
    /// It was lost, or the instance says *not now*; another one may go on.
    Lost(ClientError),
    Failed(Failure),
}

impl From<Failure> for Over {
    fn from(failure: Failure) -> Over {
        Over::Failed(failure)
    }
}

impl From<ClientError> for Over {
    fn from(e: ClientError) -> Over {
        match &e {
            ClientError::Ended(_) | ClientError::Connect(..) => Over::Lost(e),
            ClientError::Refused(why) if matches!(why.code, code::UNAVAILABLE | code::LIMIT) => Over::Lost(e),
            _ => Over::Failed(e.into()),
        }
    }
}

/// A query that is followed over several connections.
struct Watch {
    asked: Subscribe,
    /// The result, where enough is sent to keep it.
    live: Option<ResultSet>,
    keeps_result: bool,
    table: bool,
    /// Where the result stands that was printed, once it was whole.
    cursor: String,
    is_whole: bool,
    /// Lines or tables that were printed, and after how many it is enough.
    printed: u64,
    count: Option<u64>,
}

impl Watch {
    fn is_over(&self) -> bool {
        self.count.is_some_and(|count| self.printed >= count)
    }

    fn print(&mut self, what: &str, told: &Json) -> Outcome {
        if self.table {
            let Some(live) = self.live.as_ref().filter(|live| !live.unfinished) else { return Ok(()) };
            // On a screen each takes the place of the one before.
            let begin = if std::io::stdout().is_terminal() { "\x1b[H\x1b[2J" } else { "" };
            print_line(&format!("{begin}{}", table::table(live)))?;
        } else {
            print_line(&json!({what: told}).to_string())?;
        }
        self.printed += 1;
        Ok(())
    }

    /// Follows the query on one connection until enough is printed.
    async fn follow(&mut self, session: &mut Session) -> Result<(), Over> {
        let mut asked = self.asked.clone();
        asked.cursor = self.is_whole.then(|| self.cursor.clone());
        let answer = session.subscribe(asked).await?;
        let number = answer.subscription;
        self.is_whole = answer.resumed || !answer.more;
        if !answer.resumed {
            self.cursor.clone_from(&answer.cursor);
        }
        let told = json!(answer);
        match &mut self.live {
            Some(live) => live.go_on(answer),
            None => self.live = self.keeps_result.then(|| ResultSet::new(answer)),
        }
        self.print("result", &told)?;
        while !self.is_over() {
            let next = tokio::time::timeout(SILENCE, session.next()).await;
            let silent = |_| ClientError::Ended(format!("silent for {} s", SILENCE.as_secs()));
            let (incoming, text) = next.map_err(silent)??;
            let Incoming::Notification(told) = incoming else { continue };
            let more = match &told {
                Notification::Rows { subscription, more, .. }
                | Notification::Snapshot { subscription, more, .. }
                | Notification::Delta { subscription, more, .. }
                    if *subscription == number =>
                {
                    *more
                }
                Notification::Closed { subscription, why, data } if *subscription == number => {
                    return Err(ended(why, data.as_ref()).into());
                }
                _ => continue,
            };
            if let Some(live) = &mut self.live {
                live.apply(&told).map_err(|e| Failure::check(format!("the instance sent what does not fit: {e}")))?;
            }
            match &told {
                Notification::Delta { cursor, .. } => self.cursor.clone_from(cursor),
                Notification::Snapshot { cursor, .. } => {
                    self.cursor.clone_from(cursor);
                    self.is_whole = false;
                }
                _ => {}
            }
            self.is_whole |= !more;
            let message: Json = serde_json::from_str(&text).unwrap_or_default();
            self.print(message["method"].as_str().unwrap_or("message"), &message["params"])?;
        }
        Ok(())
    }
}

/// The instance ended the subscription: that is not a matter of the connection.
fn ended(why: &str, data: Option<&Json>) -> Failure {
    let message = data.and_then(|data| data["message"].as_str());
    let why = message.map_or_else(|| why.to_string(), |message| format!("{why}: {message}"));
    Failure::connect(format!("the subscription ended: {why}"))
}

/// Prints until the limit of lines or time is reached, or the instance ends the subscription.
///
/// # Errors
/// The instance cannot be reached to begin with, or refuses the query or the token.
pub async fn run(args: Args) -> Outcome {
    let (url, query) = match &args.url_and_query[..] {
        [url, query] => (url.clone(), query),
        [query] => (address_of(std::path::Path::new("gossip.toml"))?, query),
        _ => return Err(Failure::usage("expected [URL] QUERY")),
    };
    let token = args.token_file.as_ref().map(read_token).transpose()?;
    let params = parse_params(&args.params)?;
    let send = Send::read(args.send.as_deref()).map_err(|e| Failure::usage(format!("--{}", e.message)))?;
    let asked = Subscribe { params, send, changes_only: args.changes, was: args.was, ..Subscribe::from(query) };
    let mut watch = Watch {
        asked,
        live: None,
        // Where it is whole, each change is held against it.
        keeps_result: !args.changes && matches!(send, Send::Rows | Send::Changed),
        table: args.table,
        cursor: String::new(),
        is_whole: false,
        printed: 0,
        count: args.count,
    };
    let until = tokio::time::sleep(args.seconds.map_or(Duration::from_secs(u64::from(u32::MAX)), Duration::from_secs));
    tokio::select! {
        over = watch_on(&mut watch, &url, token.as_deref()) => over,
        () = until => Ok(()),
    }
}

/// Connects, and again when a connection is lost.
async fn watch_on(watch: &mut Watch, url: &str, token: Option<&str>) -> Outcome {
    let mut session = Session::connect(url, token).await?;
    let mut waits = pauses();
    loop {
        let printed = watch.printed;
        let lost = match watch.follow(&mut session).await {
            Ok(()) => {
                session.close().await;
                return Ok(());
            }
            Err(Over::Failed(failure)) => return Err(failure),
            // It has not begun: whoever asked is told.
            Err(Over::Lost(why)) if watch.printed == 0 => return Err(why.into()),
            Err(Over::Lost(why)) => why,
        };
        eprintln!("gossip: {url}: {lost}; connecting again");
        if watch.printed > printed {
            waits = pauses();
        }
        session = loop {
            tokio::time::sleep(waits.next().unwrap_or(SILENCE)).await;
            if let Ok(session) = Session::connect(url, token).await {
                break session;
            }
        };
    }
}
