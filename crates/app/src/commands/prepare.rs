//! `gossip prepare`: creates what streaming tables needs in the database, or removes it.

use gossip_server::config::Config;
use gossip_source::SourceError;

use crate::config_file::ConfigFile;
use crate::local::source;
use crate::outcome::{Failure, Outcome, print_line};

/// Arguments of `prepare`.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    file: ConfigFile,
    /// Print the SQL without running it.
    #[arg(long)]
    dry_run: bool,
    /// Remove everything Gossip created in the database.
    #[arg(long)]
    remove: bool,
}

fn failure(e: SourceError) -> Failure {
    match e {
        SourceError::NotReady(_) | SourceError::Url { .. } => Failure::usage(e),
        e => Failure::connect(e),
    }
}

/// Prepares, or removes.
///
/// # Errors
/// The configuration cannot be read, or the database refuses a statement.
pub fn run(args: &Args) -> Outcome {
    let config = Config::read(&args.file.config).map_err(Failure::usage)?;
    let source = source(&config)?;
    if source.tables().is_empty() && !args.remove {
        return Err(Failure::usage(format!(
            "{}: source.{}.tables names no tables",
            config.path.display(),
            source.name()
        )));
    }
    let plan = if args.remove { source.removal() } else { source.plan() }.map_err(failure)?;
    for effect in &plan.effects {
        print_line(&format!("-- {effect}"))?;
    }
    if plan.statements.is_empty() {
        return print_line("nothing to do");
    }
    if args.dry_run {
        return plan.statements.iter().try_for_each(|s| print_line(&format!("{s};")));
    }
    source.carry_out(&plan.statements).map_err(failure)?;
    print_line(&match args.remove {
        true => format!("removed: {} is as it was before", source.place()),
        false => format!("prepared: {} in {}", source.tables().join(", "), source.place()),
    })
}
