//! `gossip token`: mints a token for development.

use gossip_server::config::Config;
use serde_json::{Map, Value as Json};

use crate::config_file::ConfigFile;
use crate::local::tokens;
use crate::outcome::{Failure, Outcome, print_line};

/// Arguments of `token`.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    file: ConfigFile,
    /// The claims as a JSON object; `exp` and `aud` are added where they are missing.
    #[arg(long)]
    claims: String,
    /// How long it is valid, in seconds.
    #[arg(long, default_value_t = 3_600)]
    seconds: i64,
}

/// Prints the token.
///
/// # Errors
/// The configuration has no secret to sign tokens with, or the claims are not a JSON object.
pub fn run(args: &Args) -> Outcome {
    let config = Config::read(&args.file.config).map_err(Failure::usage)?;
    let no_auth =
        || Failure::usage(format!("{}: there is no [auth] section to mint tokens for", config.path.display()));
    let tokens = tokens(&config)?.ok_or_else(no_auth)?;
    let claims: Map<String, Json> = serde_json::from_str(&args.claims)
        .map_err(|e| Failure::usage(format!("--claims: expected a JSON object: {e}")))?;
    let now = gossip_server::now() / 1_000_000;
    print_line(&tokens.mint(claims, now, args.seconds).map_err(Failure::usage)?)
}
