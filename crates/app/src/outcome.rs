//! How a command ends.

use std::fmt;

/// Why a command failed, with its exit code.
#[derive(Debug)]
pub struct Failure {
    /// The exit code.
    pub code: u8,
    /// What, where and what to do.
    pub text: String,
}

impl Failure {
    /// The check or expectation failed.
    pub fn check(text: impl fmt::Display) -> Failure {
        Failure { code: 1, text: text.to_string() }
    }

    /// Wrong usage or configuration.
    pub fn usage(text: impl fmt::Display) -> Failure {
        Failure { code: 2, text: text.to_string() }
    }

    /// Could not connect.
    pub fn connect(text: impl fmt::Display) -> Failure {
        Failure { code: 3, text: text.to_string() }
    }
}

impl From<gossip_client::ClientError> for Failure {
    fn from(e: gossip_client::ClientError) -> Self {
        match e {
            gossip_client::ClientError::Refused(_) | gossip_client::ClientError::Url(..) => Failure::usage(e),
            _ => Failure::connect(e),
        }
    }
}

/// The result of a command.
pub type Outcome = Result<(), Failure>;

/// Writes a line to standard output; when its reader is gone, the program ends silently.
///
/// # Errors
/// Standard output cannot be written to.
pub fn print_line(text: &str) -> Outcome {
    use std::io::Write;
    let mut out = std::io::stdout().lock();
    writeln!(out, "{text}").and_then(|()| out.flush()).map_err(|e| Failure::check(format!("standard output: {e}")))
}
