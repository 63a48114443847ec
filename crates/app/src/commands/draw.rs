//! `gossip draw`: drawings of a running cluster or of a recording, for a document.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use gossip_client::{ResultSet, Session};
use gossip_draw::Drawing;
use gossip_protocol::system::{InstanceRow, LinkRow, SystemRow};

use tokio::sync::oneshot;

use crate::charts;
use crate::charts::series::Series;
use crate::commands::watch::read_token;
use crate::following::follow;
use crate::incident;
use crate::outcome::{Failure, Outcome};
use crate::recording;
use crate::relay_map::{Picture, page, words};
use crate::workbench::replay;
use crate::workbench::theme::Theme;

/// Time between the two samples that rates are computed from: more than a second, as system tables are sampled once a second.
const BETWEEN: Duration = Duration::from_millis(2_200);

/// Arguments of `draw`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// What to draw.
    what: What,
    /// The instance: host:port or ws://host:port; for charts also a recording, for a report always.
    from: String,
    /// The file; its extension selects the format: svg, pdf or txt.
    #[arg(short, long)]
    output: PathBuf,
    /// A file with an operator's token; not needed for a recording.
    #[arg(long)]
    token_file: Option<PathBuf>,
    /// How many seconds charts show: from now on, or the last ones of a recording.
    #[arg(long, default_value_t = 60, value_parser = clap::value_parser!(u16).range(5..=3_600))]
    seconds: u16,
}

/// What can be drawn.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
enum What {
    /// How changes travel between the instances.
    Relay,
    /// What is counted over time.
    Charts,
    /// What was found in a recording, on several pages.
    Report,
}

/// The rows of a system table, by name.
async fn rows<R: SystemRow>(session: &mut Session, name: impl Fn(&R) -> &str) -> Result<BTreeMap<String, R>, Failure> {
    let answer = session.subscribe(&format!("SELECT * FROM gossip.{}", R::SHAPE.name)).await?;
    let live = ResultSet::new(answer);
    let named = |row| R::read(row).ok().map(|row| (name(&row).to_string(), row));
    Ok(live.rows.values().filter_map(named).collect())
}

/// Writes the file.
///
/// # Errors
/// The instance cannot be reached, the recording cannot be read, or the file cannot be written.
pub async fn run(args: Args) -> Outcome {
    let ending = args.output.extension().and_then(|e| e.to_str()).unwrap_or("").to_string();
    if !matches!(ending.as_str(), "svg" | "pdf" | "txt") {
        let text = format!("-o {}: expected a name that ends in .svg, .pdf or .txt", args.output.display());
        return Err(Failure::usage(text));
    }
    let (drawing, text) = match args.what {
        What::Relay => relay(&args).await?,
        What::Charts => charts(&args).await?,
        What::Report => return report(&args, &ending),
    };
    let bytes = match ending.as_str() {
        "svg" => drawing.to_svg().into_bytes(),
        "pdf" => drawing.to_pdf(),
        _ => text.into_bytes(),
    };
    std::fs::write(&args.output, bytes).map_err(|e| Failure::usage(format!("{}: {e}", args.output.display())))
}

async fn connected(args: &Args) -> Result<Session, Failure> {
    let Some(file) = &args.token_file else {
        return Err(Failure::usage("--token-file is missing: an instance tells this to operators only"));
    };
    Ok(Session::connect(&args.from, Some(&read_token(file)?)).await?)
}

/// Takes two samples of the cluster.
async fn relay(args: &Args) -> Result<(Drawing, String), Failure> {
    let mut session = connected(args).await?;
    let before = rows(&mut session, |r: &InstanceRow| &r.name).await?;
    tokio::time::sleep(BETWEEN).await;
    let after = rows(&mut session, |r: &InstanceRow| &r.name).await?;
    let links = rows(&mut session, |r: &LinkRow| &r.instance).await?;
    let rates = |name: &str| {
        let (Some(before), Some(after)) = (before.get(name), after.get(name)) else { return (0.0, 0.0) };
        let rate = |before: u64, after: u64| after.saturating_sub(before) as f64 / BETWEEN.as_secs_f64();
        (rate(before.changes, after.changes), rate(before.deliveries, after.deliveries))
    };
    let picture = Picture::new(&after, &links, rates, gossip_protocol::timestamp::rfc3339(gossip_server::now()));
    session.close().await;
    Ok((page(&picture), words(&picture)))
}

/// Counts for a while, or reads what a recording has.
async fn charts(args: &Args) -> Result<(Drawing, String), Failure> {
    let mut series = Series::default();
    let seconds = i64::from(args.seconds);
    let title = match Path::new(&args.from).is_file() {
        true => {
            let events = recording::read(Path::new(&args.from)).map_err(Failure::usage)?;
            events.iter().for_each(|event| series.event(event));
            Path::new(&args.from).file_name().unwrap_or_default().to_string_lossy().into_owned()
        }
        false => {
            let mut session = connected(args).await?;
            let (ready, _) = oneshot::channel();
            let longest = Some(Duration::from_secs(u64::from(args.seconds)));
            let note = |event| {
                series.event(&event);
                Ok(())
            };
            follow(&mut session, longest, std::future::pending(), ready, note).await?;
            session.close().await;
            args.from.clone()
        }
    };
    Ok((charts::page::page(&series, seconds, &title), charts::page::words(&series, seconds, &title)))
}

/// Writes what was found in a recording.
fn report(args: &Args, ending: &str) -> Outcome {
    let path = Path::new(&args.from);
    let events = recording::read(path).map_err(Failure::usage)?;
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let state = replay::state(events.clone(), name, Theme::from_env());
    let report = incident::report::report(&state, &events);
    let bytes = match ending {
        "pdf" => gossip_draw::document(&report.title, &report.pages),
        "txt" => report.text.into_bytes(),
        _ => return Err(Failure::usage("-o: a report has several pages: expected a name that ends in .pdf or .txt")),
    };
    std::fs::write(&args.output, bytes).map_err(|e| Failure::usage(format!("{}: {e}", args.output.display())))
}
