//! The `--config` option that several commands share.

use std::path::PathBuf;

/// The configuration file.
#[derive(Debug, clap::Args)]
pub struct ConfigFile {
    /// The configuration.
    #[arg(short, long, default_value = "gossip.toml")]
    pub config: PathBuf,
}
