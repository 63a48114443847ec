//! Being told to end.

use tokio::signal::unix::{SignalKind, signal};

use crate::outcome::{Failure, Outcome};

/// Waits until the process is told to end: SIGTERM, or SIGINT as by ctrl-c.
///
/// # Errors
/// Signals cannot be waited for.
pub async fn told_to_end() -> Outcome {
    let fail = |e: std::io::Error| Failure::usage(format!("signals: {e}"));
    let mut term = signal(SignalKind::terminate()).map_err(fail)?;
    let mut int = signal(SignalKind::interrupt()).map_err(fail)?;
    tokio::select! {
        _ = term.recv() => {}
        _ = int.recv() => {}
    }
    Ok(())
}

/// The same, or that the terminal was closed. For what cannot be used without one; a server may outlive its terminal.
///
/// # Errors
/// Signals cannot be waited for.
pub async fn told_to_leave() -> Outcome {
    let fail = |e: std::io::Error| Failure::usage(format!("signals: {e}"));
    let mut closed = signal(SignalKind::hangup()).map_err(fail)?;
    tokio::select! {
        ended = told_to_end() => ended,
        _ = closed.recv() => Ok(()),
    }
}
