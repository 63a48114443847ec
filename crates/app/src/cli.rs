//! The command line.

use std::process::ExitCode;

use clap::{Parser, Subcommand};
use tracing_subscriber::filter::Targets;
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

use crate::outcome::Failure;
use crate::{commands, demo};

/// Streams database row changes and broker events to clients as live queries.
#[derive(Debug, Parser)]
#[command(
    name = "gossip",
    version,
    about,
    after_help = "Exit codes: 0 done, 1 a check or expectation failed, 2 wrong usage or configuration, 3 could not connect."
)]
pub struct Cli {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// All commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Opens the workbench on the shipped scenario: a small harbour, two instances, simulated traffic.
    Demo(demo::Args),
    /// Runs an instance as a server.
    Serve(commands::serve::Args),
    /// Opens the workbench with its own instance, or on a recording.
    Open(commands::open::Args),
    /// Opens the workbench on instances that are already running.
    Attach(commands::attach::Args),
    /// Records operator events, for `open --recording`.
    Record(commands::record::Args),
    /// Prints a live query's result and its deltas as JSON Lines.
    Watch(commands::watch::Args),
    /// Draws how changes travel in a running cluster, as SVG, PDF or text.
    Draw(commands::draw::Args),
    /// Publishes one event to a topic.
    Publish(commands::publish::Args),
    /// Drains and stops an instance.
    Drain(commands::drain::Args),
    /// Checks the configuration against the real database and broker.
    Check(commands::check::Args),
    /// Prepares the database: creates what streaming its tables needs.
    Prepare(commands::prepare::Args),
    /// Tests the rules: checks which clients receive a change, and which must not.
    Expect(commands::expect::Args),
    /// Mints a token for development.
    Token(commands::token::Args),
}

/// Writes the log to standard error, filtered as `GOSSIP_LOG` says.
fn start_log(command: &Command) -> Result<(), String> {
    // `expect` prints its findings itself.
    let usual = if matches!(command, Command::Expect(_)) { "warn,gossip_server::audit_log=off" } else { "info" };
    let filter = std::env::var("GOSSIP_LOG").ok().filter(|text| !text.is_empty()).unwrap_or_else(|| usual.into());
    let filter: Targets = filter.parse().map_err(|e| {
        format!("GOSSIP_LOG: {e}; expected a level (off, error, warn, info, debug, trace) or module=level, with commas")
    })?;
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).with_target(false);
    tracing_subscriber::registry().with(lines).with(filter).init();
    Ok(())
}

/// Runs a command and returns its exit code.
pub fn run(cli: Cli) -> ExitCode {
    let full_screen = matches!(&cli.command, Command::Open(_) | Command::Attach(_))
        || matches!(&cli.command, Command::Demo(a) if !a.headless);
    if !full_screen && let Err(why) = start_log(&cli.command) {
        eprintln!("gossip: {why}");
        return ExitCode::from(2);
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(e) => {
            eprintln!("gossip: cannot start: {e}");
            return ExitCode::from(2);
        }
    };
    let outcome = runtime.block_on(async {
        match cli.command {
            Command::Demo(args) => demo::run(args).await,
            Command::Serve(args) => commands::serve::run(args).await,
            Command::Open(args) => commands::open::run(args).await,
            Command::Attach(args) => commands::attach::run(args).await,
            Command::Record(args) => commands::record::run(args).await,
            Command::Watch(args) => commands::watch::run(args).await,
            Command::Draw(args) => commands::draw::run(args).await,
            Command::Publish(args) => commands::publish::run(args).await,
            Command::Drain(args) => commands::drain::run(args).await,
            Command::Check(args) => commands::check::run(&args).await,
            // Blocks on the database.
            Command::Prepare(args) => tokio::task::block_in_place(|| commands::prepare::run(&args)),
            Command::Expect(args) => commands::expect::run(args).await,
            Command::Token(args) => commands::token::run(&args),
        }
    });
    runtime.shutdown_timeout(std::time::Duration::from_secs(2));
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(Failure { code, text }) => {
            for line in text.lines() {
                eprintln!("gossip: {line}");
            }
            ExitCode::from(code)
        }
    }
}
