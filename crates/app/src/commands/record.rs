//! `gossip record`: writes operator events to a file.

use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

use gossip_client::Session;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::oneshot;

use crate::commands::watch::read_token;
use crate::following::follow;
use crate::outcome::{Failure, Outcome};
use crate::recording::{Event, LARGEST, Masks, create};

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
    written: u64,
    events: u64,
}

impl Recorder {
    fn note(&mut self, mut event: Event) -> Result<(), Failure> {
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
    let mut recorder = Recorder { file, masks, written: 0, events: 0 };
    let (ready, begun) = oneshot::channel();
    let mut interrupted = signal(SignalKind::interrupt()).map_err(Failure::usage)?;
    let over = async {
        if begun.await.is_ok() {
            // A script that waits for this line may send a signal right after it.
            eprintln!("gossip: recording into {}; ctrl-c ends it", args.output.display());
        }
        interrupted.recv().await;
    };
    let longest = args.seconds.map(Duration::from_secs);
    follow(&mut session, longest, over, ready, |event| recorder.note(event)).await?;
    recorder.file.flush().map_err(|e| Failure::check(format!("recording: {e}")))?;
    // The reader of standard error may be gone.
    let _ = writeln!(std::io::stderr(), "gossip: {} events, {} bytes", recorder.events, recorder.written);
    session.close().await;
    Ok(())
}
