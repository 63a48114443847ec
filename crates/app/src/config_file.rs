//! The option of commands that work with a configuration.

use std::path::PathBuf;

/// The configuration file of a command.
#[derive(Debug, clap::Args)]
pub struct ConfigFile {
    /// The configuration.
    #[arg(short, long, default_value = "gossip.toml")]
    pub config: PathBuf,
}
