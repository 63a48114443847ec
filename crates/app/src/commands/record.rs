//! `gossip record`: writes operator events to a file.

use std::collections::HashMap;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

use gossip_client::{Incoming, Session};
use gossip_protocol::{ChangeEntry, Notification};
use gossip_server::now;
use serde_json::{Map, Value as Json};
use tokio::signal::unix::{SignalKind, signal};

use crate::commands::watch::read_token;
use crate::outcome::{Failure, Outcome};
use crate::recording::{Event, LARGEST, Masks, TABLES, create};

/// Arguments of `record`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The instance: host:port or ws://host:port.
    url: String,
    /// The file. It must not exist yet.
    #[arg(short, long)]
    output: PathBuf,
    /// A file with an operator's token.
    #[arg(long)]
    token_file: PathBuf,
    /// Stop after this many seconds; by default, on ctrl-c.
    #[arg(long)]
    seconds: Option<u64>,
    /// Columns whose values are not recorded: table.column, separated by commas.
    #[arg(long, default_value = "")]
    mask: String,
}

struct Recorder {
    file: std::io::BufWriter<std::fs::File>,
    masks: Masks,
    instance: String,
    written: u64,
    events: u64,
}

impl Recorder {
    fn note(&mut self, table: &'static str, row: Map<String, Json>) -> Result<(), Failure> {
        if table == "instances"
            && row.get("here") == Some(&Json::Bool(true))
            && let Some(name) = row.get("name").and_then(Json::as_str)
        {
            self.instance = name.to_string();
        }
        if table == "instances" && row.get("here") == Some(&Json::Bool(false)) {
            // Another instance's row about itself.
            return Ok(());
        }
        let mut event = Event { instance: self.instance.clone(), table, at: now(), row };
        self.masks.apply(&mut event);
        self.events += 1;
        let line = event.to_line(self.events) + "\n";
        self.written += line.len() as u64;
        if self.written > LARGEST {
            return Err(Failure::check(format!("the recording has {LARGEST} bytes, the most there is; begin another")));
        }
        self.file.write_all(line.as_bytes()).map_err(|e| Failure::check(format!("recording: {e}")))
    }
}

/// Records until the time is up, the connection ends, or the user presses ctrl-c.
///
/// # Errors
/// The instance cannot be reached, or the file exists already or cannot be written.
pub async fn run(args: Args) -> Outcome {
    let masks = Masks::parse(&args.mask).map_err(|e| Failure::usage(format!("--mask {e}")))?;
    let token = read_token(&args.token_file)?;
    let mut session = Session::connect(&args.url, Some(&token)).await?;
    let file = create(&args.output).map_err(Failure::usage)?;
    let mut recorder = Recorder { file, masks, instance: String::new(), written: 0, events: 0 };
    let mut tables: HashMap<u64, &'static str> = HashMap::new();
    for table in TABLES {
        let answer = session.subscribe(&format!("SELECT * FROM gossip.{table}")).await?;
        tables.insert(answer.subscription, table);
        // Streams start with retained events, so a recording may contain events from before its start.
        answer.rows.into_iter().try_for_each(|r| recorder.note(table, r.row))?;
    }
    // A script that waits for this line may send a signal right after it.
    let mut interrupted = signal(SignalKind::interrupt()).map_err(Failure::usage)?;
    eprintln!("gossip: recording into {}; ctrl-c ends it", args.output.display());
    let until = tokio::time::sleep(args.seconds.map_or(Duration::from_secs(u64::from(u32::MAX)), Duration::from_secs));
    tokio::pin!(until);
    loop {
        let told = tokio::select! {
            next = session.next() => next?.0,
            () = &mut until => break,
            _ = interrupted.recv() => break,
        };
        match told {
            Incoming::Notification(Notification::Delta { subscription, changes, .. }) => {
                let Some(table) = tables.get(&subscription) else { continue };
                for change in changes {
                    if let ChangeEntry::Add { row, .. } | ChangeEntry::Replace { row, .. } = change {
                        recorder.note(table, row)?;
                    }
                }
            }
            Incoming::Notification(
                Notification::Rows { subscription, rows, .. } | Notification::Snapshot { subscription, rows, .. },
            ) => {
                let Some(table) = tables.get(&subscription) else { continue };
                rows.into_iter().try_for_each(|r| recorder.note(table, r.row))?;
            }
            _ => {}
        }
    }
    recorder.file.flush().map_err(|e| Failure::check(format!("recording: {e}")))?;
    // The reader of standard error may be gone.
    let _ = writeln!(std::io::stderr(), "gossip: {} events, {} bytes", recorder.events, recorder.written);
    session.close().await;
    Ok(())
}
