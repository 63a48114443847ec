//! `gossip draw`: a picture of a running cluster, for a document.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use gossip_client::{ResultSet, Session};
use serde_json::{Map, Value as Json};

use super::watch::read_token;
use crate::cli::{Failure, Outcome};
use crate::relay_map::{Picture, page, words};

/// Between the two looks from which rates are worked out: more than a second, so that both are told anew.
const BETWEEN: Duration = Duration::from_millis(2_200);

/// Arguments of `draw`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// What: `relay`, how changes travel between the instances.
    #[arg(value_parser = ["relay"])]
    what: String,
    /// The instance: host:port or ws://host:port.
    url: String,
    /// The file; its extension selects the format: svg, pdf or txt.
    #[arg(short, long)]
    output: PathBuf,
    /// A file that holds an operator's token.
    #[arg(long)]
    token_file: PathBuf,
}

type Rows = BTreeMap<String, Map<String, Json>>;

async fn rows(session: &mut Session, table: &str, key: &str) -> Result<Rows, Failure> {
    let answer = session.subscribe(&format!("SELECT * FROM gossip.{table}"), &Map::new(), None).await?;
    let live = ResultSet::new(answer);
    let named = |row: &Map<String, Json>| Some((row.get(key)?.as_str()?.to_string(), row.clone()));
    Ok(live.rows.values().filter_map(named).collect())
}

/// Looks twice, and writes the file.
pub async fn run(args: Args) -> Outcome {
    let ending = args.output.extension().and_then(|e| e.to_str()).unwrap_or("").to_string();
    if !matches!(ending.as_str(), "svg" | "pdf" | "txt") {
        let text = format!("-o {}: expected a name that ends in .svg, .pdf or .txt", args.output.display());
        return Err(Failure::usage(text));
    }
    let token = read_token(&args.token_file)?;
    let mut session = Session::connect(&args.url, Some(&token)).await?;
    let before = rows(&mut session, "instances", "name").await?;
    tokio::time::sleep(BETWEEN).await;
    let after = rows(&mut session, "instances", "name").await?;
    let links = rows(&mut session, "links", "instance").await?;
    let rates = |name: &str| {
        let number = |rows: &Rows, column: &str| rows.get(name).and_then(|r| r.get(column)?.as_f64());
        let rate = |column| match (number(&before, column), number(&after, column)) {
            (Some(a), Some(b)) => (b - a).max(0.0) / BETWEEN.as_secs_f64(),
            _ => 0.0,
        };
        (rate("changes"), rate("deliveries"))
    };
    let picture = Picture::new(&after, &links, rates, gossip_core::wire::rfc3339(gossip_server::now()));
    let bytes = match ending.as_str() {
        "svg" => page(&picture).to_svg().into_bytes(),
        "pdf" => page(&picture).to_pdf(),
        _ => words(&picture).into_bytes(),
    };
    std::fs::write(&args.output, bytes).map_err(|e| Failure::usage(format!("{}: {e}", args.output.display())))?;
    session.close().await;
    Ok(())
}
