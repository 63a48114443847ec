//! The `--config` option that several commands share.

use std::path::{Path, PathBuf};

use gossip_server::config::Config;

use crate::outcome::Failure;

/// The configuration file.
#[derive(Debug, clap::Args)]
pub struct ConfigFile {
    /// The configuration.
    #[arg(short, long, default_value = "gossip.toml")]
    pub config: PathBuf,
}

/// The address of the instance that a configuration describes, from this machine.
///
/// # Errors
/// There is no such file, or it is not a configuration.
pub fn address_of(path: &Path) -> Result<String, Failure> {
    if !path.exists() {
        let text = format!(
            "which instance? {} is not in this folder, so its address has to be given: host:port",
            path.display()
        );
        return Err(Failure::usage(text));
    }
    let mut listen = Config::read(path).map_err(Failure::usage)?.listen;
    if listen.ip().is_unspecified() {
        listen.set_ip(if listen.is_ipv4() {
            std::net::Ipv4Addr::LOCALHOST.into()
        } else {
            std::net::Ipv6Addr::LOCALHOST.into()
        });
    }
    Ok(listen.to_string())
}
