//! Being told to end.

use tokio::signal::unix::{Signal, SignalKind, signal};

use crate::outcome::{Failure, Outcome};

/// The signals by which a process is told to end. They count from when this is made, not only once they are waited for: what has been
/// begun by then can be taken back.
#[derive(Debug)]
pub struct Ending {
    term: Signal,
    int: Signal,
    closed: Option<Signal>,
}

impl Ending {
    /// SIGTERM, and SIGINT as by ctrl-c.
    ///
    /// # Errors
    /// Signals cannot be waited for.
    pub fn by_signal() -> Result<Ending, Failure> {
        let on = |kind| signal(kind).map_err(|e| Failure::usage(format!("signals: {e}")));
        Ok(Ending { term: on(SignalKind::terminate())?, int: on(SignalKind::interrupt())?, closed: None })
    }

    /// The same, or that the terminal is closed. For what cannot be used without one; a server may outlive its terminal.
    ///
    /// # Errors
    /// Signals cannot be waited for.
    pub fn with_terminal() -> Result<Ending, Failure> {
        let closed = signal(SignalKind::hangup()).map_err(|e| Failure::usage(format!("signals: {e}")))?;
        Ok(Ending { closed: Some(closed), ..Ending::by_signal()? })
    }

    /// Waits for one of them.
    pub async fn told(&mut self) {
        let Ending { term, int, closed } = self;
        let closed = async {
            match closed {
                Some(closed) => closed.recv().await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            _ = term.recv() => {}
            _ = int.recv() => {}
            _ = closed => {}
        }
    }
}

/// Waits until the process is told to end: SIGTERM, or SIGINT as by ctrl-c.
///
/// # Errors
/// Signals cannot be waited for.
pub async fn told_to_end() -> Outcome {
    Ending::by_signal()?.told().await;
    Ok(())
}
