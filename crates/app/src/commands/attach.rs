//! `gossip attach`: the workbench on instances that are already running.

use std::collections::BTreeMap;
use std::path::PathBuf;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use gossip_client::Session;
use gossip_protocol::system::{InstanceRow, SystemRow};
use serde_json::{Map, Value as Json};

use crate::commands::watch::read_token;
use crate::outcome::{Failure, Outcome};
use crate::personas::Persona;
use crate::signals::Ending;
use crate::workbench;
use crate::workbench::{Access, Place};

/// Arguments of `attach`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The instances: host:port or ws://host:port; one or more of the same cluster.
    #[arg(required = true)]
    urls: Vec<String>,
    /// A file with an operator's token.
    #[arg(long)]
    token_file: PathBuf,
    /// A persona to run queries as, with a file that holds its token. May be given several times.
    #[arg(long = "persona", value_name = "NAME=FILE")]
    personas: Vec<String>,
}

/// Personas by name, and their tokens.
type Given = (BTreeMap<String, Persona>, BTreeMap<String, String>);

/// Reads the personas: a token for each, and the claims in it.
fn personas(args: &Args) -> Result<Given, Failure> {
    // Queries can always be run without a token, and as the operator.
    let mut who = BTreeMap::from([("Anyone".to_string(), Persona::default())]);
    let mut tokens = BTreeMap::new();
    let given = args.personas.iter().map(|text| {
        let parts = text.split_once('=').filter(|(name, file)| !name.is_empty() && !file.is_empty());
        let (name, file) = parts.ok_or_else(|| Failure::usage(format!("--persona {text}: expected NAME=FILE")))?;
        Ok((name.to_string(), PathBuf::from(file)))
    });
    let own = [Ok::<_, Failure>(("Operator".to_string(), args.token_file.clone()))];
    for one in own.into_iter().chain(given) {
        let (name, file) = one?;
        let token = read_token(&file)?;
        who.insert(name.clone(), persona_of(&token));
        tokens.insert(name, token);
    }
    Ok((who, tokens))
}

/// The claims in a token, unverified: they are only shown. The instance verifies them.
fn persona_of(token: &str) -> Persona {
    let payload = token.split('.').nth(1).and_then(|p| URL_SAFE_NO_PAD.decode(p).ok());
    let claims: Map<String, Json> = payload.and_then(|p| serde_json::from_slice(&p).ok()).unwrap_or_default();
    let roles = match claims.get("roles") {
        Some(Json::Array(all)) => all.iter().filter_map(Json::as_str).map(String::from).collect(),
        Some(Json::String(one)) => vec![one.clone()],
        _ => vec![workbench::UNKNOWN_ROLES.into()],
    };
    let registered = ["roles", "exp", "nbf", "iat", "aud", "iss", "jti"];
    Persona { roles, claims: claims.into_iter().filter(|(k, _)| !registered.contains(&k.as_str())).collect() }
}

/// The other instances of a cluster, as one of them lists them. If it cannot be reached, the workbench opens on it
/// alone.
async fn others(url: &str, token: &str) -> Vec<Place> {
    let asked = async {
        let mut session = Session::connect(url, Some(token)).await.ok()?;
        let query = "SELECT name, address, here FROM gossip.instances";
        let rows = session.subscribe(query).await.ok()?.rows;
        session.close().await;
        let instances = rows.iter().filter_map(|r| InstanceRow::read(&r.row).ok()).filter(|row| !row.here);
        Some(instances.map(|row| Place { name: row.name, url: row.address }).collect())
    };
    asked.await.unwrap_or_default()
}

/// Runs the workbench.
///
/// # Errors
/// No instance can be reached, a token file cannot be read, or the terminal fails.
pub async fn run(args: Args) -> Outcome {
    let token = read_token(&args.token_file)?;
    for url in &args.urls {
        gossip_client::socket_url(url)?;
    }
    let mut places: Vec<Place> = args.urls.iter().map(|url| Place { name: String::new(), url: url.clone() }).collect();
    if let [only] = args.urls.as_slice() {
        places.extend(others(only, &token).await);
    }
    let (personas, given) = personas(&args)?;
    let access = Access { places, operator: token, personas, given, ..Access::default() };
    workbench::run(access, Ending::with_terminal()?).await.map_err(Failure::connect)
}
