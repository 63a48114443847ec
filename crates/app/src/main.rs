//! The `gossip` program. See the library beside it for everything it does.

use clap::Parser;

fn main() -> std::process::ExitCode {
    gossip::cli::run(gossip::cli::Cli::parse())
}
