//! `gossip draw`: a drawing of a running cluster, for a document.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use gossip_client::{ResultSet, Session};
use gossip_protocol::system::{InstanceRow, LinkRow, SystemRow};

use crate::commands::watch::read_token;
use crate::outcome::{Failure, Outcome};
use crate::relay_map::{Picture, page, words};

/// Time between the two samples that rates are computed from: more than a second, as system tables are sampled once a second.
const BETWEEN: Duration = Duration::from_millis(2_200);

/// Arguments of `draw`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// What to draw: `relay`, how changes travel between the instances.
    #[arg(value_parser = ["relay"])]
    what: String,
    /// The instance: host:port or ws://host:port.
    url: String,
    /// The file; its extension selects the format: svg, pdf or txt.
    #[arg(short, long)]
    output: PathBuf,
    /// A file with an operator's token.
    #[arg(long)]
    token_file: PathBuf,
}

/// The rows of a system table, by name.
async fn rows<R: SystemRow>(session: &mut Session, name: impl Fn(&R) -> &str) -> Result<BTreeMap<String, R>, Failure> {
    let answer = session.subscribe(&format!("SELECT * FROM gossip.{}", R::SHAPE.name)).await?;
    let live = ResultSet::new(answer);
    let named = |row| R::read(row).ok().map(|row| (name(&row).to_string(), row));
    Ok(live.rows.values().filter_map(named).collect())
}

/// Takes two samples and writes the file.
///
/// # Errors
/// The instance cannot be reached, or the file cannot be written.
pub async fn run(args: Args) -> Outcome {
    let ending = args.output.extension().and_then(|e| e.to_str()).unwrap_or("").to_string();
    if !matches!(ending.as_str(), "svg" | "pdf" | "txt") {
        let text = format!("-o {}: expected a name that ends in .svg, .pdf or .txt", args.output.display());
        return Err(Failure::usage(text));
    }
    let token = read_token(&args.token_file)?;
    let mut session = Session::connect(&args.url, Some(&token)).await?;
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
    let bytes = match ending.as_str() {
        "svg" => page(&picture).to_svg().into_bytes(),
        "pdf" => page(&picture).to_pdf(),
        _ => words(&picture).into_bytes(),
    };
    std::fs::write(&args.output, bytes).map_err(|e| Failure::usage(format!("{}: {e}", args.output.display())))?;
    session.close().await;
    Ok(())
}
